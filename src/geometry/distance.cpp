#include "geometry/distance.hpp"

#include "geometry/file_body.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>

namespace upright {

namespace {

constexpr double two_pi = 6.28318530717958647692;
constexpr int circle_steps = 48;

// A box whose sides across the plane have no extent belongs to a plane model and has none to measure.
bool flat(const Box& box) {
    return box.low.z() == box.high.z();
}

double distance(const Box& box, const Vec3& p) {
    Vec3 d = (p - 0.5 * (box.low + box.high)).cwiseAbs() - 0.5 * (box.high - box.low);
    if (flat(box)) d.z() = -1e300;
    const double outside = d.cwiseMax(0.0).norm();
    return outside > 0.0 ? outside : d.maxCoeff();
}

// Distance to a body of revolution's straight parts: `radial` beyond the radius, `axial` beyond the ends.
double capped(double radial, double axial) {
    if (radial > 0.0 && axial > 0.0) return std::hypot(radial, axial);
    return std::max(radial, axial);
}

struct AxisPoint {
    double along, radius, length;
};

AxisPoint to_axis(const Vec3& from, const Vec3& to, const Vec3& p) {
    const Vec3 axis = to - from;
    const double length = axis.norm();
    const double along = (p - from).dot(axis) / length;
    return {along, (p - from - axis * (along / length)).norm(), length};
}

double axial_excess(const AxisPoint& q) {
    return std::max(-q.along, q.along - q.length);
}

double distance(const Cylinder& c, const Vec3& p) {
    const AxisPoint q = to_axis(c.from, c.to, p);
    return capped(q.radius - c.radius, axial_excess(q));
}

double distance(const Cone& c, const Vec3& p) {
    const AxisPoint q = to_axis(c.from, c.to, p);
    const double slope = (c.radius_to - c.radius_from) / q.length;
    const double wall = (q.radius - (c.radius_from + slope * q.along)) / std::sqrt(1.0 + slope * slope);
    return std::max(wall, axial_excess(q));
}

double distance(const Sphere& s, const Vec3& p) {
    return (p - s.center).norm() - s.radius;
}

double distance(const std::vector<Vec2>& polygon, const Vec2& p) {
    double nearest = 1e300;
    bool inside = false;
    for (std::size_t i = 0, j = polygon.size() - 1; i < polygon.size(); j = i++) {
        const Vec2& a = polygon[i];
        const Vec2& b = polygon[j];
        const Vec2 edge = b - a;
        const double t = std::clamp((p - a).dot(edge) / std::max(edge.squaredNorm(), 1e-300), 0.0, 1.0);
        nearest = std::min(nearest, (p - a - t * edge).norm());
        if ((a.y() > p.y()) != (b.y() > p.y()) &&
            p.x() < (b.x() - a.x()) * (p.y() - a.y()) / (b.y() - a.y()) + a.x())
            inside = !inside;
    }
    return inside ? -nearest : nearest;
}

double distance(const Prism& prism, const Vec3& p) {
    const AxisPoint q = to_axis(prism.from, prism.to, p);
    const auto [u, v] = across(prism.to - prism.from);
    const Vec3 r = p - prism.from;
    return capped(distance(prism.polygon, Vec2(r.dot(u), r.dot(v))), axial_excess(q));
}

double distance(const Disk& disk, const Vec3& p) {
    const double r = (p - disk.center).head<2>().norm();
    return std::max(r - disk.radius, disk.inner > 0.0 ? disk.inner - r : -1e300);
}

double distance(const Polygon& polygon, const Vec3& p) {
    return distance(polygon.corners, Vec2(p.head<2>()));
}

double distance(const HalfSpace& half, const Vec3& p) {
    return (half.point - p).dot(half.normal);
}

double distance(const FileBody& body, const Vec3& p) {
    return file_body(body).signed_distance(p);
}

double distance(const CellSet& /*set*/, const Vec3& /*p*/) {
    return 1e300;
}

Vec3 to_local(const Placed& placed, const Vec3& p) {
    return placed.axes.transpose() * (p - placed.origin);
}

double distance(const Placed& placed, const Vec3& p) {
    return signed_distance(placed.shape->shape, to_local(placed, p));
}

double distance(const Outside& outside, const Vec3& p) {
    return -signed_distance(outside.shape->shape, p);
}

Bounds revolved(const Vec3& from, const Vec3& to, double radius_from, double radius_to) {
    const Vec3 axis = (to - from).normalized();
    const Vec3 reach = (Vec3::Ones() - axis.cwiseProduct(axis)).cwiseMax(0.0).cwiseSqrt();
    Bounds out;
    out.include(from - radius_from * reach);
    out.include(from + radius_from * reach);
    out.include(to - radius_to * reach);
    out.include(to + radius_to * reach);
    return out;
}

Bounds around(const Box& b) {
    return {b.low, b.high};
}
Bounds around(const Cylinder& c) {
    return revolved(c.from, c.to, c.radius, c.radius);
}
Bounds around(const Cone& c) {
    return revolved(c.from, c.to, c.radius_from, c.radius_to);
}
Bounds around(const Sphere& s) {
    return {s.center - Vec3::Constant(s.radius), s.center + Vec3::Constant(s.radius)};
}
Bounds around(const Disk& d) {
    const Vec3 r(d.radius, d.radius, 0.0);
    return {d.center - r, d.center + r};
}
Bounds around(const Polygon& p) {
    Bounds out;
    for (const Vec2& c : p.corners) out.include(Vec3(c.x(), c.y(), 0.0));
    return out;
}
Bounds around(const Prism& p) {
    const auto [u, v] = across(p.to - p.from);
    Bounds out;
    for (const Vec2& c : p.polygon) {
        out.include(p.from + c.x() * u + c.y() * v);
        out.include(p.to + c.x() * u + c.y() * v);
    }
    return out;
}

Bounds around(const HalfSpace& /*half*/) {
    return {};
}
Bounds around(const Outside& /*outside*/) {
    return {};
}
Bounds around(const CellSet& /*set*/) {
    return {};
}
Bounds around(const FileBody& body) {
    return file_body(body).bounds();
}
Bounds around(const Placed& placed) {
    Bounds out;
    // Of a turned file body, the points themselves: its box would be too large.
    if (const FileBody* body = std::get_if<FileBody>(&placed.shape->shape)) {
        for (const Vec3& p : file_body(*body).mesh().points) out.include(placed.axes * p + placed.origin);
        return out;
    }
    const Bounds inner = bounds(placed.shape->shape);
    if (inner.empty()) return out;
    for (int corner = 0; corner < 8; ++corner) {
        const Vec3 p((corner & 1) != 0 ? inner.high.x() : inner.low.x(),
                     (corner & 2) != 0 ? inner.high.y() : inner.low.y(),
                     (corner & 4) != 0 ? inner.high.z() : inner.low.z());
        out.include(placed.axes * p + placed.origin);
    }
    return out;
}

using Segments = std::vector<std::pair<Vec3, Vec3>>;

void add_circle(Segments& out, const Vec3& center, const Vec3& u, const Vec3& v, double radius) {
    const auto at = [&](int i) {
        const double angle = two_pi * i / circle_steps;
        return Vec3(center + radius * (std::cos(angle) * u + std::sin(angle) * v));
    };
    for (int i = 0; i < circle_steps; ++i) out.emplace_back(at(i), at(i + 1));
}

void add_loop(Segments& out, const std::vector<Vec3>& corners) {
    for (std::size_t i = 0; i < corners.size(); ++i)
        out.emplace_back(corners[i], corners[(i + 1) % corners.size()]);
}

void add_outline(Segments& out, const Box& box) {
    const auto corner = [&](bool x, bool y, bool z) {
        return Vec3(x ? box.high.x() : box.low.x(), y ? box.high.y() : box.low.y(),
                    z ? box.high.z() : box.low.z());
    };
    for (const bool z : {false, true}) {
        add_loop(out, {corner(false, false, z), corner(true, false, z), corner(true, true, z),
                       corner(false, true, z)});
        if (flat(box)) return;
    }
    for (const bool x : {false, true})
        for (const bool y : {false, true}) out.emplace_back(corner(x, y, false), corner(x, y, true));
}

void add_revolved(Segments& out, const Vec3& from, const Vec3& to, double radius_from, double radius_to) {
    const auto [u, v] = across(to - from);
    add_circle(out, from, u, v, radius_from);
    add_circle(out, to, u, v, radius_to);
}

void add_outline(Segments& out, const Cylinder& c) {
    add_revolved(out, c.from, c.to, c.radius, c.radius);
}
void add_outline(Segments& out, const Cone& c) {
    add_revolved(out, c.from, c.to, c.radius_from, c.radius_to);
}
void add_outline(Segments& out, const Sphere& s) {
    add_circle(out, s.center, Vec3::UnitX(), Vec3::UnitY(), s.radius);
    add_circle(out, s.center, Vec3::UnitY(), Vec3::UnitZ(), s.radius);
    add_circle(out, s.center, Vec3::UnitX(), Vec3::UnitZ(), s.radius);
}
void add_outline(Segments& out, const Disk& d) {
    add_circle(out, d.center, Vec3::UnitX(), Vec3::UnitY(), d.radius);
    if (d.inner > 0.0) add_circle(out, d.center, Vec3::UnitX(), Vec3::UnitY(), d.inner);
}
void add_outline(Segments& out, const Polygon& p) {
    std::vector<Vec3> loop;
    for (const Vec2& c : p.corners) loop.emplace_back(c.x(), c.y(), 0.0);
    add_loop(out, loop);
}
void add_outline(Segments& out, const Prism& p) {
    const auto [u, v] = across(p.to - p.from);
    std::vector<Vec3> low;
    std::vector<Vec3> high;
    for (const Vec2& c : p.polygon) {
        low.push_back(p.from + c.x() * u + c.y() * v);
        high.push_back(p.to + c.x() * u + c.y() * v);
        out.emplace_back(low.back(), high.back());
    }
    add_loop(out, low);
    add_loop(out, high);
}

void add_outline(Segments& /*out*/, const HalfSpace& /*half*/) {}
void add_outline(Segments& /*out*/, const Outside& /*outside*/) {}
void add_outline(Segments& /*out*/, const CellSet& /*set*/) {}
void add_outline(Segments& out, const FileBody& body) {
    const auto& edges = file_body(body).edges();
    out.insert(out.end(), edges.begin(), edges.end());
}
void add_outline(Segments& out, const Placed& placed) {
    for (const auto& [a, b] : outline(placed.shape->shape))
        out.emplace_back(placed.axes * a + placed.origin, placed.axes * b + placed.origin);
}

} // namespace

bool contains(const Shape& shape, const Vec3& p, double tolerance) {
    if (const FileBody* body = std::get_if<FileBody>(&shape)) return file_body(*body).inside(p);
    if (const Placed* placed = std::get_if<Placed>(&shape))
        return contains(placed->shape->shape, to_local(*placed, p), tolerance);
    if (const Outside* outside = std::get_if<Outside>(&shape))
        return !contains(outside->shape->shape, p, -tolerance);
    return signed_distance(shape, p) <= tolerance;
}

int side_of_ball(const Shape& shape, const Vec3& center, double radius) {
    if (const Placed* placed = std::get_if<Placed>(&shape))
        return side_of_ball(placed->shape->shape, to_local(*placed, center), radius);
    if (const Outside* outside = std::get_if<Outside>(&shape))
        return -side_of_ball(outside->shape->shape, center, radius);
    if (const FileBody* file = std::get_if<FileBody>(&shape)) {
        const FacetBody& body = file_body(*file);
        if (!body.bounds().holds(center, radius)) return 1;
        if (body.tree().nearest(center, radius).triangle >= 0) return 0;
        return body.inside(center) ? -1 : 1;
    }
    const double d = signed_distance(shape, center);
    return d > radius ? 1 : d < -radius ? -1 : 0;
}

std::pair<Vec3, Vec3> across(const Vec3& axis) {
    const Vec3 n = axis.normalized();
    for (int i = 0; i < 3; ++i)
        if (std::abs(n[i]) > 1.0 - 1e-12) return {Vec3::Unit(i == 0 ? 1 : 0), Vec3::Unit(i == 2 ? 1 : 2)};
    const Vec3 u = (Vec3::UnitX() - n.x() * n).normalized();
    return {u, n.cross(u)};
}

double signed_distance(const Shape& shape, const Vec3& p) {
    return std::visit([&](const auto& s) { return distance(s, p); }, shape);
}

Bounds bounds(const Shape& shape) {
    return std::visit([](const auto& s) { return around(s); }, shape);
}

Segments outline(const Shape& shape) {
    Segments out;
    std::visit([&](const auto& s) { add_outline(out, s); }, shape);
    return out;
}

} // namespace upright
