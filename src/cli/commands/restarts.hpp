// optimize --restarts: the same study from other starts, each a run of its own under the run's folder.
#pragma once

#include "cli/console.hpp"

#include <filesystem>
#include <string>
#include <vector>

namespace upright::cli {

struct RestartWish {
    std::string target;                // the study
    std::vector<std::string> settings; // --set
    std::filesystem::path run;         // the folder of the first
    int count = 1;                     // of all runs, the first included
    bool resume = false;               // those that have ended stay, others go on
    double bytes = 0.0;                // that solving takes in one of them
};

inline constexpr int most_restarts = 99;

// The folder of run number `number`: that of the run itself for 1.
std::filesystem::path restart_folder(const std::filesystem::path& run, int number);

// Runs 2 to `count` as processes of their own, as many at a time as cores and memory allow, then says how all
// compare and writes it into run.json of the first. Returns the exit code: of the best. Throws Error (Files).
int run_restarts(const RestartWish& wish, const Model& model, Console& console);

} // namespace upright::cli
