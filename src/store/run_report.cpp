#include "store/run_report.hpp"

#include "base/files.hpp"
#include "base/reduction.hpp"
#include "base/version.hpp"
#include "store/json_inside.hpp"
#include "store/vtu.hpp"

#include <cmath>
#include <ctime>

namespace upright {

namespace {

// The largest value of a field, where it is, and in which case.
struct Peak {
    double value = 0.0;
    Vec3 place = Vec3::Zero();
    std::string in_case;
    void take(const Peak& other, const std::string& name) {
        if (!in_case.empty() && other.value <= value) return;
        *this = other;
        in_case = name;
    }
    Json json() const {
        Json out{{"value", value}, {"place", {place.x(), place.y(), place.z()}}};
        if (!in_case.empty()) out["case"] = in_case;
        return out;
    }
};

// Of nodes that dense elements touch, and of the solid material in the middle of dense elements: void tells
// nothing.
Peak largest_displacement(const Model& model, const OptimizeResult& result, CaseId c) {
    Peak out;
    const Eigen::VectorXd& u = result.cases[index(c)].displacement;
    for (std::size_t e = 0; e < model.mesh.elements(); ++e) {
        if (result.deciding_density()[e] <= counted_density) continue;
        for (const NodeId n : model.mesh.nodes_of(static_cast<ElementId>(e))) {
            Vec3 size = Vec3::Zero();
            for (int a = 0; a < std::min(model.mesh.freedoms(), 3); ++a)
                size[a] = u[static_cast<Eigen::Index>(model.freedom(n, a))];
            if (size.norm() > out.value) {
                out.value = size.norm();
                out.place = model.mesh.nodes[index(n)];
            }
        }
    }
    return out;
}
Peak largest_stress(const StaticAnalysis& analysis, const OptimizeResult& result, CaseId c) {
    Peak out;
    const Model& model = analysis.model();
    const std::vector<double> stress =
        analysis.von_mises_stress(result.cases[index(c)].displacement, &model.cases[c]);
    for (std::size_t e = 0; e < stress.size(); ++e)
        if (result.deciding_density()[e] > counted_density && stress[e] > out.value) {
            out.value = stress[e];
            out.place = model.mesh.center(e);
        }
    return out;
}

// Of the whole body, in the study's units.
Json masses(const Model& model, const std::vector<double>& density) {
    const auto of = [&](bool design_alone) {
        return model.mesh.copies() * sum_over(density.size(), [&](std::size_t e) {
                   const auto id = static_cast<ElementId>(e);
                   if (design_alone && model.role(id) != Role::Design) return 0.0;
                   return density[e] * model.mesh.volume(id) * model.material(id).density;
               });
    };
    return {{"design", of(true)}, {"all", of(false)}, {"unit", model.units.text(dimension::mass)}};
}

std::string now_text() {
    const std::time_t now = std::time(nullptr);
    std::tm parts{};
    ::gmtime_r(&now, &parts);
    std::array<char, 32> buffer{};
    std::strftime(buffer.data(), buffer.size(), "%Y-%m-%dT%H:%M:%SZ", &parts);
    return buffer.data();
}

} // namespace

void write_run_json(const RunFolder& folder, const StaticAnalysis& analysis, const OptimizeResult& result,
                    const SolverCost& cost, double seconds, const std::string& failure,
                    const Certificate* certificate) {
    const Model& model = analysis.model();
    Json out;
    out["status"] = failure.empty() ? text(result.status) : "failed";
    if (!failure.empty()) out["failure"] = failure;
    out["feasible"] = failure.empty() && result.feasible;
    out["iterations"] = result.state.iteration;
    const bool has_values = !result.readings.empty(); // of the design that is the result
    const bool has_made = result.black_and_white.there();
    out["decided_by"] = has_values
                            ? Json(result.by_black_and_white() && has_made ? "black-and-white" : "densities")
                            : Json(nullptr);
    Json responses = Json::array();
    const std::vector<Column> all = columns(model);
    for (std::size_t c = 0; c < all.size(); ++c) {
        const ModelResponse& card = model.responses[all[c].response];
        Reading r;
        r.min = card.min;
        r.max = upper_bound(model, card);
        if (has_values) r = result.readings[c];
        Json one;
        one["name"] = card.name;
        one["measure"] = card.measure->word;
        one["case"] = card.in_case.empty() ? Json(nullptr) : Json(card.in_case);
        if (all[c].in_case != CaseId::None) one["case"] = model.cases[all[c].in_case].name;
        if (all[c].in_modal_case != ModalCaseId::None)
            one["case"] = model.modal_cases[all[c].in_modal_case].name;
        one["value"] = has_values ? Json(r.value) : Json(nullptr);
        one["unit"] = model.units.text(card.measure->dimension);
        one["min"] = json_or_null(r.min);
        one["max"] = json_or_null(r.max);
        one["holds"] = has_values ? Json(r.holds) : Json(nullptr);
        if (has_made) {
            const Reading& made = result.black_and_white.readings[c];
            one["black_and_white"] = {{"value", made.value}, {"holds", made.holds}};
            if (!made.where.empty()) one["black_and_white"]["where"] = made.where;
        }
        Json costs = Json::object();
        for (const BoundCost& bound : result.costs)
            if (bound.column == c && r.excess <= 0.02 &&
                !(card.measure->strength && std::abs(bound.rate) > 3.0))
                costs[bound.upper ? "max" : "min"] = bound.rate;
        if (!costs.empty()) one["costs"] = costs;
        if (!r.where.empty()) one["where"] = r.where;
        if (!card.except.empty()) one["except"] = card.except;
        if (card.goal) {
            // Of a goal of several columns the worst one.
            const bool worse = out.contains("goal") && has_values &&
                               (card.raised ? r.value < out["goal"]["value"].get<double>()
                                            : r.value > out["goal"]["value"].get<double>());
            if (!out.contains("goal") || worse)
                out["goal"] = {{"name", card.name},
                               {"measure", one["measure"]},
                               {"sense", card.raised ? "maximize" : "minimize"},
                               {"value", one["value"]},
                               {"unit", one["unit"]}};
            if (has_made) out["goal"]["black_and_white"] = result.black_and_white.goal;
        }
        responses.push_back(one);
    }
    out["responses"] = responses;
    if (!result.deciding_density().empty()) out["mass"] = masses(model, result.deciding_density());
    out["black_and_white"] = has_made ? Json({{"threshold", result.black_and_white.threshold},
                                              {"goal", result.black_and_white.goal},
                                              {"feasible", result.black_and_white.feasible}})
                                      : Json(nullptr);
    if (!result.three.empty()) {
        Json three = Json::array();
        const char* const names[] = {"thin", "as drawn", "thick"};
        for (std::size_t k = 0; k < result.three.size(); ++k) {
            Json one = {{"made", names[k]},
                        {"face_shift", result.three[k].face_shift},
                        {"goal", result.three[k].goal}};
            for (std::size_t c = 0; c < all.size(); ++c)
                one["responses"].push_back({{"name", all[c].name},
                                            {"value", result.three[k].readings[c].value},
                                            {"holds", result.three[k].readings[c].holds}});
            three.push_back(one);
        }
        out["three_designs"] = three;
    }
    out["design_of_iteration"] = result.design_of;
    out["best_feasible_iteration"] = result.best_feasible > 0 ? Json(result.best_feasible) : Json(nullptr);
    if (has_values) {
        out["change"] = result.row().change;
        out["grayness"] = result.row().grayness;
        const IterationRow& last = result.state.history.back();
        out["last_iteration"] = {{"iteration", last.iteration},
                                 {"goal", last.goal},
                                 {"change", last.change},
                                 {"grayness", last.grayness}};
    }
    out["optimality"] = result.optimality ? Json(*result.optimality) : Json(nullptr);
    if (certificate != nullptr) {
        if (certificate->not_served.empty())
            out["certificate"] = {{"lower_bound", certificate->bound},
                                  {"relaxed", certificate->relaxed},
                                  {"gap", certificate->gap},
                                  {"distance", certificate->distance},
                                  {"iterations", certificate->iterations}};
        else
            out["certificate"] = {{"none", certificate->not_served}};
    }
    Json cases = Json::array();
    Peak displacement;
    Peak stress;
    for (const CaseId c : IdRange<CaseId>(result.cases.size())) {
        const ModelCase& card = model.cases[c];
        Json loads = Json::object();
        for (const auto& [l, factor] : card.loads) loads[model.loads[l].name] = factor;
        Json supports = Json::array();
        for (const SupportId s : card.supports) supports.push_back(model.supports[s].name);
        const Peak u = largest_displacement(model, result, c);
        const Peak s = largest_stress(analysis, result, c);
        cases.push_back({{"name", card.name},
                         {"kind", "static"},
                         {"supports", supports},
                         {"loads", loads},
                         {"weight", card.weight},
                         {"compliance", result.cases[index(c)].compliance},
                         {"largest_displacement", u.json()},
                         {"largest_stress", s.json()}});
        displacement.take(u, card.name);
        stress.take(s, card.name);
    }
    if (!result.cases.empty()) {
        out["largest_displacement"] = displacement.json();
        out["largest_stress"] = stress.json();
    }
    for (const ModalCaseId c : IdRange<ModalCaseId>(result.modals.size())) {
        if (result.modals[index(c)].modes.empty()) continue; // no response looked at it
        Json frequencies = Json::array();
        Json clusters = Json::array();
        Json moved = Json::array();
        for (const Mode& m : result.modals[index(c)].modes) {
            frequencies.push_back(m.frequency);
            clusters.push_back(m.cluster + 1);
            moved.push_back(m.moved_share);
        }
        cases.push_back({{"name", model.modal_cases[c].name},
                         {"kind", "modal"},
                         {"frequencies", frequencies},
                         {"clusters", clusters},
                         {"moved_shares", moved},
                         {"rigid_body_modes", result.modals[index(c)].rigid.size()},
                         {"method", result.modals[index(c)].method}});
    }
    out["cases"] = cases;
    out["study"] = {{"file", model.file.string()},
                    {"title", model.title},
                    {"notes", model.notes},
                    {"units", {model.units.length, model.units.force, model.units.time}}};
    out["model"] = {{"elements", model.mesh.elements()},
                    {"nodes", model.mesh.nodes.size()},
                    {"unknowns", cost.unknowns},
                    {"symmetry_copies", model.mesh.copies()}};
    out["method"] = {{"optimizer", result.method},
                     {"goal_scale", result.goal_scale},
                     {"bounds_as", result.method == "moving asymptotes" ? Json("logarithms") : Json(nullptr)},
                     {"steps_taken_back", result.trials},
                     {"start", start_words(model)},
                     {"filter_radius", filter_radius(model)},
                     {"penalty", result.penalty},
                     {"sharpness", result.sharpness},
                     {"solver", cost.method},
                     {"solver_levels", cost.levels}};
    Json spent = Json::array();
    for (const Spent& s : result.spent)
        spent.push_back({{"iteration", s.iteration},
                         {"setup", s.setup},
                         {"solve", s.solve},
                         {"solver_iterations", s.solver_iterations},
                         {"modes", s.modes},
                         {"adjoints", s.adjoints},
                         {"forces_and_sensitivities", s.around},
                         {"step", s.step},
                         {"output", s.output}});
    out["cost"] = {{"seconds", seconds},
                   {"seconds_to_prepare", cost.prepare_seconds},
                   {"solver_bytes", cost.bytes},
                   {"factor_bytes", cost.factor_bytes},
                   {"iterations", spent}};
    out["version"] = version;
    out["written"] = now_text();
    write_text(folder.report_file(), json_text(out));
}

void write_fields(const RunFolder& folder, const StaticAnalysis& analysis, const OptimizeResult& result) {
    const Model& model = analysis.model();
    std::vector<double> regions;
    for (const RegionId r : model.mesh.region) regions.push_back(static_cast<double>(index(r)));
    std::vector<VtuField> fields{
        {"density", 1, result.density}, {"filtered", 1, result.filtered}, {"region", 1, regions}};
    if (result.black_and_white.there())
        fields.push_back({"black_and_white", 1, result.black_and_white.density});
    write_vtu(folder.design_file(), model.mesh, {}, fields);
    for (const CaseId c : IdRange<CaseId>(result.cases.size())) {
        const Eigen::VectorXd& u = result.cases[index(c)].displacement;
        write_vtu(folder.case_file(model.cases[c].name), model.mesh, {displacement_field(model.mesh, u)},
                  {{"von_mises", 1, analysis.von_mises_stress(u, &model.cases[c])},
                   {"density", 1, result.deciding_density()}});
    }
    for (const ModalCaseId c : IdRange<ModalCaseId>(result.modals.size())) {
        if (result.modals[index(c)].modes.empty()) continue;
        std::vector<VtuField> shapes;
        for (const Mode& m : result.modals[index(c)].modes) {
            VtuField field = displacement_field(model.mesh, m.shape);
            field.name = mode_field(static_cast<int>(shapes.size()) + 1);
            shapes.push_back(std::move(field));
        }
        write_vtu(folder.case_file(model.modal_cases[c].name), model.mesh, shapes,
                  {{"density", 1, result.deciding_density()}});
    }
}

std::string mode_field(int mode) {
    return "mode " + std::to_string(mode);
}

} // namespace upright
