// upright help: the study language and the commands explained.
#include "base/nearest.hpp"
#include "cli/commands/commands.hpp"
#include "study/reference.hpp"

#include <algorithm>
#include <memory>

namespace upright::cli {

namespace {

struct HelpWish {
    std::string word;
    bool reference = false;
};

int run_help(const HelpWish& in, Session& session) {
    const Language& language = session.kinds.language;
    if (in.reference) {
        session.console.result(reference_markdown(language));
        return 0;
    }
    if (in.word.empty()) return session.run({"--help"});
    if (std::find(session.commands.begin(), session.commands.end(), in.word) != session.commands.end())
        return session.run({in.word, "--help"});
    const std::optional<std::string> text = explain(language, in.word);
    if (!text) {
        std::vector<std::string> known = explained_words(language);
        known.insert(known.end(), session.commands.begin(), session.commands.end());
        throw Error::usage("there is no card, key or command \"" + in.word + "\"",
                           nearest(in.word, known) ? suggestion(in.word, known)
                                                   : "\"upright help\" lists the commands, "
                                                     "docs/study-reference.md the words of a study");
    }
    std::string out = *text;
    while (!out.empty() && out.back() == '\n') out.pop_back();
    session.console.result(out);
    return 0;
}

} // namespace

Command help_command() {
    return {"help", "A card, a key or a command explained: help region, help skin_of", [](Options& options) {
                auto in = std::make_shared<HelpWish>();
                options.word("WORD", in->word,
                             "The card, key, word or command; a key of one card as region.frame", false);
                options.flag("--reference", in->reference, "The whole study reference, as Markdown");
                return [in](Session& session) { return run_help(*in, session); };
            }};
}

} // namespace upright::cli
