#include "figures/scene.hpp"

#include "base/angles.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>

namespace upright {

std::vector<Affine> images(const Mesh& mesh) {
    std::vector<Affine> out{Affine::Identity()};
    for (const SymmetryCut& cut : mesh.symmetry) {
        Affine mirror = Affine::Identity();
        mirror.linear()(cut.axis, cut.axis) = -1.0;
        mirror.translation()[cut.axis] = 2.0 * cut.at;
        const std::size_t count = out.size();
        for (std::size_t i = 0; i < count; ++i) out.push_back(mirror * out[i]);
    }
    return out;
}

Patch transformed(Patch patch, const Affine& by) {
    for (Vec3& p : patch.points) p = by * p;
    if (by.linear().determinant() < 0.0)
        for (auto& polygon : patch.polygons) std::reverse(polygon.begin(), polygon.end());
    return patch;
}

Segments transformed(Segments lines, const Affine& by) {
    for (auto& [a, b] : lines) {
        a = by * a;
        b = by * b;
    }
    return lines;
}

namespace {

bool on_cut(const Mesh& mesh, const MeshFace& face) {
    for (const SymmetryCut& cut : mesh.symmetry) {
        const std::vector<NodeId> corners = mesh.face_corners(face);
        if (std::all_of(corners.begin(), corners.end(), [&](NodeId n) {
                return std::abs(mesh.nodes[index(n)][cut.axis] - cut.at) < 1e-6 * mesh.size;
            }))
            return true;
    }
    return false;
}

} // namespace

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
    const Neighbours neighbours = find_neighbours(mesh);
    for (std::size_t i = 0; i < mesh.elements(); ++i) {
        if (!shown[i]) continue;
        const auto e = static_cast<ElementId>(i);
        if (traits(mesh.kinds[i]).dimension == 2) {
            const NodeRange ids = mesh.nodes_of(e);
            add(e, {ids.begin(), ids.begin() + traits(mesh.kinds[i]).corners});
            continue;
        }
        for (int side = 0; side < mesh.sides(e); ++side) {
            const std::int32_t other = neighbours.at(e, side);
            if (other >= 0 && shown[static_cast<std::size_t>(other)]) continue;
            if (other < 0 && on_cut(mesh, {e, side})) continue;
            add(e, mesh.face_corners({e, side}));
        }
    }
    return out;
}

std::vector<bool> denser_than(const std::vector<double>& density, double threshold) {
    std::vector<bool> out(density.size());
    for (std::size_t e = 0; e < out.size(); ++e) out[e] = density[e] >= threshold;
    return out;
}

Segments outlines(const Model& model, bool voids) {
    const Bounds box = model.mesh.bounds;
    const Vec3 slack = Vec3::Constant(1e-6 * box.diagonal());
    Segments out;
    for (const FieldRegion& card : model.shapes.regions()) {
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

void add_block_outline(Figure& figure, const Model& model, const Color& shade) {
    const Bounds box = model.mesh.bounds;
    const auto on_plane = [&](const Vec3& p) {
        for (const SymmetryCut& cut : model.mesh.symmetry)
            if (std::abs(p[cut.axis] - cut.at) < 1e-6 * box.diagonal()) return true;
        return false;
    };
    for (const bool voids : {false, true}) {
        Segments lines;
        for (const auto& [a, b] : outlines(model, voids))
            if (!on_plane(a) || !on_plane(b)) lines.emplace_back(a, b);
        for (const Affine& image : images(model.mesh))
            figure.add_lines(transformed(lines, image), shade, 1.0);
    }
}

namespace {

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

} // namespace

double reach(const Model& model) {
    Bounds box;
    for (const Affine& image : images(model.mesh)) {
        box.include(image * model.mesh.bounds.low);
        box.include(image * model.mesh.bounds.high);
    }
    return box.diagonal();
}

std::vector<Affine> shown_images(const Model& model, Extent extent) {
    return extent == Extent::Whole ? images(model.mesh) : std::vector<Affine>{Affine::Identity()};
}

namespace {

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
    for (const ModelCoupling& c : model.couplings)
        if (refers_to(on, c.name)) out.push_back({c.at, Vec3::Zero()});
    for (const ModelPoint& p : model.points)
        if (refers_to(on, p.name)) out.push_back({model.mesh.nodes[index(p.node)], Vec3::Zero()});
    return out;
}

// Couplings as spiders, joints as springs between them, masses as balls.
void add_links(Figure& figure, const Model& model, Extent extent) {
    constexpr Color spider{0.00, 0.45, 0.70};
    constexpr Color weight{0.35, 0.20, 0.45};
    for (const ModelCoupling& c : model.couplings) {
        std::vector<Vec3> places;
        for (const NodeId n : c.nodes) places.push_back(model.mesh.nodes[index(n)]);
        Segments lines;
        for (const std::size_t i : spread(places, 14)) lines.emplace_back(c.at, places[i]);
        for (const Affine& image : shown_images(model, extent)) {
            figure.add_lines(transformed(lines, image), spider, c.rigid ? 1.6 : 0.8);
            figure.add_ball(image * c.at, 0.006 * reach(model), spider);
        }
        figure.add_legend('-', spider,
                          fmt::format("{}: {} coupling", c.name, c.rigid ? "rigid" : "averaging"));
    }
    for (const ModelJoint& j : model.joints) {
        const auto at = [&](CouplingId end) { return model.couplings[end].at; };
        const bool both = !j.grounded();
        const Vec3 from = at(j.ends[0] != CouplingId::None ? j.ends[0] : j.ends[1]);
        const Vec3 to = both ? at(j.ends[1]) : Vec3(from - 0.05 * reach(model) * j.axis);
        figure.add_lines({{from, to}}, color::hold, 3.0);
        figure.add_legend('-', color::hold, j.name + (both ? ": joint" : ": joint to ground"));
    }
    for (const ModelMass& m : model.masses) {
        Vec3 at = Vec3::Zero();
        for (const ModelMass::Share& s : m.shares) at += s.mass * s.at / m.value;
        for (const Affine& image : shown_images(model, extent))
            figure.add_ball(image * at, 0.013 * reach(model), weight);
        figure.add_legend(
            'o', weight,
            fmt::format("{}: mass {:.4g} {}", m.name, m.value, model.units.text(dimension::mass)));
    }
}

} // namespace

void add_supports(Figure& figure, const Model& model, const std::vector<SupportId>& which, Extent extent) {
    const double size = 0.022 * reach(model);
    for (const SupportId s : which) {
        const ModelSupport& support = model.supports[s];
        // Directions at a place: those of the equation nearest to it.
        std::vector<std::pair<Vec3, Vec3>> directions;
        for (const Equation& e : support.equations) {
            Vec3 direction = Vec3::Zero();
            for (const Term& t : e.terms)
                if (const Model::Spot spot = model.spot(t.freedom); spot.component < 3)
                    direction[spot.component] += t.factor;
            if (direction.norm() > 0.0)
                directions.emplace_back(model.spot(e.terms.front().freedom).at, direction.normalized());
        }
        for (const Spot& spot : spots(model, support.on, 7)) {
            double nearest = 1e300;
            for (const auto& [at, direction] : directions) nearest = std::min(nearest, (at - spot.at).norm());
            for (const auto& [at, direction] : directions) {
                if ((at - spot.at).norm() > nearest * (1 + 1e-9)) continue;
                // The cone comes from outside the body.
                const double sign = spot.normal.dot(direction) > 0.3 ? -1.0 : 1.0;
                for (const Affine& image : shown_images(model, extent))
                    figure.add_cone(image * spot.at, image.linear() * (sign * direction), size, color::hold);
            }
        }
        std::string places;
        for (const std::string& name : support.on) places += (places.empty() ? "" : ", ") + name;
        std::string words;
        for (const std::string& word : support.words) words += (words.empty() ? "" : " ") + word;
        figure.add_legend('^', color::hold,
                          fmt::format("{}: holds {}{}\non {}", support.name, words,
                                      support.moves() ? ", moved" : "", places));
    }
    for (const SymmetryCut& cut : model.mesh.symmetry)
        // In the whole body the plane is not drawn.
        figure.add_legend(extent == Extent::Whole ? ' ' : '-', color::plane,
                          fmt::format("symmetry plane {} = {:g}{}", "xyz"[cut.axis], cut.at,
                                      extent == Extent::Whole ? "\n(loads: those of one half)" : ""));
    add_links(figure, model, extent);
}

void add_planes(Figure& figure, const Model& model) {
    const Bounds box = model.mesh.bounds;
    const double margin = 0.04 * box.diagonal();
    for (const SymmetryCut& cut : model.mesh.symmetry) {
        const int a = cut.axis;
        const Vec3 u = Vec3::Unit((a + 1) % 3);
        const Vec3 v = Vec3::Unit((a + 2) % 3);
        const bool flat = model.mesh.dimension() == 2;
        const Vec3 along = flat ? Vec3(Vec3::Unit(1 - a)) : u;
        const Vec3 across = flat ? Vec3(Vec3::Zero()) : v;
        Vec3 low = box.low;
        Vec3 high = box.high;
        low[a] = high[a] = cut.at;
        low -= margin * (along + across);
        high += margin * (along + across);
        const Vec3 size = high - low;
        const Vec3 corner1 = low + size.dot(along) * along;
        const Vec3 corner2 = low + size.dot(across) * across;
        figure.add_lines({{low, corner1}, {corner1, high}, {high, corner2}, {corner2, low}}, color::plane,
                         1.6);
    }
}

namespace {

// One colour for each load of a case.
Color load_color(std::size_t i) {
    static const std::array<Color, 4> colors{color::load, Color{0.60, 0.22, 0.50}, Color{0.00, 0.38, 0.62},
                                             Color{0.45, 0.33, 0.05}};
    return colors[i % colors.size()];
}

} // namespace

std::string vector_text(const Vec3& v, bool plane) {
    const double least = std::max(1e-12, 1e-9 * v.norm());
    const auto clean = [least](double x) { return std::abs(x) < least ? 0.0 : x; };
    return plane ? fmt::format("({:.5g}, {:.5g})", clean(v.x()), clean(v.y()))
                 : fmt::format("({:.5g}, {:.5g}, {:.5g})", clean(v.x()), clean(v.y()), clean(v.z()));
}

namespace {

// What a load comes to, for the legend.
std::string load_text(const Model& model, const ModelLoad& load, double factor) {
    const bool plane = model.mesh.dimension() == 2;
    if (load.kind == LoadKind::Heat) return fmt::format("{:+g} K", factor * load.heat);
    if (load.kind == LoadKind::Spin) {
        const double to_rpm = 30.0 / pi / model.units.time_si;
        std::string words;
        if (load.spin->speed != 0.0) words = fmt::format("{:.4g} rpm", load.spin->speed * to_rpm);
        if (load.spin->speed_up != 0.0)
            words += fmt::format("{}{:+.4g} rad/{}2", words.empty() ? "" : ", ", factor * load.spin->speed_up,
                                 model.units.time);
        return words + " about\n" + vector_text(load.spin->axis, false);
    }
    // As it was written: its force depends on how much of the body is there.
    if (load.gravity)
        return vector_text(factor * *load.gravity, plane) + " " + model.units.text(dimension::acceleration);
    const Resultant sum = resultant(model, load);
    double at_work = 0.0;
    for (const Term& t : load.forces)
        if (model.spot(t.freedom).component < 3) at_work += std::abs(t.factor);
    // Where forces cancel (a torque as forces around an axis) what is left is a moment, or nothing.
    const bool turns = sum.force.norm() < 0.05 * at_work;
    if (load.kind == LoadKind::Pressure && turns)
        return fmt::format("{:.5g} {}", factor * load.pressure, model.units.text(dimension::stress));
    if (load.kind == LoadKind::Moment || turns)
        return (plane ? fmt::format("{:.5g}", factor * sum.moment.z())
                      : vector_text(factor * sum.moment, false)) +
               " " + model.units.text(dimension::moment);
    return vector_text(factor * sum.force, plane) + " " + model.units.force;
}

// The way in which a load pushes about a place: the nodal force nearest to it, or the axis of a moment there.
Vec3 load_direction(const Model& model, const ModelLoad& load, double factor, const Vec3& at) {
    double nearest = 1e300;
    Vec3 out = Vec3::Zero();
    for (const Term& t : load.forces) {
        const Model::Spot spot = model.spot(t.freedom);
        const double d = (spot.at - at).norm();
        if (d > nearest * (1 + 1e-12) + 1e-300) continue;
        if (d < nearest * (1 - 1e-12)) out = Vec3::Zero();
        nearest = std::min(nearest, d);
        out[spot.component % 3] += factor * t.factor;
    }
    return out.norm() > 0.0 ? Vec3(out.normalized()) : out;
}

} // namespace

void add_loads(Figure& figure, const Model& model, const ModelCase& c, Extent extent) {
    double largest = 0.0;
    for (const auto& [l, factor] : c.loads)
        largest = std::max(largest, std::abs(factor) * resultant(model, model.loads[l]).force.norm());
    const double full = 0.13 * reach(model);
    const bool plane = model.mesh.dimension() == 2;
    for (std::size_t i = 0; i < c.loads.size(); ++i) {
        const auto& [l, factor] = c.loads[i];
        const ModelLoad& load = model.loads[l];
        const Color shade = load_color(i);
        const Vec3 force = factor * resultant(model, load).force;
        const std::string times = factor == 1.0 ? "" : fmt::format("{:g} x ", factor);
        figure.add_legend(
            '>', shade,
            fmt::format("{}{}: {}\n{}", times, load.name, text(load.kind), load_text(model, load, factor)));
        // Half the longest arrow at least, or a small load would not be seen.
        const double length = full * (largest > 0.0 ? 0.5 + 0.5 * force.norm() / largest : 0.5);
        if (load.kind == LoadKind::Heat || load.kind == LoadKind::Spin) continue;
        if (load.gravity) {
            const Vec3 g = (factor * *load.gravity).normalized();
            const Bounds box = model.mesh.bounds;
            // Beside the body, where it can be seen.
            const Vec3 beside = Vec3(box.low.x() - 0.08 * reach(model), box.low.y(), box.center().z());
            figure.add_arrow(beside - 0.5 * length * g, beside + 0.5 * length * g, shade);
            continue;
        }
        for (const Spot& spot : spots(model, load.on, plane ? 5 : 6)) {
            Vec3 direction = load.kind == LoadKind::Pressure
                                 ? Vec3(-std::copysign(1.0, factor * load.pressure) * spot.normal)
                                 : load_direction(model, load, factor, spot.at);
            if (direction.norm() < 0.5) continue;
            const bool pulls = direction.dot(spot.normal) > 0.3;
            const Vec3 off = 0.25 * model.mesh.size * spot.normal;
            const Vec3 tail = pulls ? spot.at : Vec3(spot.at + off - length * direction);
            for (const Affine& image : shown_images(model, extent))
                figure.add_arrow(image * tail, image * Vec3(tail + length * direction), shade);
        }
    }
}

std::string dimensions(const Model& model) {
    Bounds box;
    for (const Affine& image : images(model.mesh)) {
        box.include(image * model.mesh.bounds.low);
        box.include(image * model.mesh.bounds.high);
    }
    const Vec3 s = box.size();
    const std::string unit = model.units.length;
    if (!model.mesh.thickness.empty()) {
        const auto [thin, thick] =
            std::minmax_element(model.mesh.thickness.begin(), model.mesh.thickness.end());
        const std::string how =
            *thin == *thick ? fmt::format("{:g}", *thin) : fmt::format("{:g} to {:g}", *thin, *thick);
        return model.mesh.dimension() == 2 || s.z() < 1e-9 * s.norm()
                   ? fmt::format("{:g} x {:g} {}, {} {} thick", s.x(), s.y(), unit, how, unit)
                   : fmt::format("{:g} x {:g} x {:g} {}, {} {} thick", s.x(), s.y(), s.z(), unit, how, unit);
    }
    return fmt::format("{:g} x {:g} x {:g} {}", s.x(), s.y(), s.z(), unit);
}

std::string part_note(const Model& model) {
    const int copies = model.mesh.copies();
    return copies == 1 ? "" : fmt::format(", 1/{} of the body modelled", copies);
}

FigureOptions with_unit(FigureOptions options, const Model& model) {
    options.length_unit = model.units.length;
    return options;
}

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
    for (const Affine& image : images(model.mesh)) figure.add(transformed(patch, image), scale);
}

void add_all_loads(Figure& figure, const Model& model, Extent extent) {
    // Every load once, whatever the case.
    ModelCase all;
    for (const LoadId l : model.loads.ids())
        for (const ModelCase& c : model.cases)
            for (const auto& [used, factor] : c.loads)
                if (used == l && (all.loads.empty() || all.loads.back().first != l))
                    all.loads.emplace_back(l, 1.0);
    add_loads(figure, model, all, extent);
}

std::vector<SupportId> used_supports(const Model& model) {
    std::vector<SupportId> out;
    const auto add = [&](const auto& cases) {
        for (const auto& c : cases)
            for (const SupportId s : c.supports)
                if (std::find(out.begin(), out.end(), s) == out.end()) out.push_back(s);
    };
    add(model.cases);
    add(model.modal_cases);
    return out;
}

} // namespace upright
