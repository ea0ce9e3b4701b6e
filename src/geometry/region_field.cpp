#include "geometry/region_field.hpp"

#include "base/angles.hpp"
#include "geometry/distance.hpp"
#include "geometry/file_body.hpp"
#include "geometry/space.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright {

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

RegionField::RegionField(const Study& study) {
    resolve(study);
    extents_.skins.resize(regions_.size());
    extents_.rings.resize(regions_.size());
    find_rings();
}

RegionField::RegionField(const Study& study, RegionExtents extents) : extents_(std::move(extents)) {
    resolve(study);
    extents_.skins.resize(regions_.size());
    extents_.rings.resize(regions_.size());
}

void RegionField::resolve(const Study& study) {
    for (std::size_t r = 0; r < study.regions.size(); ++r) {
        FieldRegion region{study.regions[r], {}, {}, {}, study.thickness(static_cast<RegionId>(r))};
        const auto before = [&](const std::string& name, std::vector<std::size_t>& out) {
            for (std::size_t other = 0; other < r; ++other)
                if (refers_to(name, study.regions[other].name)) out.push_back(other);
        };
        for (const std::string& name : region.within) before(name, region.inside_of);
        if (const Skin* skin = std::get_if<Skin>(&region.extent))
            for (const std::string& name : skin->of) {
                before(name, region.covers);
                for (std::size_t s = 0; s < study.surfaces.size(); ++s)
                    if (refers_to(name, study.surfaces[s].name)) region.on_surfaces.push_back(s);
            }
        regions_.push_back(std::move(region));
    }
}

RegionField RegionField::with(const std::vector<RegionCard>& finishes) const {
    RegionField out = *this;
    for (const RegionCard& card : finishes) {
        FieldRegion region{card, {}, {}, {}, 1.0};
        region.finish = true;
        out.regions_.push_back(std::move(region));
    }
    out.extents_.skins.resize(out.regions_.size());
    out.extents_.rings.resize(out.regions_.size());
    return out;
}

RegionField RegionField::with_bodies(const std::vector<std::shared_ptr<const FacetBody>>& of_cells) const {
    RegionField out = *this;
    for (std::size_t r = 0; r < of_cells.size(); ++r)
        if (of_cells[r]) out.regions_[r].extent = made_body(of_cells[r]);
    return out;
}

double RegionField::distance(std::size_t r, const Vec3& p) const {
    const FieldRegion& region = regions_[r];
    if (const Shape* shape = std::get_if<Shape>(&region.extent)) return signed_distance(*shape, p);
    double out = 1e300;
    if (std::holds_alternative<HoleRing>(region.extent)) {
        for (const Ring& ring : extents_.rings[r]) out = std::min(out, ring_distance(ring, p));
        return out;
    }
    const Skin& skin = std::get<Skin>(region.extent);
    for (const std::size_t target : region.covers) {
        double d = distance(target, p);
        if (skin.into_body) d = -d;
        out = std::min(out, std::max(d - skin.depth, -d));
    }
    if (extents_.skins[r]) out = std::min(out, extents_.skins[r]->nearest(p).distance - skin.depth);
    return out;
}

double RegionField::body_distance(std::size_t count, const Vec3& p) const {
    double out = 1e300;
    for (std::size_t r = 0; r < count; ++r) {
        const FieldRegion& region = regions_[r];
        if (!std::holds_alternative<Shape>(region.extent)) continue; // skins and rings add no material
        double d = distance(r, p);
        if (!region.within.empty()) {
            double inside = 1e300;
            for (const std::size_t other : region.inside_of) inside = std::min(inside, distance(other, p));
            d = std::max(d, inside);
        }
        out = region.role == Role::Void ? std::max(out, -d) : std::min(out, d);
    }
    return out;
}

RegionField::Parts RegionField::parts(const Vec3& p) const {
    Parts out;
    std::vector<double> each(regions_.size());
    for (std::size_t r = 0; r < regions_.size(); ++r) {
        const FieldRegion& region = regions_[r];
        double d = distance(r, p);
        if (!region.within.empty()) {
            double inside = 1e300;
            for (const std::size_t other : region.inside_of) inside = std::min(inside, each[other]);
            d = std::max(d, inside);
        }
        if (!std::holds_alternative<Shape>(region.extent)) d = std::max(d, out.body);
        each[r] = d;
        if (region.role == Role::Void) {
            out.body = std::max(out.body, -d);
            out.kept = std::max(out.kept, -d);
        } else {
            out.body = std::min(out.body, d);
            out.kept = region.role == Role::Keep ? std::min(out.kept, d) : std::max(out.kept, -d);
        }
    }
    return out;
}

RegionId RegionField::owner(const Vec3& p) const {
    RegionId out = RegionId::None;
    std::vector<bool> covered(regions_.size(), false);
    for (std::size_t r = 0; r < regions_.size(); ++r) {
        const FieldRegion& region = regions_[r];
        const bool solid = out != RegionId::None && (*this)[out].role != Role::Void;
        bool in = false;
        if (const Shape* shape = std::get_if<Shape>(&region.extent))
            in = contains(*shape, p, 0.0);
        else
            in = solid && distance(r, p) <= 0.0;
        if (in && !region.within.empty())
            in = std::any_of(region.inside_of.begin(), region.inside_of.end(),
                             [&](std::size_t other) { return covered[other]; });
        covered[r] = in;
        if (in) out = static_cast<RegionId>(r);
    }
    return out;
}

std::vector<Hole> RegionField::holes(const std::vector<std::string>& of, std::optional<double> radius) const {
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
    for (const FieldRegion& region : regions_) {
        const Shape* shape = std::get_if<Shape>(&region.extent);
        if (shape == nullptr || (!of.empty() && !refers_to(of, region.name))) continue;
        if (const Cylinder* c = std::get_if<Cylinder>(shape)) {
            if (region.role == Role::Void) add({c->from, c->to, c->radius});
            continue;
        }
        const Placed* placed = nullptr;
        const FacetBody* body = body_of(*shape, placed);
        if (body == nullptr || region.role == Role::Void) continue;
        for (const FacetFace& face : body->mesh().faces)
            if (face.kind == FaceKind::Cylinder && face.hole)
                add({out_of(placed, face.axis_from), out_of(placed, face.axis_to), face.radius});
    }
    return out;
}

void RegionField::find_rings() {
    for (std::size_t r = 0; r < regions_.size(); ++r) {
        const FieldRegion& region = regions_[r];
        const HoleRing* ring = std::get_if<HoleRing>(&region.extent);
        if (ring == nullptr) continue;
        const std::vector<Hole> found = holes(ring->around, ring->hole_radius);
        if (found.empty())
            throw Error::input(
                region.place, "the ring \"" + region.name + "\" finds no hole",
                "Name a void cylinder with around, or the radius of holes of a file with hole");
        for (const Hole& hole : found) find_ring_ends(r, *ring, hole);
        if (extents_.rings[r].empty())
            throw Error::input(region.place,
                               "the holes of the ring \"" + region.name + "\" lie outside of the body");
    }
}

// Where lines beside the hole's wall enter and leave the body.
void RegionField::find_ring_ends(std::size_t region, const HoleRing& ring, const Hole& hole) {
    const Vec3 axis = (hole.to - hole.from).normalized();
    const auto [u, v] = across(axis);
    const double margin = 2.0 * (ring.depth + hole.radius);
    const double length = (hole.to - hole.from).norm() + 2.0 * margin;
    const Vec3 start = hole.from - margin * axis;
    const double step = std::min(ring.depth, ring.width) / 6.0;
    std::vector<double> enter;
    std::vector<double> leave;
    for (int k = 0; k < 8; ++k) {
        const Vec3 side =
            (hole.radius + 0.5 * ring.width) * (std::cos(pi * k / 4) * u + std::sin(pi * k / 4) * v);
        const auto value = [&](double t) { return body_distance(region, start + side + t * axis); };
        const auto root = [&](double a, double b) {
            const bool low = value(a) < 0.0;
            for (int i = 0; i < 40; ++i) ((value(0.5 * (a + b)) < 0.0) == low ? a : b) = 0.5 * (a + b);
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
        extents_.rings[region].push_back(
            {mouth, mouth + sense * ring.depth * axis, hole.radius, hole.radius + ring.width});
    };
    add(enter, 1.0);
    add(leave, -1.0);
}

Space make_space(const Study& study) {
    Space out{study.units, study.mesh, RegionField(study), study.surfaces, study.symmetry, {}, 0};
    if (!study.mesh.frame.empty()) out.axis = study.frame(study.mesh.frame);
    if (study.form.sectors) out.sectors = study.form.sectors->count;
    return out;
}

} // namespace upright
