// Starts that bring a design along.
#include "optimize/run.hpp"

#include "mesh/locator.hpp"

#include <algorithm>
#include <fmt/format.h>

namespace upright {

std::vector<double> carry_over(const Mesh& from, const std::vector<double>& density, const Mesh& to) {
    const ElementLocator locator(from, 2.0 * from.size);
    std::vector<double> out(to.elements());
    for (std::size_t e = 0; e < out.size(); ++e) out[e] = density[index(locator.nearest(to.centers[e]))];
    return out;
}

namespace {

// Passes sentences on, and shows no rows.
class CoarseObserver : public OptimizeObserver {
  public:
    explicit CoarseObserver(OptimizeObserver& outer) : outer_(outer) {}
    void note(const std::string& sentence) override { outer_.note(sentence); }
    bool stop_requested() const override { return outer_.stop_requested(); }
    void iteration(const OptimizerState& /*state*/) override {}

  private:
    OptimizeObserver& outer_;
};

} // namespace

std::vector<double> coarse_start(Model coarse, const Model& model, OptimizeObserver& observer) {
    coarse.run.coarse_first = false;
    coarse.run.sharpen = false;
    coarse.run.iterations = std::max(10, model.run.iterations / 2);
    if (!coarse.form.min_feature && !coarse.form.min_slot) coarse.run.filter = filter_radius(model);
    StaticAnalysis analysis(coarse, solver_options(coarse.run));
    CoarseObserver quiet(observer);
    const OptimizeResult result = optimize(analysis, quiet);
    observer.note(fmt::format("coarse run: {} elements, {} iterations, goal {:.5g}", coarse.mesh.elements(),
                              result.state.iteration, result.goal));
    return carry_over(coarse.mesh, result.density, model.mesh);
}

} // namespace upright
