#include "part/solid/sheets.hpp"

#include "geometry/distance.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <memory>

namespace upright {

std::string_view word_of(Sheet::Kind kind) {
    switch (kind) {
    case Sheet::Kind::Plane:
        return "plane";
    case Sheet::Kind::Cylinder:
        return "cylinder";
    case Sheet::Kind::Cone:
        return "cone";
    case Sheet::Kind::Sphere:
        return "sphere";
    case Sheet::Kind::Field:
        break;
    }
    return "bent face";
}

double Sheet::value(const Vec3& p) const {
    const Vec3 off = p - at;
    switch (kind) {
    case Kind::Plane:
        return off.dot(axis);
    case Kind::Cylinder:
        return off.cross(axis).norm() - radius;
    case Kind::Cone:
        return (off.cross(axis).norm() - radius - growth * off.dot(axis)) / std::hypot(1.0, growth);
    case Kind::Sphere:
        return off.norm() - radius;
    case Kind::Field:
        if (with_slope) {
            Vec3 slope;
            const double v = with_slope(p, slope);
            return v / std::max(slope.norm(), least_slope);
        }
        return field(p);
    }
    return 0.0;
}

Vec3 Sheet::normal(const Vec3& p) const {
    const Vec3 off = p - at;
    const auto outward = [&] { return Vec3((off - axis * off.dot(axis)).normalized()); };
    switch (kind) {
    case Kind::Plane:
        return axis;
    case Kind::Cylinder:
        return outward();
    case Kind::Cone:
        return (outward() - growth * axis).normalized();
    case Kind::Sphere:
        return off.normalized();
    case Kind::Field: {
        if (with_slope) {
            Vec3 slope;
            with_slope(p, slope);
            const double size = slope.norm();
            return size > 0.0 ? Vec3(slope / size) : Vec3(Vec3::UnitZ());
        }
        const double step = radius; // of differences
        Vec3 out;
        for (int a = 0; a < 3; ++a)
            out[a] = field(p + step * Vec3::Unit(a)) - field(p - step * Vec3::Unit(a));
        const double size = out.norm();
        return size > 0.0 ? Vec3(out / size) : Vec3(Vec3::UnitZ());
    }
    }
    return Vec3::UnitZ();
}

double Sheet::value(const Vec3& p, Vec3& normal_there) const {
    if (kind != Kind::Field || !with_slope) {
        normal_there = normal(p);
        return value(p);
    }
    const double v = with_slope(p, normal_there);
    const double size = normal_there.norm();
    normal_there = size > 0.0 ? Vec3(normal_there / size) : Vec3(Vec3::UnitZ());
    return v / std::max(size, least_slope);
}

namespace {

// The number of a plane, cylinder or sphere among sheets, or -1.
std::int32_t alike(const std::vector<Sheet>& sheets, const Sheet& s, double near) {
    if (s.kind == Sheet::Kind::Field) return -1;
    for (std::size_t i = 0; i < sheets.size(); ++i) {
        const Sheet& known = sheets[i];
        if (known.kind != s.kind) continue;
        const bool along = std::abs(known.axis.dot(s.axis)) > 1.0 - 1e-12;
        const bool same_plane = s.kind == Sheet::Kind::Plane && along && std::abs(known.value(s.at)) < near;
        const bool as_large = std::abs(known.radius - s.radius) <= near;
        const bool same_cylinder = s.kind == Sheet::Kind::Cylinder && as_large && along &&
                                   Vec3(known.at - s.at).cross(s.axis).norm() < near;
        const bool same_sphere = s.kind == Sheet::Kind::Sphere && as_large && (known.at - s.at).norm() < near;
        if (same_plane || same_cylinder || same_sphere) return static_cast<std::int32_t>(i);
    }
    return -1;
}

class Collector {
  public:
    Collector(const RegionField& regions, double size) : regions_(regions), size_(size) {}

    void region(std::size_t r) {
        region_ = static_cast<std::int32_t>(r);
        const FieldRegion& region = regions_[r];
        if (const Shape* shape = std::get_if<Shape>(&region.extent)) {
            of_shape(*shape, 0.0, nullptr);
            return;
        }
        for (const Ring& ring : regions_.extents().rings[r]) {
            const Vec3 axis = (ring.to - ring.from).normalized();
            cylinder(ring.from, axis, ring.outer);
            cylinder(ring.from, axis, ring.inner);
            plane(ring.from, axis);
            plane(ring.to, axis);
        }
        const Skin* skin = std::get_if<Skin>(&region.extent);
        if (skin == nullptr) return;
        for (const std::size_t target : region.covers) {
            const Shape* shape = std::get_if<Shape>(&regions_[target].extent);
            // Inside of a body faces stay faces; outside of it edges become round, and all is one smooth
            // sheet.
            if (shape != nullptr && skin->into_body)
                of_shape(*shape, -skin->depth, nullptr);
            else
                field([regions = &regions_, target, d = skin->into_body ? -skin->depth : skin->depth](
                          const Vec3& p) { return regions->distance(target, p) - d; });
        }
        if (const auto& faces = regions_.extents().skins[r])
            field([faces, d = skin->depth](const Vec3& p) { return faces->nearest(p).distance - d; });
    }
    void plane(const Vec3& at, const Vec3& normal) {
        Sheet s;
        s.at = at;
        s.axis = normal.normalized();
        add(std::move(s));
    }
    std::vector<Sheet> take() {
        std::stable_sort(out_.begin(), out_.end(),
                         [](const Sheet& a, const Sheet& b) { return a.kind < b.kind; });
        return std::move(out_);
    }

  private:
    void add(Sheet s) {
        s.regions = {region_};
        const std::int32_t known = alike(out_, s, 1e-7 * size_);
        if (known < 0) {
            out_.push_back(std::move(s));
            return;
        }
        auto& regions = out_[static_cast<std::size_t>(known)].regions;
        if (regions.back() != region_) regions.push_back(region_);
    }
    void cylinder(const Vec3& at, const Vec3& axis, double radius) {
        if (!(radius > 0.0)) return;
        Sheet s;
        s.kind = Sheet::Kind::Cylinder;
        s.at = at;
        s.axis = axis;
        s.radius = radius;
        add(std::move(s));
    }
    void field(std::function<double(const Vec3&)> value) {
        Sheet s;
        s.kind = Sheet::Kind::Field;
        s.field = std::move(value);
        s.radius = 1e-3 * size_;
        add(std::move(s));
    }

    // The faces of a shape, moved outward by `grow`.
    void of_shape(const Shape& shape, double grow, const Placed* placed) {
        const auto to = [&](const Vec3& p) { return out_of(placed, p); };
        const auto way = [&](const Vec3& v) { return Vec3(placed == nullptr ? v : Vec3(placed->axes * v)); };
        const auto ends = [&](const Vec3& from, const Vec3& end) {
            const Vec3 axis = (end - from).normalized();
            plane(to(from - grow * axis), way(axis));
            plane(to(end + grow * axis), way(axis));
            return axis;
        };
        if (const Box* box = std::get_if<Box>(&shape)) {
            for (int a = 0; a < 3; ++a) {
                plane(to(box->low - grow * Vec3::Unit(a)), way(Vec3::Unit(a)));
                plane(to(box->high + grow * Vec3::Unit(a)), way(Vec3::Unit(a)));
            }
        } else if (const Cylinder* c = std::get_if<Cylinder>(&shape)) {
            const Vec3 axis = ends(c->from, c->to);
            cylinder(to(c->from), way(axis), c->radius + grow);
        } else if (const Cone* cone = std::get_if<Cone>(&shape)) {
            const Vec3 axis = ends(cone->from, cone->to);
            Sheet s;
            s.kind = Sheet::Kind::Cone;
            s.at = to(cone->from);
            s.axis = way(axis);
            s.growth = (cone->radius_to - cone->radius_from) / (cone->to - cone->from).norm();
            s.radius = cone->radius_from + grow * std::hypot(1.0, s.growth);
            add(std::move(s));
        } else if (const Sphere* ball = std::get_if<Sphere>(&shape)) {
            Sheet s;
            s.kind = Sheet::Kind::Sphere;
            s.at = to(ball->center);
            s.radius = ball->radius + grow;
            if (s.radius > 0.0) add(std::move(s));
        } else if (const Prism* prism = std::get_if<Prism>(&shape)) {
            const Vec3 axis = ends(prism->from, prism->to);
            const auto [u, v] = across(axis);
            double turn = 0.0;
            const std::size_t n = prism->polygon.size();
            for (std::size_t i = 0; i < n; ++i) {
                const Vec2& a = prism->polygon[i];
                const Vec2& b = prism->polygon[(i + 1) % n];
                turn += a.x() * b.y() - b.x() * a.y();
            }
            for (std::size_t i = 0; i < n; ++i) {
                const Vec2& a = prism->polygon[i];
                const Vec2 along = (prism->polygon[(i + 1) % n] - a).normalized();
                const Vec2 out = turn > 0.0 ? Vec2(along.y(), -along.x()) : Vec2(-along.y(), along.x());
                const Vec2 at = a + grow * out;
                plane(to(prism->from + at.x() * u + at.y() * v), way(out.x() * u + out.y() * v));
            }
        } else if (const HalfSpace* half = std::get_if<HalfSpace>(&shape)) {
            plane(to(half->point - grow * half->normal.normalized()), way(half->normal));
        } else if (const Outside* outside = std::get_if<Outside>(&shape)) {
            of_shape(outside->shape->shape, -grow, placed);
        } else if (const Placed* inner = std::get_if<Placed>(&shape)) {
            Placed both = *inner;
            if (placed != nullptr) {
                both.axes = placed->axes * inner->axes;
                both.origin = out_of(placed, inner->origin);
            }
            of_shape(inner->shape->shape, grow, &both);
        } else {
            of_body(shape, grow, placed);
        }
    }

    void of_body(const Shape& shape, double grow, const Placed* placed) {
        const Placed* inside = nullptr;
        const FacetBody* body = body_of(shape, inside);
        if (body == nullptr) return;
        bool rest = false;
        for (const FacetFace& face : body->mesh().faces) {
            if (face.kind == FaceKind::Plane) {
                const Vec3 n = face.normal.normalized();
                plane(out_of(placed, face.centroid + grow * n),
                      placed == nullptr ? n : Vec3(placed->axes * n));
            } else if (face.kind == FaceKind::Cylinder) {
                const Vec3 axis = (face.axis_to - face.axis_from).normalized();
                cylinder(out_of(placed, face.axis_from), placed == nullptr ? axis : Vec3(placed->axes * axis),
                         face.radius + (face.hole ? -grow : grow));
            } else {
                rest = true;
            }
        }
        if (!rest) return;
        const auto owned = placed == nullptr ? std::shared_ptr<Placed>() : std::make_shared<Placed>(*placed);
        field([body, owned, grow](const Vec3& p) {
            return body->signed_distance(into(owned.get(), p)) - grow;
        });
    }

    const RegionField& regions_;
    double size_;
    std::int32_t region_ = -1;
    std::vector<Sheet> out_;
};

} // namespace

std::vector<Sheet> sheets_of(const RegionField& regions, const std::vector<std::pair<int, double>>& symmetry,
                             double size) {
    Collector collector(regions, size);
    for (const auto& [axis, at] : symmetry) collector.plane(at * Vec3::Unit(axis), Vec3::Unit(axis));
    for (std::size_t r = 0; r < regions.size(); ++r) collector.region(r);
    return collector.take();
}

std::vector<std::int32_t> add_sheets_of(const FacetMesh& mesh, double size, double near,
                                        std::vector<Sheet>& sheets) {
    std::vector<std::vector<std::array<std::int32_t, 3>>> triangles(mesh.faces.size());
    for (std::size_t t = 0; t < mesh.triangles.size(); ++t)
        triangles[static_cast<std::size_t>(mesh.face_of[t])].push_back(mesh.triangles[t]);
    std::vector<std::int32_t> out;
    for (std::size_t f = 0; f < mesh.faces.size(); ++f) {
        const FacetFace& face = mesh.faces[f];
        Sheet s;
        s.kind = Sheet::Kind::Field;
        if (face.kind == FaceKind::Plane) {
            s.kind = Sheet::Kind::Plane;
            s.at = face.centroid;
            s.axis = face.normal.normalized();
        } else if (face.kind == FaceKind::Cylinder) {
            s.kind = Sheet::Kind::Cylinder;
            s.at = face.axis_from;
            s.axis = (face.axis_to - face.axis_from).normalized();
            s.radius = face.radius;
        }
        bool exact = s.kind != Sheet::Kind::Field;
        for (const auto& t : triangles[f])
            for (const std::int32_t n : t)
                exact = exact && std::abs(s.value(mesh.points[static_cast<std::size_t>(n)])) <= near;
        if (!exact) {
            s = Sheet();
            s.kind = Sheet::Kind::Field;
            s.radius = 1e-3 * size;
            s.least_slope = 1.0;
            s.with_slope = [tree = std::make_shared<const FacetTree>(mesh.points, triangles[f])](
                               const Vec3& p, Vec3& slope) {
                const FacetTree::Nearest there = tree->nearest(p);
                const auto& c = tree->corners()[static_cast<std::size_t>(there.triangle)];
                slope = (c[1] - c[0]).cross(c[2] - c[0]).normalized();
                return (p - there.place).dot(slope);
            };
        }
        std::int32_t known = alike(sheets, s, near);
        if (known < 0) {
            known = static_cast<std::int32_t>(sheets.size());
            sheets.push_back(std::move(s));
        }
        out.push_back(known);
    }
    return out;
}

} // namespace upright
