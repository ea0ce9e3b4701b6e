// What must hold of a model before anything is computed with it. Models that are built hold it; files may
// not.
#pragma once

#include "model/model.hpp"

#include <stdexcept>

namespace upright {

// What a damaged file holds that no model has: "a node that is not there, in mesh/connectivity".
class Damage : public std::runtime_error {
  public:
    using std::runtime_error::runtime_error;
};

// Kinds, nodes and cells of a mesh before Mesh::finish(): sizes, indices, one family, lattices that the nodes
// stand on. Throws Damage.
void require_sound(const Mesh& mesh);

// Everything else of a model: indices, and numbers in the ranges that a study could give them. Throws Damage.
void require_sound(const Model& model);

} // namespace upright
