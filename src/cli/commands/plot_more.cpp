#include "cli/commands/plot_more.hpp"

#include "figures/animation.hpp"
#include "figures/drawings.hpp"
#include "figures/side_by_side.hpp"
#include "part/extract.hpp"
#include "quantity/quantities.hpp"

#include <algorithm>
#include <fmt/format.h>

namespace upright::cli {

namespace {

constexpr std::size_t most_tiles = 9;
constexpr int frame_time = 40; // hundredths of a second

} // namespace

CutPlane read_cut(const std::string& words, const Model& model, const FigureOptions& options) {
    const auto bad = [&] {
        return Error::usage("--cut \"" + words + "\" is no plane",
                            "Write it as --cut \"x = 100\" or \"x < 100\"");
    };
    const auto letter = words.find_first_not_of(' ');
    const auto sign = words.find_first_of("=<>");
    if (letter == std::string::npos || sign == std::string::npos || sign <= letter) throw bad();
    const std::string name = words.substr(letter, words.find_last_not_of(' ', sign - 1) - letter + 1);
    CutPlane out;
    if (name != "x" && name != "y" && name != "z") throw bad();
    out.axis = name[0] - 'x';
    if (out.axis >= model.mesh.dimension()) throw bad();
    try {
        out.at = Quantities(model.units).number(words.substr(sign + 1), dimension::length, {});
    } catch (const Error&) {
        throw bad();
    }
    if (words[sign] == '<')
        out.keeps_below = true;
    else if (words[sign] == '>')
        out.keeps_below = false;
    else
        out.keeps_below = view_direction(options.from, model.mesh.dimension() == 2)[out.axis] >= 0.0;
    out.words = fmt::format("{} = {:.4g} {}", name, out.at, model.units.length);
    return out;
}

void apply_cut(const CutPlane& cut, const Model& model, ResultFigure& figure) {
    if (figure.shown.empty()) figure.shown.assign(model.mesh.elements(), true);
    bool any = false;
    for (std::size_t e = 0; e < figure.shown.size(); ++e) {
        const double at = model.mesh.center(e)[cut.axis];
        if (cut.keeps_below ? at > cut.at : at < cut.at) figure.shown[e] = false;
        any = any || figure.shown[e];
    }
    if (!any)
        throw Error::usage("--cut at " + cut.words + " leaves nothing" +
                               (model.mesh.copies() > 1 ? " of the modelled part" : ""),
                           fmt::format("The mesh goes from {:.4g} to {:.4g}", model.mesh.bounds.low[cut.axis],
                                       model.mesh.bounds.high[cut.axis]));
    figure.whole = model.mesh.copies() == 1;
    if (figure.subtitle.find("cut at") == std::string::npos &&
        figure.title.find("cut at") == std::string::npos)
        figure.subtitle += "; cut at " + cut.words;
}

void plot_iterations(bool sheet, const RunFolder& folder, const Model& model, double at,
                     const FigureOptions& options, const std::filesystem::path& file) {
    std::vector<int> kept = folder.kept_iterations();
    if (kept.empty())
        throw Error::input({folder.path().string()}, "this run has kept no design yet", "Let it go on");
    if (sheet && kept.size() > most_tiles) {
        std::vector<int> fewer;
        for (std::size_t k = 0; k < most_tiles; ++k)
            fewer.push_back(kept[k * (kept.size() - 1) / (most_tiles - 1)]);
        kept = fewer;
    }
    FigureOptions tile = options;
    if (sheet) {
        const int across = tiles_across(kept.size());
        tile.width = std::max(480, options.width / across);
        tile.height = std::max(300, options.height / across);
    }
    std::vector<std::unique_ptr<Figure>> figures;
    for (const int i : kept) {
        tile.title = fmt::format("{}: iteration {}", model.title, i);
        try {
            figures.push_back(
                density_figure(model, design_values(folder, model, i), at, state_text(folder, i), tile));
        } catch (const Error&) { // nothing is as dense in the first ones
        }
    }
    if (figures.empty())
        throw Error::usage("no kept design is denser than the threshold", "Write a lower one with --at");
    if (sheet) return write_side_by_side(figures, file);
    Bounds room;
    for (const auto& figure : figures) room.include(figure->room());
    std::vector<Picture> frames;
    for (const auto& figure : figures) {
        figure->make_room(room);
        frames.push_back(figure->picture());
    }
    // The end stays for a while.
    for (int k = 0; k < 3; ++k) frames.push_back(frames.back());
    write_gif(file, frames, frame_time);
}

double threshold_of_mass(const std::string& mass, const Model& model, const DesignValues& design) {
    const double wanted = quantity_asked("--mass", mass, dimension::mass, model);
    if (!(wanted > 0.0))
        throw Error::usage("--mass " + mass + " is no mass", "Write it with its unit: --mass \"3 kg\"");
    return PartField(model, design).threshold_of_mass(wanted);
}

std::shared_ptr<std::vector<double>> cell_means(const Model& model, const std::vector<double>& of_cells,
                                                const std::vector<bool>& shown) {
    auto out = std::make_shared<std::vector<double>>(model.mesh.nodes.size(), 0.0);
    std::vector<double> count(model.mesh.nodes.size(), 0.0);
    for (std::size_t e = 0; e < of_cells.size(); ++e) {
        if (!shown[e]) continue;
        for (const NodeId n : model.mesh.nodes_of(static_cast<ElementId>(e))) {
            (*out)[index(n)] += of_cells[e];
            count[index(n)] += 1.0;
        }
    }
    for (std::size_t n = 0; n < count.size(); ++n)
        if (count[n] > 0.0) (*out)[n] /= count[n];
    return out;
}

} // namespace upright::cli
