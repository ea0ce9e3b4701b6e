// The one place where errors are printed.
#pragma once

#include "base/error.hpp"

#include <cstdio>

namespace upright::cli {

// "file:line:column: what is wrong. What to write instead.", on standard error. Returns the exit code.
inline int print_error(const Error& bad) {
    const bool placed = !bad.place().file.empty();
    std::fprintf(stderr, "%s%s\n", placed ? "" : "upright: ", bad.what());
    return static_cast<int>(bad.code());
}

} // namespace upright::cli
