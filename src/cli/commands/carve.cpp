// upright carve: the solid part.
#include "base/files.hpp"
#include "base/reduction.hpp"
#include "base/text.hpp"
#include "cli/commands/commands.hpp"
#include "cli/commands/restarts.hpp"
#include "design/making_rule.hpp"
#include "figures/drawings.hpp"
#include "model/finished.hpp"
#include "model/thickened.hpp"
#include "part/extract.hpp"
#include "part/part_mesh.hpp"
#include "part/thickness.hpp"
#include "store/json_inside.hpp"
#include "tell/part_text.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <memory>

namespace upright::cli {

namespace {

struct CarveWish : FigureWish {
    std::string target, out, mass, step, blend;
    std::optional<double> at, fraction;
    std::optional<int> iteration, restart;
    bool connected = false, all_pieces = false, fine = false, no_infill = false, no_stock = false;
};

namespace fs = std::filesystem;

constexpr std::size_t most_sharp = 100; // places that part.json lists
constexpr double gaps_seen = 4.0;       // cells: wider ones are not measured
constexpr std::array<double, 10> table_thresholds{0.05, 0.1, 0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9};

// Every threshold of the table, so that one sees how the choice matters: shown, and for the report.
Json threshold_table(const PartField& field, const PartOptions& options, const Part& part,
                     const std::string& unit, Console& console) {
    Json table = Json::array();
    console.remark(fmt::format("  {:>9}  {:>14}  {:>8}  pieces{}", "threshold", "mass, " + unit,
                               fmt::format("to {:.4g}", options.threshold),
                               part.unfilled ? " (before infill)" : ""));
    for (const double t : table_thresholds) {
        PartOptions one = options;
        one.threshold = t;
        const PartField::Glance other = field.glance(one);
        const double change = 100.0 * (other.mass / part.outside().mass - 1.0);
        console.remark(fmt::format("  {:>9.2f}  {:>14.5g}  {:>+7.1f}%  {}{}", t, other.mass,
                                   std::abs(change) < 0.05 ? 0.0 : change, other.pieces,
                                   other.missed.empty() ? "" : ", misses " + joined(other.missed)));
        table.push_back(
            {{"threshold", t}, {"mass", other.mass}, {"pieces", other.pieces}, {"missed", other.missed}});
    }
    console.remark("");
    return table;
}

constexpr double much_taken_off = 0.01; // of a part's volume: the design does not keep the rule

// Of the whole body.
double mass_of(const Model& model, const std::vector<double>& density) {
    return model.mesh.copies() * sum_over(density.size(), [&](std::size_t e) {
               const auto id = static_cast<ElementId>(e);
               return density[e] * model.mesh.volume(id) * model.material(id).density;
           });
}

void tell(const Model& model, const Part& part, double at, double of_densities, Console& console) {
    console.result(fmt::format("at {:.4g}: mass {}, volume {:.5g} {}, {} triangles, {}", at,
                               model.units.mass_text(part.mass, 5), part.volume,
                               model.units.text(dimension::volume), part.surface.corners.size(),
                               part.closed ? "closed" : "NOT CLOSED"));
    const double moved =
        100.0 * ((part.outside().mass - part.outside().fillets - part.outside().stock) / of_densities - 1.0);
    console.result(fmt::format("mass of the densities {:.5g} {}, so carving{} moves it by {:+.1f} %{}",
                               of_densities, model.units.text(dimension::mass),
                               part.unfilled                      ? " (before infill)"
                               : part.fillets + part.stock != 0.0 ? " (before fillets and stock)"
                                                                  : "",
                               moved, std::abs(moved) > 5.0 ? "; doubt: more than 5 %" : ""));
    if (part.unfilled) console.result(infill_text(model, part));
    if (part.solid) {
        console.result(fmt::format(
            "mesh: {} tetrahedra, dihedral angles {:.1f} to {:.1f} degrees; cut at {:.4g} of "
            "the densities before sharpening",
            part.solid->tets.size(), part.solid->least_angle, part.solid->most_angle, part.level));
        if (const std::string sharp = sharp_text(model, *part.solid, sharp_places(*part.solid));
            !sharp.empty())
            console.result(sharp);
        if (const double off = part.outside().taken_off; off > 0.0)
            console.result(
                fmt::format("{}nothing bears {:.3g} {} ({:.2g} % of the part): taken off before the cut",
                            off > much_taken_off * part.outside().volume ? "doubt: " : "overhang: ", off,
                            model.units.text(dimension::volume), 100.0 * off / part.outside().volume));
        if (part.solid->filled > 0)
            console.remark(
                fmt::format("{} tetrahedra were filled where the part would have touched itself in an "
                            "edge or a point",
                            part.solid->filled));
        if (part.solid->doubtful > 1e-3)
            console.result(
                fmt::format("doubt: {:.2g} % of the space lies where faces could not be cut exactly",
                            100.0 * part.solid->doubtful));
    }
    if (part.regions.size() > 1) {
        console.result(fmt::format("  {:<24}  {:<20}  {:>12}  {:>12}", "region", "material",
                                   "volume, " + model.units.text(dimension::volume),
                                   "mass, " + model.units.text(dimension::mass)));
        for (const RegionShare& r : part.regions)
            console.result(fmt::format("  {:<24}  {:<20}  {:>12.5g}  {:>12.5g}", r.region, r.material,
                                       r.volume, r.mass));
    }
    console.result(pieces_text(model, part));
}

// Tetrahedra with angles below what is fair.
Json sharp_of(const Model& model, const SolidPart& part) {
    Json out = Json::array();
    for (const SharpPlace& s : sharp_places(part)) {
        if (out.size() == most_sharp) break;
        out.push_back({{"angle", s.angle},
                       {"at", {s.at.x(), s.at.y(), s.at.z()}},
                       {"between", faces_text(model, part, s)},
                       {"of_the_shape", s.own}});
    }
    return out;
}

Json report_of(const Model& model, const Part& part, const PartOptions& options, const Json& table,
               const std::vector<MakingFinding>& making, const std::optional<Thickness>& thickness) {
    Json pieces = Json::array();
    for (const PartPiece& p : part.pieces)
        pieces.push_back({{"volume", p.volume},
                          {"center", {p.center.x(), p.center.y(), p.center.z()}},
                          {"touches", p.touches},
                          {"regions", p.regions},
                          {"left_out", p.dropped}});
    Json regions = Json::array();
    for (const RegionShare& r : part.regions)
        regions.push_back(
            {{"name", r.region}, {"material", r.material}, {"volume", r.volume}, {"mass", r.mass}});
    Json out{{"threshold", options.threshold},
             {"mass", part.mass},
             {"mass_unit", model.units.text(dimension::mass)},
             {"volume", part.volume},
             {"volume_unit", model.units.text(dimension::volume)},
             {"closed", part.closed},
             {"one_piece", part.one_piece()},
             {"missed", part.missed},
             {"pieces", pieces},
             {"regions", regions},
             {"thresholds", table}};
    if (part.outside().taken_off > 0.0) out["taken_off"] = part.outside().taken_off;
    if (part.stock > 0.0) out["stock"] = part.stock;
    if (options.blend > 0.0)
        out["fillets"] = {
            {"radius", options.blend}, {"unit", model.units.length}, {"mass", part.outside().fillets}};
    Json rules = Json::array();
    for (const MakingFinding& f : making)
        rules.push_back({{"rule", f.rule},
                         {"value", f.value},
                         {"limit", f.limit},
                         {"unit", f.unit},
                         {"holds", f.holds()},
                         {"worst_at", {f.where.x(), f.where.y(), f.where.z()}}});
    out["making"] = rules;
    if (thickness) {
        Json& sizes = out["thickness"];
        const auto put = [&](const char* name, const std::optional<Thickness::Place>& p) {
            if (p) sizes[name] = {{"across", p->across}, {"at", {p->at.x(), p->at.y(), p->at.z()}}};
        };
        put("thinnest", thickness->thinnest);
        put("thickest", thickness->thickest);
        put("narrowest_gap", thickness->narrowest);
        sizes["unit"] = model.units.length;
    }
    if (part.unfilled) {
        Json infills = Json::array();
        for (const InfillMade& made : part.infills)
            infills.push_back({{"name", made.name},
                               {"volume", made.zone * model.mesh.copies()},
                               {"solid", made.solid * model.mesh.copies()},
                               {"solid_as_written", made.written * model.mesh.copies()}});
        out["infill"] = infills;
        out["mass_before_infill"] = part.unfilled->mass;
        out["closed_voids"] = closed_voids(part.surface);
    }
    if (part.solid)
        out["mesh"] = {{"tetrahedra", part.solid->tets.size()},
                       {"points", part.solid->points.size()},
                       {"least_dihedral", part.solid->least_angle},
                       {"largest_dihedral", part.solid->most_angle},
                       {"sharp", sharp_of(model, *part.solid)},
                       {"level", part.level},
                       {"filled", part.solid->filled},
                       {"doubtful", part.solid->doubtful}};
    return out;
}

void require_one_choice(const CarveWish& in) {
    const int asked =
        (in.at ? 1 : 0) + (in.mass.empty() ? 0 : 1) + (in.fraction ? 1 : 0) + (in.connected ? 1 : 0);
    if (asked > 1)
        throw Error::usage("--at, --mass, --fraction and --connected each say where to cut",
                           "Write one of them");
    if (in.fraction && !(*in.fraction > 0.0 && *in.fraction <= 1.0))
        throw Error::usage(fmt::format("--fraction {:g} is no share of the design", *in.fraction),
                           "Write a number between 0 and 1, such as 0.3");
}

// --mass in the study's units.
double mass_asked(const CarveWish& in, const Model& model) {
    const double mass = quantity_asked("--mass", in.mass, dimension::mass, model);
    if (mass > 0.0) return mass;
    throw Error::usage("--mass " + in.mass + " is no mass of a part",
                       "Write it with its unit: --mass \"3.2 kg\"");
}

// Which points of the part lie on each surface of the study; none where one of them is lost.
std::vector<std::pair<std::string, std::vector<bool>>>
points_of_surfaces(const Study& study, const Model& run, const Part& part) {
    std::vector<std::pair<std::string, std::vector<bool>>> out;
    try {
        const Model model = build_part_model(study, *part.solid, false, run);
        for (const ModelSurface& s : model.surfaces) {
            std::vector<bool> on(part.solid->points.size(), false);
            for (const NodeId n : s.nodes) on[index(n)] = true;
            out.emplace_back(s.name, std::move(on));
        }
    } catch (const Error&) { // verify tells which
    }
    return out;
}

// What is left on surfaces for machining. Throws Error (Input) for a surface of which nothing is left.
Part with_all_stock(const Job& job, const Model& finished_model, const PartField& field, Part part,
                    Console& console) {
    const Model bare = build_part_model(finished(job.study), *part.solid, false, job.model);
    for (const RegionCard& card : job.study.finishes) {
        const Skin* stock = std::get_if<Skin>(&card.extent);
        if (stock == nullptr) continue;
        StockWish wish;
        wish.name = card.name;
        wish.depth = stock->depth;
        for (std::size_t r = 0; r < finished_model.regions.size(); ++r)
            if (finished_model.regions[r].name == card.name) wish.region = static_cast<RegionId>(r);
        for (const ModelSurface& s : bare.surfaces) {
            if (std::find(stock->of.begin(), stock->of.end(), s.name) == stock->of.end()) continue;
            for (const MeshFace& f : s.faces) {
                const std::vector<NodeId> ring = bare.mesh.face_corners(f);
                std::array<std::int32_t, 3> face{};
                for (std::size_t k = 0; k < 3; ++k) face[k] = static_cast<std::int32_t>(ring[k]);
                wish.faces.push_back(face);
            }
        }
        const double before = part.mass;
        part = field.with_stock(std::move(part), wish);
        console.result(fmt::format("stock {}: {:.4g} {} to be machined away, {} of the part's mass",
                                   wish.name, wish.depth, job.model.units.length,
                                   job.model.units.mass_text(part.mass - before, 3)));
    }
    return part;
}

// The threshold that was asked for, by itself or by what comes of it.
double chosen_threshold(const CarveWish& in, const Session& session, const RunFolder& folder,
                        const Model& model, const PartField& field) {
    if (!in.mass.empty()) return field.threshold_of_mass(mass_asked(in, model));
    if (in.fraction) return field.threshold_of_fraction(*in.fraction);
    if (in.connected) {
        const double at = waited(session.console, "looking for the largest threshold that leaves one piece",
                                 [&] { return field.largest_connected(); });
        session.console.result(
            fmt::format("one piece that reaches every support and load up to a threshold of {:.3f}", at));
        return at;
    }
    return threshold(in.at, folder, in.iteration);
}

int run_carve(const CarveWish& in, Session& session) {
    Console& console = session.console;
    const FigureOptions options = figure_options(in);
    PartOptions part_options;
    threshold(in.at);
    require_one_choice(in);
    part_options.drop_islands = !in.all_pieces;
    if (!in.step.empty() && in.step != "facets" && in.step != "smooth")
        throw Error::usage("--step " + in.step + " is no way to write a STEP file", "Write smooth or facets");
    const PartFormat& format = format_of(session.kinds.part_formats, in.out.empty() ? "part.stl" : in.out);
    if (!in.step.empty() && format.ending != ".step")
        throw Error::usage("--step goes with a file that ends in .step", "Write --out part.step");
    const RunFolder folder =
        RunFolder::open(restart_of(find_run(in.target, console), in.restart), Access::Reading);
    const Job job = load_run(session, folder);
    const Model model = finished(job.model);
    const DesignValues design = design_values(folder, model, in.iteration);

    const bool has_stock =
        std::any_of(job.study.finishes.begin(), job.study.finishes.end(),
                    [](const RegionCard& card) { return std::holds_alternative<Skin>(card.extent); });
    if (in.no_stock && !has_stock)
        throw Error::usage("--no-stock goes with a study that has a [[finish]] with an allowance",
                           "Leave it out");
    if (in.no_infill && model.infills.empty())
        throw Error::usage("--no-infill goes with a study that has an [[infill]]", "Leave it out");
    if (format.ending == ".step" && !model.infills.empty() && !in.no_infill)
        throw Error::usage("STEP files take no infill: each of its triangles would be a face",
                           "Write --no-infill for the outside, or a file that ends in .stl or .3mf");
    part_options.infill = !in.no_infill;
    if (in.fine && carved_flat(model)) throw Error::usage("--fine goes with solid models", "Leave it out");
    if (in.fine) part_options.size = [half = 0.5 * model.mesh.size](const Vec3&) { return half; };
    part_options.blend = blend_radius(in.blend, model, in.fine ? 0.5 * model.mesh.size : model.mesh.size);
    const PartField field(model, design);
    const bool mass_with_fillets = !in.mass.empty() && part_options.blend > 0.0;
    part_options.threshold = mass_with_fillets ? threshold(in.at, folder, in.iteration)
                                               : chosen_threshold(in, session, folder, model, field);
    const char* carving = part_options.infill && !model.infills.empty() ? "carving, with infill" : "carving";
    const auto extract = [&] { return field.extract(part_options); };
    Part part = waited(console, carving, extract);
    // What fillets add is a part of the mass that was asked for; lighter designs have larger ones.
    double fillets = part.outside().fillets;
    for (int round = 0; round < 5 && mass_with_fillets; ++round) {
        const double asked = mass_asked(in, model);
        if (std::abs(part.outside().mass - asked) <= 1e-3 * asked) break;
        if (round > 0) fillets = 0.5 * (fillets + part.outside().fillets);
        try {
            part_options.threshold = field.threshold_of_mass(asked - fillets);
        } catch (const Error& e) {
            throw Error::input({}, fmt::format("--mass {}, {} of it in fillets: {}", in.mass,
                                               model.units.mass_text(fillets, 3), e.what()));
        }
        part = waited(console, carving, extract);
    }
    const Part machined = part;
    if (part.solid && has_stock && !in.no_stock)
        part = with_all_stock(job, model, field, std::move(part), console);
    const Json table = threshold_table(field, part_options, part, model.units.text(dimension::mass), console);
    tell(model, part, part_options.threshold, mass_of(model, design.density), console);
    if (part_options.blend > 0.0) console.result(fillets_text(model, part.outside(), part_options.blend));

    std::optional<Thickness> thickness;
    std::vector<MakingFinding> making;
    // Spheres tell nothing of members of a sheet that are wider than it is thick.
    if (part.solid && !made_of_sheets(model)) {
        thickness = waited(console, "measuring its thickness", [&] {
            return measure_thickness(
                model, machined.outside(),
                std::max(gaps_seen * model.mesh.size, 1.1 * model.form.min_slot.value_or(0.0)));
        });
        console.result(thickness_text(model, *thickness));
        making = waited(console, "looking whether it can be made", [&] {
            return check_making(model, machined.outside(),
                                model.form.draw ? draw_parting(model, model.form) : 0.0, *thickness);
        });
    }
    if (!making.empty()) console.result(making_text(making));

    const fs::path file = in.out.empty() ? folder.path() / "part.stl" : fs::path(in.out);
    if (file.has_parent_path()) make_folder(file.parent_path());
    PartToWrite written{part.surface, model.units.length, model.title, &part, &model, {}};
    written.facets = in.step == "facets";
    std::vector<std::string> told; // while it was written
    written.tell = [&](const std::string& text) { told.push_back(text); };
    cad::StepResult step;
    if (format.ending == ".step") written.read_back = &step;
    if (part.solid && format.ending == ".vtu" && !made_of_sheets(model))
        written.surfaces = points_of_surfaces(finished(job.study), job.model, machined);
    waited(console, "writing " + file.filename().string(), [&] { format.write(written, file); });
    for (const std::string& text : told) console.result(text);
    Json report = report_of(model, part, part_options, table, making, thickness);
    if (written.read_back != nullptr)
        report["step"] = {{"sound", step.valid},
                          {"volume", step.volume},
                          {"solids", step.solids},
                          {"planes", step.planes},
                          {"cylinders", step.cylinders},
                          {"cones", step.cones},
                          {"spheres", step.spheres},
                          {"smooth_faces", step.patches},
                          {"edge_tolerance", step.tolerance},
                          {"largest_bend", step.bend},
                          {"within_a_degree", step.within_a_degree}};
    if (step.off >= 0.0)
        report["step"].update({{"largest_distance", step.off},
                               {"mean_distance", step.mean_off},
                               {"within_a_tenth", step.within_a_tenth}});
    write_text(fs::path(file).replace_extension(".json"), json_text(report));
    const fs::path png = in.out.empty() ? folder.figure("part") : fs::path(file).replace_extension(".png");
    console.result("part: " + file.string());
    beside_result(console, [&] {
        draw_part(model, part,
                  fmt::format("cut at density {:.4g}; mass {}; {}", part_options.threshold,
                              model.units.mass_text(part.mass, 5),
                              part.one_piece() ? "one piece" : "NOT ONE PIECE"),
                  options, png);
        console.result("figure: " + png.string());
        if (part.unfilled) {
            const fs::path inside = fs::path(png).replace_filename(png.stem().string() + "-inside.png");
            draw_inside(model, part, options, inside);
            console.result("figure: " + inside.string());
        }
    });
    const bool kept = std::all_of(making.begin(), making.end(), [](const auto& f) { return f.holds(); });
    const bool sound = written.read_back == nullptr || step.valid;
    return part.one_piece() && kept && sound ? 0 : static_cast<int>(ExitCode::BoundBroken);
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
                options.value("--mass", "MASS", in->mass,
                              "Cut where the part has this mass, as \"3.2 kg\", without what rides on it");
                options.value("--fraction", "F", in->fraction,
                              "Cut where the design has this share of the mass it could have, as 0.3");
                options.flag(
                    "--connected", in->connected,
                    "Cut at the largest density that leaves one piece which reaches every support and load");
                options.flag("--all-pieces", in->all_pieces,
                             "Keep pieces that touch neither a support nor a load");
                options.flag("--fine", in->fine,
                             "Edges half as long as the cells': more triangles on bent and free faces");
                options.value("--blend", "RADIUS", in->blend,
                              "Fillets where the free surface meets kept shapes, as \"12 mm\"");
                options.flag("--no-stock", in->no_stock,
                             "As machined, without the allowances of [[finish]] that the study has");
                options.flag("--no-infill", in->no_infill, "Solid, without the infill that the study has");
                options.value("--step", "FORM", in->step,
                              "Free faces of a STEP file: smooth (default) or facets, flat triangles");
                options.value("--out", "FILE", in->out,
                              "The file, its format by its ending (default: part.stl in the run)");
                add_figure_options(options, *in);
                return [in](Session& session) { return run_carve(*in, session); };
            }};
}

} // namespace upright::cli
