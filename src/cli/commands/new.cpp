// upright new: a commented study to start from.
#include "base/files.hpp"
#include "base/nearest.hpp"
#include "cli/commands/commands.hpp"

#include <algorithm>
#include <fmt/format.h>
#include <memory>

namespace upright::cli {

namespace fs = std::filesystem;

namespace {

struct NewWish {
    std::string target;
    std::string example = "pump-pedestal";
    bool list = false;
};

int run_new(const NewWish& in, Session& session) {
    Console& console = session.console;
    const fs::path examples = example_folder(session);
    std::vector<std::string> names;
    for (const auto& entry : fs::directory_iterator(examples))
        if (entry.is_directory()) names.push_back(entry.path().filename().string());
    std::sort(names.begin(), names.end());
    if (in.list) {
        for (const std::string& name : names) console.result(name);
        return 0;
    }
    if (in.target.empty())
        throw Error::usage("upright new needs the folder to make",
                           "Write upright new my-part, or upright new --list");
    if (std::find(names.begin(), names.end(), in.example) == names.end())
        throw Error::usage("there is no example \"" + in.example + "\"", suggestion(in.example, names));
    const fs::path folder(in.target);
    std::error_code ignored;
    if (fs::exists(folder, ignored) && !fs::is_empty(folder, ignored))
        throw Error::files(in.target, "there is something of that name already", "Choose another folder");
    make_folder(folder);
    for (const auto& entry : fs::directory_iterator(examples / in.example))
        if (entry.is_regular_file()) {
            write_text(folder / entry.path().filename(), read_text(entry.path()));
            console.result((folder / entry.path().filename()).string());
        }
    return 0;
}

} // namespace

Command new_command() {
    return {"new", "A commented study to start from", [](Options& options) {
                auto in = std::make_shared<NewWish>();
                options.word("DIR", in->target, "The folder to make", false);
                options.value("--example", "NAME", in->example,
                              "Which example to copy (default: pump-pedestal)");
                options.flag("--list", in->list, "List the examples");
                return [in](Session& session) { return run_new(*in, session); };
            }};
}

} // namespace upright::cli
