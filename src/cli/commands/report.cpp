// upright report: one page about a run, its part and their verification, or about a sweep.
#include "base/files.hpp"
#include "base/side_by_side.hpp"
#include "base/text.hpp"
#include "check/ledger.hpp"
#include "cli/commands/commands.hpp"
#include "compare/comparison.hpp"
#include "design/making_rule.hpp"
#include "figures/analysis_figures.hpp"
#include "figures/chart.hpp"
#include "figures/drawings.hpp"
#include "figures/scene.hpp"
#include "model/finished.hpp"
#include "part/extract.hpp"
#include "response/measure.hpp"
#include "store/analysis_folder.hpp"
#include "store/json_inside.hpp"
#include "store/run_report.hpp"
#include "store/vtu.hpp"
#include "tell/bound_text.hpp"
#include "tell/report_page.hpp"

#include <algorithm>
#include <cmath>
#include <ctime>
#include <fmt/format.h>
#include <memory>
#include <mutex>
#include <unistd.h>

namespace upright::cli {

namespace {

namespace fs = std::filesystem;

constexpr std::array<double, 7> view_thresholds{0.1, 0.2, 0.3, 0.5, 0.7, 0.8, 0.9};
constexpr std::size_t most_triangles = 26000;       // of each surface of the view
constexpr std::size_t most_iterations = 8;          // that the view leads through
constexpr std::size_t most_case_triangles = 480000; // of all cases together
constexpr double most_bytes = 15e6;

struct ReportWish : FigureWish {
    std::string target, out;
    bool no_view = false;
};

// Nothing where there is no such file.
Json json_at(const fs::path& file) {
    std::error_code ignored;
    return fs::exists(file, ignored) ? read_json(file) : Json::object();
}

std::string short_number(const std::optional<double>& value) {
    return value ? fmt::format("{:.5g}", *value) : std::string("-");
}

// Pictures on their way into the page; gone with it.
class Room {
  public:
    Room() : path_(fs::temp_directory_path() / fmt::format("upright-report-{}", ::getpid())) {
        make_folder(path_);
    }
    ~Room() {
        std::error_code ignored;
        fs::remove_all(path_, ignored);
    }
    Room(const Room&) = delete;
    Room& operator=(const Room&) = delete;
    fs::path file(const std::string& name) const { return path_ / (name + ".png"); }

  private:
    fs::path path_;
};

fs::path page_folder(const Session& session) {
    const fs::path here = fs::path(session.program).parent_path();
    std::error_code ignored;
    for (const fs::path& folder :
         {here / "../share/upright/report-page", fs::path(UPRIGHT_SOURCE_DATA) / "report-page"})
        if (fs::is_directory(folder, ignored)) return folder;
    throw Error::files("report-page", "what the report's page is made of is missing",
                       "Install the program with its share folder");
}

std::string now_in_words() {
    const std::time_t now = std::time(nullptr);
    std::tm parts{};
    ::gmtime_r(&now, &parts);
    std::array<char, 32> buffer{};
    std::strftime(buffer.data(), buffer.size(), "%Y-%m-%d %H:%M UTC", &parts);
    return buffer.data();
}

// What a result figure shows, for the view.
ViewCase view_case(const Model& model, const ResultFigure& figure, const std::string& label) {
    const ResultScale scale = result_scale(model, figure);
    return {label,
            figure.quantity,
            figure.unit,
            scale.end > 0.0 ? scale.end : 1.0,
            scale.deformation,
            view_of(model, figure)};
}

class RunReport {
  public:
    RunReport(const ReportWish& in, Session& session, const fs::path& path)
        : in_(in), session_(session), folder_(RunFolder::open(path, Access::Reading)),
          job_(load_run(session, folder_)), model_(job_.model), part_model_(finished(job_.model)),
          run_(json_at(folder_.report_file())), page_(model_.title), options_(figure_options(in)) {
        if (run_.empty())
            throw Error::input({path.string()}, "this run has not come to its end yet",
                               "Let it end, then report it");
        design_ = design_values(folder_, model_, std::nullopt);
        at_ = threshold(std::nullopt, folder_, std::nullopt);
        made_ = json_word(run_, "decided_by") == "black-and-white";
    }

    std::string make() {
        const bool feasible = run_.value("feasible", false);
        page_.verdict(feasible ? "every bound holds" : "a bound does not hold", feasible);
        say("the result");
        result();
        if (!in_.no_view) {
            say("the view");
            view();
        }
        say("what was asked");
        asked();
        say("figures of the cases");
        cases();
        history();
        part();
        verification();
        ledger();
        study();
        return page_.html(page_folder(session_), now_in_words());
    }

  private:
    void say(const std::string& what) const {
        if (session_.console.terminal()) session_.console.live("report: " + what);
    }

    void result() {
        page_.section("result", "Result");
        const Json& goal = run_["goal"];
        const std::string unit = json_word(goal, "unit");
        const auto value = made_ ? json_number(goal, "black_and_white") : json_number(goal, "value");
        page_.paragraph(
            fmt::format("{} {} came to {}{}{} after {} iterations ({}). What counts is the design {}.",
                        json_word(goal, "sense") == "maximize" ? "The largest" : "The smallest",
                        json_word(goal, "name"), short_number(value), unit.empty() ? "" : " ", unit,
                        run_.value("iterations", 0), json_word(run_, "status"),
                        made_ ? fmt::format("in black and white, cut at a density of {:.3g}", at_)
                              : std::string("as the optimiser has it, by its densities")));
        if (run_.contains("mass") && run_["mass"].is_object())
            page_.paragraph(fmt::format("Mass of the whole body: {}, {} of it in design regions.",
                                        model_.units.mass_text(run_["mass"].value("all", 0.0), 5),
                                        model_.units.mass_text(run_["mass"].value("design", 0.0), 5)));
        std::vector<std::vector<std::string>> rows;
        std::vector<std::string> costs;
        for (const Json& r : run_["responses"]) {
            const Json& from = made_ && r.contains("black_and_white") ? r["black_and_white"] : r;
            const bool holds =
                !from.contains("holds") || !from["holds"].is_boolean() || from["holds"].get<bool>();
            const std::string in_case = json_word(r, "case");
            const std::string limits = limits_text(json_number(r, "min"), json_number(r, "max"), "");
            rows.push_back({json_word(r, "name") + (in_case.empty() ? "" : " in " + in_case),
                            json_word(r, "measure"), short_number(json_number(r, "value")),
                            (holds ? "" : "!") + short_number(json_number(from, "value")),
                            json_word(r, "unit"), limits,
                            limits.empty() ? json_word(r, "name") == json_word(goal, "name") ? "goal" : ""
                            : holds        ? "holds"
                                           : "!broken"});
            if (r.contains("costs"))
                for (const char* side : {"max", "min"})
                    if (const auto rate = json_number(r["costs"], side))
                        costs.push_back(
                            cost_words(json_word(r, "name"), side, *rate, json_word(goal, "name")));
        }
        if (model_.mesh.copies() > 1)
            page_.paragraph(fmt::format(
                "A symmetric body: one part of {} is modelled, and what responses say of compliance, "
                "mass and volume is of that part.",
                model_.mesh.copies()));
        page_.table("every response, by the densities and in black and white",
                    {"response", "measure", "densities", "black and white", "unit", "bound", ""}, rows);
        if (!costs.empty()) {
            page_.heading("What each bound costs");
            page_.list(costs);
        }
        const double gray = json_number(run_, "grayness").value_or(0.0);
        if (gray > 0.05)
            page_.doubt(
                fmt::format("{:.0f} % of the design is gray: neither material nor void.", 100.0 * gray));
        if (run_.contains("certificate") && json_number(run_["certificate"], "gap"))
            page_.paragraph(fmt::format(
                "The convex relaxation proves that no design on this mesh is better by more than {:.3g} %.",
                100.0 * *json_number(run_["certificate"], "gap")));
    }

    static std::string cost_words(const std::string& bound, const std::string& side, double rate,
                                  const std::string& goal) {
        return fmt::format("{}: 1 % {} than its {} would make {} about {:.2g} % {}.", bound,
                           side == "max" ? "more" : "less", side, goal, std::abs(rate),
                           rate < 0.0 ? "lower" : "higher");
    }

    // The figure of a case as the run has it.
    std::optional<ResultFigure> run_figure(const ModelCase& c, bool stress) const {
        std::error_code ignored;
        const fs::path file = folder_.case_file(c.name);
        if (!fs::exists(file, ignored)) return {};
        ResultFigure out =
            stress ? stress_figure(model_, c, design_.density, at_,
                                   read_vtu(file, model_.mesh, "von_mises", false).values)
                   : displacement_figure(model_, c, design_.density, at_,
                                         read_vtu(file, model_.mesh, "displacement", true).values);
        if (made_) out.subtitle += "; analysed in black and white";
        return out;
    }

    // Made side by side, in their order; nothing where nothing is as dense, as in the first iterations.
    template <class Make, class Label>
    static std::vector<std::optional<ViewStep>> surfaces(std::size_t count, const Make& make,
                                                         const Label& label) {
        std::vector<std::optional<ViewStep>> out(count);
        std::mutex drawing;
        side_by_side(count, [&](std::size_t i) {
            try {
                const Part part = make(i);
                const std::lock_guard<std::mutex> one(drawing);
                out[i] = ViewStep{label(i, part), view_of(part, most_triangles)};
            } catch (const Error&) {
            }
        });
        return out;
    }

    // The radius of those of the part that was carved at the threshold of the page; zero for none.
    double fillets_of_part() const {
        const Json part = json_at(folder_.path() / "part.json");
        if (!part.contains("fillets") || std::abs(part.value("threshold", -1.0) - at_) > 1e-9) return 0.0;
        const double radius = json_number(part["fillets"], "radius").value_or(0.0);
        const bool served = radius >= model_.mesh.size && radius <= model_.mesh.bounds.diagonal();
        return served ? radius : 0.0;
    }

    void view() {
        page_.section("view", "The part to turn");
        ReportView view;
        view.unit = model_.units.length;
        const bool flat = carved_flat(model_);
        const bool solid = !flat && !why_not_carved(part_model_);
        std::optional<PartField> field;
        if (solid || flat) {
            field.emplace(part_model_, design_);
            std::vector<double> thresholds(view_thresholds.begin(), view_thresholds.end());
            if (std::none_of(thresholds.begin(), thresholds.end(),
                             [&](double t) { return std::abs(t - at_) < 0.02; }))
                thresholds.push_back(at_);
            std::sort(thresholds.begin(), thresholds.end());
            const double blend = flat ? 0.0 : fillets_of_part();
            auto found = surfaces(
                thresholds.size(),
                [&](std::size_t i) {
                    PartOptions options;
                    options.threshold = thresholds[i];
                    options.drop_islands = options.infill = false;
                    options.improve = std::abs(thresholds[i] - at_) < 0.02 || flat;
                    if (options.improve) options.blend = blend;
                    return field->extract(options);
                },
                [&](std::size_t i, const Part& part) {
                    return fmt::format("density above {:.3g}: {}{}{}", thresholds[i],
                                       model_.units.mass_text(part.mass, 4),
                                       part_model_.infills.empty() ? "" : " before infill",
                                       part.fillets > 0.0 ? ", with fillets" : "");
                });
            for (std::size_t i = 0; i < found.size(); ++i) {
                if (!found[i]) continue;
                if (std::abs(thresholds[i] - at_) < 0.02) view.first_threshold = view.thresholds.size();
                view.thresholds.push_back(std::move(*found[i]));
            }
        } else {
            view.thresholds.push_back(
                {fmt::format("cells denser than {:.3g}", at_), view_of(model_, design_.density, at_)});
        }
        std::vector<int> kept = folder_.kept_iterations();
        while (kept.size() > most_iterations) {
            // Evenly, the first and the last stay.
            std::vector<int> fewer;
            for (std::size_t k = 0; k < most_iterations; ++k)
                fewer.push_back(kept[k * (kept.size() - 1) / (most_iterations - 1)]);
            kept = fewer;
        }
        std::vector<std::string> labels;
        for (const int i : kept) labels.push_back(fmt::format("iteration {}, density above {:.3g}", i, at_));
        if (solid) {
            std::vector<DesignValues> designs;
            for (const int i : kept) designs.push_back(design_values(folder_, model_, i));
            auto found = surfaces(
                kept.size(),
                [&](std::size_t k) {
                    PartOptions options;
                    options.threshold = at_;
                    options.drop_islands = options.improve = false;
                    return PartField(*field, std::move(designs[k])).extract(options);
                },
                [&](std::size_t k, const Part& /*part*/) { return labels[k]; });
            for (auto& one : found)
                if (one) view.iterations.push_back(std::move(*one));
        } else {
            for (std::size_t k = 0; k < kept.size(); ++k) {
                try {
                    view.iterations.push_back(
                        {labels[k], view_of(model_, design_values(folder_, model_, kept[k]).density, at_)});
                } catch (const Error&) { // nothing is as dense in the first ones
                }
            }
        }
        add_cases(view);
        page_.paragraph(
            "Drag to turn, wheel or two fingers to zoom, shift with drag to move; a click tells the place "
            "and what is there. Arrow keys, + and - do the same, 0 looks from the corner again.");
        page_.view(view);
    }

    // Of the verified part where there is one, else of the run's own cells.
    void add_cases(ReportView& view) {
        const fs::path verify = folder_.path() / "verify";
        std::size_t triangles = 0;
        const auto add = [&](const Model& model, const ResultFigure& figure, const std::string& label) {
            ViewCase one = view_case(model, figure, label);
            triangles += one.surface.triangles.size();
            if (triangles <= most_case_triangles) view.cases.push_back(std::move(one));
        };
        if (AnalysisFolder::is_one(verify)) {
            const AnalysisFolder folder = AnalysisFolder::open(verify);
            const Job job = load_job(session_, folder.model_file());
            const RegionNodes nodes = region_nodes(job.model.mesh);
            for (const ModelCase& c : job.model.cases) {
                if (!folder.has_case(c.name)) continue;
                const auto fields = folder.read_static(c.name);
                ResultFigure figure = nodal_stress_figure(job.model, c, nodes, fields.von_mises);
                figure.displacement = fields.displacement;
                add(job.model, figure, c.name + ": stress of the verified part");
                const std::vector<double> factors = folder.read_buckling_factors(c.name);
                if (factors.empty()) continue;
                add(job.model, buckling_figure(job.model, c, 1, factors[0], folder.read_buckling(c.name, 1)),
                    fmt::format("{}: buckling of the verified part, at {:.4g} times its loads", c.name,
                                factors[0]));
            }
            for (const ModelModalCase& c : job.model.modal_cases) {
                if (!folder.has_case(c.name)) continue;
                const std::vector<double> frequencies = folder.read_frequencies(c.name);
                if (frequencies.empty()) continue;
                add(job.model, mode_figure(job.model, c, 1, frequencies[0], folder.read_mode(c.name, 1)),
                    fmt::format("{}: mode 1 of the verified part, {:.5g} {}", c.name, frequencies[0],
                                model_.units.text(dimension::frequency)));
            }
            return;
        }
        for (const ModelCase& c : model_.cases) {
            auto figure = run_figure(c, true);
            const auto moved = run_figure(c, false);
            if (!figure || !moved) continue;
            figure->displacement = moved->displacement;
            add(model_, *figure, c.name + ": stress in the run's cells");
        }
    }

    void asked() {
        page_.section("asked", "What was asked");
        if (!model_.notes.empty()) page_.paragraph(model_.notes);
        std::vector<std::string> items;
        for (const ModelResponse& r : model_.responses) {
            const std::string words = kind_of(r).words(r);
            const std::string unit = model_.units.text(r.measure->dimension);
            const std::string limits = limits_text(r.min, r.max, unit);
            if (r.goal)
                items.insert(items.begin(), "Make " + r.name + " (" + words + ") as " +
                                                (r.raised ? "large" : "small") + " as it can be.");
            if (r.max_share)
                items.push_back(fmt::format("{} ({}) at most {:g} % of {}.", r.name, words,
                                            100.0 * r.max_share->share,
                                            r.max_share->ultimate ? "ultimate" : "yield"));
            else if (!limits.empty())
                items.push_back(r.name + " (" + words + ") " + limits + ".");
        }
        for (const auto& rule : form_rules(model_.form).asked)
            items.push_back("Made: " + rule->word + ", " + rule->words(model_.form, model_.units) + ".");
        page_.list(items);
        std::vector<std::vector<std::string>> rows;
        for (const Material& m : model_.materials)
            rows.push_back({m.name, fmt::format("{:.5g}", m.E), fmt::format("{:.4g}", m.nu),
                            fmt::format("{:.5g}", m.density),
                            m.yield ? fmt::format("{:.5g}", *m.yield) : "-"});
        page_.table("materials",
                    {"material", "E, " + model_.units.text(dimension::stress), "nu",
                     "density, " + model_.units.text(dimension::density),
                     "yield, " + model_.units.text(dimension::stress)},
                    rows);
        picture("regions", "the regions, supports and loads of " + model_.title,
                [&](const fs::path& file) { draw_regions(model_, options_, file); });
    }

    template <class Draw> void picture(const std::string& name, const std::string& alt, const Draw& draw) {
        if (no_pictures_) return;
        const fs::path file = room_.file(file_name(name));
        try {
            draw(file);
        } catch (const NoPictures& none) { // told once, on the page
            no_pictures_ = true;
            return page_.paragraph(none.what());
        }
        page_.image(file, alt);
    }

    void cases() {
        page_.section("cases", "Cases");
        const Json& cases = run_["cases"];
        std::vector<std::vector<std::string>> rows;
        const std::string stress = model_.units.text(dimension::stress);
        for (const Json& c : cases) {
            if (json_word(c, "kind") != "static") continue;
            std::vector<std::string> loads;
            for (const auto& [name, factor] : c["loads"].items())
                loads.push_back(
                    factor == 1.0 ? name : fmt::format("{:g} x {}", factor.template get<double>(), name));
            rows.push_back({json_word(c, "name"), joined(loads), short_number(json_number(c, "compliance")),
                            short_number(json_number(c["largest_displacement"], "value")),
                            short_number(json_number(c["largest_stress"], "value"))});
        }
        if (!rows.empty())
            page_.table("static cases, of the design that counts",
                        {"case", "loads", "compliance, " + model_.units.text(dimension::moment),
                         "displacement, " + model_.units.length, "stress, " + stress},
                        rows);
        rows.clear();
        for (const Json& c : cases) {
            if (json_word(c, "kind") != "modal") continue;
            std::vector<std::string> row{json_word(c, "name")};
            for (const Json& f : c["frequencies"]) row.push_back(fmt::format("{:.5g}", f.get<double>()));
            rows.push_back(row);
        }
        if (!rows.empty()) {
            std::size_t most = 0;
            for (const auto& row : rows) most = std::max(most, row.size());
            std::vector<std::string> head{"case"};
            for (std::size_t k = 1; k < most; ++k) head.push_back(fmt::format("mode {}", k));
            page_.table("frequencies, " + model_.units.text(dimension::frequency), head, rows);
        }
        if (model_.mesh.on_grid() && !model_.cases.empty())
            page_.paragraph(
                "Stress in a run's box cells is read on a staircase: it tells where, not how much. The "
                "verification below is the judge.");
        for (const ModelCase& c : model_.cases) {
            page_.heading(c.name);
            picture("case-" + c.name, "loads and supports of the case " + c.name,
                    [&](const fs::path& file) { draw_case(model_, c, options_, file); });
            for (const bool of_stress : {false, true})
                if (const auto figure = run_figure(c, of_stress))
                    picture((of_stress ? "stress-" : "displacement-") + c.name,
                            (of_stress ? "von Mises stress in the case " : "displacement in the case ") +
                                c.name,
                            [&](const fs::path& file) { draw_result(model_, *figure, options_, file); });
        }
    }

    void history() {
        page_.section("history", "History");
        const std::vector<IterationRow> rows = folder_.read_history();
        const std::vector<Column> all = columns(model_);
        ReportHistory out;
        out.runs = {model_.title};
        for (const bool goal : {true, false})
            for (std::size_t c = 0; c < all.size(); ++c) {
                const ModelResponse& card = model_.responses[all[c].response];
                if (card.goal != goal) continue;
                const std::string unit = model_.units.text(card.measure->dimension);
                out.names.push_back(all[c].name + (unit.empty() ? "" : ", " + unit) +
                                    (goal ? " (goal)" : ""));
                out.mins.push_back(card.min);
                out.maxs.push_back(upper_bound(model_, card));
                out.lines.emplace_back(1);
                for (const IterationRow& row : rows)
                    if (c < row.responses.size())
                        out.lines.back()[0].emplace_back(row.iteration, row.responses[c]);
            }
        for (const bool gray : {false, true}) {
            out.names.emplace_back(gray ? "grayness" : "change of the densities");
            out.mins.emplace_back();
            out.maxs.emplace_back();
            out.lines.emplace_back(1);
            for (const IterationRow& row : rows)
                out.lines.back()[0].emplace_back(row.iteration,
                                                 std::max(gray ? row.grayness : row.change, 1e-6));
        }
        page_.history(out);
    }

    void part() {
        const Json part = json_at(folder_.path() / "part.json");
        if (part.empty()) {
            page_.section("part", "The carved part");
            page_.doubt("No part has been carved yet: upright carve " + folder_.path().string());
            return;
        }
        page_.section("part", "The carved part");
        const bool whole = part.value("one_piece", false);
        std::string with;
        if (part.contains("fillets"))
            with = fmt::format(", {} of it in fillets of {:g} {}",
                               model_.units.mass_text(json_number(part["fillets"], "mass").value_or(0.0), 4),
                               json_number(part["fillets"], "radius").value_or(0.0), model_.units.length);
        if (const auto stock = json_number(part, "stock"))
            with += fmt::format(", {} of it stock for machining, which the view leaves out",
                                model_.units.mass_text(*stock, 4));
        page_.paragraph(
            fmt::format("Cut at a density of {:.3g}: {}{}; {}.", part.value("threshold", 0.5),
                        model_.units.mass_text(part.value("mass", 0.0), 5), with,
                        whole ? "one piece that reaches every support and load" : "NOT one piece"));
        std::vector<std::vector<std::string>> rows;
        for (const Json& r : part["regions"])
            rows.push_back({json_word(r, "name"), json_word(r, "material"),
                            short_number(json_number(r, "volume")), short_number(json_number(r, "mass"))});
        page_.table("regions of the part",
                    {"region", "material", "volume, " + json_word(part, "volume_unit"),
                     "mass, " + json_word(part, "mass_unit")},
                    rows);
        rows.clear();
        for (const Json& t : part["thresholds"])
            rows.push_back({fmt::format("{:.2f}", t.value("threshold", 0.0)),
                            short_number(json_number(t, "mass")), std::to_string(t.value("pieces", 0)),
                            t["missed"].empty()
                                ? ""
                                : "!misses " + joined(t["missed"].get<std::vector<std::string>>())});
        page_.table("mass at every threshold",
                    {"threshold", "mass, " + json_word(part, "mass_unit"), "pieces", ""}, rows);
        rows.clear();
        for (const Json& m : part["making"])
            rows.push_back({json_word(m, "rule"), short_number(json_number(m, "value")),
                            short_number(json_number(m, "limit")), json_word(m, "unit"),
                            m.value("holds", false) ? "kept" : "!not kept"});
        if (!rows.empty())
            page_.table("making rules, measured on the part", {"rule", "measured", "allowed", "unit", ""},
                        rows);
        if (part.contains("thickness")) {
            std::vector<std::string> words;
            for (const auto& [key, name] :
                 {std::pair{"thinnest", "thinnest place"}, std::pair{"thickest", "thickest place"},
                  std::pair{"narrowest_gap", "narrowest gap"}})
                if (part["thickness"].contains(key))
                    words.push_back(fmt::format("{}: {:.3g} {}", name,
                                                part["thickness"][key].value("across", 0.0),
                                                json_word(part["thickness"], "unit")));
            page_.list(words);
        }
    }

    void verification() {
        page_.section("verification", "Verification");
        const Json verify = json_at(folder_.path() / "verify" / "verify.json");
        if (verify.empty()) {
            page_.doubt("The part has not been analysed afresh yet: upright verify " +
                        folder_.path().string());
            return;
        }
        const bool verified = verify.value("verified", false);
        page_.paragraph(
            verified ? "The carved part was meshed and analysed afresh: it holds every bound."
                     : "The carved part was meshed and analysed afresh: it does NOT hold every bound.");
        std::vector<std::vector<std::string>> rows;
        for (const Json& r : verify["rows"]) {
            const bool holds = !r["holds"].is_boolean() || r["holds"].get<bool>();
            rows.push_back(
                {json_word(r, "name"), json_word(r, "measure"), short_number(json_number(r, "full_space")),
                 short_number(json_number(r, "design")),
                 (holds ? "" : "!") + short_number(json_number(r, "part")), json_word(r, "unit"),
                 limits_text(json_number(r, "min"), json_number(r, "max"), ""), json_word(r, "where")});
        }
        page_.table("the part beside the full space and the design",
                    {"name", "measure", "full space", "design", "part", "unit", "bound", "where"}, rows);
        if (verify.contains("energy_error") && verify["energy_error"].is_object()) {
            std::vector<std::string> words;
            for (const auto& [name, error] : verify["energy_error"].items())
                if (error.is_number())
                    words.push_back(fmt::format("{} {:.1f} %", name, 100.0 * error.template get<double>()));
            if (!words.empty()) page_.paragraph("Estimated error of the energy norm: " + joined(words) + ".");
        }
    }

    void ledger() {
        page_.section("model", "The model");
        const Ledger all = make_ledger(model_);
        std::vector<std::string> doubts;
        for (const LedgerSection& s : all.sections) {
            std::vector<std::vector<std::string>> rows;
            for (const LedgerLine& l : s.lines) {
                rows.push_back({l.name, l.text, joined(l.remarks, "; ")});
                if (l.standing != Standing::Fine)
                    for (const std::string& r : l.remarks) doubts.push_back(l.name + ": " + r);
            }
            if (!rows.empty()) page_.table(s.title, {"", "", ""}, rows);
        }
        page_.section("doubts", "Doubts");
        if (doubts.empty()) page_.paragraph("None was found before the run.");
        if (!doubts.empty()) page_.list(doubts);
    }

    void study() {
        page_.section("study", "The study");
        page_.preformatted(read_text(folder_.study_file()));
    }

    const ReportWish& in_;
    Session& session_;
    const RunFolder folder_;
    const Job job_;
    const Model& model_;
    const Model part_model_;
    Json run_;
    ReportPage page_;
    FigureOptions options_;
    bool no_pictures_ = false;
    DesignValues design_;
    double at_ = 0.5;
    bool made_ = false;
    Room room_;
};

// A sweep: the table, the scatter, figures side by side, and each design to turn.
std::string sweep_report(const ReportWish& in, Session& session, const fs::path& folder) {
    const Json sweep = json_at(folder / "sweep.json");
    std::vector<Subject> subjects;
    std::vector<std::string> labels;
    std::vector<std::string> lost;
    for (const Json& p : sweep["points"]) {
        const fs::path run = folder / json_word(p, "folder");
        const std::string status = json_word(p, "status");
        if (status != "converged" && status != "iteration-limit") {
            lost.push_back(json_word(p, "label") + ": " + status +
                           (json_word(p, "trouble").empty() ? "" : ", " + json_word(p, "trouble")));
            continue;
        }
        subjects.push_back(read_subject(run.string()));
        labels.push_back(json_word(p, "label"));
    }
    if (subjects.empty())
        throw Error::input({folder.string()}, "no run of this sweep has ended",
                           "Go on with it: upright sweep --resume");
    const Comparison comparison(std::move(subjects), labels);
    ReportPage page(comparison.subjects().front().title + ": sweep");
    page.section("result", "Result");
    if (!lost.empty()) {
        page.doubt("Not all runs came to their end:");
        page.list(lost);
    }
    std::vector<std::string> head{""};
    head.insert(head.end(), labels.begin(), labels.end());
    std::vector<std::vector<std::string>> rows;
    for (const StudyDifference& d : comparison.differences()) {
        rows.push_back({d.path});
        for (const std::string& v : d.values) rows.back().push_back(v.empty() ? "-" : v);
    }
    if (!rows.empty()) page.table("what differs in the studies", head, rows);
    rows.clear();
    for (const ComparedRow& row : comparison.rows()) {
        rows.push_back({row.name + (row.unit.empty() ? "" : ", " + row.unit)});
        for (std::size_t s = 0; s < labels.size(); ++s) {
            std::string cell = row.words[s].empty() ? short_number(row.values[s]) : row.words[s];
            const std::string limits = limits_text(row.mins[s], row.maxs[s], "");
            if (!limits.empty()) cell += " (" + limits + ")";
            rows.back().push_back((row.broken[s] ? "!" : "") + cell);
        }
    }
    page.table("all numbers", head, rows);
    std::error_code ignored;
    if (fs::exists(folder / "scatter.svg", ignored)) {
        page.section("scatter", "One against another");
        page.image(folder / "scatter.svg", "scatter of the runs");
    }
    if (!in.no_view) {
        page.section("view", "The designs to turn");
        ReportView view;
        view.iterations_called = "run";
        for (std::size_t s = 0; s < labels.size(); ++s) {
            const RunFolder run = RunFolder::open(comparison.subjects()[s].folder, Access::Reading);
            const Job job = load_run(session, run);
            view.unit = job.model.units.length;
            const double at = threshold(std::nullopt, run, std::nullopt);
            const DesignValues design = design_values(run, job.model, std::nullopt);
            if (session.console.terminal()) session.console.live("report: the design of " + labels[s]);
            const Model of_part = finished(job.model);
            if (why_not_carved(of_part)) {
                view.iterations.push_back({labels[s], view_of(job.model, design.density, at)});
                continue;
            }
            PartOptions options;
            options.threshold = at;
            options.drop_islands = options.infill = false;
            options.improve = carved_flat(job.model);
            view.iterations.push_back(
                {labels[s], view_of(PartField(of_part, design).extract(options), most_triangles)});
        }
        page.view(view);
    }
    page.section("figures", "Side by side");
    std::vector<fs::path> pictures;
    for (const auto& entry : fs::directory_iterator(folder, ignored))
        if (entry.path().extension() == ".png" && entry.path().filename() != "scatter.png")
            pictures.push_back(entry.path());
    std::sort(pictures.begin(), pictures.end());
    for (const fs::path& p : pictures) page.image(p, p.stem().string() + " of the runs side by side");
    page.section("study", "The study");
    page.preformatted(sweep["asked"].value("resolved", ""));
    return page.html(page_folder(session), now_in_words());
}

int run_report(const ReportWish& in, Session& session) {
    Console& console = session.console;
    figure_options(in);
    std::error_code ignored;
    fs::path target = in.target;
    const bool sweep = fs::exists(target / "sweep.json", ignored);
    if (!sweep) target = find_run(in.target, console);
    // A part's folder stands for its run.
    if (fs::exists(target / "verify.json", ignored))
        target = fs::absolute(target).lexically_normal().parent_path();
    if (!in.out.empty() && fs::path(in.out).extension() != ".html")
        throw Error::usage("--out " + in.out + " is not an HTML file", "Write a name that ends in .html");
    const std::string html = reading_json(target, [&] {
        return sweep ? sweep_report(in, session, target) : RunReport(in, session, target).make();
    });
    console.clear_live();
    const fs::path file = in.out.empty() ? target / "report.html" : fs::path(in.out);
    if (file.has_parent_path()) make_folder(file.parent_path());
    write_text(file, html);
    if (static_cast<double>(html.size()) > most_bytes)
        console.remark(fmt::format("the page has {:.1f} MB, more than some mail takes; --no-view or a "
                                   "smaller --size makes it smaller",
                                   static_cast<double>(html.size()) / 1e6));
    console.result(
        fmt::format("report: {} ({:.1f} MB)", file.string(), static_cast<double>(html.size()) / 1e6));
    return 0;
}

} // namespace

Command report_command() {
    return {"report", "One self-contained HTML page about a run or a sweep", [](Options& options) {
                auto in = std::make_shared<ReportWish>();
                options.word("RUN", in->target,
                             "The folder of the run, of its part (RUN/verify) or of a sweep", true);
                options.value("--out", "FILE", in->out, "The page (default: report.html in the folder)");
                options.flag("--no-view", in->no_view, "Without the part to turn");
                add_figure_options(options, *in);
                return [in](Session& session) { return run_report(*in, session); };
            }};
}

} // namespace upright::cli
