// upright demo: the whole job on shipped data.
#include "base/files.hpp"
#include "cli/commands/commands.hpp"

#include <chrono>
#include <fmt/format.h>
#include <memory>

namespace upright::cli {

namespace fs = std::filesystem;

namespace {

struct DemoWish {
    std::string target = "upright-demo";
    bool force = false;
};

int run_demo(const DemoWish& in, Session& session) {
    Console& console = session.console;
    const auto start = std::chrono::steady_clock::now();
    const fs::path folder(in.target);
    make_folder(folder);
    const fs::path study = folder / "pedestal.toml";
    const fs::path run = folder / "pedestal.run";
    std::error_code ignored;
    if (fs::exists(run, ignored) && !in.force)
        throw Error::files(run.string(), "an earlier demo is there already",
                           "Overwrite it with --force, or name another folder");
    write_text(study, read_text(example_folder(session) / "pump-pedestal" / "pedestal.toml"));

    // Each step is the command itself, as a user would type it.
    const auto step = [&](std::vector<std::string> words, bool force = false) {
        std::string line;
        for (const std::string& word : words) line += " " + word;
        console.remark("\n$ upright" + line);
        if (force) words.emplace_back("--force");
        return session.run(words);
    };
    int code = step({"check", study.string(), "--set", "mesh.size=9 mm"});
    if (code != 0) return code;
    code = step({"optimize", study.string(), "--set", "mesh.size=9 mm"}, in.force);
    if (code != 0) return code;
    for (const char* what : {"density", "displacement", "stress", "history"})
        step({"plot", run.string(), "--what", what});
    step({"carve", run.string()});
    step({"verify", run.string()});
    step({"report", run.string()});
    const double seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
    console.result(
        fmt::format("\nthe whole job took {:.0f} s; everything is in {}", seconds, folder.string()));
    return 0;
}

} // namespace

Command demo_command() {
    return {"demo", "The whole job on shipped data, end to end, in well under two minutes",
            [](Options& options) {
                auto in = std::make_shared<DemoWish>();
                options.word("DIR", in->target, "Where to put it (default: upright-demo)", false);
                options.flag("--force", in->force, "Overwrite an earlier demo");
                return [in](Session& session) { return run_demo(*in, session); };
            }};
}

} // namespace upright::cli
