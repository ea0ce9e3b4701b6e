// The start program: parses the command line, answers --help and --version by itself, and loads the commands
// only when one is to run. The libraries behind them would add more than 50 ms to every start.
#include "base/error.hpp"
#include "base/nearest.hpp"
#include "base/version.hpp"
#include "cli/invocation.hpp"
#include "cli/print_error.hpp"

#include <CLI/CLI.hpp>
#include <algorithm>
#include <dlfcn.h>
#include <filesystem>
#include <iostream>
#include <malloc.h>

namespace {

using upright::Error;
using upright::ExitCode;
using upright::cli::Invocation;

const std::vector<std::string> later_commands{"verify", "compare", "sweep", "report"};

void add_study(CLI::App* command, Invocation& in) {
    command->add_option("STUDY", in.target, "The study file (.toml), or a model.h5 of \"upright model\"")
        ->required();
    command
        ->add_option("--set", in.settings,
                     "Change a value: --set response.budget.max=0.3 (may be given several times)")
        ->type_name("PATH=VALUE")
        ->take_all()
        ->allow_extra_args(false);
}

void add_figure_options(CLI::App* command, Invocation& in) {
    command
        ->add_option(
            "--from", in.from,
            "Where to look from: corner, front, back, left, right, top, bottom or x,y,z (default: corner)")
        ->type_name("VIEW");
    command->add_option("--size", in.size, "Size of the picture in pixels (default: 1280x800)")
        ->type_name("WxH");
}

void build(CLI::App& app, Invocation& in) {
    app.set_version_flag("--version", std::string("upright ") + upright::version, "Print the version");
    app.set_help_flag("--help,-h", "Print this help, or that of a command");
    app.require_subcommand(0, 1);
    app.fallthrough();
    app.add_flag("--quiet,-q", in.quiet, "Print errors and results only");

    auto* demo = app.add_subcommand("demo", "The whole job on shipped data, end to end, under a minute");
    demo->add_option("DIR", in.target, "Where to put it (default: upright-demo)");
    demo->add_flag("--force", in.force, "Overwrite an earlier demo");

    auto* fresh = app.add_subcommand("new", "A commented study to start from");
    fresh->add_option("DIR", in.target, "The folder to make");
    fresh->add_option("--example", in.example, "Which example to copy (default: pump-pedestal)")
        ->type_name("NAME");
    fresh->add_flag("--list", in.list, "List the examples");

    app.add_subcommand("materials", "The shipped material library, with sources");

    auto* inspect = app.add_subcommand(
        "inspect",
        "Bodies and numbered faces of a STEP, STL or OBJ file, or the arrays of a VTU mesh; figures");
    inspect->add_option("FILE", in.target, "The file (.step, .stl, .obj, .vtu)")->required();
    inspect->add_option("--out", in.out, "The picture (default: <file>-faces.png beside the file)")
        ->type_name("FILE");
    inspect->add_flag("--no-figures", in.no_figures, "Draw no figures");
    add_figure_options(inspect, in);

    auto* check = app.add_subcommand(
        "check", "The readiness ledger: every card, what it came to, what is missing or doubtful; figures");
    add_study(check, in);
    check->add_option("--out", in.out, "Folder for the figures (default: <study>.check beside the study)")
        ->type_name("DIR");
    check->add_flag("--no-figures", in.no_figures, "Draw no figures");
    check->add_flag("--gradients", in.gradients,
                    "Compare the sensitivities of every response with central differences");
    check->add_flag("--strict", in.strict, "Doubts count as errors (exit code 3)");
    add_figure_options(check, in);

    auto* model =
        app.add_subcommand("model", "The solver-ready model: model.h5, every set as VTU, mesh quality");
    add_study(model, in);
    model->add_option("--out", in.out, "Folder for the files (default: <study>.model beside the study)")
        ->type_name("DIR");
    model->add_flag("--matrices", in.matrices,
                    "Write stiffness, mass, loads and constraint transform in Matrix Market form");
    model->add_flag("--no-figures", in.no_figures, "Draw no figure of the worst elements");
    add_figure_options(model, in);

    auto* analyze =
        app.add_subcommand("analyze", "The static and modal cases of the full-material part: the baseline");
    add_study(analyze, in);
    const auto several = [](CLI::Option* option, const char* type) {
        option->type_name(type)->take_all()->allow_extra_args(false);
    };
    several(analyze->add_option("--case", in.cases, "A case (several times for several; default: all)"),
            "NAME");
    several(analyze->add_option("--probe", in.probes,
                                "Read displacement and stress at a place (may be given several times)"),
            "X,Y,Z");
    several(analyze->add_option("--except", in.except,
                                "A region, or a surface, whose elements are left out of the largest stress"),
            "NAME");
    analyze
        ->add_option("--refine", in.refine,
                     "Analyse again on a mesh so many times as fine, and tell how every result changes")
        ->type_name("N");
    analyze
        ->add_option("--out", in.out, "Folder of the analysis (default: <study>.analysis beside the study)")
        ->type_name("DIR");
    analyze->add_flag("--force", in.force, "Overwrite an earlier analysis");
    analyze->add_flag("--no-figures", in.no_figures, "Draw no figures");
    add_figure_options(analyze, in);

    auto* optimize = app.add_subcommand("optimize", "The optimisation run, with live progress");
    add_study(optimize, in);
    optimize->add_option("--out", in.out, "Folder of the run (default: <study>.run beside the study)")
        ->type_name("DIR");
    optimize->add_flag("--force", in.force, "Overwrite an earlier run");
    optimize->add_flag("--certificate", in.certificate,
                       "At the end tell how far the design can be from the best one at all");
    optimize->add_flag("--resume", in.resume, "Go on from the checkpoint of an interrupted run");

    auto* plot = app.add_subcommand("plot", "A figure of a run or of an analysis");
    plot->add_option("RUN", in.target, "The folder of the run or analysis")->required();
    plot->add_option(
            "--what", in.what,
            "density (default), displacement, stress, mode, history; of an analysis displacement (default), "
            "stress or mode")
        ->type_name("WHAT");
    plot->add_option("--case", in.of_case, "The case (default: all)")->type_name("NAME");
    plot->add_option("--mode", in.mode, "The mode, counted from 1 after the rigid ones (default: 1)")
        ->type_name("K");
    plot->add_flag(
        "--animate", in.animate,
        "A displacement or a mode as an animated GIF, or one picture for each frame where --out ends "
        "in .png");
    plot->add_option("--frames", in.frames, "Frames of an animation (default: 24)")->type_name("N");
    plot->add_option("--iteration", in.iteration, "A kept iteration (default: the last)")->type_name("N");
    plot->add_option("--at", in.at, "Density above which material is shown (default: 0.5)")->type_name("T");
    plot->add_option("--out", in.out, "The picture (default: figures/ in the run)")->type_name("FILE");
    add_figure_options(plot, in);

    auto* carve =
        app.add_subcommand("carve", "The solid part of a run: closed surface, mass, is it one piece?");
    carve->add_option("RUN", in.target, "The folder of the run")->required();
    carve->add_option("--at", in.at, "Density at which to cut (default: 0.5)")->type_name("T");
    carve->add_option("--iteration", in.iteration, "A kept iteration (default: the last)")->type_name("N");
    carve->add_option("--smooth", in.smooth, "Smoothing passes, 0 for none (default: 50)")->type_name("N");
    carve->add_flag("--all-pieces", in.all_pieces, "Keep pieces that touch neither a support nor a load");
    carve->add_option("--out", in.out, "The STL file (default: part.stl in the run)")->type_name("FILE");
    add_figure_options(carve, in);

    auto* help =
        app.add_subcommand("help", "A card, a key or a command explained: help region, help skin_of");
    help->add_option("WORD", in.target, "The card, key, word or command; a key of one card as region.frame");
    help->add_flag("--reference", in.reference, "The whole study reference, as Markdown");

    auto* schema = app.add_subcommand(
        "schema", "The study language as JSON Schema (draft 2020-12), for editors that complete and check");
    schema->add_option("--out", in.out, "The file (default: standard output)")->type_name("FILE");

    app.footer("Exit codes: 0 done and every bound holds, 2 wrong command line, 3 study or input wrong, 4 a "
               "bound does not hold,\n"
               "5 the numbers failed, 6 the file system failed, 130 interrupted (checkpoint written).\n"
               "\"upright COMMAND --help\" tells the options of a command, \"upright help WORD\" a word of "
               "the study "
               "file. docs/guide.md is the guide.");
}

std::vector<std::string> command_names(const CLI::App& app) {
    std::vector<std::string> out;
    for (const CLI::App* command : app.get_subcommands([](const CLI::App*) { return true; }))
        out.push_back(command->get_name());
    return out;
}

// CLI11 knows no "did you mean": the words that it could not place are looked up here.
Error explain(const CLI::App& app, const CLI::ParseError& bad, int argc, char** argv) {
    const CLI::App* at = &app;
    for (const CLI::App* command : app.get_subcommands()) at = command;
    for (int i = 1; i < argc; ++i) {
        const std::string word = argv[i];
        if (at == &app && !word.empty() && word[0] != '-') {
            if (std::find(later_commands.begin(), later_commands.end(), word) != later_commands.end())
                return Error::usage("\"" + word + "\" is a command that this version does not serve yet",
                                    "Served: demo, new, materials, inspect, check, model, analyze, optimize, "
                                    "plot, carve, help, schema");
            return Error::usage("there is no command \"" + word + "\"",
                                upright::suggestion(word, command_names(app)));
        }
        if (word.rfind("--", 0) == 0) {
            const std::string name = word.substr(0, word.find('='));
            std::vector<std::string> options;
            for (const CLI::App* where : {at, &app})
                for (const CLI::Option* option : where->get_options())
                    for (const std::string& long_name : option->get_lnames())
                        options.push_back("--" + long_name);
            if (std::find(options.begin(), options.end(), name) == options.end())
                return Error::usage((at == &app ? "upright" : "upright " + at->get_name()) +
                                        " has no option " + name,
                                    upright::suggestion(name, options, 20));
        }
    }
    std::string message = bad.what();
    if (const auto required = message.find(" is required"); required != std::string::npos)
        return Error::usage("upright " + at->get_name() + " needs " + message.substr(0, required),
                            "\"upright " + at->get_name() + " --help\" tells how");
    return Error::usage(message, "\"upright " + (at == &app ? std::string() : at->get_name() + " ") +
                                     "--help\" tells how");
}

// The commands stand beside the program when it was built here, in ../lib/upright when it was installed.
int load_and_run(const Invocation& in) {
    // Threads of the linear algebra must not wait actively: next to other load that costs a factor of ten.
    // These are read when the libraries are loaded, so they cannot be set later.
    ::setenv("OMP_WAIT_POLICY", "passive", 0);
    ::setenv("OPENBLAS_THREAD_TIMEOUT", "10", 0);
    // Arrays of a few megabytes come and go every iteration: their pages are kept, not fetched anew each
    // time.
    ::mallopt(M_MMAP_THRESHOLD, 32 << 20);
    ::mallopt(M_TRIM_THRESHOLD, 256 << 20);
    const std::filesystem::path here = std::filesystem::path(in.program).parent_path();
    std::string tried;
    for (const auto& file : {here / "upright-commands.so", here / "../lib/upright/upright-commands.so"}) {
        void* module = ::dlopen(file.c_str(), RTLD_NOW | RTLD_LOCAL);
        if (module == nullptr) {
            tried = ::dlerror();
            if (std::filesystem::exists(file)) break;
            continue;
        }
        const auto run =
            reinterpret_cast<upright::cli::RunCommand>(::dlsym(module, upright::cli::run_command_symbol));
        if (run != nullptr) return run(in);
    }
    throw Error::files(here.string(), "the commands cannot be loaded: " + tried,
                       "Install the packages of scripts/install-packages");
}

int run(int argc, char** argv) {
    Invocation in;
    std::error_code ignored;
    in.program = std::filesystem::read_symlink("/proc/self/exe", ignored).string();
    CLI::App app("Upright Lattice: from a design space to a proven part", "upright");
    build(app, in);
    try {
        app.parse(argc, argv);
    } catch (const CLI::Success& done) {
        return app.exit(done); // --help and --version
    } catch (const CLI::ParseError& bad) {
        throw explain(app, bad, argc, argv);
    }
    if (app.get_subcommands().empty()) {
        std::cout << app.help();
        return argc > 1 ? static_cast<int>(ExitCode::Usage) : 0;
    }
    in.command = app.get_subcommands().front()->get_name();
    in.commands = command_names(app);
    if (in.command == "help" && !in.reference) {
        // Once parsed, the program's help is that of the command; a fresh one has its own.
        Invocation unused;
        CLI::App fresh(app.get_description(), app.get_name());
        build(fresh, unused);
        const bool command =
            std::find(in.commands.begin(), in.commands.end(), in.target) != in.commands.end();
        if (in.target.empty() || command) {
            std::cout << (command ? fresh.get_subcommand(in.target)->help(app.get_name()) : fresh.help());
            return 0;
        }
    }
    return load_and_run(in);
}

} // namespace

int main(int argc, char** argv) {
    try {
        return run(argc, argv);
    } catch (const Error& bad) {
        return upright::cli::print_error(bad);
    } catch (const std::exception& bad) {
        std::cerr << "upright: " << bad.what() << "\n";
        return static_cast<int>(ExitCode::Files);
    }
}
