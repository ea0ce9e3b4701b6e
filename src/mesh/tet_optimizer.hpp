// Makes labelled tetrahedra better without leaving their surfaces: edge removal, flips, collapses, smoothing
// (Freitag & Ollivier-Gooch 1997; Klingner & Shewchuk 2007), the worst first.
#pragma once

#include "base/vectors.hpp"

#include <array>
#include <unordered_set>
#include <vector>

namespace upright {

// The exact surfaces that nodes slide on.
class SurfaceGeometry {
  public:
    SurfaceGeometry() = default;
    SurfaceGeometry(const SurfaceGeometry&) = delete;
    SurfaceGeometry& operator=(const SurfaceGeometry&) = delete;
    virtual ~SurfaceGeometry() = default;
    virtual Vec3 on_curve(std::int32_t curve, const Vec3& p) const = 0;
    virtual Vec3 on_patch(std::int32_t patch, const Vec3& p) const = 0;
    virtual Vec3 patch_normal(std::int32_t patch, const Vec3& p) const = 0;
};

struct TetMesh {
    struct Node {
        Vec3 p = Vec3::Zero();
        std::int32_t on = 3; // 0 corner, 1 curve, 2 patch, 3 inside
        std::int32_t entity = -1;
        std::vector<std::int32_t> patches; // that it lies on
        double size = 1.0;
    };
    struct Tet {
        std::array<std::int32_t, 4> node{}; // positive
        std::int32_t region = 0;
        bool alive = true;
    };
    std::vector<Node> nodes;
    std::vector<Tet> tets;
    std::unordered_set<std::uint64_t> segments;             // edges on curves, smaller node first
    std::vector<std::array<std::int32_t, 2>> patch_regions; // behind and before each patch
    // A region whose tetrahedra need not be as good, and the angle that will do there (0: as everywhere).
    std::int32_t easy_region = -1;
    double easy_target = 0.0; // degrees
};

// Works on dihedral angles below `target` degrees (or above 180 less it) until none is left or nothing helps.
void optimise_tets(TetMesh& mesh, const SurfaceGeometry& surfaces, double target);

} // namespace upright
