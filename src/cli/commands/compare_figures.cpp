#include "cli/commands/compare_figures.hpp"

#include "base/files.hpp"

#include "figures/analysis_figures.hpp"
#include "figures/charts_compared.hpp"
#include "figures/drawings.hpp"
#include "figures/side_by_side.hpp"
#include "response/case_report.hpp"
#include "store/analysis_folder.hpp"
#include "store/step_fields.hpp"
#include "store/vtu.hpp"

#include <algorithm>
#include <fmt/format.h>
#include <functional>

namespace upright::cli {

namespace {

namespace fs = std::filesystem;

constexpr std::size_t most_panels = 8; // of histories

// A subject with its model, and what figures need of it.
class Shown {
  public:
    Shown(const Subject& subject, const CompareFiguresWish& wish, const Session& session)
        : subject_(subject) {
        if (subject.kind == Subject::Kind::Run) {
            run_.emplace(RunFolder::open(subject.folder, Access::Reading));
            job_ = load_run(session, *run_);
            if (subject.iteration > 0) iteration_ = subject.iteration;
            at_ = threshold(wish.at, *run_, iteration_);
            density_ = read_design(*run_, job_.model, iteration_);
            return;
        }
        analysis_.emplace(AnalysisFolder::open(subject.folder));
        job_ = load_job(session, analysis_->model_file());
        nodes_ = region_nodes(job_.model.mesh);
    }

    const Model& model() const { return job_.model; }
    const std::string& label() const { return subject_.label; }
    bool designed() const { return run_.has_value(); }
    // "stiffness 212.75 N·mm", of what the design was made for; "design" where that is not known.
    std::string goal_words() const {
        const KnownValue* goal = subject_.find("responses", subject_.goal);
        if (goal == nullptr || !goal->value) return "design";
        return fmt::format("{} {:.5g}{}{}", goal->name, *goal->value, goal->unit.empty() ? "" : " ",
                           goal->unit);
    }
    std::vector<std::string> cases() const {
        std::vector<std::string> out;
        for (const ModelCase& c : model().cases)
            if (!analysis_ || analysis_->has_case(c.name)) out.push_back(c.name);
        return out;
    }

    std::unique_ptr<Figure> density(const FigureOptions& options) const {
        return density_figure(model(), design_values(*run_, model(), iteration_), at_,
                              state_text(*run_, iteration_), options);
    }

    std::optional<ResultFigure> result(const std::string& of_case, bool stress) {
        for (const CaseId id : model().cases.ids()) {
            const ModelCase& c = model().cases[id];
            if (c.name != of_case || (analysis_ && !analysis_->has_case(c.name))) continue;
            if (analysis_) {
                const auto fields = analysis_->read_static(c.name);
                return stress ? nodal_stress_figure(model(), c, nodes_, fields.von_mises)
                              : deformed_figure(model(), c, fields.displacement);
            }
            const bool again = iteration_ && *iteration_ != run_->result_iteration();
            if (again && fields_.displacement.empty())
                fields_ = analyse_step(model(), run_->read_step(*iteration_), false);
            const auto field = [&](const char* name, bool at_nodes) {
                return read_vtu(run_->case_file(c.name), model().mesh, name, at_nodes).values;
            };
            ResultFigure out =
                stress ? stress_figure(model(), c, density_, at_,
                                       again ? fields_.von_mises[index(id)] : field("von_mises", false))
                       : displacement_figure(model(), c, density_, at_,
                                             again ? fields_.displacement[index(id)]
                                                   : field("displacement", true));
            if (again)
                out.subtitle += "; analysed again, of the densities";
            else if (run_->threshold())
                out.subtitle += "; analysed in black and white";
            return out;
        }
        return {};
    }

  private:
    const Subject& subject_;
    std::optional<RunFolder> run_;
    std::optional<AnalysisFolder> analysis_;
    std::optional<int> iteration_;
    Job job_;
    RegionNodes nodes_;
    double at_ = 0.5;
    std::vector<double> density_;
    StepFields fields_;
};

// Histories of the runs among them, a panel for each response that most have, the goal first.
void draw_all_histories(const Comparison& comparison, const std::vector<std::unique_ptr<Shown>>& all,
                        const FigureOptions& options, const fs::path& png) {
    std::vector<std::string> labels;
    std::vector<std::vector<IterationRow>> rows;
    std::vector<std::vector<Column>> names;
    std::vector<HistoryPanel> panels;
    for (std::size_t k = 0; k < all.size(); ++k) {
        const Subject& s = comparison.subjects()[k];
        if (s.kind != Subject::Kind::Run || s.iteration > 0) continue;
        labels.push_back(s.label);
        rows.push_back(RunFolder::open(s.folder, Access::Reading).read_history());
        names.push_back(columns(all[k]->model()));
    }
    if (labels.size() < 2) return;
    for (const ComparedRow& row : comparison.rows()) {
        if (row.group != "responses" || panels.size() == most_panels) continue;
        HistoryPanel panel;
        panel.name = row.name + (row.unit.empty() ? "" : ", " + row.unit);
        panel.min = row.common_min();
        panel.max = row.common_max();
        std::size_t have = 0;
        for (std::size_t r = 0; r < labels.size(); ++r) {
            panel.lines.emplace_back();
            const auto found = std::find_if(names[r].begin(), names[r].end(),
                                            [&](const Column& c) { return c.name == row.name; });
            if (found == names[r].end()) continue;
            const auto c = static_cast<std::size_t>(found - names[r].begin());
            for (const IterationRow& i : rows[r])
                if (c < i.responses.size()) panel.lines.back().emplace_back(i.iteration, i.responses[c]);
            ++have;
        }
        if (have > 1) panels.push_back(std::move(panel));
    }
    if (!panels.empty()) draw_histories(labels, panels, options, png);
}

} // namespace

std::vector<fs::path> draw_comparison(const Comparison& comparison, const CompareFiguresWish& wish,
                                      const Session& session, const fs::path& folder) {
    std::vector<fs::path> written;
    std::vector<std::unique_ptr<Shown>> all;
    for (const Subject& s : comparison.subjects()) all.push_back(std::make_unique<Shown>(s, wish, session));
    const auto titled = [&](const Shown& one, const std::string& what) {
        FigureOptions out = wish.options;
        out.title = one.label() + ": " + what;
        return out;
    };
    std::vector<std::unique_ptr<Figure>> designs;
    for (const auto& one : all)
        if (one->designed()) designs.push_back(one->density(titled(*one, one->goal_words())));
    if (!designs.empty()) {
        written.push_back(folder / "density.png");
        write_side_by_side(designs, written.back());
    }
    std::vector<std::string> cases;
    for (const auto& one : all)
        for (const std::string& name : one->cases())
            if ((wish.of_case.empty() || refers_to(wish.of_case, name)) &&
                std::find(cases.begin(), cases.end(), name) == cases.end())
                cases.push_back(name);
    if (cases.empty() && !wish.of_case.empty())
        throw Error::usage("none of them has a static case \"" + wish.of_case + "\"");
    for (const std::string& name : cases)
        for (const bool stress : {false, true}) {
            std::vector<std::pair<const Shown*, ResultFigure>> figures;
            for (const auto& one : all)
                if (auto figure = one->result(name, stress))
                    figures.emplace_back(one.get(), std::move(*figure));
            if (figures.empty()) continue;
            // One scale for all: the largest end of colours, the smallest deformation.
            ResultScale shared;
            for (const auto& [one, figure] : figures) {
                const ResultScale own = result_scale(one->model(), figure);
                shared.end = std::max(shared.end, own.end);
                if (own.deformation > 0.0)
                    shared.deformation = shared.deformation > 0.0
                                             ? std::min(shared.deformation, own.deformation)
                                             : own.deformation;
            }
            std::vector<std::unique_ptr<Figure>> tiles;
            for (auto& [one, figure] : figures) {
                figure.scale_end = shared.end;
                if (shared.deformation > 0.0) figure.deformation = shared.deformation;
                tiles.push_back(
                    result_figure(one->model(), figure,
                                  titled(*one, (stress ? "von Mises stress, " : "displacement, ") + name)));
            }
            written.push_back(folder / ((stress ? "stress-" : "displacement-") + file_name(name) + ".png"));
            write_side_by_side(tiles, written.back());
        }
    FigureOptions chart = wish.options;
    chart.width = 1280;
    chart.height = 800;
    const fs::path history = folder / "history.png";
    std::error_code ignored;
    fs::remove(history, ignored);
    draw_all_histories(comparison, all, chart, history);
    if (fs::exists(history, ignored)) written.push_back(history);
    return written;
}

} // namespace upright::cli
