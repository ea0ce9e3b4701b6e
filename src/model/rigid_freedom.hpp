// Which rigid-body motions a set of supports leaves free, found before any solve.
#pragma once

#include "model/model.hpp"

#include <string>
#include <vector>

namespace upright {

// A motion that nothing resists: a translation along `direction`, or a rotation about the axis through
// `through`.
struct FreeMotion {
    bool rotation = false;
    Vec3 direction = Vec3::Zero(); // unit
    Vec3 through = Vec3::Zero();
    double pitch = 0.0; // translation along the axis for each radian (a screw), in length units

    std::string text(const UnitSystem& units) const;
};

// What a part of the mesh (elements that hang together through faces) is left with.
struct FreePart {
    int part = 0; // 0 is the part with the first element
    std::size_t elements = 0;
    Vec3 center = Vec3::Zero();
    std::vector<FreeMotion> motions; // empty: held
};

// For each part of the mesh, the motions that the supports of a case leave free, or all with no case. Parts
// that share nodes (along an edge or at a corner), are bonded, or hang on couplings and joints are linked
// there: a hinge shows as a rotation. The null space of the rigid-body motions of parts and reference points
// under every constraint and spring, lengths scaled to the model's own.
std::vector<FreePart> free_motions(const Model& model, const ModelCase* c);

// Bodies that nothing ties to the largest one: not nodes, bonds, couplings, nor joints.
struct LooseBody {
    std::size_t elements = 0;
    Vec3 center = Vec3::Zero();
    Vec3 nearest = Vec3::Zero(); // the place of it that is nearest to another body
    double gap = 0.0;
};
std::vector<LooseBody> loose_bodies(const Model& model);

} // namespace upright
