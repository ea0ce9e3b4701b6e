// The command line, parsed; the one file that knows the parser, since it takes long to compile.
#include "cli/program.hpp"

#include "base/nearest.hpp"
#include "base/text.hpp"
#include "base/version.hpp"
#include "cli/commands/commands.hpp"
#include "cli/print_error.hpp"

#include <CLI/CLI.hpp>
#include <algorithm>
#include <filesystem>
#include <iostream>
#include <system_error>

namespace upright::cli {

namespace {

class ParserOptions final : public Options {
  public:
    explicit ParserOptions(CLI::App& app) : app_(app) {}

    void word(const char* name, std::string& to, const char* help, bool needed) override {
        app_.add_option(name, to, help)->required(needed);
    }
    void flag(const char* name, bool& to, const char* help) override { app_.add_flag(name, to, help); }
    void value(const char* name, const char* type, std::string& to, const char* help) override {
        app_.add_option(name, to, help)->type_name(type);
    }
    void value(const char* name, const char* type, int& to, const char* help) override {
        app_.add_option(name, to, help)->type_name(type);
    }
    void value(const char* name, const char* type, double& to, const char* help) override {
        app_.add_option(name, to, help)->type_name(type);
    }
    void value(const char* name, const char* type, std::optional<int>& to, const char* help) override {
        app_.add_option(name, to, help)->type_name(type);
    }
    void value(const char* name, const char* type, std::optional<double>& to, const char* help) override {
        app_.add_option(name, to, help)->type_name(type);
    }
    void several(const char* name, const char* type, std::vector<std::string>& to,
                 const char* help) override {
        CLI::Option* option = app_.add_option(name, to, help);
        if (name[0] == '-')
            option->type_name(type)->take_all()->allow_extra_args(false);
        else
            option->required();
    }

  private:
    CLI::App& app_;
};

// The parser of one command line, and what it found.
struct Parser {
    CLI::App app{"Upright Lattice: from a design space to a proven part", "upright"};
    bool quiet = false;
    std::vector<Runner> runners; // beside the commands

    explicit Parser(const std::vector<Command>& commands) {
        app.set_version_flag("--version", std::string("upright ") + version, "Print the version");
        app.set_help_flag("--help,-h", "Print this help, or that of a command");
        app.require_subcommand(0, 1);
        app.fallthrough();
        app.add_flag("--quiet,-q", quiet, "Print errors and results only");
        for (const Command& command : commands) {
            ParserOptions options(*app.add_subcommand(command.name, command.help));
            runners.push_back(command.options(options));
        }
        app.footer(
            "Exit codes: 0 done and every bound holds, 2 wrong command line, 3 study or input wrong, 4 a "
            "bound does not hold,\n"
            "5 the numbers failed, 6 the file system failed, 130 interrupted (checkpoint written).\n"
            "\"upright COMMAND --help\" tells the options of a command, \"upright help WORD\" a word of the "
            "study "
            "file.\ndocs/guide.md is the guide.");
    }
};

std::vector<std::string> names_of_commands(const std::vector<Command>& commands) {
    std::vector<std::string> out;
    for (const Command& command : commands) out.push_back(command.name);
    return out;
}

// The parser knows no "did you mean": the words that it could not place are looked up here.
Error explain(const CLI::App& app, const CLI::ParseError& bad, const std::vector<std::string>& words,
              const std::vector<std::string>& commands) {
    const CLI::App* at = &app;
    for (const CLI::App* command : app.get_subcommands()) at = command;
    for (const std::string& word : words) {
        if (at == &app && !word.empty() && word[0] != '-') {
            return Error::usage("there is no command \"" + word + "\"", suggestion(word, commands));
        }
        if (word.rfind("--", 0) != 0) continue;
        const std::string name = word.substr(0, word.find('='));
        std::vector<std::string> options;
        for (const CLI::App* where : {at, &app})
            for (const CLI::Option* option : where->get_options())
                for (const std::string& long_name : option->get_lnames()) options.push_back("--" + long_name);
        if (std::find(options.begin(), options.end(), name) == options.end())
            return Error::usage((at == &app ? "upright" : "upright " + at->get_name()) + " has no option " +
                                    name,
                                suggestion(name, options, 20));
    }
    const std::string message = bad.what();
    const std::string command = at == &app ? std::string() : at->get_name() + " ";
    const auto required = message.find(" is required");
    return Error::usage(required != std::string::npos
                            ? "upright " + at->get_name() + " needs " + message.substr(0, required)
                            : message,
                        "\"upright " + command + "--help\" tells how");
}

class Program {
  public:
    Program(const std::string& path, const Extras& extras)
        : kinds_(make_kinds(extras.kinds)), commands_(command_table(extras.commands)), path_(path) {}

    int run(const std::vector<std::string>& words) {
        Parser parser(commands_);
        const std::vector<std::string> names = names_of_commands(commands_);
        try {
            parser.app.parse(std::vector<std::string>(words.rbegin(), words.rend()));
        } catch (const CLI::Success& done) {
            return parser.app.exit(done); // --help and --version
        } catch (const CLI::ParseError& bad) {
            throw explain(parser.app, bad, words, names);
        }
        if (parser.app.get_subcommands().empty()) {
            std::cout << parser.app.help();
            return words.empty() ? 0 : static_cast<int>(ExitCode::Usage);
        }
        if (console_ == nullptr) console_ = std::make_unique<Console>(parser.quiet);
        quiet_ = quiet_ || parser.quiet;
        Session session{*console_, kinds_,
                        quiet_,    path_,
                        names,     [this](const std::vector<std::string>& more) { return run(more); }};
        const std::string name = parser.app.get_subcommands().front()->get_name();
        const auto at = std::find(names.begin(), names.end(), name);
        return parser.runners[static_cast<std::size_t>(at - names.begin())](session);
    }

  private:
    Kinds kinds_;
    std::vector<Command> commands_;
    std::string path_;
    std::unique_ptr<Console> console_; // one for a command and those that it runs
    bool quiet_ = false;
};

} // namespace

int run_program(int argc, char** argv, const std::string& program, const Extras& extras) {
    try {
        return Program(program, extras).run({argv + std::min(argc, 1), argv + argc});
    } catch (const Error& bad) {
        return print_error(bad);
    } catch (const std::bad_alloc&) {
        return print_error(Error::numerics("there is not enough memory",
                                           "Write a larger cell size, or allow the program more memory"));
    } catch (const std::filesystem::filesystem_error& bad) {
        return print_error(Error::files(bad.path1().string(), bad.code().message()));
    } catch (const std::system_error& bad) {
        if (bad.code() == std::errc::resource_unavailable_try_again ||
            bad.code() == std::errc::not_enough_memory)
            return print_error(no_memory_or_thread());
        return print_error(Error::numerics(std::string("unexpected: ") + bad.what()));
    } catch (const std::exception& bad) {
        return print_error(Error::numerics(std::string("unexpected: ") + bad.what()));
    }
}

} // namespace upright::cli
