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
    bool flat;                    // places have two numbers
    bool shell;                   // forces have three all the same
    std::filesystem::path folder; // of the study: file names are relative to it
    bool need_files = true;       // a file that a card names must be there
};

// The cards of a kind; an error when the word was used for something else.
const Node::List& cards_of(const Node& document, const std::string& kind);

// The card's name; "/", "@" and commas have a meaning of their own.
std::string read_name(CardReader& reader, const std::string& kind);

// Whether the card is in use (`active`).
bool active(CardReader& reader);

// Where a copy lies: turned about the origin, then shifted.
struct RigidMove {
    Mat3 turn = Mat3::Identity();
    Vec3 shift = Vec3::Zero();
    bool turns() const { return !turn.isIdentity(1e-12); }
    Vec3 place(const Vec3& p) const { return turn * p + shift; }
};

// The shifts of `copies`, or its turns around a frame's axis; none without the key.
std::vector<RigidMove> read_copies(CardReader& reader, const Study& study);

// Calls `add(name, motion)` once for each copy, or once with the name itself.
template <class Add>
void for_copies(const std::string& name, const std::vector<RigidMove>& copies, const Add& add) {
    if (copies.empty()) add(name, RigidMove());
    for (std::size_t i = 0; i < copies.size(); ++i) add(name + "/" + std::to_string(i + 1), copies[i]);
}

// The frame that a key names, which must be there.
const Frame* read_frame(CardReader& reader, const Study& study, const char* key = "frame");

// A file (or a folder) beside the study; an error when it is not there.
std::filesystem::path read_path(const CardReader& reader, const Node& node, const Context& context,
                                bool folder = false);

// The one shape among the keys of a table, or none. Throws on two.
std::optional<Shape> read_shape(CardReader& reader, const Context& context);

// Throws at `node` when two ends are one place.
void need_length(const Node& node, const Vec3& from, const Vec3& to);

Shape moved(const Shape& shape, const RigidMove& by);
// A shape written in a frame.
Shape in_frame(const Shape& shape, const Frame& frame);

// What several cards refer to: cards_of_links.cpp.
void read_frames(Study& study, const Node& document, const Context& context);
void read_couplings(Study& study, const Node& document, const Context& context);
void read_joints(Study& study, const Node& document, const Context& context);
void read_masses(Study& study, const Node& document, const Context& context);
void read_bonds(Study& study, const Node& document, const Context& context);

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
// "y = 100 mm", for the key `what` ("a symmetry plane").
SymmetryPlane read_plane(const Node& item, const CardReader& reader, const std::string& what);

// What is asked: cards_of_run.cpp.
MeshCard read_mesh(const Node& document, const Quantities& quantities, const std::filesystem::path& file,
                   bool need_files);
void read_refine(Study& study, const Node& document, const Context& context);
void read_responses(Study& study, const Node& document, const Context& context);
void read_goal(Study& study, const Node& document, const Context& context);
void read_form(Study& study, const Node& document, const Context& context);
void read_run(Study& study, const Node& document, const Context& context);

} // namespace upright
