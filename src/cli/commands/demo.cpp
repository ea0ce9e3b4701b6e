// upright demo: the whole job on shipped data.
#include "base/files.hpp"
#include "cli/commands/commands.hpp"

#include <chrono>
#include <fmt/format.h>

namespace upright::cli {

namespace fs = std::filesystem;

int run_demo(const Invocation& in, Console& console) {
    const auto start = std::chrono::steady_clock::now();
    const fs::path folder = in.target.empty() ? fs::path("upright-demo") : fs::path(in.target);
    make_folder(folder);
    const fs::path study = folder / "pedestal.toml";
    const fs::path run = folder / "pedestal.run";
    std::error_code ignored;
    if (fs::exists(run, ignored) && !in.force)
        throw Error::files(run.string(), "an earlier demo is there already",
                           "Overwrite it with --force, or name another folder");
    write_text(study, read_text(example_folder(in) / "pump-pedestal" / "pedestal.toml"));

    // Each step is the command itself, as a user would type it.
    const auto step = [&](const std::string& words, int (*command)(const Invocation&, Console&),
                          Invocation one) {
        console.remark("\n$ upright " + words);
        one.quiet = in.quiet;
        one.program = in.program;
        return command(one, console);
    };
    Invocation check;
    check.target = study.string();
    int code = step("check " + study.string(), run_check, check);
    if (code != 0) return code;
    Invocation optimize;
    optimize.target = study.string();
    optimize.force = in.force;
    code = step("optimize " + study.string(), run_optimize, optimize);
    if (code != 0) return code;
    for (const char* what : {"density", "displacement", "stress", "history"}) {
        Invocation plot;
        plot.target = run.string();
        plot.what = what;
        step("plot " + run.string() + " --what " + what, run_plot, plot);
    }
    Invocation carve;
    carve.target = run.string();
    step("carve " + run.string() + " --at 0.5", run_carve, carve);
    const double seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
    console.result(
        fmt::format("\nthe whole job took {:.0f} s; everything is in {}", seconds, folder.string()));
    return 0;
}

} // namespace upright::cli
