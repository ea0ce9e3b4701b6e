// A command of the tests' own: counts the elements of a study by the role of their region.
#include "own/own_program.hpp"

#include "cli/commands/commands.hpp"

#include <fmt/format.h>
#include <memory>

namespace upright::test {

cli::Command tally() {
    return {"tally", "Counts elements by role", [](cli::Options& options) {
                struct Wish : cli::StudyWish {
                    bool keep = false;
                };
                auto in = std::make_shared<Wish>();
                cli::add_study(options, *in);
                options.flag("--keep", in->keep, "Count kept elements, not design elements");
                return [in](cli::Session& session) {
                    const cli::Job job = cli::load_job(session, in->target, in->settings);
                    std::size_t count = 0;
                    for (std::size_t e = 0; e < job.model.mesh.elements(); ++e)
                        if (job.model.role(static_cast<ElementId>(e)) ==
                            (in->keep ? Role::Keep : Role::Design))
                            ++count;
                    session.console.result(fmt::format("{} elements", count));
                    return 0;
                };
            }};
}

} // namespace upright::test
