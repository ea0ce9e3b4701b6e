#include "store/analysis_folder.hpp"

#include "base/files.hpp"
#include "base/h5_file.hpp"
#include "base/version.hpp"
#include "store/json_inside.hpp"
#include "store/run_folder.hpp"
#include "store/vtu.hpp"

#include <algorithm>
#include <fmt/format.h>

namespace upright {

namespace {

namespace fs = std::filesystem;
const std::vector<std::string>& own_files() {
    static const std::vector<std::string> names{"analysis.json", "study.toml",  "model.h5",
                                                "fields.h5",     "cases",       "figures",
                                                "log.txt",       "verify.json", ".next"};
    return names;
}

Json numbers(const Vec3& v) {
    return {v.x(), v.y(), v.z()};
}

Json peak(const Extreme& e) {
    Json out{{"value", e.value}, {"place", numbers(e.place)}};
    if (!e.region.empty()) out["region"] = e.region;
    return out;
}

Json static_json(const StaticReport& s) {
    Json one;
    one["name"] = s.name;
    one["kind"] = "static";
    one["largest_displacement"] = peak(s.displacement_peak);
    one["largest_stress"] = peak(s.stress_peak);
    one["largest_stress"]["averaging"] = "at the nodes, within a region";
    one["largest_stress_at_points"] = peak(s.stress_point_peak);
    one["largest_principal"] = peak(s.principal_high);
    one["smallest_principal"] = peak(s.principal_low);
    one["least_safety"] = s.least_safety ? peak(*s.least_safety) : Json(nullptr);
    one["compliance"] = s.compliance;
    one["strain_energy"] = s.strain_energy;
    one["error_estimate"] = s.error.relative;
    one["applied"] = {{"force", numbers(s.applied.force)}, {"moment", numbers(s.applied.moment)}};
    Json reactions = Json::array();
    for (const Reaction& r : s.reactions)
        reactions.push_back({{"name", r.name}, {"force", numbers(r.force)}, {"moment", numbers(r.moment)}});
    one["reactions"] = reactions;
    one["forces_at_work"] = s.at_work;
    one["out_of_balance"] = s.balance;
    if (s.buckling) {
        Json factors = Json::array();
        for (const BucklingMode& m : s.buckling->modes) factors.push_back(m.factor);
        one["buckling_factors"] = factors;
    }
    if (!s.doubts.empty()) one["doubts"] = s.doubts;
    return one;
}

Json modal_json(const std::string& name, const ModalResult& m) {
    Json one;
    one["name"] = name;
    one["kind"] = "modal";
    one["free_motions"] = m.free_motions;
    one["mass"] = m.mass;
    one["center_of_mass"] = numbers(m.center);
    const auto list = [&](const std::vector<Mode>& modes) {
        Json out = Json::array();
        for (const Mode& mode : modes) {
            Json row;
            row["frequency"] = mode.frequency;
            row["cluster"] = mode.cluster + 1;
            row["moved_share"] = mode.moved_share;
            row["moved_at"] = numbers(mode.moved_at);
            row["participation"] = mode.participation;
            Json share = Json::array();
            for (std::size_t a = 0; a < 6; ++a)
                share.push_back(m.moved_mass[a] > 0.0
                                    ? mode.participation[a] * mode.participation[a] / m.moved_mass[a]
                                    : 0.0);
            row["effective_mass_share"] = share;
            out.push_back(row);
        }
        return out;
    };
    one["rigid_body_modes"] = list(m.rigid);
    one["solver"] = m.method;
    one["modes"] = list(m.modes);
    return one;
}

} // namespace

bool AnalysisFolder::is_one(const fs::path& path) {
    std::error_code ignored;
    return fs::exists(path / "analysis.json", ignored);
}

void AnalysisFolder::require_place(const fs::path& path, Existing existing) {
    std::error_code ignored;
    if (!fs::exists(path, ignored)) {
        make_folder(path);
        fs::remove(path, ignored);
        return;
    }
    if (!fs::is_directory(path, ignored))
        throw Error::files(path.string(), "a file of this name is in the way",
                           "Choose another place with --out");
    // What an analysis left behind that never came to its end may go as well.
    const auto own = [](const fs::directory_entry& entry) {
        const auto& names = own_files();
        return std::find(names.begin(), names.end(), entry.path().filename().string()) != names.end();
    };
    if (!std::all_of(fs::directory_iterator(path, ignored), fs::directory_iterator(), own))
        throw Error::files(path.string(), "the folder holds something else than an analysis",
                           "Choose another place with --out");
    if (existing == Existing::Refuse && is_one(path))
        throw Error::files(path.string(), "an analysis is there already",
                           "Overwrite it with --force, or choose another folder with --out");
    const fs::path tried = path / ".next";
    make_folder(tried);
    fs::remove(tried, ignored);
}

AnalysisFolder AnalysisFolder::create(const fs::path& path, Existing existing) {
    require_place(path, existing);
    std::error_code ignored;
    for (const std::string& name : own_files()) fs::remove_all(path / name, ignored);
    make_folder(path);
    for (const char* inner : {"cases", "figures"}) make_folder(path / inner);
    return AnalysisFolder(path);
}

fs::path AnalysisFolder::case_file(const std::string& name) const {
    return path_ / "cases" / (file_name(name) + ".vtu");
}

void AnalysisFolder::write_fields(const Model& model, const AnalysisReport& report) const {
    const Mesh& mesh = model.mesh;
    VtuField region{"region", 1, {}};
    for (const RegionId r : mesh.region) region.values.push_back(static_cast<double>(index(r)));
    H5File::write(path_ / "fields.h5", [&](const H5File& h5) {
        for (const StaticReport& s : report.statics) {
            const std::string at = "cases/" + file_name(s.name);
            h5.put(at + "/displacement", displacement_field(mesh, s.displacement).values, 3);
            h5.put(at + "/von_mises", s.von_mises);
            std::vector<double> places;
            std::vector<double> stresses;
            for (const Vec3& p : s.points) places.insert(places.end(), p.data(), p.data() + 3);
            for (const Voigt& v : s.stress_at_points) stresses.insert(stresses.end(), v.data(), v.data() + 6);
            h5.put(at + "/points", places, 3);
            h5.put(at + "/stress_at_points", stresses, 6);
            if (!s.buckling) continue;
            std::vector<double> factors;
            for (const BucklingMode& m : s.buckling->modes) {
                factors.push_back(m.factor);
                h5.put(fmt::format("{}/buckling-{}", at, factors.size()),
                       displacement_field(mesh, m.shape).values, 3);
            }
            h5.put(at + "/buckling-factors", factors);
        }
        for (std::size_t c = 0; c < report.modals.size(); ++c) {
            const std::string at = "cases/" + file_name(report.modal_names[c]);
            std::vector<double> frequencies;
            for (const Mode& m : report.modals[c].modes) {
                frequencies.push_back(m.frequency);
                h5.put(fmt::format("{}/mode-{}", at, frequencies.size()),
                       displacement_field(mesh, m.shape).values, 3);
            }
            h5.put(at + "/frequencies", frequencies);
        }
    });
    const auto layers = static_cast<std::size_t>(report.layers);
    for (const StaticReport& s : report.statics) {
        // Where regions meet, the larger of their stresses.
        VtuField size{"von_mises", 1, std::vector<double>(mesh.nodes.size(), -1.0)};
        VtuField tensor{"stress", 6, std::vector<double>(6 * mesh.nodes.size(), 0.0)};
        for (std::size_t i = 0; i < s.von_mises.size(); ++i) {
            const std::size_t n = index(report.nodes.node[i]);
            if (s.von_mises[i] <= size.values[n]) continue;
            size.values[n] = s.von_mises[i];
            std::size_t best = i * layers;
            for (std::size_t l = 1; l < layers; ++l)
                if (von_mises(s.stress[i * layers + l]) > von_mises(s.stress[best])) best = i * layers + l;
            for (std::size_t k = 0; k < 6; ++k)
                tensor.values[6 * n + k] = s.stress[best][static_cast<Eigen::Index>(k)];
        }
        for (double& v : size.values) v = std::max(v, 0.0);
        VtuField principals{"principal", 3, {}};
        for (std::size_t n = 0; n < mesh.nodes.size(); ++n) {
            const Vec3 p = principal(Eigen::Map<const Voigt>(&tensor.values[6 * n]));
            for (int a = 0; a < 3; ++a) principals.values.push_back(p[a]);
        }
        std::vector<VtuField> at_nodes{displacement_field(mesh, s.displacement), size, tensor, principals};
        if (s.buckling)
            for (const BucklingMode& m : s.buckling->modes) {
                VtuField field = displacement_field(mesh, m.shape);
                field.name = fmt::format("buckling {} at {:.6g}", at_nodes.size() - 3, m.factor);
                at_nodes.push_back(field);
            }
        write_vtu(case_file(s.name), mesh, at_nodes, {region, {"error_energy", 1, s.error.element}});
    }
    for (std::size_t c = 0; c < report.modals.size(); ++c) {
        std::vector<VtuField> shapes;
        for (const Mode& m : report.modals[c].modes) {
            VtuField field = displacement_field(mesh, m.shape);
            field.name = fmt::format("mode {} at {:.6g}", shapes.size() + 1, m.frequency);
            shapes.push_back(field);
        }
        write_vtu(case_file(report.modal_names[c]), mesh, shapes, {region});
    }
}

void AnalysisFolder::write_json(const Model& model, const AnalysisReport& report,
                                const std::vector<Outcome>& outcomes, double seconds) const {
    Json out;
    Json cases = Json::array();
    for (const StaticReport& s : report.statics) cases.push_back(static_json(s));
    for (std::size_t c = 0; c < report.modals.size(); ++c)
        cases.push_back(modal_json(report.modal_names[c], report.modals[c]));
    out["cases"] = cases;
    Json responses = Json::array();
    for (const Outcome& o : outcomes) {
        const ModelResponse& card = model.responses[o.response];
        responses.push_back({{"name", card.name},
                             {"measure", card.measure->word},
                             {"case", o.in_case.empty() ? Json(nullptr) : Json(o.in_case)},
                             {"value", o.value},
                             {"unit", model.units.text(card.measure->dimension)},
                             {"min", json_or_null(o.min)},
                             {"max", json_or_null(o.max)},
                             {"holds", o.holds}});
    }
    out["responses"] = responses;
    out["left_out_of_stress"] = report.excepted;
    out["mass"] = report.mass;
    out["model"] = {{"elements", model.mesh.elements()},
                    {"nodes", model.mesh.nodes.size()},
                    {"unknowns", report.cost.unknowns},
                    {"symmetry_copies", model.mesh.copies()}};
    out["solver"] = report.cost.method.empty() ? Json(nullptr) : Json(report.cost.method);
    out["study"] = {{"file", model.file.string()},
                    {"title", model.title},
                    {"notes", model.notes},
                    {"units", {model.units.length, model.units.force, model.units.time}}};
    out["seconds"] = seconds;
    out["version"] = version;
    write_text(path_ / "analysis.json", json_text(out));
}

bool AnalysisFolder::has_case(const std::string& name) const {
    const H5File h5 = H5File::open(path_ / "fields.h5");
    const std::string at = "cases/" + file_name(name);
    return h5.has(at + "/displacement") || h5.has(at + "/frequencies");
}

AnalysisFolder::StaticFields AnalysisFolder::read_static(const std::string& name) const {
    const H5File h5 = H5File::open(path_ / "fields.h5");
    const std::string at = "cases/" + file_name(name);
    return {h5.numbers(at + "/displacement"), h5.numbers(at + "/von_mises")};
}

std::vector<double> AnalysisFolder::read_mode(const std::string& name, int mode) const {
    return H5File::open(path_ / "fields.h5").numbers(fmt::format("cases/{}/mode-{}", file_name(name), mode));
}

std::vector<double> AnalysisFolder::read_buckling(const std::string& name, int mode) const {
    return H5File::open(path_ / "fields.h5")
        .numbers(fmt::format("cases/{}/buckling-{}", file_name(name), mode));
}

std::vector<double> AnalysisFolder::read_buckling_factors(const std::string& name) const {
    const H5File h5 = H5File::open(path_ / "fields.h5");
    const std::string at = "cases/" + file_name(name) + "/buckling-factors";
    return h5.has(at) ? h5.numbers(at) : std::vector<double>();
}

std::vector<double> AnalysisFolder::read_frequencies(const std::string& name) const {
    return H5File::open(path_ / "fields.h5").numbers("cases/" + file_name(name) + "/frequencies");
}

fs::path default_analysis_folder(const fs::path& study) {
    return study.parent_path() / (study.stem().string() + ".analysis");
}

} // namespace upright
