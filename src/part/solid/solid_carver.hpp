// Parts of solid models: tetrahedra of the space, cut at a level of the design, improved in place.
#pragma once

#include "model/model.hpp"
#include "model/thickened.hpp"
#include "part/solid/cut_space.hpp"
#include "part/solid/design_field.hpp"
#include "part/solid/improve.hpp"
#include "part/solid/refine.hpp"

#include <algorithm>
#include <memory>

namespace upright {

class Blend; // part/solid/blend.hpp

// The part as a mesh of the modelled part (not mirrored).
struct SolidPart {
    std::vector<Vec3> points;
    std::vector<std::array<std::int32_t, 4>> tets; // positive
    std::vector<RegionId> region;                  // of each tetrahedron
    std::vector<std::int32_t> piece;               // of each: what hangs together through faces
    std::vector<Improved::Face> faces;             // skin and borders of regions
    // The exact faces and the level that points of faces lie on, for middles of edges.
    std::vector<std::vector<std::int32_t>> sheets_of; // of each point
    std::shared_ptr<const SheetSet> sheets;
    std::int32_t level = -1;                    // its number among the sheets
    std::vector<std::int32_t> cavities;         // numbers of the walls of infill
    double least_angle = 0.0, most_angle = 0.0; // dihedral, degrees
    std::size_t filled = 0;
    double doubtful = 0.0;

    std::array<Vec3, 4> corners(std::size_t t) const {
        std::array<Vec3, 4> out;
        for (std::size_t i = 0; i < 4; ++i) out[i] = points[static_cast<std::size_t>(tets[t][i])];
        return out;
    }
    // Whether a sheet is no face of the space: the free surface, or a wall of infill.
    bool free(std::int32_t sheet) const {
        return sheet == level || std::find(cavities.begin(), cavities.end(), sheet) != cavities.end();
    }
};
// The mesh with its pieces and angles; sheets are still to be given.
SolidPart part_of(Improved mesh);
// Finds its angles anew.
void measure_angles(SolidPart& part);

class SolidCarver {
  public:
    // `value`: of every element, a design; `smooth`: it was filtered (design_field.hpp).
    SolidCarver(const Model& model, const std::vector<double>& value, bool smooth);
    // Another design of the same model: the space is not cut again.
    SolidCarver(const SolidCarver& same_space, const std::vector<double>& value, bool smooth);
    // A body that was made elsewhere, of which the part is what lies in the space: kept regions are cut as
    // well. Values are distances into it (made_elsewhere.hpp), in sizes of the mesh; its surface is the level
    // 0.
    SolidCarver(const Model& model, std::vector<std::shared_ptr<const FacetBody>> bodies);

    // Of the design regions alone, as a share of them, where the field is above the level.
    double share_above(double level) const;
    // The level at which the share is as large.
    double level_of_share(double share) const;
    // By regions, of the modelled part: what is kept, and the share of the design.
    std::vector<double> volumes(double level) const;

    // The volume that was taken off at a level since nothing bears it, of the modelled part; zero without
    // `overhang`.
    double taken_off(double level) const;

    // Without cutting anything: what hangs together above a level, of each tetrahedron of the space; -1 where
    // there is nothing.
    std::vector<std::int32_t> pieces_above(double level) const;
    const CutTets& space() const { return space_->tets; }
    double value_at(const Vec3& p) const { return matter_(p); }

    // `improved`: skin on its faces and good tetrahedra; else as the cut leaves them. `wanted`: pieces to
    // keep, given the pieces of the cut; all where it is empty. `size`: of edges at each place, where they
    // are to be shorter than the cut leaves them.
    using Pick = std::function<std::vector<bool>(const SolidPart& raw)>;
    // Nothing where no tetrahedron is solid; the whole space at a level below all values. `blend`: of a
    // design, fillets that belong to it.
    SolidPart cut(double level, bool improved, const Pick& pick = {}, const SizeWish& size = {},
                  const std::shared_ptr<const Blend>& blend = {}) const;

  private:
    void take_design(const std::vector<double>& value, bool smooth);
    void take_field(const std::shared_ptr<const DesignField>& field);
    // What the rules of making take off it.
    void take_off(const std::shared_ptr<const DesignField>& field);
    void measure_space();
    // At each point, below zero where the field is above the level.
    std::vector<double> below_at(double level) const;
    void uncover(CutTets& tets, const SheetSet& sheets, std::int32_t level, std::vector<double>& below) const;
    // As wished, and shorter on walls that have a draft: flat triangles of a bent wall lean to and fro.
    SizeWish with_walls(const SizeWish& size, const Sheet& surface) const;
    void lower_by(const Blend& blend, const Sheet& surface, std::vector<double>& below) const;

    const Mesh& mesh() const { return sheets_ ? sheets_->mesh : model_.mesh; }

    const Model& model_;
    std::shared_ptr<const Thickened> sheets_; // of a plane or shell mesh from a file
    std::shared_ptr<const SpaceTets> space_;
    std::function<double(const Vec3&)> matter_;       // what a level is one of
    std::function<Sheet(double level)> surface_;      // where it is at the level
    std::vector<double> value_;                       // of it at each point
    std::function<double(const Vec3&)> excess_;       // by how much it was more before; none but of overhang
    std::vector<bool> design_;                        // of each region: whether it is cut
    std::vector<std::array<std::int32_t, 4>> beyond_; // each tetrahedron's neighbours
    double whole_ = 0.0;                              // volume of the design
    std::vector<double> region_volume_;
};

} // namespace upright
