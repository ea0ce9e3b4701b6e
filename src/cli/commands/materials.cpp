// upright materials: the shipped library.
#include "cli/commands/commands.hpp"
#include "study/material_library.hpp"

#include <fmt/format.h>

namespace upright::cli {

namespace {

int run_materials(Session& session) {
    Console& console = session.console;
    const auto strength = [](double value) {
        return value > 0 ? fmt::format("{:g}", value) : std::string("-");
    };
    console.result(fmt::format("{:<34} {:<22} {:>7} {:>6} {:>8} {:>6} {:>8} {:>9}", "name", "grade", "E GPa",
                               "nu", "kg/m3", "yield", "ultimate", "1e-6/K"));
    for (const LibraryMaterial& m : material_library())
        console.result(fmt::format("{:<34} {:<22} {:>7} {:>6} {:>8} {:>6} {:>8} {:>9}\n    {}", m.name,
                                   m.grade, m.E_GPa, m.nu, m.density_kg_m3, strength(m.yield_MPa),
                                   strength(m.ultimate_MPa), m.expansion_um_mK, m.source));
    console.remark("\nYield and ultimate in MPa (\"-\" where the source gives none). Use one by its name or "
                   "grade: like = \"ductile iron\".\n"
                   "These are values to begin with; take those of your supplier for a part that must hold.");
    return 0;
}

} // namespace

Command materials_command() {
    return {"materials", "The shipped material library, with sources",
            [](Options&) { return [](Session& session) { return run_materials(session); }; }};
}

} // namespace upright::cli
