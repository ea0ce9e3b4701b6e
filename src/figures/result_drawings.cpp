#include "figures/result_drawings.hpp"

#include "base/angles.hpp"
#include "figures/animation.hpp"
#include "figures/scene.hpp"
#include "response/motions.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <memory>
#include <set>

namespace upright {

namespace {

constexpr double above_scale = 0.005, far_above = 2.0; // share of the nodes; of their least value
constexpr Color mark{0.00, 0.55, 0.85};                // stands out from every shade of the scale

Vec3 at_node(const std::vector<double>& u, NodeId n) {
    return {u[3 * index(n)], u[3 * index(n) + 1], u[3 * index(n) + 2]};
}

// The largest value of a figure: how large, and where on the undeformed body and in the picture.
struct Largest {
    double value = 0.0;
    Vec3 place = Vec3::Zero();
    Vec3 shown = Vec3::Zero();
};

// The figure with the deformation times `phase`, and room for that of every phase.
class Painter {
  public:
    Painter(const Model& model, const ResultFigure& result, const FigureOptions& options)
        : model_(model), result_(result), options_(with_unit(options, model)),
          skin_(skin_of_elements(model, result.shown.empty() ? std::vector<bool>(model.mesh.elements(), true)
                                                             : result.shown)) {
        if (skin_.element.empty())
            throw Error::input({}, "nothing is dense enough to be shown",
                               "Write a lower threshold with --at");
        for (const auto& [node, region] : skin_.node) values_.push_back(result.value(node, region));
        double size = 0.0;
        if (!result.displacement.empty())
            for (const auto& [node, region] : skin_.node)
                size = std::max(size, at_node(result.displacement, node).norm());
        scale_ = result.deformation ? *result.deformation : size > 0.0 ? 0.06 * reach(model) / size : 0.0;
    }

    std::unique_ptr<Figure> paint(double phase, bool animated) const {
        Patch patch = skin_.patch;
        patch.values = values_;
        if (animated)
            for (double& v : patch.values) v *= std::abs(phase);
        Largest largest;
        Bounds room;
        bool any = false;
        double most = 0.0;
        for (std::size_t i = 0; i < patch.points.size(); ++i) {
            const auto& [node, region] = skin_.node[i];
            const Vec3 shift = result_.displacement.empty()
                                   ? Vec3(Vec3::Zero())
                                   : Vec3(scale_ * at_node(result_.displacement, node));
            most = std::max(most, values_[i]);
            if ((!result_.counts || result_.counts(node, region)) && (values_[i] > largest.value || !any)) {
                largest = {values_[i], patch.points[i], patch.points[i] + phase * shift};
                any = true;
            }
            room.include(patch.points[i] + shift);
            room.include(patch.points[i] - shift);
            patch.points[i] += phase * shift;
        }
        std::string subtitle = result_.subtitle;
        if (scale_ > 0.0 && !result_.unit.empty())
            subtitle +=
                fmt::format("; deformation {} times as large",
                            scale_ >= 10.0 ? fmt::format("{:.0f}", scale_) : fmt::format("{:.3g}", scale_));
        if (model_.mesh.copies() > 1 && !result_.whole) subtitle += part_note(model_);
        auto out = std::make_unique<Figure>(options_, model_.mesh.dimension() == 2, result_.title, subtitle);
        Figure& figure = *out;
        const std::string bar = result_.quantity + (result_.unit.empty() ? "" : ", " + result_.unit);
        const double end = result_.scale_end ? *result_.scale_end : end_of_scale(largest.value);
        const Scale scale{0.0, end > 0.0 ? end : 1.0, bar, false};
        if (result_.whole)
            add_mirrored(figure, model_, patch, scale);
        else
            figure.add(patch, scale);
        add_block_outline(figure, model_, color::faint);
        if (end < largest.value && !result_.scale_end)
            figure.add_legend(' ', color::text,
                              fmt::format("colours end at {:.4g} {}: {:g} %\nof the nodes are above", end,
                                          result_.unit, 100.0 * above_scale));
        if (!result_.left_out.empty())
            figure.add_legend(' ', color::text,
                              "scale without " + result_.left_out +
                                  (most > largest.value
                                       ? fmt::format(",\nwhere it reaches {:.4g} {}", most, result_.unit)
                                       : std::string()));
        if (!result_.peak_words.empty() && any) {
            std::string hidden = hidden_note(largest.place);
            figure.add_ball(largest.shown, 0.009 * reach(model_), mark);
            if (!figure.add_tag(
                    largest.shown,
                    fmt::format("{:.4g}{}{}", largest.value, result_.unit.empty() ? "" : " ", result_.unit),
                    mark) &&
                hidden.empty())
                hidden = ",\nhidden from here";
            figure.add_legend('o', mark,
                              fmt::format("{} {:.4g} {}\nat {}{}", result_.peak_words, largest.value,
                                          result_.unit,
                                          vector_text(largest.place, model_.mesh.dimension() == 2), hidden));
        }
        figure.add_legend('-', color::faint, "original space");
        const Extent extent = result_.whole ? Extent::Whole : Extent::Modelled;
        if (result_.of_case != nullptr) {
            add_loads(figure, model_, *result_.of_case, extent);
            add_supports(figure, model_, result_.of_case->supports, extent);
        } else {
            add_supports(figure, model_, result_.supports, extent);
            if (result_.supports.empty()) figure.add_legend(' ', color::text, "no supports");
        }
        if (animated) figure.make_room(room);
        return out;
    }

    // Of a figure that is not animated.
    ResultScale scale() const {
        double largest = 0.0;
        for (std::size_t i = 0; i < values_.size(); ++i)
            if (!result_.counts || result_.counts(skin_.node[i].first, skin_.node[i].second))
                largest = std::max(largest, values_[i]);
        return {end_of_scale(largest), scale_};
    }

  private:
    // The largest value, unless a few places (held edges, corners) stand so far above all others that nothing
    // else would be seen.
    double end_of_scale(double largest) const {
        std::vector<double> sorted;
        for (std::size_t i = 0; i < values_.size(); ++i)
            if (!result_.counts || result_.counts(skin_.node[i].first, skin_.node[i].second))
                sorted.push_back(values_[i]);
        if (sorted.size() < 1000) return largest;
        const auto at = static_cast<std::size_t>((1.0 - above_scale) * static_cast<double>(sorted.size()));
        std::nth_element(sorted.begin(), sorted.begin() + static_cast<std::ptrdiff_t>(at), sorted.end());
        return sorted[at] > 0.0 && largest > far_above * sorted[at] ? sorted[at] : largest;
    }

    // Where to look from to see a place on the skin, if not from here.
    std::string hidden_note(const Vec3& place) const {
        if (model_.mesh.dimension() == 2) return "";
        const Vec3 from = view_direction(options_.from, false);
        Vec3 normal = Vec3::Zero();
        for (const auto& polygon : skin_.patch.polygons)
            for (const std::int32_t i : polygon)
                if (skin_.patch.points[static_cast<std::size_t>(i)] == place) {
                    const auto at = [&](std::size_t k) -> const Vec3& {
                        return skin_.patch.points[static_cast<std::size_t>(polygon[k])];
                    };
                    const Vec3 n = (at(1) - at(0)).cross(at(2) - at(0)).normalized();
                    if (n.dot(from) > 0.05) return "";
                    normal += n;
                }
        std::string best;
        double most = 0.3;
        for (const char* view : {"front", "back", "left", "right", "top", "bottom"})
            if (const double d = view_direction(view, false).dot(normal.normalized()); d > most) {
                most = d;
                best = view;
            }
        return best.empty() ? "" : "\non the far side: --from " + best;
    }

    const Model& model_;
    const ResultFigure& result_;
    FigureOptions options_;
    Skinned skin_;
    std::vector<double> values_;
    double scale_ = 0.0;
};

std::string dense_note(double threshold) {
    return threshold > 0.0 ? fmt::format("; cells denser than {:g}", threshold) : "";
}

} // namespace

ResultScale result_scale(const Model& model, const ResultFigure& result) {
    return Painter(model, result, {}).scale();
}

std::unique_ptr<Figure> result_figure(const Model& model, const ResultFigure& result,
                                      const FigureOptions& options) {
    return Painter(model, result, options).paint(1.0, false);
}

void draw_result(const Model& model, const ResultFigure& result, const FigureOptions& options,
                 const std::filesystem::path& png) {
    result_figure(model, result, options)->write(png);
}

std::vector<std::filesystem::path> animate_result(const Model& model, const ResultFigure& result,
                                                  const FigureOptions& options, bool swings, int frames,
                                                  const std::filesystem::path& file) {
    const Painter painter(model, result, options);
    std::vector<std::filesystem::path> written;
    const bool pictures = file.extension() == ".png";
    std::vector<Picture> shots;
    for (int f = 0; f < frames; ++f) {
        const double turn = 2.0 * pi * f / frames;
        const double phase = swings ? std::sin(turn) : 0.5 * (1.0 - std::cos(turn));
        const auto figure = painter.paint(phase, true);
        if (pictures) {
            const auto name = file.parent_path() / fmt::format("{}-{:02}.png", file.stem().string(), f + 1);
            figure->write(name);
            written.push_back(name);
        } else {
            shots.push_back(figure->picture());
        }
    }
    if (!pictures) {
        write_gif(file, shots, 6);
        written.push_back(file);
    }
    return written;
}

ResultFigure displacement_figure(const Model& model, const ModelCase& c, const std::vector<double>& density,
                                 double threshold, const std::vector<double>& u) {
    ResultFigure out;
    out.title = fmt::format("{}: displacement, case {}", model.title, c.name);
    out.subtitle = model.units.length + dense_note(threshold);
    out.quantity = "displacement";
    out.unit = model.units.length;
    out.of_case = &c;
    if (threshold > 0.0) out.shown = denser_than(density, threshold);
    out.displacement = u;
    out.value = [u](NodeId n, RegionId) { return at_node(u, n).norm(); };
    return out;
}

std::vector<std::string> excepted_of(const Model& model, const std::vector<std::string>& more) {
    std::vector<std::string> out = more;
    for (const ModelResponse& r : model.responses)
        for (const std::string& name : r.except)
            if (std::find(out.begin(), out.end(), name) == out.end()) out.push_back(name);
    return out;
}

void leave_out(ResultFigure& figure, const Model& model, const std::vector<std::string>& excepted) {
    if (excepted.empty()) return;
    // Nodes of elements that are left out do not count, as in the tables.
    auto gone = std::make_shared<std::set<std::pair<NodeId, RegionId>>>();
    const std::vector<bool> out = left_out(model, excepted);
    for (std::size_t e = 0; e < out.size(); ++e)
        if (out[e])
            for (const NodeId n : model.mesh.nodes_of(static_cast<ElementId>(e)))
                gone->insert({n, model.mesh.region[e]});
    figure.counts = [gone](NodeId n, RegionId r) { return gone->count({n, r}) == 0; };
    for (const std::string& name : excepted) figure.left_out += (figure.left_out.empty() ? "" : ", ") + name;
}

ResultFigure stress_figure(const Model& model, const ModelCase& c, const std::vector<double>& density,
                           double threshold, const std::vector<double>& stress) {
    ResultFigure out;
    // Averages at the nodes, over the shown elements of one region.
    auto sums = std::make_shared<std::map<std::pair<NodeId, RegionId>, std::pair<double, double>>>();
    for (std::size_t e = 0; e < stress.size(); ++e) {
        if (density[e] < threshold) continue;
        for (const NodeId n : model.mesh.nodes_of(static_cast<ElementId>(e))) {
            auto& sum = (*sums)[{n, model.mesh.region[e]}];
            sum.first += stress[e];
            sum.second += 1.0;
        }
    }
    out.title = fmt::format("{}: von Mises stress, case {}", model.title, c.name);
    out.subtitle =
        fmt::format("{}; that of the middles of elements, averaged at the nodes within a region{}{}",
                    model.units.text(dimension::stress), dense_note(threshold),
                    model.mesh.on_grid() ? "; stair-stepped boundary" : "");
    out.quantity = "stress";
    out.unit = model.units.text(dimension::stress);
    out.of_case = &c;
    if (threshold > 0.0) out.shown = denser_than(density, threshold);
    out.value = [sums](NodeId n, RegionId r) {
        const auto& sum = sums->at({n, r});
        return sum.first / sum.second;
    };
    leave_out(out, model, excepted_of(model));
    return out;
}

} // namespace upright
