#include "output/run_report.hpp"

#include "base/files.hpp"
#include "base/version.hpp"
#include "output/vtu.hpp"

#include <ctime>
#include <nlohmann/json.hpp>

namespace upright {

namespace {

using Json = nlohmann::ordered_json;

Json bound(const std::optional<double>& value) {
    return value ? Json(*value) : Json(nullptr);
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

void write_run_json(const RunFolder& folder, const Study& study, const Model& model,
                    const OptimizeResult& result, const SolverCost& cost, double seconds,
                    const std::string& failure) {
    Json out;
    out["status"] = failure.empty() ? text(result.status) : "failed";
    if (!failure.empty()) out["failure"] = failure;
    out["feasible"] = failure.empty() && result.feasible;
    out["iterations"] = result.state.iteration;
    const std::vector<double> none(study.responses.size(), 0.0);
    const bool has_values = !result.state.history.empty();
    const std::vector<double>& values = has_values ? result.state.history.back().responses : none;
    Json responses = Json::array();
    for (std::size_t r = 0; r < study.responses.size(); ++r) {
        const ResponseCard& card = study.responses[r];
        Json one;
        one["name"] = card.name;
        one["measure"] = text(card.measure);
        one["case"] = card.in_case.empty() ? Json(nullptr) : Json(card.in_case);
        one["value"] = has_values ? Json(values[r]) : Json(nullptr);
        one["unit"] = study.units.text(dimension_of(card.measure));
        one["min"] = bound(card.min);
        one["max"] = bound(card.max);
        one["holds"] = has_values ? Json(holds(card, values[r])) : Json(nullptr);
        if (study.goal && card.name == study.goal->response)
            out["goal"] = {{"name", card.name},
                           {"measure", one["measure"]},
                           {"value", one["value"]},
                           {"unit", one["unit"]}};
        responses.push_back(one);
    }
    out["responses"] = responses;
    if (has_values) {
        out["change"] = result.state.history.back().change;
        out["grayness"] = result.state.history.back().grayness;
    }
    Json cases = Json::array();
    for (std::size_t c = 0; c < result.cases.size(); ++c)
        cases.push_back({{"name", model.cases[c].name},
                         {"weight", model.cases[c].weight},
                         {"compliance", result.cases[c].compliance}});
    out["cases"] = cases;
    out["study"] = {{"file", study.file.string()},
                    {"title", study.title},
                    {"notes", study.notes},
                    {"units", {study.units.length, study.units.force, study.units.time}}};
    out["model"] = {{"elements", model.mesh.elements()},
                    {"nodes", model.mesh.nodes.size()},
                    {"unknowns", cost.unknowns},
                    {"symmetry_copies", model.mesh.copies()}};
    out["method"] = {{"optimizer", "optimality criteria"},
                     {"filter_radius", filter_radius(study, model)},
                     {"penalty", result.penalty},
                     {"solver", cost.method},
                     {"solver_levels", cost.levels}};
    Json spent = Json::array();
    for (const Spent& s : result.spent)
        spent.push_back({{"iteration", s.iteration},
                         {"setup", s.setup},
                         {"solve", s.solve},
                         {"solver_iterations", s.solver_iterations},
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
    write_text(folder.path() / "run.json", out.dump(2) + "\n");
}

void write_fields(const RunFolder& folder, const StaticAnalysis& analysis, const OptimizeResult& result) {
    const Model& model = analysis.model();
    std::vector<double> regions;
    for (const RegionId r : model.mesh.region) regions.push_back(static_cast<double>(index(r)));
    write_vtu(folder.path() / "design.vtu", model.mesh, {},
              {{"density", 1, result.state.density}, {"region", 1, regions}});
    for (std::size_t c = 0; c < result.cases.size(); ++c) {
        const Eigen::VectorXd& u = result.cases[c].displacement;
        write_vtu(folder.case_file(model.cases[c].name), model.mesh, {displacement_field(model.mesh, u)},
                  {{"von_mises", 1, analysis.von_mises_stress(u, &model.cases[c])},
                   {"density", 1, result.state.density}});
    }
}

} // namespace upright
