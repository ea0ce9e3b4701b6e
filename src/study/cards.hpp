// The readers of the cards, one for each kind, and what they share. Only load.cpp and its neighbours use
// this.
#pragma once

#include "study/reader.hpp"
#include "study/study.hpp"

#include <optional>
#include <string>
#include <vector>

namespace upright {

// What every reader of a card needs.
struct Context {
    const Quantities& quantities;
    bool plane;
};

// The cards of a kind; an error when the word was used for something else.
const Node::List& cards_of(const Node& document, const std::string& kind);

// The card's name; "/", "@" and commas have a meaning of their own.
std::string read_name(CardReader& reader, const std::string& kind);

// Whether the card is in use (`active`).
bool active(CardReader& reader);

// The shifts of `copies`; none without the key.
std::vector<Vec3> read_copies(CardReader& reader);

// Calls `add(name, shift)` once for each copy, or once with the name itself.
template <class Add>
void for_copies(const std::string& name, const std::vector<Vec3>& copies, const Add& add) {
    if (copies.empty()) add(name, Vec3(Vec3::Zero()));
    for (std::size_t i = 0; i < copies.size(); ++i) add(name + "/" + std::to_string(i + 1), copies[i]);
}

// The one shape among the keys of a table, or none. Throws on two.
std::optional<Shape> read_shape(CardReader& reader);

// Throws at `node` when two ends are one place.
void need_length(const Node& node, const Vec3& from, const Vec3& to);

Shape shifted(Shape shape, const Vec3& by);

// Where material is: cards_of_space.cpp.
void read_materials(Study& study, const Node& document, const Context& context);
void read_regions(Study& study, const Node& document, const Context& context);
void read_surfaces(Study& study, const Node& document, const Context& context);
void read_points(Study& study, const Node& document, const Context& context);

// What acts: cards_of_cases.cpp.
void read_supports(Study& study, const Node& document, const Context& context);
void read_loads(Study& study, const Node& document, const Context& context);
void read_cases(Study& study, const Node& document, const Context& context);
void read_symmetry(Study& study, const Node& document, const Context& context);

// What is asked: cards_of_run.cpp.
MeshCard read_mesh(const Node& document, const Quantities& quantities, const std::string& file);
void read_responses(Study& study, const Node& document, const Context& context);
void read_goal(Study& study, const Node& document, const Context& context);
void read_run(Study& study, const Node& document, const Context& context);

} // namespace upright
