// The cards of the study language: the schema of each, and what they share. Only study/ uses this.
#pragma once

#include "study/schema.hpp"
#include "study/study.hpp"

#include <optional>
#include <string>
#include <vector>

namespace upright {

// Where a copy lies: turned about the origin, then shifted.
struct RigidMove {
    Mat3 turn = Mat3::Identity();
    Vec3 shift = Vec3::Zero();
    bool turns() const { return !turn.isIdentity(1e-12); }
    Vec3 place(const Vec3& p) const { return turn * p + shift; }
};

// The shifts of `copies`, or its turns around a frame's axis.
std::vector<RigidMove> read_copies(const Given& given);
const TableFacts* copies_facts();

// `copies` of a card with a member of that name.
template <class Card> Key<Card> copies_key() {
    return key<Card>("copies", {value::list(value::place()), value::table(copies_facts)},
                     [](Card& card, const Given& g) { card.copies = read_copies(g); })
        .example("copies = [[0, 0, 0], [340, 0, 0]] or { around = \"a frame\", count = 6 }")
        .says("shifts, or turns around a frame's axis; the copies are `name/1`, `name/2`, …");
}

// Calls `add(name, motion)` once for each copy, or once with the name itself.
template <class Add>
void for_copies(const std::string& name, const std::vector<RigidMove>& copies, const Add& add) {
    if (copies.empty()) add(name, RigidMove());
    for (std::size_t i = 0; i < copies.size(); ++i) add(name + "/" + std::to_string(i + 1), copies[i]);
}

// The frame that a key names.
const Frame& read_frame(const Given& given);

// Shapes: the keys of which a table has one.
struct ShapeKey {
    KeyFacts facts;
    std::function<std::optional<Shape>(const Given&)> read; // nothing: a word beside a shape
};
const std::vector<ShapeKey>& shape_keys();
// The names of the keys that are shapes.
std::vector<std::string> shape_words();
// The shapes as keys of a card with a member `shape`.
template <class Card> std::vector<Key<Card>> keys_of_shapes() {
    std::vector<Key<Card>> out;
    for (const ShapeKey& k : shape_keys())
        out.push_back({k.facts, [read = k.read](Card& card, const Given& g) {
                           if (std::optional<Shape> shape = read(g)) card.shape = std::move(shape);
                       }});
    return out;
}
// A shape in a table of its own, with the frame that it is written in: `inside = { … }`.
struct ShapeTable {
    std::optional<Shape> shape;
};
const Schema<ShapeTable>& shape_schema();
const TableFacts* shape_facts();

// `hole = { radius }`: the radius of the holes that are meant.
double read_hole(const Given& given);
const TableFacts* hole_facts();

// A material that a card names and the study does not have comes from the library. Throws where there is
// none.
void need_material(Study& study, const std::string& name, const Place& place);

// Throws at `place` when two ends are one place.
void need_length(const Place& place, const Vec3& from, const Vec3& to);

Shape moved(const Shape& shape, const RigidMove& by);
// A shape written in a frame.
Shape in_frame(const Shape& shape, const Frame& frame);

// "y = 100 mm" as a plane across an axis; `what` is "a symmetry plane".
SymmetryPlane read_plane(const Node& item, const CardReader& reader, const std::string& what);
// The planes of a key, at most one across each axis.
std::vector<SymmetryPlane> read_planes(const std::vector<const Node*>& items, const CardReader& card,
                                       const std::string& what, const std::string& twice,
                                       const std::string& instead);

// The two ends of a joint or bond.
std::array<std::string, 2> read_between(const Given& given);

// Where the study is so.
bool has_thickness(const Context& context); // plane models and shells
bool in_space(const Context& context);      // places have three numbers
bool in_plane(const Context& context);      // places have two numbers

// Cards by their schemas, each into the study. Those that others refer to come first.
void read_frames(Study& study, const Node& document, const Context& context);
void read_materials(Study& study, const Node& document, const Context& context);
void read_regions(Study& study, const Node& document, const Context& context);
void read_finishes(Study& study, const Node& document, const Context& context);
void read_infills(Study& study, const Node& document, const Context& context);
void read_surfaces(Study& study, const Node& document, const Context& context);
void read_points(Study& study, const Node& document, const Context& context);
void read_couplings(Study& study, const Node& document, const Context& context);
void read_joints(Study& study, const Node& document, const Context& context);
void read_masses(Study& study, const Node& document, const Context& context);
void read_bonds(Study& study, const Node& document, const Context& context);
void read_supports(Study& study, const Node& document, const Context& context);
void read_loads(Study& study, const Node& document, const Context& context);
void read_cases(Study& study, const Node& document, const Context& context);
void read_symmetry(Study& study, const Node& document, const Context& context);
void read_goal(Study& study, const Node& document, const Context& context);

// The keys of each, for the language's tables.
const TableFacts& frame_facts();
const TableFacts& material_facts();
const TableFacts& region_facts();
const TableFacts& finish_facts();
const TableFacts& infill_facts();
const TableFacts& surface_facts();
const TableFacts& point_facts();
const TableFacts& coupling_facts();
const TableFacts& joint_facts();
const TableFacts& mass_facts();
const TableFacts& bond_facts();
const TableFacts& support_facts();
const TableFacts& load_facts();
const TableFacts& case_facts();
const TableFacts& symmetry_facts();
const TableFacts& goal_facts();

} // namespace upright
