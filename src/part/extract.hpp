// From densities to a solid part: one implicit field on a lattice finer than the mesh, kept regions and voids
// as their exact shapes, the rest where the density exceeds the threshold; mirrored at symmetry planes.
#pragma once

#include "mesh/locator.hpp"
#include "model/model.hpp"
#include "part/triangles.hpp"

#include <string>
#include <vector>

namespace upright {

struct PartOptions {
    double threshold = 0.5;
    int passes = 50;          // smoothing; 0 leaves the surface as it comes
    bool drop_islands = true; // leave out pieces that touch neither a support nor a load
};

// A piece of material that hangs together.
struct PartPiece {
    double volume = 0.0; // from lattice points, to about a percent
    Vec3 center = Vec3::Zero();
    std::vector<std::string> touches; // supports and loads of the cases, "support bolted" or "load thrust"
    bool dropped = false;
};

struct Part {
    Triangles surface;
    std::vector<bool> kept; // for each point: on a kept region
    double volume = 0.0;    // enclosed by the surface
    double mass = 0.0;
    double volume_before = 0.0; // before smoothing
    bool closed = false;
    std::vector<PartPiece> pieces;   // largest first
    std::vector<std::string> missed; // places of supports and loads that no piece touches

    // One piece that reaches every support and load.
    bool one_piece() const;
};

// The lattice and what does not depend on the threshold; made once for many thresholds.
class PartField {
  public:
    PartField(const Model& model, const std::vector<double>& density);

    // Throws Error (Input) when nothing is left at the threshold.
    Part extract(const PartOptions& options) const;

  private:
    struct Anchor {
        std::string label;        // "support bolted on feet"
        std::string card;         // "support bolted"
        std::vector<Vec3> places; // a little inside the body, mirrored images included
    };
    std::size_t at(int i, int j, int k) const;
    Vec3 place(std::size_t n) const;
    Vec3 fold(const Vec3& p) const;
    RegionField::Parts distances(const Vec3& folded) const;
    // The nearest place on the exact surface (of the space or of the kept regions) that `p` lies on, to first
    // order.
    Vec3 onto_exact(const Vec3& p) const;
    double density_at(const Vec3& folded) const;
    double mean_density(const Vec3& p) const;
    double material_density(const Vec3& folded) const;
    double filling_distance(double density, double threshold) const;
    double field(std::size_t n, double threshold) const;
    bool beside_kept(const Vec3& p) const;
    void find_anchors();
    std::vector<PartPiece> find_pieces(std::vector<double>& values, bool drop,
                                       std::vector<std::string>& missed) const;
    Triangles contour(const std::vector<double>& values) const;

    const Model& model_;
    const std::vector<double>& density_;
    bool flat_;                          // a plane model or a flat shell: its part has the thickness
    double slab_ = 0.0, slab_low_ = 0.0; // the thickness, and where it begins
    ElementLocator locator_;
    Vec3 origin_ = Vec3::Zero();
    Vec3 step_ = Vec3::Ones();
    std::array<int, 3> count_{};
    std::vector<double> body_;    // signed distance to the space that may hold material
    std::vector<double> keep_;    // signed distance to the kept regions
    std::vector<double> filling_; // density, continued beyond the mesh
    std::vector<Anchor> anchors_;
};

} // namespace upright
