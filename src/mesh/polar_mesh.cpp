#include "mesh/generators.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

constexpr double two_pi = 6.28318530717958647692;
constexpr double most_cells = 2e7;

// Where lines must run: radii and heights of shapes about the axis.
struct Lines {
    std::vector<double> radii, heights;
};

class Collector {
  public:
    explicit Collector(const Frame& frame, double size) : frame_(frame), tolerance_(1e-6 * size) {}

    void add(const Shape& shape, bool solid) {
        if (const Cylinder* c = std::get_if<Cylinder>(&shape)) {
            if (along_axis(c->from, c->to, true)) {
                lines_.radii.push_back(c->radius);
                ends(c->from, c->to);
            } else if (along_axis(c->from, c->to, false)) {
                ends(c->from, c->to); // a hole beside the axis
            }
        } else if (const Disk* d = std::get_if<Disk>(&shape)) {
            if (radius(d->center) < tolerance_) {
                lines_.radii.push_back(d->radius);
                if (d->inner > 0.0) lines_.radii.push_back(d->inner);
            }
        } else if (const Prism* p = std::get_if<Prism>(&shape)) {
            if (along_axis(p->from, p->to, false)) ends(p->from, p->to);
        } else if (const Cone* c2 = std::get_if<Cone>(&shape)) {
            if (along_axis(c2->from, c2->to, false)) ends(c2->from, c2->to);
        }
        if (!solid) return;
        const Bounds box = bounds(shape);
        if (box.empty()) return;
        for (int corner = 0; corner < 8; ++corner) {
            const Vec3 p((corner & 1) != 0 ? box.high.x() : box.low.x(),
                         (corner & 2) != 0 ? box.high.y() : box.low.y(),
                         (corner & 4) != 0 ? box.high.z() : box.low.z());
            const double h = (p - frame_.origin).dot(frame_.axes.col(2));
            low_ = std::min(low_, h);
            high_ = std::max(high_, h);
            far_ = std::max(far_, radius(p));
        }
    }

    double radius(const Vec3& p) const {
        const Vec3 r = p - frame_.origin;
        const Vec3 axis = frame_.axes.col(2);
        return (r - axis * r.dot(axis)).norm();
    }
    Lines& lines() { return lines_; }
    double low() const { return low_; }
    double high() const { return high_; }
    double far() const { return far_; }

  private:
    bool along_axis(const Vec3& from, const Vec3& to, bool on_it) const {
        const Vec3 axis = frame_.axes.col(2);
        if ((to - from).cross(axis).norm() > 1e-9 * (to - from).norm()) return false;
        return !on_it || radius(from) < tolerance_;
    }
    void ends(const Vec3& from, const Vec3& to) {
        for (const Vec3& p : {from, to})
            lines_.heights.push_back((p - frame_.origin).dot(frame_.axes.col(2)));
    }

    const Frame& frame_;
    double tolerance_;
    Lines lines_;
    double low_ = 1e300, high_ = -1e300, far_ = 0.0;
};

// Steps of about `size` that meet every stop between low and high.
std::vector<double> divide(std::vector<double> stops, double low, double high, double size) {
    const double close = 0.2 * size;
    stops.erase(std::remove_if(stops.begin(), stops.end(),
                               [&](double s) {
                                   return s <= low + 1e-9 * (high - low) || s >= high - 1e-9 * (high - low);
                               }),
                stops.end());
    std::sort(stops.begin(), stops.end());
    std::vector<double> out{low};
    stops.push_back(high);
    for (std::size_t i = 0; i < stops.size(); ++i) {
        const double from = out.back();
        // Lines that nearly meet become one; the end always stays.
        if (stops[i] - from < close && i + 1 < stops.size()) continue;
        const int n = std::max(1, static_cast<int>(std::lround((stops[i] - from) / size)));
        for (int k = 1; k <= n; ++k) out.push_back(from + (stops[i] - from) * k / n);
    }
    return out;
}

// Where a round body ends: at its own radius, not at the corner of its box.
double outer_radius(const Space& space, const Collector& collector) {
    const double slack = 1e-6 * space.mesh.size;
    const auto about = [&](const Vec3& p) { return collector.radius(p) < slack; };
    double out = 0.0;
    for (const FieldRegion& region : space.regions.regions()) {
        const Shape* shape = std::get_if<Shape>(&region.extent);
        if (shape == nullptr || region.role == Role::Void) continue;
        double reach = 0.0;
        if (const Cylinder* c = std::get_if<Cylinder>(shape); c != nullptr && about(c->from) && about(c->to))
            reach = c->radius;
        else if (const Disk* d = std::get_if<Disk>(shape); d != nullptr && about(d->center))
            reach = d->radius;
        else if (const Cone* c2 = std::get_if<Cone>(shape); c2 != nullptr && about(c2->from) && about(c2->to))
            reach = std::max(c2->radius_from, c2->radius_to);
        else if (const Bounds box = bounds(*shape); !box.empty())
            reach = collector.far();
        out = std::max(out, reach);
    }
    return out;
}

// A bore about the axis through everything: the mesh begins at its wall. Zero where there is none.
double bore_radius(const Space& space, const Collector& collector) {
    const double slack = 1e-6 * space.mesh.size;
    const auto about = [&](const Vec3& p) { return collector.radius(p) < slack; };
    const Frame& frame = *space.axis;
    double out = 0.0;
    for (const FieldRegion& region : space.regions.regions()) {
        const Shape* shape = std::get_if<Shape>(&region.extent);
        if (shape == nullptr || region.role != Role::Void) continue;
        if (const Disk* d = std::get_if<Disk>(shape); d != nullptr && about(d->center) && d->inner == 0.0)
            out = std::max(out, d->radius);
        if (const Cylinder* c = std::get_if<Cylinder>(shape);
            c != nullptr && about(c->from) && about(c->to)) {
            const double a = (c->from - frame.origin).dot(frame.axes.col(2));
            const double b = (c->to - frame.origin).dot(frame.axes.col(2));
            if (std::min(a, b) <= collector.low() + 1e-9 && std::max(a, b) >= collector.high() - 1e-9)
                out = std::max(out, c->radius);
        }
    }
    return out;
}

// The lines of a polar mesh: radii, cells around, heights (one in the plane).
struct PolarLines {
    std::vector<double> r, z;
    int around = 0;
    bool flat = false;
    bool axis_nodes() const { return r.front() <= 0.0; }
};

PolarLines polar_lines(const Space& space) {
    const double size = space.mesh.size;
    Collector collector(*space.axis, size);
    bool any = false;
    for (const FieldRegion& region : space.regions.regions())
        if (const Shape* shape = std::get_if<Shape>(&region.extent)) {
            collector.add(*shape, region.role != Role::Void);
            any = any || region.role != Role::Void;
        }
    if (!any || collector.far() <= 0.0)
        throw Error::input(space.mesh.place,
                           "no region with material lies about the axis of \"" + space.axis->name + "\"",
                           "Write a cylinder or a disk about that axis");
    const double outer = outer_radius(space, collector);
    const double inner = bore_radius(space, collector);
    if (inner >= outer) throw Error::input(space.mesh.place, "the bore about the axis leaves nothing");
    PolarLines out;
    out.flat = space.mesh.flat();
    const auto require_so_many = [&](double cells, double most) {
        if (cells > most)
            throw Error::input(
                space.mesh.place,
                fmt::format("a cell size of {:g} {} makes {:.3g} cells", size, space.units.length, cells),
                "Write a larger size");
    };
    const double around_size = two_pi * (0.5 * inner + 0.5 * outer) / size;
    // About, before any line is made; lines that meet may become one.
    const double high = out.flat ? 1.0 : std::max(1.0, (collector.high() - collector.low()) / size);
    require_so_many(std::max(12.0, around_size) * std::max(1.0, (outer - inner) / size) * high,
                    4.0 * most_cells);
    out.r = divide(collector.lines().radii, inner, outer, size);
    out.z = out.flat ? std::vector<double>{0.0}
                     : divide(collector.lines().heights, collector.low(), collector.high(), size);
    // A multiple of twelve meets the usual counts of spokes and holes.
    // Sectors of the form have to repeat cell by cell, and to have a middle.
    const int unit = space.sectors > 0 ? 2 * space.sectors : 12;
    out.around = unit * std::max((12 + unit - 1) / unit, static_cast<int>(std::lround(around_size / unit)));
    require_so_many(static_cast<double>(out.around) * static_cast<double>(out.r.size() - 1) *
                        static_cast<double>(std::max<std::size_t>(1, out.z.size() - 1)),
                    most_cells);
    return out;
}

// The element of ring i (from the axis), angle j and layer k; at the axis a wedge or a triangle.
ElementKind polar_kind_of(bool flat, bool tip, bool shell) {
    if (!flat) return tip ? ElementKind::Wedge6 : ElementKind::Hex8;
    if (shell) return tip ? ElementKind::ShellTri3 : ElementKind::ShellQuad4;
    return tip ? ElementKind::Tri3 : ElementKind::Quad4;
}

} // namespace

Mesh make_polar_mesh(const Space& space) {
    for (const SymmetryPlane& plane : space.symmetry)
        throw Error::input(plane.place, "a polar mesh runs all the way round and takes no symmetry plane",
                           "Use kind = \"grid\" or \"fitted\" with symmetry");
    const PolarLines lines = polar_lines(space);
    const Frame& frame = *space.axis;
    Mesh mesh;
    mesh.size = space.mesh.size;
    const bool axis_nodes = lines.axis_nodes();
    const std::size_t layers = lines.z.size();
    const std::size_t rings = lines.r.size();
    const auto ring_nodes = static_cast<std::size_t>(lines.around);
    // Node (i, j, k): ring, angle, layer; the axis has one node a layer.
    const std::size_t per_layer = (axis_nodes ? 1 : ring_nodes) + (rings - 1) * ring_nodes;
    const auto node = [&](std::size_t i, std::size_t j, std::size_t k) {
        j %= ring_nodes;
        std::size_t n = k * per_layer;
        if (i == 0) return static_cast<NodeId>(n + (axis_nodes ? 0 : j));
        n += axis_nodes ? 1 : ring_nodes;
        return static_cast<NodeId>(n + (i - 1) * ring_nodes + j);
    };
    mesh.nodes.resize(per_layer * layers);
    for (std::size_t k = 0; k < layers; ++k)
        for (std::size_t i = 0; i < rings; ++i)
            for (std::size_t j = 0; j < ring_nodes; ++j) {
                const double angle = two_pi * static_cast<double>(j) / lines.around;
                Vec3 p =
                    frame.origin + lines.z[k] * frame.axes.col(2) +
                    lines.r[i] * (std::cos(angle) * frame.axes.col(0) + std::sin(angle) * frame.axes.col(1));
                if (lines.flat) p.z() = 0.0;
                mesh.nodes[index(node(i, j, k))] = p;
            }
    mesh.polar.count = {static_cast<int>(rings) - 1, lines.around,
                        lines.flat ? 1 : static_cast<int>(layers) - 1};
    mesh.polar.origin = frame.origin;
    mesh.polar.axis = frame.axes.col(2);
    for (std::size_t k = 0; k < (lines.flat ? 1 : layers - 1); ++k)
        for (std::size_t i = 0; i + 1 < rings; ++i)
            for (std::size_t j = 0; j < ring_nodes; ++j) {
                const bool tip = i == 0 && axis_nodes;
                std::vector<NodeId> ids;
                for (const std::size_t layer : {k, k + 1}) {
                    if (lines.flat && layer > k) continue;
                    ids.push_back(node(i, j, layer));
                    ids.push_back(node(i + 1, j, layer));
                    ids.push_back(node(i + 1, j + 1, layer));
                    if (!tip) ids.push_back(node(i, j + 1, layer));
                }
                mesh.add(polar_kind_of(lines.flat, tip, space.mesh.shell()), ids, RegionId::None);
                mesh.polar.cell_of.push_back(
                    static_cast<std::uint32_t>((k * ring_nodes + j) * (rings - 1) + i));
                if (lines.flat) mesh.thickness.push_back(space.mesh.thickness);
            }
    mesh.finish();
    return mesh;
}

Mesh make_shell_mesh(const Space& space, const CellGrid& grid) {
    Mesh mesh;
    mesh.size = grid.cell.head(2).maxCoeff();
    for (int a = 0; a < 2; ++a) {
        const auto& sides = grid.symmetric[static_cast<std::size_t>(a)];
        if (sides[0]) mesh.symmetry.push_back({a, grid.box().low[a], false});
        if (sides[1]) mesh.symmetry.push_back({a, grid.box().high[a], true});
    }
    const int nx = grid.count[0] + 1;
    for (int j = 0; j <= grid.count[1]; ++j)
        for (int i = 0; i <= grid.count[0]; ++i)
            mesh.nodes.emplace_back(grid.origin.x() + i * grid.cell.x(), grid.origin.y() + j * grid.cell.y(),
                                    0.0);
    for (int j = 0; j < grid.count[1]; ++j)
        for (int i = 0; i < grid.count[0]; ++i) {
            const auto at = [&](int x, int y) { return static_cast<NodeId>(y * nx + x); };
            mesh.add(ElementKind::ShellQuad4, {at(i, j), at(i + 1, j), at(i + 1, j + 1), at(i, j + 1)},
                     RegionId::None);
            mesh.thickness.push_back(space.mesh.thickness);
        }
    mesh.finish();
    return mesh;
}

Mesh sweep(const Mesh& plane, const Vec3& along, int layers) {
    Mesh out;
    out.size = plane.size;
    const std::size_t n = plane.nodes.size();
    for (int k = 0; k <= layers; ++k)
        for (const Vec3& p : plane.nodes) out.nodes.push_back(p + along * (static_cast<double>(k) / layers));
    for (int k = 0; k < layers; ++k)
        for (std::size_t e = 0; e < plane.elements(); ++e) {
            const auto id = static_cast<ElementId>(e);
            const NodeRange ids = plane.nodes_of(id);
            std::vector<NodeId> lower(ids.begin(), ids.begin() + traits(plane.kinds[e]).corners);
            // The ring must run by the right hand about the way.
            const Vec3 a = plane.nodes[index(lower[0])];
            const Vec3 normal = (plane.nodes[index(lower[1])] - a).cross(plane.nodes[index(lower[2])] - a);
            if (normal.dot(along) < 0.0) std::reverse(lower.begin(), lower.end());
            std::vector<NodeId> all;
            for (const int layer : {k, k + 1})
                for (const NodeId node : lower)
                    all.push_back(static_cast<NodeId>(index(node) + n * static_cast<std::size_t>(layer)));
            out.add(lower.size() == 3 ? ElementKind::Wedge6 : ElementKind::Hex8, all, RegionId::None);
        }
    out.finish();
    return out;
}

} // namespace upright
