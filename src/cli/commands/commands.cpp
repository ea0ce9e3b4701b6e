#include "cli/commands/commands.hpp"

namespace upright::cli {

std::vector<Command> command_table(const std::vector<Command>& more) {
    std::vector<Command> out{demo_command(),    new_command(),   materials_command(), inspect_command(),
                             check_command(),   model_command(), analyze_command(),   optimize_command(),
                             watch_command(),   plot_command(),  carve_command(),     verify_command(),
                             compare_command(), sweep_command(), report_command(),    help_command(),
                             schema_command()};
    out.insert(out.end(), more.begin(), more.end());
    return out;
}

} // namespace upright::cli
