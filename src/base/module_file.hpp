// Modules that are loaded when they are first needed: only from where they belong, whole, and of the same
// build.
#pragma once

#include <filesystem>
#include <vector>

// In each module, once.
#define UPRIGHT_MODULE_BUILD                                                                                 \
    extern "C" const char* upright_module_build() {                                                          \
        return upright::build;                                                                               \
    }

namespace upright {

// The first of these files that is there, loaded, and what bears the symbol in it. Throws Error (Files) with
// what is wrong: none there, a file that was cut off, a library that it needs missing, or another build than
// ours.
void* symbol_of_module(const std::vector<std::filesystem::path>& files, const char* symbol);

// The folder that a function's program or module was loaded from, links followed. Throws Error (Files).
std::filesystem::path folder_of(const void* function);

} // namespace upright
