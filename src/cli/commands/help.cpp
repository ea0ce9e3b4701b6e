// upright help, upright schema: the study language explained, for people and for editors.
#include "base/files.hpp"
#include "base/nearest.hpp"
#include "cli/commands/commands.hpp"
#include "study/json_schema.hpp"
#include "study/reference.hpp"

namespace upright::cli {

int run_help(const Invocation& in, Console& console) {
    const Language& language = shipped_language();
    if (in.reference) {
        console.result(reference_markdown(language));
        return 0;
    }
    const std::optional<std::string> text = explain(language, in.target);
    if (!text) {
        std::vector<std::string> known = explained_words(language);
        known.insert(known.end(), in.commands.begin(), in.commands.end());
        throw Error::usage("there is no card, key or command \"" + in.target + "\"",
                           nearest(in.target, known)
                               ? suggestion(in.target, known)
                               : "\"upright help\" lists the commands, docs/study-reference.md "
                                 "the words of a study");
    }
    std::string out = *text;
    while (!out.empty() && out.back() == '\n') out.pop_back();
    console.result(out);
    return 0;
}

int run_schema(const Invocation& in, Console& console) {
    const std::string text = json_schema(shipped_language());
    if (in.out.empty()) {
        console.result(text.substr(0, text.size() - 1));
        return 0;
    }
    write_text(in.out, text);
    console.result(in.out);
    return 0;
}

} // namespace upright::cli
