// upright carve: the solid part.
#include "base/files.hpp"
#include "base/reduction.hpp"
#include "base/text.hpp"
#include "cli/commands/commands.hpp"
#include "cli/commands/restarts.hpp"
#include "figures/drawings.hpp"
#include "part/extract.hpp"
#include "tell/part_text.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <memory>
#include <nlohmann/json.hpp>

namespace upright::cli {

namespace {

struct CarveWish : FigureWish {
    std::string target, out;
    std::optional<double> at;
    std::optional<int> iteration, restart;
    int smooth = 50;
    bool all_pieces = false;
};

namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;

constexpr std::array<double, 10> table_thresholds{0.05, 0.1, 0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9};

// Every threshold of the table, so that one sees how the choice matters: shown, and for the report.
Json threshold_table(const PartField& field, const PartOptions& options, const Part& part,
                     const std::string& unit, Console& console) {
    Json table = Json::array();
    console.remark(fmt::format("  {:>9}  {:>14}  {:>8}  pieces", "threshold", "mass, " + unit,
                               fmt::format("to {:g}", options.threshold)));
    for (const double t : table_thresholds) {
        PartOptions one = options;
        one.threshold = t;
        one.passes = 0;
        try {
            const Part other = field.extract(one);
            const double change = 100.0 * (other.mass / part.mass - 1.0);
            console.remark(fmt::format("  {:>9.2f}  {:>14.5g}  {:>+7.1f}%  {}{}", t, other.mass,
                                       std::abs(change) < 0.05 ? 0.0 : change, pieces_left(other),
                                       other.missed.empty() ? "" : ", misses " + joined(other.missed)));
            table.push_back({{"threshold", t},
                             {"mass", other.mass},
                             {"pieces", pieces_left(other)},
                             {"missed", other.missed}});
        } catch (const Error&) {
            console.remark(fmt::format("  {:>9.2f}  {:>14}", t, "nothing left"));
            table.push_back({{"threshold", t}, {"mass", 0.0}, {"pieces", 0}, {"missed", Json::array()}});
        }
    }
    console.remark("");
    return table;
}

// Of the whole body.
double mass_of(const Model& model, const std::vector<double>& density) {
    return model.mesh.copies() * sum_over(density.size(), [&](std::size_t e) {
               const auto id = static_cast<ElementId>(e);
               return density[e] * model.mesh.volume(id) * model.material(id).density;
           });
}

void tell(const Model& model, const Part& part, double at, double of_densities, Console& console) {
    console.result(fmt::format("at {:g}: mass {}, volume {:.5g} {}, {} triangles, {}", at,
                               model.units.mass_text(part.mass, 5), part.volume,
                               model.units.text(dimension::volume), part.surface.corners.size(),
                               part.closed ? "closed" : "NOT CLOSED"));
    const double moved = 100.0 * (part.mass / of_densities - 1.0);
    console.result(fmt::format("mass of the densities {:.5g} {}, so carving moves it by {:+.1f} %{}",
                               of_densities, model.units.text(dimension::mass), moved,
                               std::abs(moved) > 5.0 ? "; doubt: more than 5 %" : ""));
    console.result(fmt::format("smoothing moved the volume by {:+.2g} %",
                               100.0 * (part.volume / part.volume_before - 1.0)));
    console.result(pieces_text(model, part));
}

Json report_of(const Model& model, const Part& part, const PartOptions& options, const Json& table) {
    Json pieces = Json::array();
    for (const PartPiece& p : part.pieces)
        pieces.push_back({{"volume", p.volume},
                          {"center", {p.center.x(), p.center.y(), p.center.z()}},
                          {"touches", p.touches},
                          {"left_out", p.dropped}});
    return {{"threshold", options.threshold},
            {"mass", part.mass},
            {"mass_unit", model.units.text(dimension::mass)},
            {"volume", part.volume},
            {"volume_unit", model.units.text(dimension::volume)},
            {"closed", part.closed},
            {"one_piece", part.one_piece()},
            {"missed", part.missed},
            {"pieces", pieces},
            {"thresholds", table},
            {"smoothing_passes", options.passes}};
}

int run_carve(const CarveWish& in, Session& session) {
    Console& console = session.console;
    const FigureOptions options = figure_options(in);
    PartOptions part_options;
    threshold(in.at);
    if (in.smooth < 0 || in.smooth > 1000) throw Error::usage("--smooth takes 0 to 1000 passes");
    part_options.passes = in.smooth;
    part_options.drop_islands = !in.all_pieces;
    const PartFormat& format = format_of(session.kinds.part_formats, in.out.empty() ? "part.stl" : in.out);
    const RunFolder folder =
        RunFolder::open(restart_of(find_run(in.target, console), in.restart), Access::Reading);
    part_options.threshold = threshold(in.at, folder, in.iteration);
    const Job job = load_run(session, folder);
    const Model& model = job.model;
    const std::vector<double> density = read_design(folder, model, in.iteration);

    const PartField field(model, density);
    const Part part = field.extract(part_options);
    const Json table = threshold_table(field, part_options, part, model.units.text(dimension::mass), console);
    tell(model, part, part_options.threshold, mass_of(model, density), console);

    const fs::path file = in.out.empty() ? folder.path() / "part.stl" : fs::path(in.out);
    if (file.has_parent_path()) make_folder(file.parent_path());
    format.write({part.surface, model.units.length, model.title}, file);
    write_text(fs::path(file).replace_extension(".json"),
               report_of(model, part, part_options, table).dump(2) + "\n");
    const fs::path png = in.out.empty() ? folder.figure("part") : fs::path(file).replace_extension(".png");
    draw_part(model, part,
              fmt::format("cut at density {:g}; mass {}; {}", part_options.threshold,
                          model.units.mass_text(part.mass, 5),
                          part.one_piece() ? "one piece" : "NOT ONE PIECE"),
              options, png);
    console.result(fmt::format("part: {}\nfigure: {}", file.string(), png.string()));
    return 0;
}

} // namespace

Command carve_command() {
    return {"carve", "The solid part of a run: closed surface, mass, is it one piece?", [](Options& options) {
                auto in = std::make_shared<CarveWish>();
                options.word("RUN", in->target, "The folder of the run", true);
                options.value(
                    "--at", "T", in->at,
                    "Density at which to cut (default: that of the black-and-white design, or 0.5)");
                options.value("--restart", "N", in->restart, "Run N of optimize --restarts (default: 1)");
                options.value("--iteration", "N", in->iteration, "A kept iteration (default: the last)");
                options.value("--smooth", "N", in->smooth, "Smoothing passes, 0 for none (default: 50)");
                options.flag("--all-pieces", in->all_pieces,
                             "Keep pieces that touch neither a support nor a load");
                options.value("--out", "FILE", in->out,
                              "The file, its format by its ending (default: part.stl in the run)");
                add_figure_options(options, *in);
                return [in](Session& session) { return run_carve(*in, session); };
            }};
}

} // namespace upright::cli
