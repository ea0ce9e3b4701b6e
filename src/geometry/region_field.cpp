#include "geometry/region_field.hpp"

#include "geometry/distance.hpp"
#include "geometry/file_body.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

constexpr double pi = 3.14159265358979323846;

} // namespace

// The surfaces that a skin covers.
std::vector<std::size_t> skin_surfaces(const Study& study, const Skin& skin) {
    std::vector<std::size_t> out;
    for (const std::string& name : skin.of)
        for (std::size_t s = 0; s < study.surfaces.size(); ++s)
            if (refers_to(name, study.surfaces[s].name)) out.push_back(s);
    return out;
}

std::vector<std::size_t> skin_regions(const Study& study, const Skin& skin, std::size_t before) {
    std::vector<std::size_t> out;
    for (const std::string& name : skin.of)
        for (std::size_t r = 0; r < before; ++r)
            if (refers_to(name, study.regions[r].name)) out.push_back(r);
    return out;
}

double ring_distance(const Ring& ring, const Vec3& p) {
    const Vec3 axis = ring.to - ring.from;
    const double length = axis.norm();
    const double along = (p - ring.from).dot(axis) / length;
    const double r = (p - ring.from - axis * (along / length)).norm();
    return std::max({r - ring.outer, ring.inner - r, -along, along - length});
}

// The body of a file that a shape is, with the place it was put at; null for other shapes.
const FacetBody* body_of(const Shape& shape, const Placed*& placed) {
    if (const FileBody* file = std::get_if<FileBody>(&shape)) return &file_body(*file);
    if (const Placed* p = std::get_if<Placed>(&shape)) {
        placed = p;
        const Placed* inner = nullptr;
        return body_of(p->shape->shape, inner);
    }
    return nullptr;
}

Vec3 out_of(const Placed* placed, const Vec3& p) {
    return placed == nullptr ? p : Vec3(placed->axes * p + placed->origin);
}
Vec3 into(const Placed* placed, const Vec3& p) {
    return placed == nullptr ? p : Vec3(placed->axes.transpose() * (p - placed->origin));
}

double region_distance(const Study& study, const RegionExtents& extents, RegionId region, const Vec3& p) {
    const RegionCard& card = study.regions[index(region)];
    if (const Shape* shape = std::get_if<Shape>(&card.extent)) return signed_distance(*shape, p);
    double out = 1e300;
    if (std::holds_alternative<HoleRing>(card.extent)) {
        if (index(region) < extents.rings.size())
            for (const Ring& ring : extents.rings[index(region)]) out = std::min(out, ring_distance(ring, p));
        return out;
    }
    const Skin& skin = std::get<Skin>(card.extent);
    for (const std::size_t target : skin_regions(study, skin, index(region))) {
        double d = region_distance(study, extents, static_cast<RegionId>(target), p);
        if (skin.into_body) d = -d;
        out = std::min(out, std::max(d - skin.depth, -d));
    }
    if (index(region) < extents.skins.size() && extents.skins[index(region)])
        out = std::min(out, extents.skins[index(region)]->nearest(p).distance - skin.depth);
    return out;
}

double body_distance(const Study& study, const RegionExtents& extents, std::size_t count, const Vec3& p) {
    double out = 1e300;
    for (std::size_t r = 0; r < count; ++r) {
        const RegionCard& card = study.regions[r];
        if (!std::holds_alternative<Shape>(card.extent)) continue; // skins and rings add no material
        double d = region_distance(study, extents, static_cast<RegionId>(r), p);
        if (!card.within.empty()) {
            double inside = 1e300;
            for (std::size_t other = 0; other < r; ++other)
                if (refers_to(card.within, study.regions[other].name))
                    inside =
                        std::min(inside, region_distance(study, extents, static_cast<RegionId>(other), p));
            d = std::max(d, inside);
        }
        out = card.role == Role::Void ? std::max(out, -d) : std::min(out, d);
    }
    return out;
}

RegionId owner_at(const Study& study, const RegionExtents& extents, const Vec3& p) {
    RegionId out = RegionId::None;
    std::vector<bool> covered(study.regions.size(), false);
    for (std::size_t r = 0; r < study.regions.size(); ++r) {
        const RegionCard& card = study.regions[r];
        const bool solid = out != RegionId::None && study.regions[index(out)].role != Role::Void;
        bool in = false;
        if (const Shape* shape = std::get_if<Shape>(&card.extent))
            in = contains(*shape, p, 0.0);
        else
            in = solid && region_distance(study, extents, static_cast<RegionId>(r), p) <= 0.0;
        if (in && !card.within.empty()) {
            in = false;
            for (std::size_t other = 0; other < r; ++other)
                in = in || (covered[other] && refers_to(card.within, study.regions[other].name));
        }
        covered[r] = in;
        if (in) out = static_cast<RegionId>(r);
    }
    return out;
}

std::vector<Hole> holes_of(const Study& study, const std::vector<std::string>& regions,
                           std::optional<double> radius) {
    std::vector<Hole> out;
    const auto add = [&](const Hole& hole) {
        if (radius && std::abs(hole.radius - *radius) > 1e-3 * *radius) return;
        for (Hole& known : out) {
            // Two halves of one hole.
            const Vec3 axis = (known.to - known.from).normalized();
            const auto off = [&](const Vec3& p) { return Vec3(p - known.from).cross(axis).norm(); };
            if (std::abs(known.radius - hole.radius) > 1e-3 * known.radius ||
                off(hole.from) > 1e-3 * known.radius || off(hole.to) > 1e-3 * known.radius)
                continue;
            const double length = (known.to - known.from).norm();
            double low = (hole.from - known.from).dot(axis);
            double high = (hole.to - known.from).dot(axis);
            if (low > high) std::swap(low, high);
            if (low > length + 1e-3 * known.radius || high < -1e-3 * known.radius) continue;
            const Vec3 from = known.from;
            known.from = from + axis * std::min(0.0, low);
            known.to = from + axis * std::max(length, high);
            return;
        }
        out.push_back(hole);
    };
    for (const RegionCard& region : study.regions) {
        const Shape* shape = std::get_if<Shape>(&region.extent);
        if (shape == nullptr || (!regions.empty() && !refers_to(regions, region.name))) continue;
        if (const Cylinder* c = std::get_if<Cylinder>(shape)) {
            if (region.role == Role::Void) add({c->from, c->to, c->radius});
            continue;
        }
        const Placed* placed = nullptr;
        const FacetBody* body = body_of(*shape, placed);
        if (body == nullptr || region.role == Role::Void) continue;
        for (const FacetFace& face : body->mesh().faces)
            if (face.kind == "cylinder" && face.hole)
                add({out_of(placed, face.axis_from), out_of(placed, face.axis_to), face.radius});
    }
    return out;
}

RegionExtents find_rings(const Study& study) {
    RegionExtents out;
    out.skins.resize(study.regions.size());
    out.rings.resize(study.regions.size());
    for (std::size_t r = 0; r < study.regions.size(); ++r) {
        const RegionCard& card = study.regions[r];
        const HoleRing* ring = std::get_if<HoleRing>(&card.extent);
        if (ring == nullptr) continue;
        const std::vector<Hole> holes = holes_of(study, ring->around, ring->hole_radius);
        if (holes.empty())
            throw Error::input(
                card.place, "the ring \"" + card.name + "\" finds no hole",
                "Name a void cylinder with around, or the radius of holes of a file with hole");
        for (const Hole& hole : holes) {
            const Vec3 axis = (hole.to - hole.from).normalized();
            const auto [u, v] = across(axis);
            // Where lines beside the hole's wall enter and leave the body.
            const double margin = 2.0 * (ring->depth + hole.radius);
            const double length = (hole.to - hole.from).norm() + 2.0 * margin;
            const Vec3 start = hole.from - margin * axis;
            const double step = std::min(ring->depth, ring->width) / 6.0;
            std::vector<double> enter;
            std::vector<double> leave;
            for (int k = 0; k < 8; ++k) {
                const Vec3 side =
                    (hole.radius + 0.5 * ring->width) * (std::cos(pi * k / 4) * u + std::sin(pi * k / 4) * v);
                const auto value = [&](double t) {
                    return body_distance(study, out, r, start + side + t * axis);
                };
                const auto root = [&](double a, double b) {
                    const bool low = value(a) < 0.0;
                    for (int i = 0; i < 40; ++i)
                        ((value(0.5 * (a + b)) < 0.0) == low ? a : b) = 0.5 * (a + b);
                    return 0.5 * (a + b);
                };
                double first = -1.0;
                double last = -1.0;
                for (double t = 0.0; t + step < length; t += step) {
                    const bool a = value(t) < 0.0;
                    const bool b = value(t + step) < 0.0;
                    if (!a && b && first < 0.0) first = root(t, t + step);
                    if (a && !b) last = root(t, t + step);
                }
                if (first >= 0.0) enter.push_back(first);
                if (last >= 0.0) leave.push_back(last);
            }
            const auto add = [&](std::vector<double>& at, double sense) {
                if (at.empty()) return;
                std::sort(at.begin(), at.end());
                const Vec3 mouth = start + at[at.size() / 2] * axis;
                out.rings[r].push_back(
                    {mouth, mouth + sense * ring->depth * axis, hole.radius, hole.radius + ring->width});
            };
            add(enter, 1.0);
            add(leave, -1.0);
        }
        if (out.rings[r].empty())
            throw Error::input(card.place,
                               "the holes of the ring \"" + card.name + "\" lie outside of the body");
    }
    return out;
}

} // namespace upright
