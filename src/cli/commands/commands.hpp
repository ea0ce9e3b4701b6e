// The table of commands, and what they share.
#pragma once

#include "cli/command.hpp"
#include "figures/figure.hpp"
#include "store/run_folder.hpp"

#include <filesystem>
#include <string>
#include <vector>

namespace upright {
struct DesignValues;
}

namespace upright::cli {

// Those that the program ships, in the order of the work, and `more` behind them.
std::vector<Command> command_table(const std::vector<Command>& more = {});

// One file each.
Command demo_command();
Command new_command();
Command materials_command();
Command inspect_command();
Command check_command();
Command model_command();
Command analyze_command();
Command optimize_command();
Command watch_command();
Command plot_command();
Command carve_command();
Command verify_command();
Command compare_command();
Command sweep_command();
Command report_command();
Command help_command();
Command schema_command();

// The study, and changes of it.
struct StudyWish {
    std::string target;
    std::vector<std::string> settings; // --set path=value
};
void add_study(Options& options, StudyWish& wish);

// How a figure looks.
struct FigureWish {
    std::string from = "corner";
    std::string size = "1280x800";
    bool dark = false;
};
void add_figure_options(Options& options, FigureWish& wish);
// --from and --size. Throws Error (Usage).
FigureOptions figure_options(const FigureWish& wish);

// The folder with the shipped examples.
std::filesystem::path example_folder(const Session& session);

// A run by its path; a bare name that is not here is looked for below the current folder.
std::filesystem::path find_run(const std::string& path, Console& console);

// --restart: the folder of run number N of optimize --restarts. Throws Error (Input) where there is none.
std::filesystem::path restart_of(const std::filesystem::path& run, const std::optional<int>& number);

// The densities of an iteration (the last one without), of as many elements as the model has.
std::vector<double> read_design(const RunFolder& folder, const Model& model,
                                const std::optional<int>& iteration);

// All of its design, to carve from; its threshold is that of the black-and-white design where that decided.
DesignValues design_values(const RunFolder& folder, const Model& model, const std::optional<int>& iteration);

// --at. Throws Error (Usage) unless it lies between 0 and 1.
double threshold(const std::optional<double>& at);
// The same; where none was asked for, that of the run's black-and-white design (of its result), or 0.5.
double threshold(const std::optional<double>& at, const RunFolder& folder,
                 const std::optional<int>& iteration);

// What an option was given, in the study's units. Throws Error (Usage), the option named, for what is no such
// quantity.
double quantity_asked(const std::string& option, const std::string& given, const Dimension& dimension,
                      const Model& model);

// --blend: a radius that edges of a length can follow; zero where none was asked for. Throws Error (Usage)
// for what is no such length, and where a part has no fillets: plane models and shells that are meshed here.
double blend_radius(const std::string& asked, const Model& model, double edge);

// "iteration 57, converged" for the subtitles of figures.
std::string state_text(const RunFolder& folder, const std::optional<int>& iteration);

// A study and its model: built from a study file, or as a model.h5 has them.
struct Job {
    Study study;
    Model model;
};
// Shows on the console that a mesh is being made where that takes more than a second.
Job load_job(const Session& session, const std::filesystem::path& file,
             const std::vector<std::string>& settings = {}, bool tell = false);
// Those of a run: its model.h5, or built anew where there is none.
Job load_run(const Session& session, const RunFolder& folder);

} // namespace upright::cli
