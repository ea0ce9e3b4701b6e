#include "cli/commands/plot_part.hpp"

#include "figures/part_drawings.hpp"
#include "model/finished.hpp"
#include "part/extract.hpp"
#include "part/thickness.hpp"

#include <cstdio>
#include <fmt/format.h>
#include <optional>

namespace upright::cli {

namespace {

std::optional<Vec3> direction_asked(const std::string& words) {
    if (words.empty()) return {};
    Vec3 v;
    char more = 0;
    if (std::sscanf(words.c_str(), "%lf,%lf,%lf%c", &v.x(), &v.y(), &v.z(), &more) != 3 || !v.allFinite() ||
        v.norm() <= 0.0)
        throw Error::usage("--along \"" + words + "\" is no direction", "Write three numbers: --along 0,0,1");
    return v.normalized();
}

} // namespace

void plot_part(const PartPlot& wish, const Model& of_run, const DesignValues& design,
               const FigureOptions& options, const std::filesystem::path& png) {
    const Model model = finished(of_run);
    if (model.made_by.flat() || model.mesh.shell())
        throw Error::usage("--what " + wish.what + " is measured on parts of solid models", "Leave it out");
    const FormCard& form = model.form;
    std::optional<Vec3> along = direction_asked(wish.along);
    if (along && wish.what == "thickness")
        throw Error::usage("--along goes with --what overhang or draft", "Leave it out");
    if (!along && wish.what == "overhang" && form.overhang) along = form.overhang->up;
    if (!along && wish.what == "draft" && form.draw) along = form.draw->along;
    if (!along && wish.what != "thickness")
        throw Error::usage("the study does not say " + std::string(wish.what == "draft"
                                                                       ? "along which way a die leaves"
                                                                       : "which way is up for building it"),
                           "Write --along 0,0,1");
    PartOptions part_options;
    part_options.threshold = wish.at;
    part_options.infill = false; // rules are measured on the outside
    const Part part = PartField(model, design).extract(part_options);
    const std::string state = fmt::format("cut at density {:.4g}; {}", wish.at, wish.state);
    if (wish.what == "thickness")
        draw_thickness(model, part, measure_thickness(model, part, 0.0), state, options, png);
    else if (wish.what == "overhang")
        draw_overhang(model, part, *along, form.overhang ? form.overhang->angle : 45.0, state, options, png);
    else
        draw_draft(model, part, dies_of(model, *along), state, options, png);
}

} // namespace upright::cli
