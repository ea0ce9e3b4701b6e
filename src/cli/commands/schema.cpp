// upright schema: the study language for editors.
#include "base/files.hpp"
#include "cli/commands/commands.hpp"
#include "study/json_schema.hpp"

#include <memory>

namespace upright::cli {

Command schema_command() {
    return {"schema",
            "The study language as JSON Schema (draft 2020-12), for editors that complete and check",
            [](Options& options) {
                auto out = std::make_shared<std::string>();
                options.value("--out", "FILE", *out, "The file (default: standard output)");
                return [out](Session& session) {
                    const std::string text = json_schema(session.kinds.language);
                    if (out->empty()) {
                        session.console.result(text.substr(0, text.size() - 1));
                        return 0;
                    }
                    write_text(*out, text);
                    session.console.result(*out);
                    return 0;
                };
            }};
}

} // namespace upright::cli
