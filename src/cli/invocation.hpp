// What the command line asked for, already parsed: plain data between the small start program and the
// commands.
#pragma once

#include <optional>
#include <string>
#include <vector>

namespace upright::cli {

struct Invocation {
    std::string command;
    std::string target;                // a study, a run or a folder
    std::string out;                   // --out
    std::vector<std::string> settings; // --set path=value
    bool force = false;
    bool resume = false;
    bool quiet = false;
    bool strict = false;
    bool gradients = false;   // check
    bool certificate = false; // optimize
    bool list = false;
    bool no_figures = false;
    bool matrices = false;
    std::string what; // empty: what the folder is for
    std::string of_case;
    std::vector<std::string> cases;  // analyze --case
    std::vector<std::string> probes; // "x,y,z"
    std::vector<std::string> except; // regions and surfaces left out of stress peaks
    std::optional<int> refine;
    std::optional<int> mode;
    bool animate = false;
    int frames = 24;
    std::optional<int> iteration;
    std::string from = "corner";
    std::string size = "1280x800";
    double at = 0.5;
    int smooth = 50;
    bool all_pieces = false;
    std::string example = "pump-pedestal";
    bool reference = false;            // help --reference
    std::vector<std::string> commands; // that there are
    std::string program;               // path of the running program, to find the shipped data
};

// The entry of the module that holds the commands. Returns the exit code; prints its own errors.
using RunCommand = int (*)(const Invocation&);
inline constexpr const char* run_command_symbol = "upright_run_command";

} // namespace upright::cli
