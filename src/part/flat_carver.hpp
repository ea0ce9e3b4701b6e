// Parts of plane models and flat shells, as thick as their regions: one implicit field on a lattice finer
// than the mesh, kept regions and voids as their exact shapes, the rest where the density exceeds the
// threshold; mirrored at symmetry planes.
#pragma once

#include "mesh/locator.hpp"
#include "model/model.hpp"
#include "part/anchors.hpp"
#include "part/part.hpp"

#include <string>
#include <vector>

namespace upright {

// The lattice and what does not depend on the threshold; made once for many thresholds.
class FlatCarver {
  public:
    FlatCarver(const Model& model, const std::vector<double>& density);

    // Without pieces where nothing is left at the threshold.
    Part extract(const PartOptions& options) const;

  private:
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
    void add_images(std::vector<Vec3>& places) const;
    std::vector<PartPiece> find_pieces(std::vector<double>& values, bool drop,
                                       std::vector<std::string>& missed) const;
    Triangles contour(const std::vector<double>& values) const;

    const Model& model_;
    const std::vector<double>& density_;
    double middle_ = 0.0; // of the thickness, along z
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
