// Reads the keys of one card, remembers which were asked for, and answers for those that nobody asked for.
#pragma once

#include "quantity/quantities.hpp"
#include "study/document.hpp"

#include "base/vectors.hpp"

#include <optional>
#include <string>
#include <vector>

namespace upright {

// A key of the language that this version does not serve yet is refused in these words.
Error not_served(const Place& place, const std::string& what, const std::string& instead = {});

class CardReader {
  public:
    // `title` names the card in messages, such as "[[region]]".
    CardReader(const Node& table, const Quantities& quantities, std::string title, bool plane);

    // The node of a key, or nullptr; the key counts as known from then on.
    const Node* find(const std::string& key);
    // The node of a key that must be there; `example` is what to write.
    const Node& need(const std::string& key, const std::string& example);

    std::string text(const Node& node) const;
    bool flag(const Node& node) const;
    int whole(const Node& node, int least) const;
    double number(const Node& node, const Dimension& d) const;
    double positive(const Node& node, const Dimension& d) const;
    // Three numbers, or two in a plane model (z is then zero).
    Vec3 vector(const Node& node, const Dimension& d) const;
    // A direction of length one.
    Vec3 direction(const Node& node) const;
    std::vector<Vec2> corners(const Node& node) const;
    // One name or a list of names.
    std::vector<std::string> names(const Node& node) const;
    // One of a few words; `later` are words of the language that are not served yet.
    std::string choice(const Node& node, const std::vector<std::string>& words,
                       const std::vector<std::string>& later = {}) const;

    // Throws on keys that were not asked for; `later` are keys of the language that are not served yet.
    void finish(const std::vector<std::string>& later = {}) const;

    // For a table inside the card.
    CardReader inner(const Node& node, const std::string& key) const;

    const Place& place() const { return table_.place; }
    const Quantities& quantities() const { return quantities_; }
    const std::string& title() const { return title_; }
    bool plane() const { return plane_; }

  private:
    const Node& table_;
    const Quantities& quantities_;
    std::string title_;
    bool plane_;
    std::vector<std::string> known_;
};

} // namespace upright
