// From the design of a run to a solid part: of solid models a mesh of tetrahedra whose skin has the exact
// faces (solid/), of plane models and flat shells a surface as thick as they are (flat_carver.hpp).
#pragma once

#include "base/error.hpp"
#include "part/anchors.hpp"
#include "part/flat_carver.hpp"
#include "part/part.hpp"
#include "part/solid/stock.hpp"

#include <functional>
#include <memory>
#include <optional>

namespace upright {

// A design of a run. Without `filtered` (older runs, or densities alone) the densities are cut themselves.
struct DesignValues {
    std::vector<double> density;  // of every element, physical
    std::vector<double> filtered; // the same before the projection
    double sharpness = 0.0;       // of the projection
    double threshold = 0.5;       // at which the design counts as it is made
};

// Plane models and flat shells that are meshed here: their part is a surface, found on a lattice of points.
// All others have a mesh of tetrahedra.
bool carved_flat(const Model& model);
// Of a finished model (model/finished.hpp) on a mesh from a file: what keeps a part from being carved.
// Nothing where one can be.
std::optional<Error> why_not_carved(const Model& model);

// What does not depend on the threshold; made once for many.
class PartField {
  public:
    // Throws Error (Input) as above says.
    PartField(const Model& model, DesignValues design);
    PartField(const Model& model, const std::vector<double>& density)
        : PartField(model, DesignValues{density, {}, 0.0, 0.5}) {}

    // Another design of the same model, whose space is not cut again.
    PartField(const PartField& same_space, DesignValues design);

    // The part is what of these bodies lies in the space, whatever the options' threshold: for extract() and
    // whole() alone. Its level is how far it lies within their surface, in sizes of the mesh (at most 0.05
    // either way): as far as gives it their volume. Throws as above, and for models that are no solids.
    PartField(const Model& model, std::vector<std::shared_ptr<const FacetBody>> bodies);

    // Throws Error (Input) when nothing is left at the threshold. With fillets the threshold is that of the
    // part before them.
    Part extract(const PartOptions& options) const;

    // A solid part with stock on its faces: skin, mass and regions are told again, pieces stay as they were.
    Part with_stock(Part part, const StockWish& wish) const;

    // Mass and pieces at a threshold, without making the part.
    struct Glance {
        double mass = 0.0;
        std::size_t pieces = 0; // that are not left out
        std::vector<std::string> missed;
        bool one_piece() const { return pieces == 1 && missed.empty(); }
    };
    Glance glance(const PartOptions& options) const;
    // The threshold at which the part has so much mass, the whole body's, or at which its design has so much
    // of the mass that it could have. Throws Error (Input) where none has, with the range that can be had.
    double threshold_of_mass(double mass) const;
    double threshold_of_fraction(double fraction) const;
    // The largest at which all supports, loads, joints, masses and kept regions are in one piece, of
    // thresholds to 0.001. Throws Error (Input) where there is none.
    double largest_connected() const;

    // The part of full density, not made better: what surfaces and volumes are measured by. Of solid models.
    SolidPart whole() const { return solid_->cut(-1e9, false); }

  private:
    void take_design(const PartField* same_space);
    double level_of(double threshold) const;
    double mass_of(const std::vector<double>& volumes, bool design_alone = false) const;
    double mass_at(double threshold, bool design_alone) const;
    double threshold_where(bool design_alone, double mass,
                           const std::function<std::string(double)>& told) const;
    void find_anchor_tets();
    void find_pieces(const SolidPart& solid, Part& part, bool drop, std::vector<bool>& wanted,
                     const SolidPart* unfilled = nullptr) const;
    Part solid_part(const PartOptions& options, double level,
                    const std::shared_ptr<const Blend>& blend = {}) const;
    Part matched_part(const PartOptions& options) const;
    Part filled_part(Part solid) const;
    void tell_of(const std::shared_ptr<const SolidPart>& solid, Part& part) const;

    const Model& model_;
    DesignValues design_;
    bool made_elsewhere_ = false;
    double body_volume_ = 0.0; // of those
    std::unique_ptr<FlatCarver> flat_;
    std::unique_ptr<SolidCarver> solid_;
    std::vector<Anchor> anchors_;
    std::vector<std::vector<std::int32_t>> anchor_tets_; // of the space, at each place; -1 for none
    double shift_ = 0.0; // of the level, so that the volume at the design's own threshold is right
};

} // namespace upright
