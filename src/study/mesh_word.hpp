// What the study language knows of a mesh kind, and what it can do; mesh/mesh_kind.hpp adds how it is made.
#pragma once

#include "study/schema.hpp"
#include "study/study.hpp"

#include <string>
#include <vector>

namespace upright {

struct MeshWord {
    std::string word;
    std::string called; // "fitted meshes"
    std::string says;
    std::vector<Key<MeshCard>> keys; // its own

    bool from_file = false;        // brings cells and sets of its own; their shapes are not exact
    bool refinable = true;         // can be made again with another size
    bool follows_shapes = false;   // its faces lie on the shapes of regions: no stairs
    bool leaves_out_voids = false; // makes no cells where a void lies
    bool second_order = true;      // serves order = 2

    virtual ~MeshWord() = default;
};

// `size`, of every kind that is made here.
Key<MeshCard> mesh_size_key();

} // namespace upright
