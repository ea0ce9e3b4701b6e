// upright verify: the carved part analysed afresh, in every case, against every bound.
#include "base/files.hpp"
#include "cli/commands/commands.hpp"
#include "cli/commands/restarts.hpp"
#include "figures/analysis_figures.hpp"
#include "model/storage.hpp"
#include "part/extract.hpp"
#include "part/part_mesh.hpp"
#include "response/case_report.hpp"
#include "response/response.hpp"
#include "solve/solver_table.hpp"
#include "store/analysis_folder.hpp"
#include "study/measure_word.hpp"
#include "study/mesh_word.hpp"
#include "tell/analysis_text.hpp"
#include "tell/part_text.hpp"
#include "tell/verify_text.hpp"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <fmt/format.h>
#include <memory>
#include <nlohmann/json.hpp>
#include <omp.h>

namespace upright::cli {

namespace {

namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;

struct VerifyWish : FigureWish {
    std::string target, out;
    std::optional<double> at;
    std::optional<int> iteration, restart;
    bool no_figures = false, mend = false;
};

// Tetrahedra of second order up to so many; more need the memory of a large machine.
constexpr std::size_t most_second_order = 250000;
// A carved part has the mass of its design to so much.
constexpr double mass_tolerance = 5e-3;
// A bound that is broken by less may be mended; carvings that --mend tries.
constexpr double mendable = 0.2;
constexpr int most_carvings = 6;
constexpr double area_told = 0.995, error_doubt = 0.1, compliance_doubt = 0.05;

// A value of run.json, of the design that decides: by the response's name and case.
std::optional<double> reported(const Json& run, const std::string& name, const std::string& in_case,
                               bool black_and_white) {
    if (!run.contains("responses")) return std::nullopt;
    for (const Json& one : run["responses"]) {
        const std::string its_case = one["case"].is_null() ? "" : one["case"].get<std::string>();
        if (one["name"] != name || its_case != in_case) continue;
        const Json& value = black_and_white && one.contains("black_and_white")
                                ? one["black_and_white"]["value"]
                                : one["value"];
        if (value.is_number()) return value.get<double>();
    }
    return std::nullopt;
}

std::optional<double> reported_of_case(const Json& run, const std::string& name, const char* what) {
    if (!run.contains("cases")) return std::nullopt;
    for (const Json& one : run["cases"]) {
        if (one["name"] != name || !one.contains(what)) continue;
        const Json& value = one[what].is_object() ? one[what]["value"] : one[what];
        if (value.is_number()) return value.get<double>();
    }
    return std::nullopt;
}

VerifyRow plain_row(const std::string& name, const std::string& measure, const std::string& unit,
                    const std::optional<double>& whole, const std::optional<double>& design, double part) {
    VerifyRow out;
    out.name = name;
    out.measure = measure;
    out.unit = unit;
    out.whole = whole;
    out.design = design;
    out.part = part;
    return out;
}

std::string place_text(const Extreme& e) {
    return fmt::format("({:.4g}, {:.4g}, {:.4g}){}", e.place.x(), e.place.y(), e.place.z(),
                       e.region.empty() ? "" : " in " + e.region);
}

// Mass and volume and their fractions: of the part as it is carved, against the space of full material. As
// the study has them: of the modelled part.
double amount(const Part& part, const Model& space, const ModelResponse& card, bool of_space) {
    const bool mass = std::string(card.measure->word).find("mass") == 0;
    double whole = 0.0;
    double carved = 0.0;
    for (std::size_t r = 0; r < space.regions.size(); ++r) {
        const ModelRegion& region = space.regions[r];
        const bool counted =
            card.of.empty() ? region.role == Role::Design : card.names(static_cast<RegionId>(r));
        if (!counted) continue;
        whole += mass ? region.mass : region.volume;
        for (const RegionShare& share : part.regions)
            if (share.region == region.name)
                carved += (mass ? share.mass : share.volume) / space.mesh.copies();
    }
    const bool fraction = card.measure->dimension == dimension::none;
    if (of_space) return fraction ? 1.0 : whole;
    return fraction ? carved / whole : carved;
}

// "7 % softer", "20 % stiffer to 18 % softer".
std::string softness_text(double least, double most) {
    const auto one = [](double change) {
        return fmt::format("{:.0f} % {}", 100.0 * std::abs(change), change > 0.0 ? "softer" : "stiffer");
    };
    return one(least) == one(most) ? one(most) : one(least) + " to " + one(most);
}

class Verification {
  public:
    Verification(const VerifyWish& in, Session& session, const RunFolder& folder, const Job& job)
        : in_(in), console_(session.console), folder_(folder), job_(job) {}

    int run() {
        const auto begin = std::chrono::steady_clock::now();
        const fs::path path = in_.out.empty() ? folder_.path() / "verify" : fs::path(in_.out);
        std::error_code ignored;
        const bool existed = fs::exists(path, ignored);
        // Before the work, so that a place that takes nothing is told at once.
        const AnalysisFolder out = AnalysisFolder::create(path, Existing::Replace);
        try {
            work(begin, out);
        } catch (...) {
            if (!existed) fs::remove_all(path, ignored); // nothing half-made stays behind
            throw;
        }
        return passed_ ? 0 : static_cast<int>(ExitCode::BoundBroken);
    }

  private:
    void work(std::chrono::steady_clock::time_point begin, const AnalysisFolder& out) {
        read_report();
        carve();
        model_the_part();
        analyse();
        judge();
        write(out, std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count());
    }

    void read_report() {
        try {
            run_ = Json::parse(upright::read_text(folder_.path() / "run.json"));
        } catch (const std::exception&) { // not ended
        }
        black_and_white_ = run_.contains("decided_by") && run_["decided_by"] == "black-and-white";
    }

    void carve() {
        const Model& model = job_.model;
        if (model.made_by.flat() || model.mesh.dimension() != 3 || model.mesh.shell())
            throw Error::input(model.made_by.place,
                               "verify serves solid models: the part of a plane or shell "
                               "model is its cells with their thickness",
                               "The run's black-and-white design is analysed already: see run.json");
        const DesignValues design = design_values(folder_, model, in_.iteration);
        design_threshold_ = design.threshold;
        options_.threshold = in_.at ? *in_.at : design.threshold;
        field_ = std::make_unique<PartField>(model, design);
        part_ = field_->extract(options_);
        console_.result(fmt::format("part: cut at {:.4g}, mass {}, {} tetrahedra", options_.threshold,
                                    model.units.mass_text(part_.mass, 5), part_.solid->tets.size()));
        if (!part_.one_piece()) console_.result(pieces_text(model, part_));
    }

    void model_the_part() {
        const bool second = part_.solid->tets.size() <= most_second_order;
        if (!second)
            console_.result(fmt::format("tetrahedra of first order, since {} are too many for middles of "
                                        "edges: stiffer than the part is",
                                        part_.solid->tets.size()));
        model_ = build_part_model(job_.study, *part_.solid, second);
        space_ = build_part_model(job_.study, field_->whole(), false);
        for (const SurfaceLeft& s : surfaces_left(model_, space_)) {
            left_.push_back({{"name", s.name}, {"area", s.area}, {"of", s.of}});
            if (s.share() < area_told)
                console_.result(fmt::format("{}: {:.0f} % of its area is left", s.name, 100.0 * s.share()));
        }
    }

    void analyse() {
        AnalysisWish wish;
        wish.solver = solver_options(model_.run);
        ::omp_set_num_threads(threads_of(wish.solver));
        for (const ModelResponse& r : model_.responses)
            for (const std::string& name : r.except)
                if (std::find(wish.except.begin(), wish.except.end(), name) == wish.except.end())
                    wish.except.push_back(name);
        // One factorisation serves every case and the modes; iterations begin anew for each.
        AnalysisWish of_part = wish;
        SolverFacts facts;
        facts.unknowns = model_.freedoms();
        facts.right_sides = model_.cases.size();
        facts.no_grid = "tetrahedra";
        if (wish.solver.kind == SolverKind::Auto) of_part.solver.kind = stand_in(facts, wish.solver.memory);
        wish_ = of_part;
        report_ = analyze(model_, of_part);
        for (const std::string& note : report_.notes) console_.remark(note);
        outcomes_ = measure_all(model_, report_);
        // The space of full material, on the run's own mesh.
        whole_report_ = analyze(job_.model, wish);
        whole_ = measure_all(job_.model, whole_report_);
    }

    // That of the design that decides, of the whole body.
    std::optional<double> design_mass() const {
        const Model& model = job_.model;
        const std::vector<double> density = read_design(folder_, model, in_.iteration);
        double out = 0.0;
        for (std::size_t e = 0; e < density.size(); ++e) {
            const auto id = static_cast<ElementId>(e);
            const bool solid = model.role(id) != Role::Design || density[e] > design_threshold_;
            out += (black_and_white_ ? (solid ? 1.0 : 0.0) : density[e]) * model.mesh.volume(id) *
                   model.material(id).density;
        }
        return out * model.mesh.copies();
    }

    // Where a stress was found, and why it may be another on another mesh.
    std::string stress_place(const Extreme& e) const {
        std::size_t nearest = 0;
        for (std::size_t n = 0; n < part_.solid->points.size(); ++n)
            if ((model_.mesh.nodes[n] - e.place).squaredNorm() <
                (model_.mesh.nodes[nearest] - e.place).squaredNorm())
                nearest = n;
        const auto on = [&](const std::vector<std::string>& names) {
            return std::any_of(model_.surfaces.begin(), model_.surfaces.end(), [&](const ModelSurface& s) {
                return refers_to(names, s.name) &&
                       std::binary_search(s.nodes.begin(), s.nodes.end(), static_cast<NodeId>(nearest));
            });
        };
        const char* why = "";
        for (const ModelLoad& load : model_.loads)
            if (on(load.on)) why = " [loaded]";
        if (*why == 0 && part_.solid->sheets_of[nearest].size() > 1) why = " [edge]";
        for (const ModelSupport& support : model_.supports)
            if (on(support.on)) why = " [held]";
        return place_text(e) + why;
    }

    std::optional<double> of_whole(const Outcome& o) const {
        for (const Outcome& w : whole_)
            if (w.response == o.response && w.in_case == o.in_case) return w.value;
        return std::nullopt;
    }

    // Of material that of the part as it is carved, not of full regions.
    void judge_material(Outcome& o, const Part& part) const {
        const ModelResponse& card = job_.model.responses[o.response];
        if (!of_material(card)) return;
        Reading reading;
        reading.value = amount(part, space_, card, false);
        reading.min = o.min;
        reading.max = o.max;
        upright::judge(reading);
        o.value = reading.value;
        o.excess = reading.excess;
        o.holds = reading.excess <= mass_tolerance;
    }

    void judge() {
        const auto unit = [&](const Dimension& d) { return model_.units.text(d); };
        double whole_mass = 0.0;
        for (const ModelRegion& r : space_.regions) whole_mass += r.mass * space_.mesh.copies();
        rows_.push_back(
            plain_row("all", "mass", unit(dimension::mass), whole_mass, design_mass(), part_.mass));
        for (Outcome& o : outcomes_) {
            const ModelResponse& card = model_.responses[o.response];
            VerifyRow row;
            row.name = card.name + (o.in_case.empty() ? "" : " @ " + o.in_case);
            row.measure = card.measure->word;
            row.unit = unit(card.measure->dimension);
            row.whole = of_whole(o);
            row.design = reported(run_, card.name, o.in_case, black_and_white_);
            judge_material(o, part_);
            if (of_material(card)) {
                row.tolerance = mass_tolerance;
                row.whole = amount(part_, space_, card, true);
            }
            row.part = o.value;
            row.min = o.min;
            row.max = o.max;
            row.holds = o.holds;
            row.excess = o.excess;
            row.where = o.where;
            passed_ = passed_ && o.holds;
            rows_.push_back(row);
        }
        for (std::size_t c = 0; c < report_.statics.size(); ++c) {
            const StaticReport& s = report_.statics[c];
            const StaticReport& w = whole_report_.statics[c];
            const auto add = [&](const char* measure, const Dimension& dimension,
                                 const std::optional<double>& whole, const char* key, double part,
                                 const std::string& where) {
                rows_.push_back(plain_row(s.name, measure, unit(dimension), whole,
                                          *key == 0 ? std::nullopt : reported_of_case(run_, s.name, key),
                                          part));
                rows_.back().where = where;
            };
            add("compliance", dimension::moment, w.compliance, "compliance", s.compliance, "");
            add("largest displacement", dimension::length, w.displacement_peak.value, "largest_displacement",
                s.displacement_peak.value, place_text(s.displacement_peak));
            add("largest stress", dimension::stress, w.stress_peak.value, "largest_stress",
                s.stress_peak.value, stress_place(s.stress_peak));
            if (s.least_safety)
                add("least safety", dimension::none,
                    w.least_safety ? std::optional<double>(w.least_safety->value) : std::nullopt, "",
                    s.least_safety->value, stress_place(*s.least_safety));
        }
        for (std::size_t c = 0; c < report_.modals.size(); ++c)
            for (std::size_t m = 0; m < std::min<std::size_t>(report_.modals[c].modes.size(), 3); ++m) {
                VerifyRow row;
                row.name = report_.modal_names[c];
                row.measure = fmt::format("mode {}", m + 1);
                row.unit = unit(dimension::frequency);
                row.part = report_.modals[c].modes[m].frequency;
                if (m < whole_report_.modals[c].modes.size())
                    row.whole = whole_report_.modals[c].modes[m].frequency;
                const std::vector<double> kept = folder_.frequencies(row.name);
                if (m < kept.size()) row.design = kept[m];
                rows_.push_back(row);
            }
        console_.result("");
        console_.result(verify_table(rows_, black_and_white_));
        console_.result("");
        tell_doubts();
        passed_ = passed_ && part_.one_piece();
        console_.result(passed_ ? "VERIFIED: the part holds every bound" : failure_text());
        if (!passed_) tell_what_mends();
    }

    // One change that would do, where it is near: another bound to ask of the optimiser, or another
    // threshold.
    void tell_what_mends() {
        bool near = part_.one_piece();
        for (const VerifyRow& r : rows_) {
            if (!r.bounded() || r.holds) continue;
            near = near && r.excess < mendable;
            if (r.excess >= mendable || r.tolerance != bound_tolerance || !r.part) continue;
            // What the part makes of the design stays about what it is.
            const bool above = r.max && *r.part > *r.max;
            const double limit = above ? *r.max : *r.min;
            console_.result(fmt::format("to mend it, ask the optimiser for {} {} {:.4g} instead of {:.4g}{}",
                                        r.name, above ? "at most" : "at least", limit * limit / *r.part,
                                        limit, in_.mend ? "" : "; or look for another threshold: --mend"));
        }
        if (near && in_.mend) find_threshold();
    }

    bool holds_at(double threshold, double& mass) const {
        PartOptions options = options_;
        options.threshold = threshold;
        const Part part = field_->extract(options);
        mass = part.mass;
        if (!part.one_piece()) return false;
        const Model model =
            build_part_model(job_.study, *part.solid, part.solid->tets.size() <= most_second_order);
        std::vector<Outcome> outcomes = measure_all(model, analyze(model, wish_));
        return std::all_of(outcomes.begin(), outcomes.end(), [&](Outcome& o) {
            judge_material(o, part);
            return o.holds;
        });
    }

    // The largest lower threshold (more material) that holds every bound, by at most six carvings.
    void find_threshold() {
        double fails = options_.threshold;
        double holds = 0.0;
        double mass = 0.0;
        double mass_there = 0.0;
        for (int carving = 0; carving < most_carvings; ++carving) {
            const double t = carving == 0 ? std::min(0.02, 0.5 * fails) : 0.5 * (holds + fails);
            if (holds_at(t, mass)) {
                holds = t;
                mass_there = mass;
            } else if (carving == 0) {
                break;
            } else {
                fails = t;
            }
            console_.remark(fmt::format("at {:.3f}: mass {}, {}", t, job_.model.units.mass_text(mass, 5),
                                        holds == t ? "holds every bound" : "does not"));
        }
        if (holds > 0.0)
            console_.result(fmt::format("--at {:.3f} mends it: every bound holds with {:+.1f} % of mass",
                                        holds, 100.0 * (mass_there / part_.mass - 1.0)));
        else
            console_.result("no lower threshold mends it");
        mended_at_ = holds;
    }

    void tell_doubts() {
        for (const VerifyRow& r : rows_)
            if (r.where.find('[') != std::string::npos) {
                console_.result("[held] [loaded] [edge]: a stress found there depends on the mesh");
                break;
            }
        // How much softer than the design in the run's elements, least and most.
        double least = 1e300;
        double most = -1e300;
        std::string errors;
        double largest_error = 0.0;
        for (const StaticReport& s : report_.statics) {
            if (const auto design = reported_of_case(run_, s.name, "compliance"); design && *design > 0.0) {
                least = std::min(least, s.compliance / *design - 1.0);
                most = std::max(most, s.compliance / *design - 1.0);
            }
            largest_error = std::max(largest_error, s.error.relative);
            errors +=
                fmt::format("{}{} {:.1f} %", errors.empty() ? "" : ", ", s.name, 100.0 * s.error.relative);
        }
        if (!errors.empty())
            console_.result(fmt::format(
                "estimated error of the energy norm: {}{}", errors,
                largest_error > error_doubt ? "\ndoubt: stresses may be off by as much and more" : ""));
        if (most >= least && std::max(most, -least) > compliance_doubt)
            console_.result(fmt::format(
                "doubt: the part is {} than the design in the run's elements:\n  {}members of few elements, "
                "stairs at held and loaded faces; the study on finer ones tells which is right",
                softness_text(least, most),
                job_.model.mesh.kinds.front() == ElementKind::Tet4
                    ? "tetrahedra of first order are too stiff, "
                    : ""));
        for (const StaticReport& s : report_.statics)
            for (const std::string& doubt : s.doubts) console_.result("doubt: " + doubt);
    }

    std::string failure_text() const {
        std::string out = "NOT VERIFIED:";
        if (!part_.one_piece()) out += " the part is not one piece that reaches every support and load;";
        for (const VerifyRow& r : rows_)
            if (r.bounded() && !r.holds)
                out += fmt::format(" {} broken by {:.3g} %;", r.name, 100.0 * r.excess);
        out.back() = '.';
        return out;
    }

    void write(const AnalysisFolder& out, double seconds) {
        save_model(out.model_file(), model_, job_.study.resolved);
        write_text(out.path() / "study.toml", job_.study.resolved);
        out.write_fields(model_, report_);
        out.write_json(model_, report_, outcomes_, seconds);
        Json rows = Json::array();
        const auto or_null = [](const std::optional<double>& v) { return v ? Json(*v) : Json(nullptr); };
        for (const VerifyRow& r : rows_)
            rows.push_back({{"name", r.name},
                            {"measure", r.measure},
                            {"unit", r.unit},
                            {"full_space", or_null(r.whole)},
                            {"design", or_null(r.design)},
                            {"part", or_null(r.part)},
                            {"min", or_null(r.min)},
                            {"max", or_null(r.max)},
                            {"holds", r.bounded() ? Json(r.holds) : Json(nullptr)},
                            {"where", r.where}});
        Json errors = Json::object();
        for (const StaticReport& s : report_.statics) errors[s.name] = s.error.relative;
        write_text(out.path() / "verify.json",
                   Json{{"verified", passed_},
                        {"one_piece", part_.one_piece()},
                        {"missed", part_.missed},
                        {"mended_at", mended_at_ > 0.0 ? Json(mended_at_) : Json(nullptr)},
                        {"threshold", options_.threshold},
                        {"mass", part_.mass},
                        {"design_is", black_and_white_ ? "black-and-white" : "densities"},
                        {"rows", rows},
                        {"surfaces", left_},
                        {"energy_error", errors},
                        {"tetrahedra", part_.solid->tets.size()},
                        {"order", model_.mesh.kinds.front() == ElementKind::Tet10 ? 2 : 1},
                        {"seconds", seconds}}
                           .dump(2) +
                       "\n");
        if (!in_.no_figures)
            for (const fs::path& file : draw_analysis(model_, report_, out, figure_options(in_)))
                console_.remark("figure: " + file.string());
        console_.result("verification: " + out.path().string());
    }

    const VerifyWish& in_;
    Console& console_;
    const RunFolder& folder_;
    const Job& job_;
    Json run_ = Json::object();
    bool black_and_white_ = false;
    PartOptions options_;
    std::unique_ptr<PartField> field_;
    Part part_;
    Model model_, space_;
    Json left_ = Json::array();
    AnalysisReport report_, whole_report_;
    std::vector<Outcome> outcomes_, whole_;
    std::vector<VerifyRow> rows_;
    AnalysisWish wish_;
    double mended_at_ = 0.0; // 0: not looked for, or not found
    double design_threshold_ = 0.5;
    bool passed_ = true;
};

int run_verify(const VerifyWish& in, Session& session) {
    figure_options(in);
    threshold(in.at);
    const RunFolder folder =
        RunFolder::open(restart_of(find_run(in.target, session.console), in.restart), Access::Reading);
    const Job job = load_run(session, folder);
    return Verification(in, session, folder, job).run();
}

} // namespace

Command verify_command() {
    return {"verify", "The carved part analysed afresh: does it hold every bound?", [](Options& options) {
                auto in = std::make_shared<VerifyWish>();
                options.word("RUN", in->target, "The folder of the run", true);
                options.value(
                    "--at", "T", in->at,
                    "Density at which to cut (default: that of the black-and-white design, or 0.5)");
                options.value("--restart", "N", in->restart, "Run N of optimize --restarts (default: 1)");
                options.value("--iteration", "N", in->iteration, "A kept iteration (default: the last)");
                options.value("--out", "FOLDER", in->out, "The folder (default: verify in the run)");
                options.flag("--mend", in->mend,
                             "Where a bound fails by less than 20 %, look for a threshold that holds all");
                options.flag("--no-figures", in->no_figures, "Draw nothing");
                add_figure_options(options, *in);
                return [in](Session& session) { return run_verify(*in, session); };
            }};
}

} // namespace upright::cli
