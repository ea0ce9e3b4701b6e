#include "verify/verify_report.hpp"
#include "store/json_inside.hpp"

#include "base/files.hpp"
#include "model/storage.hpp"

namespace upright {

namespace {

using VerifyJson = nlohmann::ordered_json;

VerifyJson or_null(const std::optional<double>& v) {
    return v ? VerifyJson(*v) : VerifyJson(nullptr);
}

VerifyJson rows_of(const Verified& v) {
    VerifyJson out = VerifyJson::array();
    for (const VerifyRow& r : v.rows)
        out.push_back({{"name", r.name},
                       {"measure", r.measure},
                       {"unit", r.unit},
                       {"full_space", or_null(r.whole)},
                       {"design", or_null(r.design)},
                       {"part", or_null(r.part)},
                       {"min", or_null(r.min)},
                       {"max", or_null(r.max)},
                       {"holds", r.bounded() ? VerifyJson(r.holds) : VerifyJson(nullptr)},
                       {"where", r.where}});
    return out;
}

} // namespace

void write_verification(const AnalysisFolder& folder, const Study& study, const Verified& v, double seconds) {
    save_model(folder.model_file(), v.model, study.resolved);
    write_text(folder.path() / "study.toml", study.resolved);
    folder.write_fields(v.model, v.report);
    folder.write_json(v.model, v.report, v.outcomes, seconds);
    VerifyJson errors = VerifyJson::object();
    for (const StaticReport& s : v.report.statics) errors[s.name] = s.error.relative;
    VerifyJson surfaces = VerifyJson::array();
    for (const SurfaceLeft& s : v.surfaces)
        surfaces.push_back({{"name", s.name}, {"area", s.area}, {"of", s.of}});
    VerifyJson rounds = VerifyJson::array();
    for (const VerifyRound& r : v.rounds)
        rounds.push_back({{"tetrahedra", r.tets}, {"energy_error", r.error}, {"largest_stress", r.stress}});
    const bool elsewhere = v.body_volume > 0.0;
    VerifyJson out{{"verified", v.passed()},
                   {"one_piece", v.part.one_piece()},
                   {"missed", v.part.missed},
                   {"mended_at", or_null(v.mended)},
                   {"threshold", elsewhere ? VerifyJson(nullptr) : VerifyJson(v.threshold)},
                   {"mass", v.part.mass},
                   {"design_is", v.run.black_and_white() ? "black-and-white" : "densities"},
                   {"rows", rows_of(v)},
                   {"surfaces", surfaces},
                   {"energy_error", errors},
                   {"rounds", rounds},
                   {"tetrahedra", v.part.solid->tets.size()},
                   {"least_dihedral", v.part.solid->least_angle},
                   {"order", v.second_order ? 2 : 1},
                   {"seconds", seconds}};
    if (elsewhere) out["body_volume"] = v.body_volume;
    if (v.blend > 0.0) out["fillets"] = {{"radius", v.blend}, {"mass", v.part.outside().fillets}};
    if (v.part.unfilled) {
        out["infill"] = v.homogenised ? "homogenised" : "tetrahedra";
        out["mass_before_infill"] = v.part.unfilled->mass;
    }
    write_text(folder.path() / "verify.json", json_text(out));
}

} // namespace upright
