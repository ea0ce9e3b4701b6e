// The commands; one file each. All return the exit code and throw Error for what is wrong.
#pragma once

#include "cli/console.hpp"
#include "cli/invocation.hpp"
#include "output/figure.hpp"
#include "output/run_folder.hpp"

#include <filesystem>
#include <string>

namespace upright::cli {

int run_demo(const Invocation& in, Console& console);
int run_new(const Invocation& in, Console& console);
int run_materials(const Invocation& in, Console& console);
int run_model(const Invocation& in, Console& console);
int run_inspect(const Invocation& in, Console& console);
int run_check(const Invocation& in, Console& console);
int run_analyze(const Invocation& in, Console& console);
int run_optimize(const Invocation& in, Console& console);
int run_plot(const Invocation& in, Console& console);
int run_carve(const Invocation& in, Console& console);
int run_help(const Invocation& in, Console& console);
int run_schema(const Invocation& in, Console& console);

// The folder with the shipped examples.
std::filesystem::path example_folder(const Invocation& in);

// A run by its path; a bare name that is not here is looked for below the current folder.
std::filesystem::path find_run(const std::string& path, Console& console);

// The densities of an iteration (the last one without), of as many elements as the model has.
std::vector<double> read_design(const RunFolder& folder, const Model& model,
                                const std::optional<int>& iteration);

// --from and --size. Throws Error (Usage).
FigureOptions figure_options(const Invocation& in);

// --at. Throws Error (Usage) unless it lies between 0 and 1.
double threshold(const Invocation& in);

// "iteration 57, converged" for the subtitles of figures.
std::string state_text(const RunFolder& folder, const std::optional<int>& iteration);

// A study and its model: built from a study file, or as a model.h5 has them.
struct Job {
    Study study;
    Model model;
};
// Shows on the console that a mesh is being made where that takes more than a second.
Job load_job(const std::filesystem::path& file, const std::vector<std::string>& settings,
             Console* console = nullptr);
// Those of a run: its model.h5, or built anew where there is none.
Job load_run(const RunFolder& folder);

} // namespace upright::cli
