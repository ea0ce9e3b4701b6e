// The entry of the module that the start program loads.
#include "base/module_file.hpp"
#include "base/version.hpp"
#include "cli/program.hpp"

extern "C" int upright_run_program(int argc, char** argv, const char* program) {
    return upright::cli::run_program(argc, argv, program);
}

UPRIGHT_MODULE_BUILD
