// Starts that bring a design along.
#include "optimize/run.hpp"

#include "design/three_designs.hpp"
#include "mesh/locator.hpp"
#include "study/mesh_word.hpp"

#include <algorithm>
#include <fmt/format.h>

namespace upright {

std::vector<double> carry_over(const Mesh& from, const std::vector<double>& density, const Mesh& to) {
    const ElementLocator locator(from, 2.0 * from.size);
    std::vector<double> out(to.elements());
    for (std::size_t e = 0; e < out.size(); ++e) out[e] = density[index(locator.nearest(to.center(e)))];
    return out;
}

namespace {

// Of rows a few are told in a sentence; none is kept.
class CoarseObserver : public OptimizeObserver {
  public:
    CoarseObserver(OptimizeObserver& outer, const Model& model) : outer_(outer), model_(model) {}
    void note(const std::string& sentence) override { outer_.note("coarse run: " + sentence); }
    bool stop_requested() const override { return outer_.stop_requested(); }
    bool keeps(int /*iteration*/) const override { return false; }
    void iteration(OptimizerState& state) override {
        constexpr int rows = 5; // told, where none ends it early
        if (state.iteration % std::max(1, model_.run.iterations / rows) != 0 && !state.ended) return;
        note(fmt::format("iteration {} of at most {}, goal {:.5g}", state.iteration, model_.run.iterations,
                         state.history.back().goal));
    }

  private:
    OptimizeObserver& outer_;
    const Model& model_;
};

constexpr double cells_that_ask = 3.0; // in the filter's radius
constexpr double coarser = 0.8;        // elements, as a share, that a coarse mesh may have at most

// What is wrong on the larger cells alone, of which the study says nothing.
Error of_coarse_run(const Error& e, double times) {
    const std::string where = e.place().text();
    std::string what = e.what();
    if (!where.empty() && what.rfind(where + ": ", 0) == 0) what.erase(0, where.size() + 2);
    what = fmt::format("the coarse run first, on cells {:g} times as large: {}", times, what);
    const std::string instead = "Or leave it out: coarse_first = false in [run]";
    return e.code() == ExitCode::Input ? Error::input(e.place(), what, instead)
                                       : Error::numerics(what, instead);
}

} // namespace

bool begins_coarse(const Model& model) {
    const RunCard& run = model.run;
    if (run.coarse_first) return *run.coarse_first;
    return run.sharpen && !run.start_run && !run.start_random && model.made_by.kind->refinable &&
           make_problem(model).has_stress && filter_radius(model) >= cells_that_ask * model.mesh.size;
}

std::string start_words(const Model& model) {
    const RunCard& run = model.run;
    if (run.start_run) return run.start_run->filename().string();
    if (run.start_random) return fmt::format("random densities, number {}", *run.start_random);
    return (run.start ? fmt::format("density {:g}", *run.start) : "a uniform density") +
           (begins_coarse(model) ? ", by a run on cells twice as large" : "");
}

std::optional<std::vector<double>> coarse_start(const std::function<Model(double times)>& on_cells,
                                                const Model& model, OptimizeObserver& observer,
                                                double times) try {
    Model coarse = on_cells(times);
    if (static_cast<double>(coarse.mesh.elements()) > coarser * static_cast<double>(model.mesh.elements())) {
        observer.note(
            fmt::format("no coarse run first: cells {:g} times as large make a mesh of {} elements, "
                        "for {} of the run",
                        times, coarse.mesh.elements(), model.mesh.elements()));
        return std::vector<double>();
    }
    if (!coarse.form.min_feature && !coarse.form.min_slot) coarse.run.filter = filter_radius(model);
    // Designs that are made three times are so in black and white alone.
    const bool three = thresholds_of(model.form, filter_radius(model)).three();
    const bool whole = (make_problem(model).has_stress || three) && model.run.sharpen;
    coarse.run.sharpen = whole;
    if (!whole) coarse.run.iterations = std::max(10, model.run.iterations / 2);
    // Of what the study says, this run is the one that was asked for.
    coarse.run.coarse_first = whole ? std::optional<bool>() : std::optional<bool>(false);
    RunStart start;
    start.gives_start = true;
    if (begins_coarse(coarse)) {
        auto before = coarse_start(on_cells, coarse, observer, 2.0 * times);
        if (!before) return {};
        start.density = std::move(*before);
    }
    observer.note(fmt::format("coarse run on {:g} times the cell size, which gives the start: {} elements",
                              times, coarse.mesh.elements()));
    StaticAnalysis analysis(coarse, solver_options(coarse.run));
    CoarseObserver told(observer, coarse);
    const OptimizeResult result = optimize(analysis, told, start);
    if (result.status == RunStatus::Interrupted) return {};
    return carry_over(coarse.mesh, result.deciding_density(), model.mesh);
} catch (const Error& e) {
    const bool of_the_mesh = e.code() == ExitCode::Input || e.code() == ExitCode::Numerics;
    if (!of_the_mesh) throw;
    if (model.run.coarse_first) throw of_coarse_run(e, times);
    observer.note(fmt::format("no coarse run first: {}", e.what()));
    return std::vector<double>();
}

} // namespace upright
