// The chain from the optimiser's variables to physical densities and back: making rules, filter, projection,
// kept regions. One chain, one place; every link has its transpose.
#pragma once

#include "design/form.hpp"
#include "design/grid_filter.hpp"
#include "design/helmholtz.hpp"
#include "design/making_rule.hpp"
#include "design/projection.hpp"
#include "design/three_designs.hpp"
#include "model/model.hpp"

#include <vector>

namespace upright {

// Linear hat weights (Bruns & Tortorelli 2001; Bourdin 2001): w = max(0, radius - distance), normalised over
// the design cells in reach. At the boundary of the design space the average runs over what is there; beyond
// a symmetry plane it runs over the mirrored cells, so that a half model gives the same design as the whole.
class DensityFilter {
  public:
    // `options` are those of the solver that the Helmholtz form needs.
    DensityFilter(const Model& model, const std::vector<std::int32_t>& variable_of, double radius,
                  const SolverOptions& options);
    std::vector<double> apply(const std::vector<double>& x) const;
    std::vector<double> transpose(const std::vector<double>& g) const;
    // The same into memory that is there already.
    void apply(const std::vector<double>& x, std::vector<double>& out) const;
    void transpose(const std::vector<double>& g, std::vector<double>& out) const;
    // Whether the hat would couple too many elements (small ones within a large radius) and the Helmholtz
    // form stands in for it.
    bool helmholtz() const { return helmholtz_ != nullptr; }

  private:
    std::unique_ptr<HelmholtzFilter> helmholtz_;
    std::unique_ptr<GridFilter> grid_; // instead of the rows below
    std::vector<std::size_t> starts_;
    std::vector<std::int32_t> columns_;
    std::vector<double> weights_; // normalised rows
};

class DesignChain {
  public:
    // Variables belong to the groups that the rules tie (to elements where there is no rule). After the
    // filter, which knows no rule, and after the links of rules each group takes its mean: its elements have
    // one density, exactly.
    DesignChain(const Model& model, double filter_radius, const FormRules& rules = {},
                const SolverOptions& options = {});

    std::size_t variables() const { return form_.ties() ? form_.groups() : element_of_.size(); }
    const FormMap& form() const { return form_; }
    // Values of elements (all of them) as variables: the mean of each group.
    std::vector<double> variables_of(const std::vector<double>& elements) const;
    const std::vector<bool>& is_design() const { return is_design_; }
    const std::vector<std::size_t>& elements() const { return element_of_; }
    const DensityFilter& filter() const { return filter_; }

    // Physical density of every element: 1 in kept regions.
    std::vector<double> physical(const std::vector<double>& x, double sharpness) const;
    void physical(const std::vector<double>& x, double sharpness, std::vector<double>& out,
                  double threshold = 0.5) const;
    // The same design thin and thick as well, where a rule asks for that.
    void made(const std::vector<double>& x, double sharpness, ThreeDesigns& out) const;
    const Thresholds& thresholds() const { return thresholds_; }
    // What parts are cut from: of every element the value that the projection makes a density of, rules that
    // stand behind the projection applied as they are to a design in black and white.
    std::vector<double> field(const std::vector<double>& x) const;
    void field(const std::vector<double>& x, std::vector<double>& out) const;
    // The sum of weights (one an element) times physical densities.
    double weighted(const std::vector<double>& x, double sharpness, const std::vector<double>& weights) const;
    // The gradient by the variables, from the gradient by the physical densities, at the same x and
    // sharpness.
    std::vector<double> pull_back(const std::vector<double>& x, double sharpness,
                                  const std::vector<double>& gradient, double threshold = 0.5) const;

  private:
    std::vector<bool> is_design_;           // for each element
    std::vector<std::size_t> element_of_;   // for each variable
    std::vector<std::int32_t> variable_of_; // for each element, or -1
    bool all_design() const { return element_of_.size() == is_design_.size(); }
    DensityFilter filter_;
    FormMap form_;
    Thresholds thresholds_;
    // Of rules that are more than ties, after the filter and after the projection.
    std::vector<std::unique_ptr<Link>> links_, after_;
    void spread_out(std::vector<double>& groups, std::vector<double>& out) const;
    // What the filter made of the last design: values and gradients of one design ask for it several times.
    const std::vector<double>& filtered(const std::vector<double>& x) const;
    mutable std::vector<double> last_x_, last_filtered_;
    // With links: what each of them got (of elements), for the last design.
    mutable std::vector<std::vector<double>> before_;
    mutable std::vector<double> room_; // of elements, while something is worked out
};

// The filter radius of a run: as written, min_feature of [form], or `usual_cells`; min_slot where that is
// larger.
double filter_radius(const Model& model);
constexpr double usual_cells = 2.5;

} // namespace upright
