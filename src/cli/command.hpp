// A command: its name, its help, the options that are its own, and what it does. One file each in
// cli/commands, one line in commands.cpp.
//
//     Command count_command() {
//         return {"count", "Counts the elements of a study", [](Options& options) {
//                     auto in = std::make_shared<StudyWish>();
//                     add_study(options, *in);
//                     return [in](Session& s) { … return 0; };
//                 }};
//     }
#pragma once

#include "cli/console.hpp"
#include "kinds/kinds.hpp"

#include <functional>
#include <optional>
#include <string>
#include <vector>

namespace upright::cli {

// Where a command tells its options. Names as written ("--at"); `type` is what help shows for the value.
class Options {
  public:
    virtual ~Options() = default;
    // A word without a dash.
    virtual void word(const char* name, std::string& to, const char* help, bool needed) = 0;
    virtual void flag(const char* name, bool& to, const char* help) = 0;
    virtual void value(const char* name, const char* type, std::string& to, const char* help) = 0;
    virtual void value(const char* name, const char* type, int& to, const char* help) = 0;
    virtual void value(const char* name, const char* type, double& to, const char* help) = 0;
    virtual void value(const char* name, const char* type, std::optional<int>& to, const char* help) = 0;
    virtual void value(const char* name, const char* type, std::optional<double>& to, const char* help) = 0;
    // May be given several times; without a dash words one after the other, at least one.
    virtual void several(const char* name, const char* type, std::vector<std::string>& to,
                         const char* help) = 0;
};

// What a command works with.
struct Session {
    Console& console;
    const Kinds& kinds;
    bool quiet = false;
    std::string program;               // path of the running program, to find the shipped data
    std::vector<std::string> commands; // that there are
    // Runs another command as a user would type it, on the same console.
    std::function<int(const std::vector<std::string>&)> run;
};

// Does it; returns the exit code and throws Error for what is wrong.
using Runner = std::function<int(Session&)>;

struct Command {
    std::string name;
    std::string help;
    std::function<Runner(Options&)> options;
};

} // namespace upright::cli
