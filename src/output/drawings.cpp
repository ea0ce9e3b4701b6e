#include "output/drawings.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>

namespace upright {

namespace {

using Transform = Eigen::Affine3d;

// The modelled part and its mirror images.
std::vector<Transform> images(const CellGrid& grid) {
    std::vector<Transform> out{Transform::Identity()};
    const Bounds box = grid.box();
    for (int a = 0; a < grid.axes(); ++a)
        for (int side = 0; side < 2; ++side) {
            if (!grid.symmetric[static_cast<std::size_t>(a)][static_cast<std::size_t>(side)]) continue;
            Transform mirror = Transform::Identity();
            mirror.linear()(a, a) = -1.0;
            mirror.translation()[a] = 2.0 * (side == 0 ? box.low[a] : box.high[a]);
            const std::size_t count = out.size();
            for (std::size_t i = 0; i < count; ++i) out.push_back(mirror * out[i]);
        }
    return out;
}

Patch transformed(Patch patch, const Transform& by) {
    for (Vec3& p : patch.points) p = by * p;
    if (by.linear().determinant() < 0.0)
        for (auto& polygon : patch.polygons) std::reverse(polygon.begin(), polygon.end());
    return patch;
}

Segments transformed(Segments lines, const Transform& by) {
    for (auto& [a, b] : lines) {
        a = by * a;
        b = by * b;
    }
    return lines;
}

// The faces between chosen elements and the rest, symmetry planes left open; in the plane the elements
// themselves. Points are shared inside a region, so that values can be averaged within it alone.
struct Skinned {
    Patch patch;
    std::vector<ElementId> element;                // for each polygon
    std::vector<std::pair<NodeId, RegionId>> node; // for each point
};

Skinned skin_of_elements(const Model& model, const std::vector<bool>& shown) {
    const Mesh& mesh = model.mesh;
    Skinned out;
    std::map<std::pair<NodeId, RegionId>, std::int32_t> known;
    const auto add = [&](ElementId e, const std::vector<NodeId>& nodes) {
        std::vector<std::int32_t> polygon;
        for (const NodeId node : nodes) {
            const std::pair key{node, mesh.region[index(e)]};
            const auto [at, fresh] = known.emplace(key, static_cast<std::int32_t>(out.patch.points.size()));
            if (fresh) {
                out.patch.points.push_back(mesh.nodes[index(node)]);
                out.node.push_back(key);
            }
            polygon.push_back(at->second);
        }
        out.patch.polygons.push_back(polygon);
        out.element.push_back(e);
    };
    for (std::size_t i = 0; i < mesh.elements(); ++i) {
        if (!shown[i]) continue;
        const auto e = static_cast<ElementId>(i);
        if (mesh.dimension() == 2) {
            add(e, {mesh.node(e, 0), mesh.node(e, 1), mesh.node(e, 2), mesh.node(e, 3)});
            continue;
        }
        for (int side = 0; side < 6; ++side) {
            const long beyond = mesh.grid.neighbour(mesh.cell_of[i], side);
            if (beyond < 0 &&
                mesh.grid.symmetric[static_cast<std::size_t>(side / 2)][static_cast<std::size_t>(side % 2)])
                continue;
            const std::int32_t other = beyond < 0 ? -1 : mesh.element_of[static_cast<std::size_t>(beyond)];
            if (other >= 0 && shown[static_cast<std::size_t>(other)]) continue;
            add(e, mesh.face_nodes({e, side}));
        }
    }
    return out;
}

std::vector<bool> denser_than(const std::vector<double>& density, double threshold) {
    std::vector<bool> out(density.size());
    for (std::size_t e = 0; e < out.size(); ++e) out[e] = density[e] >= threshold;
    return out;
}

// The outlines of shapes as written, folded in the plane or cut where they leave the body.
Segments outlines(const Study& study, const Model& model, bool voids) {
    const Bounds box = model.mesh.grid.box();
    const Vec3 slack = Vec3::Constant(1e-6 * box.diagonal());
    Segments out;
    for (const RegionCard& card : study.regions) {
        const Shape* shape = std::get_if<Shape>(&card.extent);
        if (shape == nullptr || (card.role == Role::Void) != voids || (!voids && card.role != Role::Design))
            continue;
        for (auto [a, b] : outline(*shape)) {
            // Ends beyond the body are drawn at its boundary.
            a = a.cwiseMax(box.low).cwiseMin(box.high);
            b = b.cwiseMax(box.low).cwiseMin(box.high);
            if ((b - a).norm() > slack.x()) out.emplace_back(a, b);
        }
    }
    return out;
}

// The outline of the original block, whole, with the cut at symmetry planes left out.
void add_block_outline(Figure& figure, const Study& study, const Model& model, const Color& shade) {
    const Bounds box = model.mesh.grid.box();
    const auto on_plane = [&](const Vec3& p) {
        for (int a = 0; a < model.mesh.grid.axes(); ++a)
            for (std::size_t side = 0; side < 2; ++side)
                if (model.mesh.grid.symmetric[static_cast<std::size_t>(a)][side] &&
                    std::abs(p[a] - (side == 0 ? box.low : box.high)[a]) < 1e-6 * box.diagonal())
                    return true;
        return false;
    };
    for (const bool voids : {false, true}) {
        Segments lines;
        for (const auto& [a, b] : outlines(study, model, voids))
            if (!on_plane(a) || !on_plane(b)) lines.emplace_back(a, b);
        for (const Transform& image : images(model.mesh.grid))
            figure.add_lines(transformed(lines, image), shade, 1.0);
    }
}

// A few places spread over a surface: the one nearest the middle first, then always the one farthest from
// those taken.
std::vector<std::size_t> spread(const std::vector<Vec3>& places, std::size_t count) {
    std::vector<std::size_t> out;
    if (places.empty()) return out;
    Vec3 middle = Vec3::Zero();
    for (const Vec3& p : places) middle += p;
    middle /= static_cast<double>(places.size());
    std::size_t next = 0;
    for (std::size_t i = 1; i < places.size(); ++i)
        if ((places[i] - middle).norm() < (places[next] - middle).norm()) next = i;
    std::vector<double> distance(places.size(), 1e300);
    while (out.size() < std::min(count, places.size())) {
        out.push_back(next);
        std::size_t farthest = 0;
        for (std::size_t i = 0; i < places.size(); ++i) {
            distance[i] = std::min(distance[i], (places[i] - places[next]).norm());
            if (distance[i] > distance[farthest]) farthest = i;
        }
        next = farthest;
    }
    return out;
}

double reach(const Model& model) {
    Bounds box;
    for (const Transform& image : images(model.mesh.grid)) {
        box.include(image * model.mesh.grid.box().low);
        box.include(image * model.mesh.grid.box().high);
    }
    return box.diagonal();
}

struct Spot {
    Vec3 at, normal;
};

// Whether a figure shows the modelled part alone or the whole body with its mirror images.
enum class Extent { Modelled, Whole };

// The images in which supports and loads are drawn.
std::vector<Transform> shown_images(const Model& model, Extent extent) {
    return extent == Extent::Whole ? images(model.mesh.grid) : std::vector<Transform>{Transform::Identity()};
}

// Where a support or load acts, with outward normals (zero at points).
std::vector<Spot> spots(const Model& model, const std::vector<std::string>& on, std::size_t each) {
    std::vector<Spot> out;
    for (const ModelSurface& s : model.surfaces) {
        if (!refers_to(on, s.name)) continue;
        std::vector<Vec3> places;
        for (const MeshFace& f : s.faces) places.push_back(model.mesh.face_center(f));
        for (const std::size_t i : spread(places, each))
            out.push_back({places[i], model.mesh.face_normal(s.faces[i])});
    }
    for (const ModelPoint& p : model.points)
        if (refers_to(on, p.name)) out.push_back({model.mesh.nodes[index(p.node)], Vec3::Zero()});
    return out;
}

std::string directions(const std::array<bool, 3>& hold) {
    std::string out;
    for (std::size_t a = 0; a < 3; ++a)
        if (hold[a]) out += (out.empty() ? "" : " ") + std::string(1, "xyz"[a]);
    return out;
}

void add_supports(Figure& figure, const Model& model, const std::vector<std::size_t>& which, Extent extent) {
    const double size = 0.022 * reach(model);
    const double lift = 0.3 * model.mesh.grid.cell.head(model.mesh.grid.axes()).minCoeff();
    for (const std::size_t s : which) {
        const ModelSupport& support = model.supports[s];
        for (const Spot& spot : spots(model, support.on, 7))
            for (int a = 0; a < model.mesh.dimension(); ++a) {
                if (!support.hold[static_cast<std::size_t>(a)]) continue;
                // The cone comes from outside the body.
                const double sign = spot.normal[a] > 0.3 ? -1.0 : 1.0;
                for (const Transform& image : shown_images(model, extent))
                    figure.add_cone(image * Vec3(spot.at + lift * 0.1 * spot.normal),
                                    image.linear() * (sign * Vec3::Unit(a)), size, color::hold);
            }
        std::string places;
        for (const std::string& name : support.on) places += (places.empty() ? "" : ", ") + name;
        figure.add_legend('^', color::hold,
                          fmt::format("{}: holds {}\non {}", support.name, directions(support.hold), places));
    }
    const CellGrid& grid = model.mesh.grid;
    const Bounds box = grid.box();
    for (int a = 0; a < grid.axes(); ++a)
        for (std::size_t side = 0; side < 2; ++side) {
            if (!grid.symmetric[static_cast<std::size_t>(a)][side]) continue;
            const double at = side == 0 ? box.low[a] : box.high[a];
            // In the whole body the plane is not drawn.
            figure.add_legend(extent == Extent::Whole ? ' ' : '-', color::plane,
                              fmt::format("symmetry plane {} = {:g}{}", "xyz"[a], at,
                                          extent == Extent::Whole ? "\n(loads: those of one half)" : ""));
        }
}

// The outline of the symmetry planes, for figures of the modelled part alone.
void add_planes(Figure& figure, const Model& model) {
    const CellGrid& grid = model.mesh.grid;
    const Bounds box = grid.box();
    const double margin = 0.04 * box.diagonal();
    for (int a = 0; a < grid.axes(); ++a)
        for (std::size_t side = 0; side < 2; ++side) {
            if (!grid.symmetric[static_cast<std::size_t>(a)][side]) continue;
            const Vec3 u = Vec3::Unit((a + 1) % 3);
            const Vec3 v = grid.plane ? Vec3(Vec3::Zero()) : Vec3(Vec3::Unit((a + 2) % 3));
            Vec3 low = box.low;
            Vec3 high = box.high;
            low[a] = high[a] = (side == 0 ? box.low : box.high)[a];
            low -= margin * (u + v);
            high += margin * (u + v);
            const Vec3 size = high - low;
            const Vec3 corner1 = low + size.dot(u) * u;
            const Vec3 corner2 = low + size.dot(v) * v;
            figure.add_lines({{low, corner1}, {corner1, high}, {high, corner2}, {corner2, low}}, color::plane,
                             1.6);
        }
}

// One colour for each load of a case.
Color load_color(std::size_t i) {
    static const std::array<Color, 4> colors{color::load, Color{0.60, 0.22, 0.50}, Color{0.00, 0.38, 0.62},
                                             Color{0.45, 0.33, 0.05}};
    return colors[i % colors.size()];
}

std::string vector_text(const Vec3& v, bool plane) {
    const auto clean = [](double x) { return std::abs(x) < 1e-12 ? 0.0 : x; };
    return plane ? fmt::format("({:.5g}, {:.5g})", clean(v.x()), clean(v.y()))
                 : fmt::format("({:.5g}, {:.5g}, {:.5g})", clean(v.x()), clean(v.y()), clean(v.z()));
}

void add_loads(Figure& figure, const Model& model, const ModelCase& c, Extent extent) {
    double largest = 0.0;
    for (const auto& [l, factor] : c.loads)
        largest = std::max(largest, std::abs(factor) * resultant(model, model.loads[l]).force.norm());
    const double full = 0.13 * reach(model);
    const bool plane = model.mesh.dimension() == 2;
    const std::string unit = model.units.force;
    for (std::size_t i = 0; i < c.loads.size(); ++i) {
        const auto& [l, factor] = c.loads[i];
        const ModelLoad& load = model.loads[l];
        const Color shade = load_color(i);
        const Vec3 force = factor * resultant(model, load).force;
        const std::string times = factor == 1.0 ? "" : fmt::format("{:g} x ", factor);
        figure.add_legend(
            '>', shade,
            fmt::format("{}{}: {}\n{} {}", times, load.name, load.kind, vector_text(force, plane), unit));
        // Half the longest arrow at least, or a small load would not be seen.
        const double length = full * (largest > 0.0 ? 0.5 + 0.5 * force.norm() / largest : 0.5);
        if (load.gravity) {
            const Vec3 g = (factor * *load.gravity).normalized();
            const Bounds box = model.mesh.grid.box();
            // Beside the body, where it can be seen.
            const Vec3 beside = Vec3(box.low.x() - 0.08 * reach(model), box.low.y(), box.center().z());
            figure.add_arrow(beside - 0.5 * length * g, beside + 0.5 * length * g, shade);
            continue;
        }
        for (const Spot& spot : spots(model, load.on, plane ? 5 : 6)) {
            Vec3 direction = load.kind == "pressure"
                                 ? Vec3(-std::copysign(1.0, factor * load.pressure) * spot.normal)
                                 : Vec3(force.normalized());
            const bool pulls = direction.dot(spot.normal) > 0.3;
            const Vec3 off =
                0.25 * model.mesh.grid.cell.head(model.mesh.grid.axes()).minCoeff() * spot.normal;
            const Vec3 tail = pulls ? spot.at : Vec3(spot.at + off - length * direction);
            for (const Transform& image : shown_images(model, extent))
                figure.add_arrow(image * tail, image * Vec3(tail + length * direction), shade);
        }
    }
}

std::string dimensions(const Model& model) {
    Bounds box;
    for (const Transform& image : images(model.mesh.grid)) {
        box.include(image * model.mesh.grid.box().low);
        box.include(image * model.mesh.grid.box().high);
    }
    const Vec3 s = box.size();
    const std::string unit = model.units.length;
    if (model.mesh.dimension() == 2)
        return fmt::format("{:g} x {:g} {}, {:g} {} thick", s.x(), s.y(), unit, model.mesh.thickness(), unit);
    return fmt::format("{:g} x {:g} x {:g} {}", s.x(), s.y(), s.z(), unit);
}

std::string part_note(const Model& model) {
    const int copies = model.mesh.grid.copies();
    return copies == 1 ? "" : fmt::format(", 1/{} of the body modelled", copies);
}

FigureOptions with_unit(FigureOptions options, const Model& model) {
    options.length_unit = model.units.length;
    return options;
}

// A different shade of the role's colour for each region of that role.
Color region_color(const Model& model, std::size_t region) {
    std::size_t before = 0;
    for (std::size_t r = 0; r < region; ++r)
        if (model.regions[r].role == model.regions[region].role &&
            model.regions[r].name.substr(0, model.regions[r].name.find('/')) !=
                model.regions[region].name.substr(0, model.regions[region].name.find('/')))
            ++before;
    Color out = model.regions[region].role == Role::Keep ? color::keep : color::design;
    const double fade = 0.16 * static_cast<double>(before % 4);
    for (double& c : out) c = c * (1.0 - fade);
    return out;
}

Skinned painted_skin(const Model& model, bool by_region) {
    Skinned skin = skin_of_elements(model, std::vector<bool>(model.mesh.elements(), true));
    for (const ElementId e : skin.element) {
        const auto region = index(model.mesh.region[index(e)]);
        skin.patch.colors.push_back(
            by_region ? region_color(model, region)
                      : (model.role(e) == Role::Keep ? Color{0.86, 0.80, 0.66} : Color{0.86, 0.89, 0.92}));
    }
    skin.patch.edges = true;
    return skin;
}

void add_mirrored(Figure& figure, const Model& model, const Patch& patch, const Scale& scale) {
    for (const Transform& image : images(model.mesh.grid)) figure.add(transformed(patch, image), scale);
}

void add_all_loads(Figure& figure, const Model& model, Extent extent) {
    // Every load once, whatever the case.
    ModelCase all;
    for (std::size_t l = 0; l < model.loads.size(); ++l)
        for (const ModelCase& c : model.cases)
            for (const auto& [used, factor] : c.loads)
                if (used == l && (all.loads.empty() || all.loads.back().first != l))
                    all.loads.emplace_back(l, 1.0);
    add_loads(figure, model, all, extent);
}

std::vector<std::size_t> used_supports(const Model& model) {
    std::vector<std::size_t> out;
    for (const ModelCase& c : model.cases)
        for (const std::size_t s : c.supports)
            if (std::find(out.begin(), out.end(), s) == out.end()) out.push_back(s);
    return out;
}

} // namespace

void draw_regions(const Study& study, const Model& model, const FigureOptions& options,
                  const std::filesystem::path& png) {
    Figure figure(with_unit(options, model), model.mesh.dimension() == 2, study.title + ": regions",
                  fmt::format("{}, {} cells of {:.3g} {}{}", dimensions(model), model.mesh.elements(),
                              study.mesh.size, model.units.length, part_note(model)));
    figure.add(painted_skin(model, true).patch);
    Segments voids = outlines(study, model, true);
    if (!voids.empty()) figure.add_lines(voids, color::empty, 2.0);
    std::vector<std::string> named;
    for (std::size_t r = 0; r < model.regions.size(); ++r) {
        const ModelRegion& region = model.regions[r];
        const std::string base = region.name.substr(0, region.name.find('/'));
        if (std::find(named.begin(), named.end(), base) != named.end()) continue;
        named.push_back(base);
        if (region.role == Role::Void)
            figure.add_legend('-', color::empty, base + " (void)");
        else
            figure.add_legend('#', region_color(model, r),
                              base + (region.role == Role::Keep ? " (keep)" : " (design)"));
    }
    add_all_loads(figure, model, Extent::Modelled);
    add_supports(figure, model, used_supports(model), Extent::Modelled);
    add_planes(figure, model);
    figure.write(png);
}

void draw_case(const Study& study, const Model& model, const ModelCase& c, const FigureOptions& options,
               const std::filesystem::path& png) {
    const bool plane = model.mesh.dimension() == 2;
    const Resultant sum = resultant(model, c);
    Figure figure(with_unit(options, model), plane, study.title + ": case " + c.name,
                  fmt::format("total force {} {}, arrows to scale from half length{}",
                              vector_text(sum.force, plane), model.units.force, part_note(model)));
    Skinned skin = painted_skin(model, false);
    figure.add(skin.patch);
    add_loads(figure, model, c, Extent::Modelled);
    add_supports(figure, model, c.supports, Extent::Modelled);
    add_planes(figure, model);
    figure.write(png);
}

namespace {

// A surface in two colours: kept regions and what the optimiser left.
Patch part_patch(const Part& part) {
    Patch patch;
    patch.points = part.surface.points;
    for (const auto& t : part.surface.corners) {
        patch.polygons.push_back({t[0], t[1], t[2]});
        const bool kept = part.kept[static_cast<std::size_t>(t[0])] &&
                          part.kept[static_cast<std::size_t>(t[1])] &&
                          part.kept[static_cast<std::size_t>(t[2])];
        patch.colors.push_back(kept ? color::keep : Color{0.42, 0.58, 0.72});
    }
    patch.smooth = true;
    return patch;
}

void draw_solid(const Study& study, const Model& model, const Part& part, const std::string& title,
                const std::string& subtitle, const FigureOptions& options, const std::filesystem::path& png) {
    // A carved plane part has a height, and is looked at as a body.
    Figure figure(with_unit(options, model), false, title, subtitle);
    figure.add(part_patch(part));
    add_block_outline(figure, study, model, color::faint);
    figure.add_legend('#', Color{0.42, 0.58, 0.72}, "design");
    if (std::find(part.kept.begin(), part.kept.end(), true) != part.kept.end())
        figure.add_legend('#', color::keep, "kept");
    figure.add_legend('-', color::faint, "original space");
    add_all_loads(figure, model, Extent::Whole);
    add_supports(figure, model, used_supports(model), Extent::Whole);
    figure.write(png);
}

} // namespace

void draw_density(const Study& study, const Model& model, const std::vector<double>& density,
                  double threshold, const std::string& state, const FigureOptions& options,
                  const std::filesystem::path& png) {
    if (model.mesh.dimension() == 3) {
        PartOptions part_options;
        part_options.threshold = threshold;
        part_options.drop_islands = false;
        const Part part = PartField(study, model, density).extract(part_options);
        draw_solid(
            study, model, part, study.title + ": design",
            fmt::format("surface where the density is {:g}; {}; {}", threshold, state, dimensions(model)),
            options, png);
        return;
    }
    Figure figure(with_unit(options, model), true, study.title + ": density",
                  fmt::format("{}; {}", state, dimensions(model)));
    Skinned skin = skin_of_elements(model, std::vector<bool>(model.mesh.elements(), true));
    for (const ElementId e : skin.element) skin.patch.cell_values.push_back(density[index(e)]);
    add_mirrored(figure, model, skin.patch, Scale{0.0, 1.0, "density", true});
    add_block_outline(figure, study, model, color::empty);
    add_all_loads(figure, model, Extent::Whole);
    add_supports(figure, model, used_supports(model), Extent::Whole);
    figure.write(png);
}

void draw_part(const Study& study, const Model& model, const Part& part, const std::string& state,
               const FigureOptions& options, const std::filesystem::path& png) {
    draw_solid(study, model, part, study.title + ": carved part", state, options, png);
}

namespace {

// The largest value of a figure: how large, and where on the undeformed body and in the picture.
struct Largest {
    double value = 0.0;
    Vec3 place = Vec3::Zero();
    Vec3 shown = Vec3::Zero();
};

Skinned skin_above(const Model& model, const std::vector<double>& density, double threshold) {
    Skinned skin = skin_of_elements(model, denser_than(density, threshold));
    if (skin.element.empty())
        throw Error::input({}, fmt::format("no cell is denser than {:g}", threshold),
                           "Write a lower threshold with --at");
    return skin;
}

// A field on the body with its largest value marked, and the loads and supports of its case.
void draw_field(Figure& figure, const Study& study, const Model& model, const ModelCase& c,
                const Patch& patch, const Largest& largest, const std::string& quantity,
                const std::string& unit) {
    constexpr Color mark{0.00, 0.55, 0.85}; // stands out from every shade of the scale
    add_mirrored(figure, model, patch, Scale{0.0, largest.value, quantity + ", " + unit, false});
    add_block_outline(figure, study, model, color::faint);
    figure.add_ball(largest.shown, 0.009 * reach(model), mark);
    figure.add_legend('o', mark,
                      fmt::format("largest {:.4g} {}\nat {}", largest.value, unit,
                                  vector_text(largest.place, model.mesh.dimension() == 2)));
    figure.add_legend('-', color::faint, "original space");
    add_loads(figure, model, c, Extent::Whole);
    add_supports(figure, model, c.supports, Extent::Whole);
}

} // namespace

void draw_displacement(const Study& study, const Model& model, const ModelCase& c,
                       const std::vector<double>& density, double threshold, const std::vector<double>& u,
                       const FigureOptions& options, const std::filesystem::path& png) {
    Skinned skin = skin_above(model, density, threshold);
    const auto at = [&](NodeId n) { return Vec3(u[3 * index(n)], u[3 * index(n) + 1], u[3 * index(n) + 2]); };
    Largest largest;
    for (std::size_t i = 0; i < skin.node.size(); ++i) {
        const double size = at(skin.node[i].first).norm();
        skin.patch.values.push_back(size);
        if (size > largest.value) largest = {size, skin.patch.points[i], skin.patch.points[i]};
    }
    const double scale = largest.value > 0.0 ? 0.06 * reach(model) / largest.value : 1.0;
    for (std::size_t i = 0; i < skin.node.size(); ++i) {
        const Vec3 shift = scale * at(skin.node[i].first);
        if (skin.patch.points[i] == largest.place) largest.shown = largest.place + shift;
        skin.patch.points[i] += shift;
    }
    const std::string unit = model.units.length;
    const std::string times = scale >= 10.0 ? fmt::format("{:.0f}", scale) : fmt::format("{:.3g}", scale);
    Figure figure(
        with_unit(options, model), model.mesh.dimension() == 2,
        fmt::format("{}: displacement, case {}", study.title, c.name),
        fmt::format("{}; deformation {} times as large; cells denser than {:g}", unit, times, threshold));
    draw_field(figure, study, model, c, skin.patch, largest, "displacement", unit);
    figure.write(png);
}

void draw_stress(const Study& study, const Model& model, const ModelCase& c,
                 const std::vector<double>& density, double threshold, const std::vector<double>& stress,
                 const FigureOptions& options, const std::filesystem::path& png) {
    Skinned skin = skin_above(model, density, threshold);
    // Averages at the nodes, over the shown elements of one region.
    std::map<std::pair<NodeId, RegionId>, std::pair<double, double>> sums;
    for (std::size_t e = 0; e < stress.size(); ++e) {
        if (density[e] < threshold) continue;
        for (int corner = 0; corner < model.mesh.nodes_per_element(); ++corner) {
            auto& sum = sums[{model.mesh.node(static_cast<ElementId>(e), corner), model.mesh.region[e]}];
            sum.first += stress[e];
            sum.second += 1.0;
        }
    }
    Largest largest;
    for (std::size_t i = 0; i < skin.node.size(); ++i) {
        const auto& sum = sums.at(skin.node[i]);
        const double value = sum.first / sum.second;
        skin.patch.values.push_back(value);
        if (value > largest.value) largest = {value, skin.patch.points[i], skin.patch.points[i]};
    }
    const std::string unit = model.units.text(dimension::stress);
    Figure figure(
        with_unit(options, model), model.mesh.dimension() == 2,
        fmt::format("{}: von Mises stress, case {}", study.title, c.name),
        fmt::format(
            "{}; averaged at the nodes within a region; cells denser than {:g}; stair-stepped boundary", unit,
            threshold));
    draw_field(figure, study, model, c, skin.patch, largest, "stress", unit);
    figure.write(png);
}

} // namespace upright
