#include "figures/part_drawings.hpp"

#include "base/angles.hpp"
#include "figures/scene.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

constexpr Color plain{0.80, 0.81, 0.82};
constexpr Color thin_mark{0.84, 0.27, 0.00};
constexpr Color thick_mark{0.00, 0.45, 0.70};
constexpr double most_draft = 10.0; // degrees; beyond all faces are alike

Vec3 normal_of(const Triangles& surface, std::size_t t) {
    const auto& c = surface.corners[t];
    const auto at = [&](std::size_t k) -> const Vec3& {
        return surface.points[static_cast<std::size_t>(c[k])];
    };
    return (at(1) - at(0)).cross(at(2) - at(0)).normalized();
}

// Faces that the design made in the colours of their values, the others plain.
template <class Value>
void add_free_faces(Figure& figure, const Part& part, const Scale& scale, const Value& value_of) {
    Patch free;
    Patch rest;
    free.points = rest.points = part.surface.points;
    rest.color = plain;
    for (std::size_t t = 0; t < part.surface.corners.size(); ++t) {
        const auto& c = part.surface.corners[t];
        if (part.free[t]) {
            free.polygons.push_back({c[0], c[1], c[2]});
            free.cell_values.push_back(value_of(t));
        } else {
            rest.polygons.push_back({c[0], c[1], c[2]});
        }
    }
    if (!rest.polygons.empty()) figure.add(rest);
    if (!free.polygons.empty()) figure.add(free, scale);
    figure.add_legend('#', plain, "faces of the space");
}

std::string place(const Vec3& p) {
    return fmt::format("({:.4g}, {:.4g}, {:.4g})", p.x(), p.y(), p.z());
}

std::string direction(const Vec3& v) {
    return fmt::format("({:.3g}, {:.3g}, {:.3g})", v.x(), v.y(), v.z());
}

// The point of the surface about a sphere that is nearest to who looks from there.
Vec3 nearest_seen(const Triangles& surface, const Thickness::Place& at, const Vec3& from) {
    double nearest = 1e300;
    for (const Vec3& p : surface.points) nearest = std::min(nearest, (p - at.at).norm());
    Vec3 out = at.at;
    for (const Vec3& p : surface.points)
        if ((p - at.at).norm() < 1.3 * std::max(nearest, 0.5 * at.across) && p.dot(from) > out.dot(from))
            out = p;
    return out;
}

} // namespace

void draw_thickness(const Model& model, const Part& part, const Thickness& found, const std::string& state,
                    const FigureOptions& options, const std::filesystem::path& png) {
    const std::string unit = model.units.length;
    Figure figure(with_unit(options, model), false, model.title + ": thickness of the part",
                  fmt::format("{}; the largest inscribed sphere that comes within a cell ({:.3g} {}) of each "
                              "place",
                              state, model.mesh.size, unit));
    Patch patch;
    patch.points = part.surface.points;
    patch.smooth = true;
    double most = 0.0;
    for (const double across : found.at_points) {
        patch.values.push_back(std::max(across, 0.0));
        most = std::max(most, across);
    }
    for (const auto& c : part.surface.corners) patch.polygons.push_back({c[0], c[1], c[2]});
    figure.add(patch, Scale{0.0, most > 0.0 ? most : 1.0, "thickness, " + unit, false});
    add_block_outline(figure, model, color::faint);
    const auto mark = [&](const std::optional<Thickness::Place>& at, const Color& shade, const char* what) {
        if (!at) return;
        const Vec3 seen = nearest_seen(part.surface, *at, view_direction(options.from, false));
        figure.add_ball(seen, 0.012 * reach(model), shade);
        const bool shown = figure.add_tag(seen, fmt::format("{:.4g} {}", at->across, unit), shade);
        figure.add_legend('o', shade,
                          fmt::format("{} {:.4g} {}\nabout {}{}", what, at->across, unit, place(at->at),
                                      shown ? "" : ",\nhidden from here"));
    };
    mark(found.thinnest, thin_mark, "thinnest of the design");
    mark(found.thickest, thick_mark, "thickest of the design");
    figure.add_legend('-', color::faint, "original space");
    figure.write(png);
}

void draw_overhang(const Model& model, const Part& part, const Vec3& up, double limit,
                   const std::string& state, const FigureOptions& options, const std::filesystem::path& png) {
    Figure figure(with_unit(options, model), false, model.title + ": overhang of the part",
                  fmt::format("{}; degrees that faces looking down lean from the vertical, up is {}", state,
                              direction(up)));
    double all = 0.0;
    double beyond = 0.0;
    for (std::size_t t = 0; t < part.surface.corners.size(); ++t) {
        if (!part.free[t]) continue;
        const auto& c = part.surface.corners[t];
        const auto at = [&](std::size_t k) -> const Vec3& {
            return part.surface.points[static_cast<std::size_t>(c[k])];
        };
        const double area = 0.5 * (at(1) - at(0)).cross(at(2) - at(0)).norm();
        all += area;
        if (-normal_of(part.surface, t).dot(up) > std::sin(limit * degree)) beyond += area;
    }
    add_free_faces(figure, part, Scale{0.0, 90.0, "lean, degrees", false}, [&](std::size_t t) {
        return std::asin(std::clamp(-normal_of(part.surface, t).dot(up), 0.0, 1.0)) / degree;
    });
    figure.add_legend(' ', color::text,
                      fmt::format("{:.3g} % of the design's faces\nlean more than {:.4g} degrees",
                                  all > 0.0 ? 100.0 * beyond / all : 0.0, limit));
    add_block_outline(figure, model, color::faint);
    figure.add_legend('-', color::faint, "original space");
    figure.write(png);
}

void draw_draft(const Model& model, const Part& part, const Dies& dies, const std::string& state,
                const FigureOptions& options, const std::filesystem::path& png) {
    const bool either = dies.two && !dies.parting;
    Figure figure(
        with_unit(options, model), false, model.title + ": draft of the part",
        fmt::format("{}; degrees that faces lean back from the draw {}{}, on the mean within a cell", state,
                    direction(dies.along), either ? ", either way" : ", below zero they lean over"));
    const double low = either ? 0.0 : -most_draft;
    const std::vector<double> wall = leans(part.surface, part.free, dies, model.mesh.size);
    add_free_faces(figure, part, Scale{low, most_draft, "draft, degrees", false},
                   [&](std::size_t t) { return std::clamp(wall[t], low, most_draft); });
    figure.add_legend(' ', color::text,
                      fmt::format("more than {:g} degrees\nare shown as {:g}", most_draft, most_draft));
    add_block_outline(figure, model, color::faint);
    figure.add_legend('-', color::faint, "original space");
    figure.write(png);
}

} // namespace upright
