// The program: a table of commands behind a command line.
#pragma once

#include "cli/command.hpp"

#include <string>
#include <vector>

namespace upright::cli {

// What a program has beside what is shipped.
struct Extras {
    Further kinds;
    std::vector<Command> commands;
};

// Parses, runs, prints what is wrong; returns the exit code. `program` is the path of the running program.
int run_program(int argc, char** argv, const std::string& program, const Extras& extras = {});

} // namespace upright::cli
