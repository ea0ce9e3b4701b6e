// Supports and symmetry planes: what holds.
#include "base/angles.hpp"
#include "study/cards/cards.hpp"
#include "study/names.hpp"

#include <algorithm>

namespace upright {

namespace {

struct SupportDraft : SupportCard {
    const Frame* in = nullptr;

    bool round() const { return in != nullptr && in->cylindrical; }
};

// Words in the order x y z rx ry rz, or r t z in a cylindrical frame.
std::vector<std::string> axis_words(const SupportDraft& s) {
    if (s.round()) return {"r", "t", "z", "rr", "rt", "rz"};
    return {"x", "y", "z", "rx", "ry", "rz"};
}

std::vector<std::string> served_words(const SupportDraft& s, const Context& context) {
    const std::vector<std::string> axes = axis_words(s);
    return context.plane() ? std::vector<std::string>{axes[0], axes[1], "rz"} : axes;
}

std::size_t index_of(const std::string& word, const SupportDraft& s) {
    const std::vector<std::string> axes = axis_words(s);
    return static_cast<std::size_t>(std::find(axes.begin(), axes.end(), word) - axes.begin());
}

void take_hold(SupportDraft& s, const Given& g) {
    const std::vector<std::string> served = served_words(s, g.context());
    if (g.node.list() != nullptr && g.node.list()->empty())
        throw Error::input(g.node.place, "hold names no direction", "Write hold = [\"x\"] and so on");
    for (const Node* item : g.items()) {
        const std::string word = g.card.text(*item);
        if (s.round() && (word == "x" || word == "y"))
            throw Error::input(item->place, "\"" + word + "\" is no direction of a cylindrical frame",
                               "Write r, t or z");
        if (!s.round() && (word == "r" || word == "t"))
            throw Error::input(item->place, "\"" + word + "\" needs a cylindrical frame",
                               "Write frame = \"…\" with the name of a cylindrical [[frame]]");
        s.hold[index_of(g.card.choice(*item, served), s)] = true;
    }
}

struct Move {
    std::vector<std::pair<std::string, const Node*>> given;
};

Key<Move> direction_of_move(const char* name, const Dimension& d, const char* says) {
    return key<Move>(name, {value::quantity(d)},
                     [name](Move& m, const Given& g) { m.given.emplace_back(name, &g.node); })
        .example(std::string(name) + (d == dimension::length ? " = \"0.2 mm\"" : " = \"0.1 deg\""))
        .says(says);
}

const Schema<Move>& move_schema() {
    static const Schema<Move> out =
        schema<Move>("move", "displacements of held directions",
                     {direction_of_move("x", dimension::length, "along x"),
                      direction_of_move("y", dimension::length, "along y"),
                      direction_of_move("z", dimension::length, "along z"),
                      direction_of_move("r", dimension::length, "outward, in a cylindrical frame"),
                      direction_of_move("t", dimension::length, "around, in a cylindrical frame"),
                      direction_of_move("rx", dimension::angle, "about x"),
                      direction_of_move("ry", dimension::angle, "about y"),
                      direction_of_move("rz", dimension::angle, "about z"),
                      direction_of_move("rr", dimension::angle, "about r, in a cylindrical frame"),
                      direction_of_move("rt", dimension::angle, "about t, in a cylindrical frame")});
    return out;
}

void take_move(SupportDraft& s, const Given& g) {
    const CardReader inner = g.inner();
    const std::vector<std::string> served = served_words(s, g.context());
    for (const auto& [word, node] : read_table(move_schema(), inner).given) {
        const std::size_t i = index_of(word, s);
        if (std::find(served.begin(), served.end(), word) == served.end() || !s.hold[i])
            throw Error::input(node->place, "move gives " + word + " a displacement but it is not held",
                               "Add \"" + word + "\" to hold");
        s.move[i] =
            i < 3 ? inner.number(*node, dimension::length) : inner.number(*node, dimension::angle) * degree;
    }
}

const Schema<SupportDraft>& support_schema() {
    using S = SupportDraft;
    static const Schema<S> out =
        cards<S>("support", "holds directions of surfaces, points or couplings", "bolted", true,
                 {key("on", value::names("surfaces, points or couplings"), &S::on, &S::on_place)
                      .must("on = \"a surface, point or coupling\"")
                      .says("what is held"),
                  key<S>("frame", {value::name("frame")},
                         [](S& s, const Given& g) {
                             s.in = &read_frame(g);
                             s.frame = s.in->name;
                         })
                      .fallback("the global axes")
                      .example("frame = \"bore\"")
                      .says("whose directions are held"),
                  key<S>("hold",
                         {value::list(value::word({"x", "y", "z", "rx", "ry", "rz", "r", "t", "rr", "rt"})),
                          value::word({"x", "y", "z", "rx", "ry", "rz", "r", "t", "rr", "rt"})},
                         take_hold)
                      .must(R"(hold = ["x", "y", "z"])")
                      .says("directions from x y z rx ry rz, or r t z rr rt rz where `frame` is cylindrical. "
                            "Solids have "
                            "rotations on couplings alone"),
                  key<S>("move", {value::table(facts_of<Move, move_schema>)}, take_move)
                      .fallback("zero")
                      .example("move = { z = \"0.2 mm\" }")
                      .says("a held direction given a displacement (rotations as angles)")});
    return out;
}

struct SymmetryCard {
    std::vector<SymmetryPlane> planes;
};

const Schema<SymmetryCard>& symmetry_schema() {
    static const Schema<SymmetryCard> out = section<SymmetryCard>(
        "symmetry",
        "only a part of the body is modelled: the larger side of the regions, of two equal ones the lower. "
        "Results are "
        "mirrored when drawn or carved",
        {key<SymmetryCard>("planes",
                           {value::list(value::text("a plane \"x = 0\"")), value::text("a plane \"x = 0\"")},
                           [](SymmetryCard& c, const Given& g) {
                               c.planes = read_planes(g.items(), g.card, "a symmetry plane",
                                                      "two symmetry planes stand across the same axis",
                                                      "One is enough to halve the model");
                           })
             .must(R"(planes = ["x = 0"])")
             .says("at most one across each axis")});
    return out;
}

} // namespace

const TableFacts& support_facts() {
    return support_schema().facts;
}

const TableFacts& symmetry_facts() {
    return symmetry_schema().facts;
}

void read_supports(Study& study, const Node& document, const Context& context) {
    read_cards(support_schema(), document, context, study,
               [&](const SupportDraft& s, const CardReader&) { study.supports.push_back(s); });
}

SymmetryPlane read_plane(const Node& item, const CardReader& reader, const std::string& what) {
    const std::string word = reader.text(item);
    const auto equals = word.find('=');
    const auto letter = word.find_first_not_of(' ');
    const std::string axes = reader.flat() ? "xy" : "xyz";
    if (equals == std::string::npos || letter == std::string::npos ||
        axes.find(word[letter]) == std::string::npos || word.find_first_not_of(' ', letter + 1) != equals)
        throw Error::input(item.place, "\"" + word + "\" is not " + what,
                           "Write \"x = 0\" or \"y = 100 mm\"");
    SymmetryPlane plane;
    plane.axis = word[letter] - 'x';
    plane.at = reader.quantities().number(word.substr(equals + 1), dimension::length, item.place);
    plane.place = item.place;
    return plane;
}

std::vector<SymmetryPlane> read_planes(const std::vector<const Node*>& items, const CardReader& card,
                                       const std::string& what, const std::string& twice,
                                       const std::string& instead) {
    std::vector<SymmetryPlane> out;
    for (const Node* item : items) {
        const SymmetryPlane plane = read_plane(*item, card, what);
        for (const SymmetryPlane& other : out)
            if (other.axis == plane.axis) throw Error::input(item->place, twice, instead);
        out.push_back(plane);
    }
    return out;
}

void read_symmetry(Study& study, const Node& document, const Context& context) {
    const Node* node = document.find("symmetry");
    if (node == nullptr) return;
    study.symmetry = read_table(symmetry_schema(), CardReader(*node, context, "[symmetry]")).planes;
}

} // namespace upright
