#include "figures/analysis_figures.hpp"

#include "store/run_folder.hpp"
#include "store/vtu.hpp"

#include <algorithm>
#include <fmt/format.h>
#include <map>
#include <memory>

namespace upright {

ResultFigure deformed_figure(const Model& model, const ModelCase& c,
                             const std::vector<double>& displacement) {
    return displacement_figure(model, c, {}, 0.0, displacement);
}

ResultFigure nodal_stress_figure(const Model& model, const ModelCase& c, const RegionNodes& nodes,
                                 const std::vector<double>& von_mises,
                                 const std::vector<std::string>& excepted) {
    ResultFigure out;
    const std::string unit = model.units.text(dimension::stress);
    out.title = fmt::format("{}: von Mises stress, case {}", model.title, c.name);
    out.subtitle = unit + "; averaged at the nodes within a region" +
                   (model.mesh.shell() ? "; the larger of the upper and the lower face" : "") +
                   (model.mesh.on_grid() ? "; stair-stepped boundary" : "");
    out.quantity = "stress";
    out.unit = unit;
    out.of_case = &c;
    auto values = std::make_shared<std::map<std::pair<NodeId, RegionId>, double>>();
    for (std::size_t i = 0; i < von_mises.size(); ++i)
        (*values)[{nodes.node[i], nodes.region[i]}] = von_mises[i];
    out.value = [values](NodeId n, RegionId r) { return values->at({n, r}); };
    leave_out(out, model, excepted_of(model, excepted));
    return out;
}

namespace {

// A shape, its largest displacement one where it is shown.
ResultFigure shape_figure(const Model& model, const std::vector<double>& shape,
                          const std::vector<bool>& shown) {
    ResultFigure out;
    out.shown = shown;
    std::vector<bool> counts(model.mesh.nodes.size(), shown.empty());
    for (std::size_t e = 0; e < shown.size(); ++e)
        if (shown[e])
            for (const NodeId n : model.mesh.nodes_of(static_cast<ElementId>(e))) counts[index(n)] = true;
    double largest = 0.0;
    for (std::size_t n = 0; n + 2 < shape.size(); n += 3)
        if (counts[n / 3]) largest = std::max(largest, Vec3(shape[n], shape[n + 1], shape[n + 2]).norm());
    out.displacement = shape;
    for (double& v : out.displacement) v /= largest > 0.0 ? largest : 1.0;
    out.subtitle = std::string("shape, its largest displacement set to one") +
                   (shown.empty() ? "" : "; material denser than the threshold") +
                   (model.mesh.copies() > 1 ? "; modes that mirror across the symmetry planes alone" : "");
    out.quantity = "displacement, relative";
    out.peak_words.clear();
    const std::vector<double>& u = out.displacement;
    out.value = [u](NodeId n, RegionId) {
        return Vec3(u[3 * index(n)], u[3 * index(n) + 1], u[3 * index(n) + 2]).norm();
    };
    return out;
}

} // namespace

ResultFigure mode_figure(const Model& model, const ModelModalCase& c, int mode, double frequency,
                         const std::vector<double>& shape, const std::vector<bool>& shown) {
    ResultFigure out = shape_figure(model, shape, shown);
    out.title = fmt::format("{}: mode {} of case {}, {:.5g} {}", model.title, mode, c.name, frequency,
                            model.units.text(dimension::frequency));
    out.supports = c.supports;
    return out;
}

ResultFigure buckling_figure(const Model& model, const ModelCase& c, int mode, double factor,
                             const std::vector<double>& shape, const std::vector<bool>& shown) {
    ResultFigure out = shape_figure(model, shape, shown);
    out.title = fmt::format("{}: buckling {} of case {}, at {:.4g} times its loads", model.title, mode,
                            c.name, factor);
    out.of_case = &c;
    return out;
}

std::vector<std::filesystem::path> draw_analysis(const Model& model, const AnalysisReport& report,
                                                 const AnalysisFolder& folder, const FigureOptions& options) {
    std::vector<std::filesystem::path> out;
    const auto draw = [&](const ResultFigure& figure, const std::string& name) {
        out.push_back(folder.figure(name));
        draw_result(model, figure, options, out.back());
    };
    for (const StaticReport& s : report.statics)
        for (const ModelCase& c : model.cases) {
            if (c.name != s.name) continue;
            draw(deformed_figure(model, c, displacement_field(model.mesh, s.displacement).values),
                 "displacement-" + file_name(c.name));
            draw(nodal_stress_figure(model, c, report.nodes, s.von_mises, report.excepted),
                 "stress-" + file_name(c.name));
            if (s.buckling && !s.buckling->modes.empty())
                draw(buckling_figure(model, c, 1, s.buckling->modes[0].factor,
                                     displacement_field(model.mesh, s.buckling->modes[0].shape).values),
                     "buckling-" + file_name(c.name) + "-1");
        }
    for (std::size_t i = 0; i < report.modals.size(); ++i)
        for (const ModelModalCase& c : model.modal_cases) {
            if (c.name != report.modal_names[i]) continue;
            const std::vector<Mode>& modes = report.modals[i].modes;
            for (std::size_t m = 0; m < std::min<std::size_t>(modes.size(), 4); ++m)
                draw(mode_figure(model, c, static_cast<int>(m) + 1, modes[m].frequency,
                                 displacement_field(model.mesh, modes[m].shape).values),
                     fmt::format("mode-{}-{}", file_name(c.name), m + 1));
        }
    return out;
}

} // namespace upright
