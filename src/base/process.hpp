// Another program, started without a shell.
#pragma once

#include <filesystem>
#include <functional>
#include <string>
#include <vector>

namespace upright {

// Starts `arguments[0]` (looked up in PATH) with the arguments as they are, gives it `input` to read, and
// has what it writes in the file `output` and its errors in `errors`, by default nowhere.
// Returns its exit code; 127 where there is no such program, -1 where a signal ended it or it did not take
// all of its input. Never raises SIGPIPE. Throws Error (Files) where `output` cannot be written.
// With `stop` the program is out of reach of the terminal's Ctrl-C: it is asked to end (SIGTERM, once) as
// soon as `stop` says so, and waited for.
int run_program(const std::vector<std::string>& arguments, const std::string& input,
                const std::filesystem::path& output, const std::filesystem::path& errors = "/dev/null",
                const std::function<bool()>& stop = nullptr);

// Memory that programs may still take, in bytes; 0 where the system does not tell.
double free_memory();

} // namespace upright
