// Errors are values for users: where in the user's file, what is wrong, what to write instead.
#pragma once

#include <exception>
#include <string>

namespace upright {

// The exit codes of the program; docs/guide.md lists them.
enum class ExitCode : int {
    Done = 0,         // done, and every bound holds
    Usage = 2,        // wrong command line
    Input = 3,        // the study or an input file is wrong
    BoundBroken = 4,  // done, but a bound does not hold
    Numerics = 5,     // singular, not converged
    Files = 6,        // the file system failed
    Interrupted = 130 // stopped by the user, checkpoint written
};

// A place in a user's file. Lines and columns count from 1; 0 means unknown.
struct Place {
    std::string file;
    int line = 0;
    int column = 0;

    // "file:line:column", leaving out what is unknown.
    std::string text() const;
};

// The one error type. `what()` is the whole sentence: "place: what is wrong. What to write instead."
class Error : public std::exception {
  public:
    static Error input(const Place& place, const std::string& wrong, const std::string& instead = {});
    static Error usage(const std::string& wrong, const std::string& instead = {});
    static Error numerics(const std::string& wrong, const std::string& instead = {});
    static Error interrupted(const std::string& what, const std::string& next = {});
    static Error files(const std::string& path, const std::string& wrong, const std::string& instead = {});

    const char* what() const noexcept override { return message_.c_str(); }
    ExitCode code() const noexcept { return code_; }
    const Place& place() const noexcept { return place_; }

  private:
    Error(ExitCode code, Place place, const std::string& wrong, const std::string& instead);

    ExitCode code_;
    Place place_;
    std::string message_;
};

} // namespace upright
