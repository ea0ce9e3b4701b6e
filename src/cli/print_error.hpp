// The one place where errors are printed.
#pragma once

#include "base/error.hpp"

#include <cstdio>
#include <poll.h>
#include <unistd.h>

namespace upright::cli {

// "file:line:column: what is wrong. What to write instead.", on standard error. Returns the exit code.
inline int print_error(const Error& bad) {
    const bool placed = !bad.place().file.empty();
    std::fprintf(stderr, "%s%s\n", placed ? "" : "upright: ", bad.what());
    return static_cast<int>(bad.code());
}

// What is said where memory or threads ran out, also where there is no memory left for an Error.
constexpr char no_room[] = "there is not enough memory, or no thread to be had";
constexpr char more_room[] = "Allow the program more memory and threads";

inline Error no_memory_or_thread() {
    return Error::numerics(no_room, more_room);
}

// The exit code once standard output has taken everything; that of a failed file where it could not, as on a
// full disk. Where its reader has gone nothing is missed.
inline int once_told(int code) {
    const bool taken = std::fflush(stdout) == 0 && std::ferror(stdout) == 0;
    if (taken) return code;
    pollfd end{STDOUT_FILENO, POLLOUT, 0};
    ::poll(&end, 1, 0);
    if ((end.revents & (POLLERR | POLLHUP | POLLNVAL)) != 0) return code;
    return print_error(Error::files("standard output", "cannot be written: what was to be told is lost"));
}

} // namespace upright::cli
