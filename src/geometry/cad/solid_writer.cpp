// Free triangles become curved ones (curved_triangle.hpp): each is a part of a square of the same degree each
// way, trimmed by three straight lines of its parameters.
#include "geometry/cad/solid_writer.hpp"

#include "base/edge_key.hpp"
#include "geometry/curved_triangle.hpp"

#include <BRepAdaptor_Surface.hxx>
#include <BRepBndLib.hxx>
#include <BRepCheck_Analyzer.hxx>
#include <BRepCheck_ListOfStatus.hxx>
#include <BRepCheck_Result.hxx>
#include <BRepGProp.hxx>
#include <BRepLib.hxx>
#include <BRep_Builder.hxx>
#include <BRep_Tool.hxx>
#include <Bnd_Box.hxx>
#include <GProp_GProps.hxx>
#include <Geom2d_BSplineCurve.hxx>
#include <GeomConvert.hxx>
#include <Geom_BSplineSurface.hxx>
#include <Geom_BezierCurve.hxx>
#include <Geom_BezierSurface.hxx>
#include <Geom_Circle.hxx>
#include <Geom_ConicalSurface.hxx>
#include <Geom_CylindricalSurface.hxx>
#include <Geom_Line.hxx>
#include <Geom_Plane.hxx>
#include <Geom_SphericalSurface.hxx>
#include <Interface_Static.hxx>
#include <Message.hxx>
#include <Message_Messenger.hxx>
#include <Message_Printer.hxx>
#include <STEPControl_Reader.hxx>
#include <STEPControl_Writer.hxx>
#include <ShapeBuild_ReShape.hxx>
#include <ShapeFix_Face.hxx>
#include <ShapeFix_Wire.hxx>
#include <Standard_Failure.hxx>
#include <TColStd_Array1OfInteger.hxx>
#include <TColStd_Array1OfReal.hxx>
#include <TColgp_Array1OfPnt.hxx>
#include <TColgp_Array1OfPnt2d.hxx>
#include <TColgp_Array2OfPnt.hxx>
#include <TopExp.hxx>
#include <TopExp_Explorer.hxx>
#include <TopTools_IndexedMapOfShape.hxx>
#include <TopoDS.hxx>
#include <TopoDS_Compound.hxx>
#include <TopoDS_Edge.hxx>
#include <TopoDS_Face.hxx>
#include <TopoDS_Shell.hxx>
#include <TopoDS_Solid.hxx>
#include <TopoDS_Vertex.hxx>
#include <TopoDS_Wire.hxx>
#include <gp_Ax3.hxx>
#include <gp_Circ.hxx>

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <map>
#include <optional>
#include <stdexcept>
#include <unordered_map>

namespace upright::cad {

namespace {

using Surface = Skin::Surface;
using Kind = Surface::Kind;

constexpr double pi_here = 3.14159265358979323846;
constexpr double crease = 45.0 * pi_here / 180.0;   // free faces that turn more meet in an edge
constexpr double steepest = 60.0 * pi_here / 180.0; // a curve may leave its chord by so much
constexpr double tangent = 0.2;                     // sine: faces that meet at less go on smoothly
constexpr std::size_t usual_degree = 5;             // of smooth faces
constexpr double close_enough = 1e-6;               // millimetres: of points to their surfaces

gp_Pnt pnt(const Vec3& p) {
    return {p.x(), p.y(), p.z()};
}
gp_Dir dir(const Vec3& v) {
    return {v.x(), v.y(), v.z()};
}
Vec3 vec(const gp_Pnt& p) {
    return {p.X(), p.Y(), p.Z()};
}

// The slope of the distance to a surface, of unit length.
Vec3 normal_at(const Surface& s, const Vec3& p) {
    if (s.kind == Kind::Plane) return s.axis;
    if (s.kind == Kind::Sphere) return (p - s.at).normalized();
    const Vec3 arm = p - s.at;
    const Vec3 out = (arm - arm.dot(s.axis) * s.axis).normalized();
    return s.kind == Kind::Cylinder ? out : Vec3(out - s.growth * s.axis).normalized();
}

// The handle at `from` of a curve towards `to` that leaves along the given direction: a circle's arc comes
// out as one to the fourth order.
Vec3 handle(const Vec3& from, const Vec3& to, Vec3 along) {
    const Vec3 chord = to - from;
    const double length = chord.norm();
    const double size = along.norm();
    if (!(size > 1e-9)) return from + chord / 3.0;
    along /= size;
    double cosine = along.dot(chord) / length;
    if (cosine < 0.0) {
        along = -along;
        cosine = -cosine;
    }
    if (cosine < std::cos(steepest)) return from + chord / 3.0;
    return from + along * (2.0 * length / (3.0 * (1.0 + cosine)));
}

class SolidWriter {
  public:
    explicit SolidWriter(const Skin& skin) : skin_(skin) {
        for (Vec3 p : skin.points) points_.push_back(skin.scale * p);
        surfaces_ = skin.surfaces;
        for (Surface& s : surfaces_) {
            s.at *= skin.scale;
            s.radius *= skin.scale;
        }
        find_edges();
        find_patches();
        find_normals();
        for (int pass = 0; pass < 5 && open_corners(); ++pass) {
            find_edges();
            find_patches();
            find_normals();
        }
        keep_volume();
    }

    TopoDS_Shape make() {
        degree_.assign(skin_.triangles.size(), usual_degree);
        tried_.assign(skin_.triangles.size(), 0);
        find_curved();
        for (int pass = 0; pass < 5 && straighten_folds(); ++pass) find_curved();
        if (!skin_.facets)
            while (find_bends()) {
            }
        make_chains();
        std::vector<std::vector<TopoDS_Face>> of_shell(shells_);
        for (std::size_t p = 0; p < patch_count_; ++p) of_shell[shell_of_patch(p)].push_back(face_of(p));
        return solids_of(of_shell);
    }

    // Of the places where patches meet smoothly: the largest angle, and the share within a degree.
    double bend() const { return bend_; }
    std::vector<StepResult::Place> take_places() { return std::move(places_); }
    double within_a_degree() const {
        return bends_ > 0 ? static_cast<double>(bends_small_) / static_cast<double>(bends_) : 1.0;
    }

  private:
    struct MeshEdge {
        std::int32_t from = 0, to = 0; // as the first triangle goes round
        std::int32_t first = -1, second = -1;
        bool straight = false; // whatever the faces beside it are
    };
    struct Chain {
        TopoDS_Edge edge;
        std::size_t left = 0, right = 0; // patches: along it is as `left` goes round
    };

    // The other triangle of an edge.
    static std::size_t beyond(const MeshEdge& edge, std::size_t t) {
        return static_cast<std::size_t>(edge.first == static_cast<std::int32_t>(t) ? edge.second
                                                                                   : edge.first);
    }
    bool is_free(std::size_t t) const { return skin_.surface_of[t] < 0; }
    Vec3 corner(std::size_t t, std::size_t k) const {
        return points_[static_cast<std::size_t>(skin_.triangles[t][k])];
    }
    Vec3 facet(std::size_t t) const {
        return Vec3(corner(t, 1) - corner(t, 0)).cross(corner(t, 2) - corner(t, 0));
    }

    void find_edges() {
        edges_.clear();
        by_key_.clear();
        edge_of_.resize(skin_.triangles.size());
        for (std::size_t t = 0; t < skin_.triangles.size(); ++t)
            for (std::size_t k = 0; k < 3; ++k) {
                const std::int32_t a = skin_.triangles[t][k];
                const std::int32_t b = skin_.triangles[t][(k + 1) % 3];
                const auto [at, fresh] = by_key_.emplace(edge_key(a, b), edges_.size());
                if (fresh) {
                    edges_.push_back({a, b, static_cast<std::int32_t>(t), -1});
                } else {
                    MeshEdge& e = edges_[at->second];
                    if (e.second >= 0 || e.from != b)
                        throw std::runtime_error(
                            "the part touches itself along an edge, which a solid cannot");
                    e.second = static_cast<std::int32_t>(t);
                }
                edge_of_[t][k] = at->second;
            }
        for (const MeshEdge& e : edges_)
            if (e.second < 0) throw std::runtime_error("the part's skin is not closed");
    }

    // Neighbours on one exact surface are a patch, every free triangle is one; and what hangs together.
    void find_patches() {
        const std::size_t n = skin_.triangles.size();
        patch_count_ = shells_ = 0;
        members_.clear();
        patch_.assign(n, n);
        shell_.assign(n, n);
        const auto flood = [&](std::vector<std::size_t>& of, std::size_t seed, std::size_t number,
                               bool patch) {
            std::vector<std::size_t> stack{seed};
            of[seed] = number;
            while (!stack.empty()) {
                const std::size_t t = stack.back();
                stack.pop_back();
                if (patch && is_free(t)) continue;
                for (const std::size_t e : edge_of_[t]) {
                    const MeshEdge& edge = edges_[e];
                    const auto o = beyond(edge, t);
                    if (of[o] != n || (patch && skin_.surface_of[o] != skin_.surface_of[t])) continue;
                    of[o] = number;
                    stack.push_back(o);
                }
            }
        };
        for (std::size_t t = 0; t < n; ++t) {
            if (patch_[t] == n) flood(patch_, t, patch_count_++, true);
            if (shell_[t] == n) flood(shell_, t, shells_++, false);
        }
        members_.resize(patch_count_);
        for (std::size_t t = 0; t < n; ++t) members_[patch_[t]].push_back(t);
    }
    std::size_t sample(std::size_t p) const { return members_[p].front(); }
    std::size_t shell_of_patch(std::size_t p) const { return shell_[sample(p)]; }
    const Surface* surface_of(std::size_t patch) const {
        const std::int32_t s = skin_.surface_of[sample(patch)];
        return s < 0 ? nullptr : &surfaces_[static_cast<std::size_t>(s)];
    }

    // Of the free surface at the corners of its triangles, weighted by angles: of all triangles that are
    // reached round the point without a crease.
    void find_normals() {
        normal_.assign(skin_.triangles.size(), {Vec3::Zero(), Vec3::Zero(), Vec3::Zero()});
        std::vector<std::array<bool, 3>> known(skin_.triangles.size(), {false, false, false});
        std::vector<std::pair<std::size_t, std::size_t>> fan; // triangles and their corners at the point
        for (std::size_t t = 0; t < skin_.triangles.size(); ++t)
            for (std::size_t k = 0; k < 3; ++k) {
                if (!is_free(t) || known[t][k]) continue;
                const std::int32_t point = skin_.triangles[t][k];
                fan.assign(1, {t, k});
                known[t][k] = true;
                Vec3 sum = Vec3::Zero();
                const Surface* exact = nullptr; // that the fan ends at
                for (std::size_t i = 0; i < fan.size(); ++i) {
                    const auto [own, at] = fan[i];
                    const Vec3 u = (corner(own, (at + 1) % 3) - corner(own, at)).normalized();
                    const Vec3 v = (corner(own, (at + 2) % 3) - corner(own, at)).normalized();
                    sum += std::acos(std::clamp(u.dot(v), -1.0, 1.0)) * facet(own).normalized();
                    for (const std::size_t side : {at, (at + 2) % 3}) { // those that meet there
                        const MeshEdge& edge = edges_[edge_of_[own][side]];
                        const auto next = beyond(edge, own);
                        if (!is_free(next))
                            exact = &surfaces_[static_cast<std::size_t>(skin_.surface_of[next])];
                        if (!smooth_across(edge)) continue;
                        const auto& corners = skin_.triangles[next];
                        const auto there = static_cast<std::size_t>(
                            std::find(corners.begin(), corners.end(), point) - corners.begin());
                        if (known[next][there]) continue;
                        known[next][there] = true;
                        fan.emplace_back(next, there);
                    }
                }
                if (sum.norm() > 0.0) sum.normalize();
                if (exact != nullptr) {
                    const Vec3 n = normal_at(*exact, points_[static_cast<std::size_t>(point)]);
                    if (n.cross(sum).norm() < tangent) sum = n.dot(sum) < 0.0 ? Vec3(-n) : n;
                }
                for (const auto& [own, at] : fan) normal_[own][at] = sum;
            }
    }
    Vec3 free_normal(std::int32_t triangle, std::int32_t point) const {
        const auto t = static_cast<std::size_t>(triangle);
        for (std::size_t k = 0; k < 3; ++k)
            if (skin_.triangles[t][k] == point) return normal_[t][k];
        return Vec3::Zero();
    }

    const TopoDS_Vertex& vertex(std::int32_t p) {
        TopoDS_Vertex& v = vertices_[p];
        if (v.IsNull()) builder_.MakeVertex(v, pnt(points_[static_cast<std::size_t>(p)]), close_enough);
        return v;
    }

    std::size_t patch_at(std::int32_t t) const { return patch_[static_cast<std::size_t>(t)]; }

    // Mesh edges between patches; those between two exact ones in a row on a line or a circle become one.
    void make_chains() {
        chain_of_.assign(edges_.size(), none);
        std::unordered_map<std::int32_t, std::vector<std::size_t>> at; // border edges at each point
        for (std::size_t e = 0; e < edges_.size(); ++e) {
            const MeshEdge& edge = edges_[e];
            if (patch_at(edge.first) == patch_at(edge.second)) continue;
            at[edge.from].push_back(e);
            at[edge.to].push_back(e);
        }
        const auto pair_of = [&](std::size_t e) {
            return std::minmax(patch_at(edges_[e].first), patch_at(edges_[e].second));
        };
        for (std::size_t e = 0; e < edges_.size(); ++e) {
            const MeshEdge& edge = edges_[e];
            if (patch_at(edge.first) == patch_at(edge.second) || chain_of_[e] != none) continue;
            const Surface* a = beside(edge.first);
            const Surface* b = beside(edge.second);
            std::optional<gp_Circ> circle;
            if (a != nullptr && b != nullptr) circle = circle_of(*a, *b);
            const bool line = a != nullptr && b != nullptr && straight(*a, *b);
            std::vector<std::int32_t> walk{edge.from, edge.to};
            std::vector<std::size_t> members{e};
            if (circle || line) {
                const auto extend = [&](bool forward) {
                    while (true) {
                        const std::int32_t end = forward ? walk.back() : walk.front();
                        const std::vector<std::size_t>& here = at[end];
                        if (here.size() != 2) return;
                        const std::size_t last = forward ? members.back() : members.front();
                        const std::size_t next = here[0] == last ? here[1] : here[0];
                        if (next == e || pair_of(next) != pair_of(e)) return;
                        const std::int32_t beyond =
                            edges_[next].from == end ? edges_[next].to : edges_[next].from;
                        if (forward) {
                            members.push_back(next);
                            walk.push_back(beyond);
                        } else {
                            members.insert(members.begin(), next);
                            walk.insert(walk.begin(), beyond);
                        }
                        if (walk.front() == walk.back()) return;
                    }
                };
                extend(true);
                if (walk.front() != walk.back()) extend(false);
            }
            Chain chain;
            chain.left = patch_at(edge.first);
            chain.right = patch_at(edge.second);
            if (circle) {
                chain.edge = on_circle(*circle, walk);
            } else if (line) {
                chain.edge = on_line(walk);
            } else {
                chain.edge = bends(a, b) ? on_cubic(edge, cubic_of(edge)) : on_line(walk);
            }
            for (const std::size_t m : members) chain_of_[m] = chains_.size();
            chains_.push_back(std::move(chain));
        }
    }

    static bool straight(const Surface& a, const Surface& b) {
        if (a.kind == Kind::Plane && b.kind == Kind::Plane) return true;
        const Surface* plane = a.kind == Kind::Plane ? &a : b.kind == Kind::Plane ? &b : nullptr;
        const Surface& other = plane == &a ? b : a;
        if (plane != nullptr)
            return other.kind == Kind::Cylinder && std::abs(plane->axis.dot(other.axis)) < 1e-9;
        return a.kind == Kind::Cylinder && b.kind == Kind::Cylinder && a.axis.cross(b.axis).norm() < 1e-9;
    }

    static std::optional<gp_Circ> circle_of(const Surface& a, const Surface& b) {
        const Surface* plane = a.kind == Kind::Plane ? &a : b.kind == Kind::Plane ? &b : nullptr;
        if (plane == nullptr) return {};
        const Surface& other = plane == &a ? b : a;
        if (other.kind == Kind::Plane) return {};
        Vec3 center = other.at;
        double radius = other.radius;
        if (other.kind == Kind::Sphere) {
            const double off = (plane->at - other.at).dot(plane->axis);
            if (!(radius > std::abs(off))) return {};
            center += off * plane->axis;
            radius = std::sqrt(radius * radius - off * off);
        } else {
            if (other.axis.cross(plane->axis).norm() > 1e-9) return {};
            const double along = (plane->at - other.at).dot(plane->axis) / other.axis.dot(plane->axis);
            center += along * other.axis;
            radius += along * other.growth;
            if (!(radius > 0.0)) return {};
        }
        return gp_Circ(gp_Ax2(pnt(center), dir(plane->axis)), radius);
    }

    // Points in a row on a circle; a whole one where the last is the first.
    TopoDS_Edge on_circle(gp_Circ circle, const std::vector<std::int32_t>& walk) {
        const Vec3 center = vec(circle.Location());
        const Vec3 z(circle.Axis().Direction().X(), circle.Axis().Direction().Y(),
                     circle.Axis().Direction().Z());
        const Vec3 first = points_[static_cast<std::size_t>(walk[0])] - center;
        const Vec3 second = points_[static_cast<std::size_t>(walk[1])] - center;
        // So that the walk goes the way that the parameter does.
        const Vec3 axis = first.cross(second).dot(z) > 0.0 ? z : Vec3(-z);
        const Vec3 x = (first - first.dot(axis) * axis).normalized();
        const Vec3 y = axis.cross(x);
        circle.SetPosition(gp_Ax2(pnt(center), dir(axis), dir(x)));
        double end = 2.0 * pi_here;
        const bool closed = walk.front() == walk.back();
        if (!closed) {
            const Vec3 last = points_[static_cast<std::size_t>(walk.back())] - center;
            end = std::atan2(last.dot(y), last.dot(x));
            if (end <= 0.0) end += 2.0 * pi_here;
        }
        TopoDS_Edge out;
        builder_.MakeEdge(out, new Geom_Circle(circle), close_enough);
        builder_.Add(out, vertex(walk.front()).Oriented(TopAbs_FORWARD));
        builder_.Add(out, vertex(walk.back()).Oriented(TopAbs_REVERSED));
        builder_.Range(out, 0.0, end);
        return out;
    }

    TopoDS_Edge on_line(const std::vector<std::int32_t>& walk) {
        const Vec3 a = points_[static_cast<std::size_t>(walk.front())];
        const Vec3 b = points_[static_cast<std::size_t>(walk.back())];
        TopoDS_Edge out;
        builder_.MakeEdge(out, new Geom_Line(pnt(a), dir(b - a)), close_enough);
        builder_.Add(out, vertex(walk.front()).Oriented(TopAbs_FORWARD));
        builder_.Add(out, vertex(walk.back()).Oriented(TopAbs_REVERSED));
        builder_.Range(out, 0.0, (b - a).norm());
        return out;
    }

    const Surface* beside(std::int32_t triangle) const { return surface_of(patch_at(triangle)); }

    // Of an exact face; free ones have no surface.
    static bool is_round(const Surface* s) { return s != nullptr && s->kind != Kind::Plane; }
    // Whether the edge between two faces may be a curve: flat facets have straight ones.
    bool bends(const Surface* a, const Surface* b) const {
        return !skin_.facets || is_round(a) || is_round(b);
    }
    // The curve of an edge that is no line and no circle.
    Cubic cubic_of(const MeshEdge& edge) const {
        const Surface* a = beside(edge.first);
        const Surface* b = beside(edge.second);
        const Vec3 from = points_[static_cast<std::size_t>(edge.from)];
        const Vec3 to = points_[static_cast<std::size_t>(edge.to)];
        const Cubic straight_one{from, (2.0 * from + to) / 3.0, (from + 2.0 * to) / 3.0, to};
        const Surface* exact = a != nullptr ? a : b;
        if (!bends(a, b) || edge.straight) return straight_one;
        const bool fold = exact == nullptr && turn(edge) >= crease;
        const auto along = [&](std::int32_t p, const Vec3& chord) -> Vec3 {
            const Vec3& place = points_[static_cast<std::size_t>(p)];
            if (a != nullptr && b != nullptr) return normal_at(*a, place).cross(normal_at(*b, place));
            const Vec3 free = free_normal(a == nullptr ? edge.first : edge.second, p);
            if (exact == nullptr && !fold) return chord - chord.dot(free) * free;
            const Vec3 n = fold ? free_normal(edge.second, p) : normal_at(*exact, place);
            const Vec3 both = n.cross(free);
            // Where a fold ends both sides have one tangent plane.
            const Vec3 flat = fold && both.norm() > tangent ? chord : Vec3(chord - chord.dot(n) * n);
            if (skin_.facets) return flat;
            // Where the two are almost the same surface the chord tells the way.
            return both.norm() > tangent && std::abs(both.normalized().dot(flat.normalized())) > 0.7 ? both
                                                                                                     : flat;
        };
        const Cubic bent{from, handle(from, to, along(edge.from, to - from)),
                         handle(to, from, along(edge.to, from - to)), to};
        return (bent.b - straight_one.b).norm() + (bent.c - straight_one.c).norm() < 1e-9 * (to - from).norm()
                   ? straight_one
                   : bent;
    }

    TopoDS_Edge on_cubic(const MeshEdge& edge, const Cubic& cubic) {
        TopoDS_Edge out;
        TColgp_Array1OfPnt poles(1, 4);
        poles(1) = pnt(cubic.a);
        poles(2) = pnt(cubic.b);
        poles(3) = pnt(cubic.c);
        poles(4) = pnt(cubic.d);
        const Handle(Geom_BezierCurve) bezier = new Geom_BezierCurve(poles);
        builder_.MakeEdge(out, GeomConvert::CurveToBSplineCurve(bezier), close_enough);
        builder_.Add(out, vertex(edge.from).Oriented(TopAbs_FORWARD));
        builder_.Add(out, vertex(edge.to).Oriented(TopAbs_REVERSED));
        builder_.Range(out, 0.0, 1.0);
        return out;
    }

    // A round border that bulges into a thin corner of a triangle crosses its other side: that side becomes
    // the other diagonal of the two triangles at it, where that opens the corner. Whether any was turned.
    bool open_corners() {
        constexpr double narrow = 12.0 * pi_here / 180.0;
        std::vector<char> taken(skin_.triangles.size(), 0);
        bool any = false;
        const auto way = [&](std::int32_t from, std::int32_t to) -> Vec3 {
            const auto known = by_key_.find(edge_key(from, to));
            if (known == by_key_.end())
                return points_[static_cast<std::size_t>(to)] - points_[static_cast<std::size_t>(from)];
            const Cubic c = cubic_of(edges_[known->second]);
            return edges_[known->second].from == from ? Vec3(c.b - c.a) : Vec3(c.c - c.d);
        };
        // The least angle of a triangle between its sides as they leave the corners; below zero where they
        // cross.
        const auto least = [&](const std::array<std::int32_t, 3>& t, const Vec3& n) {
            double out = pi_here;
            for (std::size_t k = 0; k < 3; ++k) {
                const Vec3 u = way(t[k], t[(k + 1) % 3]);
                const Vec3 v = way(t[k], t[(k + 2) % 3]);
                out = std::min(out, std::atan2(n.dot(u.cross(v)), u.dot(v)));
            }
            return out;
        };
        for (std::size_t t = 0; t < skin_.triangles.size(); ++t) {
            if (!is_free(t) || taken[t] != 0) continue;
            bool round = false;
            for (const std::size_t e : edge_of_[t])
                for (const Surface* s : {beside(edges_[e].first), beside(edges_[e].second)})
                    round = round || is_round(s);
            if (!round || least(skin_.triangles[t], facet(t).normalized()) >= narrow) continue;
            double best = -pi_here;
            std::size_t other = t;
            std::array<std::int32_t, 3> one{}, two{};
            for (std::size_t k = 0; k < 3; ++k) {
                const MeshEdge& edge = edges_[edge_of_[t][k]];
                if (!smooth_across(edge)) continue;
                const auto o = beyond(edge, t);
                if (taken[o] != 0) continue;
                const std::int32_t a = skin_.triangles[t][k];
                const std::int32_t b = skin_.triangles[t][(k + 1) % 3];
                const std::int32_t c = skin_.triangles[t][(k + 2) % 3];
                std::int32_t d = -1;
                for (const std::int32_t p : skin_.triangles[o])
                    if (p != a && p != b) d = p;
                if (by_key_.count(edge_key(c, d)) > 0) continue;
                const Vec3 n = (facet(t).normalized() + facet(o).normalized()).normalized();
                const double before = std::min(least(skin_.triangles[t], n), least(skin_.triangles[o], n));
                const double after = std::min(least({c, a, d}, n), least({d, b, c}, n));
                if (after <= before || after <= best) continue;
                best = after;
                other = o;
                one = {c, a, d};
                two = {d, b, c};
            }
            if (other == t) continue;
            skin_.triangles[t] = one;
            skin_.triangles[other] = two;
            // Edges are those of before until all are found anew: neighbours wait for the next pass.
            for (const std::size_t changed : {t, other})
                for (const std::size_t e : edge_of_[changed])
                    taken[static_cast<std::size_t>(edges_[e].first)] =
                        taken[static_cast<std::size_t>(edges_[e].second)] = 1;
            any = true;
        }
        return any;
    }

    // Curved faces through points of the free surface enclose more or less than the facets, by which the part
    // is weighed: the points that lie on no exact face go in or out alike by what keeps the volume.
    void keep_volume() {
        if (skin_.facets) return;
        std::vector<char> held(points_.size(), 0);
        std::vector<Vec3> outward(points_.size(), Vec3::Zero());
        for (std::size_t t = 0; t < skin_.triangles.size(); ++t)
            for (std::size_t k = 0; k < 3; ++k) {
                const auto p = static_cast<std::size_t>(skin_.triangles[t][k]);
                if (is_free(t))
                    outward[p] += normal_[t][k];
                else
                    held[p] = 1;
            }
        for (Vec3& n : outward)
            if (n.norm() > 0.0) n.normalize();
        double more = 0.0; // volume between faces and facets, to first order
        double area = 0.0; // that of the facets which moving points take along
        for (std::size_t t = 0; t < skin_.triangles.size(); ++t) {
            if (!is_free(t)) continue;
            const CurvedTriangle own(sides_of(t));
            Vec3 mean = Vec3::Zero(); // of the control points, as of the face
            for (std::size_t i = 0; i <= 3; ++i)
                for (std::size_t j = 0; i + j <= 3; ++j) mean += 0.1 * own.at(i, j);
            const Vec3 center = (corner(t, 0) + corner(t, 1) + corner(t, 2)) / 3.0;
            const Vec3 n = 0.5 * facet(t);
            more += (mean - center).dot(n);
            for (const std::int32_t p : skin_.triangles[t])
                if (held[static_cast<std::size_t>(p)] == 0)
                    area += outward[static_cast<std::size_t>(p)].dot(n) / 3.0;
        }
        if (!(area > 0.0)) return;
        for (std::size_t p = 0; p < points_.size(); ++p)
            if (held[p] == 0) points_[p] -= more / area * outward[p];
        find_normals();
    }

    TopoDS_Face face_of(std::size_t p) {
        const Surface* s = surface_of(p);
        if (s == nullptr) return free_face(sample(p));
        return exact_face(p, *s);
    }

    // The chain at a side of a triangle, in the direction in which the triangle goes round.
    TopoDS_Edge side(std::size_t t, std::size_t k) const {
        const Chain& chain = chains_[chain_of_[edge_of_[t][k]]];
        return TopoDS::Edge(chain.edge.Oriented(chain.left == patch_[t] ? TopAbs_FORWARD : TopAbs_REVERSED));
    }

    // The sides of a triangle as it goes round.
    std::array<Cubic, 3> sides_of(std::size_t t) const {
        std::array<Cubic, 3> out;
        for (std::size_t k = 0; k < 3; ++k) {
            const MeshEdge& edge = edges_[edge_of_[t][k]];
            const Cubic c = cubic_of(edge);
            out[k] = edge.first == static_cast<std::int32_t>(t) ? c : c.reversed();
        }
        return out;
    }
    static bool is_flat(const std::array<Cubic, 3>& sides) {
        bool out = true;
        for (const Cubic& c : sides) {
            const double off =
                (c.b - (2.0 * c.a + c.d) / 3.0).norm() + (c.c - (c.a + 2.0 * c.d) / 3.0).norm();
            out = out && off < 1e-9 * (c.d - c.a).norm();
        }
        return out;
    }

    // Whether patches meet smoothly across a mesh edge.
    bool smooth_across(const MeshEdge& e) const {
        const auto first = static_cast<std::size_t>(e.first);
        const auto second = static_cast<std::size_t>(e.second);
        return is_free(first) && is_free(second) && turn(e) < crease;
    }
    double turn(const MeshEdge& e) const {
        return std::acos(std::clamp(facet(static_cast<std::size_t>(e.first))
                                        .normalized()
                                        .dot(facet(static_cast<std::size_t>(e.second)).normalized()),
                                    -1.0, 1.0));
    }

    bool runs_forward(std::size_t t, std::size_t k) const {
        return edges_[edge_of_[t][k]].first == static_cast<std::int32_t>(t);
    }
    std::size_t side_of(std::int32_t triangle, std::size_t edge) const {
        const auto& sides = edge_of_[static_cast<std::size_t>(triangle)];
        return static_cast<std::size_t>(std::find(sides.begin(), sides.end(), edge) - sides.begin());
    }

    // All PN triangles of the free surface.
    void find_curved() {
        curved_.assign(skin_.triangles.size(), {});
        for (std::size_t t = 0; t < skin_.triangles.size(); ++t)
            if (is_free(t)) curved_[t].emplace(sides_of(t));
    }

    // The mean of the normals of both PN triangles at a place of a smooth edge, as it runs.
    Vec3 shared_normal(std::size_t e, double s) const {
        const MeshEdge& edge = edges_[e];
        const Vec3 n =
            curved_[static_cast<std::size_t>(edge.first)]->normal(side_of(edge.first, e), s) +
            curved_[static_cast<std::size_t>(edge.second)]->normal(side_of(edge.second, e), 1.0 - s);
        return n.norm() > 0.0 ? Vec3(n.normalized()) : Vec3::Zero();
    }

    // With the normals on its smooth sides that the neighbours have too.
    CurvedTriangle patch_of(std::size_t t) const {
        CurvedTriangle out = curved_[t]->raised(degree_[t]);
        std::vector<CurvedTriangle::Asked> asked;
        for (std::size_t k = 0; k < 3; ++k) {
            const MeshEdge& edge = edges_[edge_of_[t][k]];
            if (!smooth_across(edge) || edge.straight) continue;
            const std::size_t parts = degree_[t] - 2;
            for (std::size_t i = 1; i < parts; ++i) {
                const double s = static_cast<double>(i) / static_cast<double>(parts);
                const Vec3 n = shared_normal(edge_of_[t][k], runs_forward(t, k) ? s : 1.0 - s);
                if (n.allFinite() && n.norm() > 0.0) asked.push_back({k, s, n});
            }
        }
        out.meet(asked);
        return out;
    }

    // Whether a face folds over itself at one of its sides.
    bool folds(std::size_t t, const CurvedTriangle& patch) const {
        constexpr double standing = 0.34; // cosine: of the face's normal to the facet's
        const Vec3 n = facet(t).normalized();
        for (std::size_t k = 0; k < 3; ++k)
            for (const double s : {0.0625, 0.125, 0.25, 0.375, 0.5, 0.625, 0.75, 0.875, 0.9375})
                if (!(patch.normal(k, s).dot(n) > standing)) return true;
        return false;
    }

    // Curved sides of a needle may cross, and its face folds over itself: its sides become straight, but
    // those along exact faces that are round. Whether there was any.
    bool straighten_folds() {
        bool any = false;
        for (std::size_t t = 0; t < skin_.triangles.size(); ++t) {
            if (!is_free(t) || is_flat(sides_of(t)) || !folds(t, patch_of(t))) continue;
            for (const std::size_t e : edge_of_[t]) {
                MeshEdge& edge = edges_[e];
                if (edge.straight || is_round(beside(edge.first)) || is_round(beside(edge.second))) continue;
                edge.straight = any = true;
            }
        }
        return any;
    }

    // The part u, v, u + v <= 1 of a square of the same degree each way.
    TopoDS_Face free_face(std::size_t t) {
        TopoDS_Face out;
        TopoDS_Wire wire;
        builder_.MakeWire(wire);
        if (skin_.facets && is_flat(sides_of(t))) {
            const Vec3 n = facet(t).normalized();
            builder_.MakeFace(
                out, new Geom_Plane(gp_Ax3(pnt(corner(t, 0)), dir(n), dir(corner(t, 1) - corner(t, 0)))),
                close_enough);
            for (std::size_t k = 0; k < 3; ++k) builder_.Add(wire, side(t, k));
            wire.Closed(true);
            builder_.Add(out, wire);
            note_places(t, [&](double u, double v) {
                return Vec3(corner(t, 0) + u * (corner(t, 1) - corner(t, 0)) +
                            v * (corner(t, 2) - corner(t, 0)));
            });
            return out;
        }
        const CurvedTriangle patch = patch_of(t);
        note_places(t, [&](double u, double v) { return patch.point(u, v); });
        const auto wide = static_cast<int>(patch.degree()) + 1;
        TColgp_Array2OfPnt poles(1, wide, 1, wide);
        const std::vector<Vec3> square = patch.square();
        for (int i = 0; i < wide; ++i)
            for (int j = 0; j < wide; ++j)
                poles(i + 1, j + 1) = pnt(square[static_cast<std::size_t>(i * wide + j)]);
        const Handle(Geom_BezierSurface) bezier = new Geom_BezierSurface(poles);
        builder_.MakeFace(out, GeomConvert::SurfaceToBSplineSurface(bezier), close_enough);
        // Sides in the parameters: (0, 0) to (1, 0), on to (0, 1) and back, as their cubics run.
        const std::array<gp_Pnt2d, 3> corners{gp_Pnt2d(0, 0), gp_Pnt2d(1, 0), gp_Pnt2d(0, 1)};
        for (std::size_t k = 0; k < 3; ++k) {
            const TopoDS_Edge edge = side(t, k);
            const bool along = edge.Orientation() == TopAbs_FORWARD;
            TColgp_Array1OfPnt2d line(1, 2);
            line(1) = corners[along ? k : (k + 1) % 3];
            line(2) = corners[along ? (k + 1) % 3 : k];
            TColStd_Array1OfReal knots(1, 2);
            TColStd_Array1OfInteger times(1, 2);
            knots(1) = 0.0;
            knots(2) = 1.0;
            times(1) = times(2) = 2;
            builder_.UpdateEdge(edge, new Geom2d_BSplineCurve(line, knots, times, 1), out, close_enough);
            builder_.Range(edge, out, 0.0, 1.0);
            builder_.Add(wire, edge);
        }
        wire.Closed(true);
        builder_.Add(out, wire);
        return out;
    }

    // Middle, sides' middles and between them and the corners, of a face by its parameters.
    template <class At> void note_places(std::size_t t, const At& at) {
        constexpr double s = 1.0 / 6.0;
        constexpr std::array<std::array<double, 2>, 7> where{
            {{1.0 / 3.0, 1.0 / 3.0}, {s, s}, {4.0 * s, s}, {s, 4.0 * s}, {0.5, 0.5}, {0.0, 0.5}, {0.5, 0.0}}};
        for (const auto& [u, v] : where)
            places_.push_back({static_cast<std::int32_t>(t), at(u, v) / skin_.scale});
    }

    // Where patches meet smoothly: the angles between their normals. Those of edges where it is too large get
    // a higher degree, with more normals in common, where that makes no folds. Whether any did.
    bool find_bends() {
        constexpr std::size_t parts = 24; // places looked at are between these
        std::vector<std::array<std::array<Vec3, parts - 1>, 2>> normals(edges_.size());
        for (std::size_t t = 0; t < skin_.triangles.size(); ++t) {
            if (!is_free(t)) continue;
            const CurvedTriangle patch = patch_of(t);
            for (std::size_t k = 0; k < 3; ++k)
                for (std::size_t i = 1; i < parts; ++i) {
                    const std::size_t at = runs_forward(t, k) ? i : parts - i;
                    normals[edge_of_[t][k]][runs_forward(t, k) ? 0 : 1][at - 1] =
                        patch.normal(k, static_cast<double>(i) / static_cast<double>(parts));
                }
        }
        bend_ = 0.0;
        bends_ = bends_small_ = 0;
        bool any = false;
        for (std::size_t e = 0; e < edges_.size(); ++e) {
            const MeshEdge& edge = edges_[e];
            if (!smooth_across(edge)) continue;
            bool small = true;
            for (std::size_t i = 0; i + 1 < parts; ++i) {
                const double angle =
                    std::acos(std::clamp(normals[e][0][i].dot(normals[e][1][i]), -1.0, 1.0)) * 180.0 /
                    pi_here;
                bend_ = std::max(bend_, angle);
                small = small && angle <= 1.0;
                bends_small_ += angle <= 1.0 ? 1 : 0;
                ++bends_;
            }
            for (const std::int32_t t : {edge.first, edge.second}) {
                const auto own = static_cast<std::size_t>(t);
                if (small || tried_[own] != 0) continue;
                tried_[own] = 1;
                degree_[own] = CurvedTriangle::most;
                if (folds(own, patch_of(own)))
                    degree_[own] = usual_degree;
                else
                    any = true;
            }
        }
        return any;
    }

    // The loops round a patch, each a list of chains in the direction in which the patch goes round.
    std::vector<std::vector<TopoDS_Edge>> loops_of(std::size_t p) {
        // From each border side to the next one: round its end through triangles of the patch.
        std::map<std::pair<std::size_t, std::size_t>, bool> open; // (triangle, side) not yet taken
        for (const std::size_t t : members_[p])
            for (std::size_t k = 0; k < 3; ++k)
                if (chain_of_[edge_of_[t][k]] != none) open[{t, k}] = true;
        const auto next_of = [&](std::pair<std::size_t, std::size_t> at) {
            auto [t, k] = at;
            k = (k + 1) % 3;
            while (chain_of_[edge_of_[t][k]] == none) {
                const MeshEdge& e = edges_[edge_of_[t][k]];
                const auto o = beyond(e, t);
                k = (side_of(static_cast<std::int32_t>(o), edge_of_[t][k]) + 1) % 3;
                t = o;
            }
            return std::pair{t, k};
        };
        std::vector<std::vector<TopoDS_Edge>> out;
        while (!open.empty()) {
            std::vector<TopoDS_Edge> loop;
            std::vector<std::size_t> chains;
            auto at = open.begin()->first;
            while (open.erase(at) > 0) {
                const std::size_t chain = chain_of_[edge_of_[at.first][at.second]];
                if (chains.empty() || chains.back() != chain) {
                    chains.push_back(chain);
                    loop.push_back(side(at.first, at.second));
                }
                at = next_of(at);
            }
            // It may have begun in the middle of a chain.
            if (chains.size() > 1 && chains.front() == chains.back()) loop.pop_back();
            out.push_back(std::move(loop));
        }
        return out;
    }

    TopoDS_Face exact_face(std::size_t p, const Surface& s) {
        const std::size_t t = sample(p);
        const Vec3 outward = facet(t).normalized();
        const Vec3 middle = (corner(t, 0) + corner(t, 1) + corner(t, 2)) / 3.0;
        bool turned = false; // the surface's own normal points inwards
        Handle(Geom_Surface) surface;
        const auto axes = [&](const Vec3& z) {
            Vec3 x = z.unitOrthogonal();
            return gp_Ax3(pnt(s.at), dir(z), dir(x));
        };
        switch (s.kind) {
        case Kind::Plane:
            surface = new Geom_Plane(axes(s.axis.dot(outward) > 0.0 ? s.axis : Vec3(-s.axis)));
            break;
        case Kind::Cylinder:
            surface = new Geom_CylindricalSurface(axes(s.axis), s.radius);
            turned = normal_at(s, middle).dot(outward) < 0.0;
            break;
        case Kind::Cone: {
            const Vec3 z = s.growth > 0.0 ? s.axis : Vec3(-s.axis);
            surface = new Geom_ConicalSurface(axes(z), std::atan(std::abs(s.growth)), s.radius);
            turned = normal_at(s, middle).dot(outward) < 0.0;
            break;
        }
        case Kind::Sphere:
            surface = new Geom_SphericalSurface(axes(s.axis), s.radius);
            turned = normal_at(s, middle).dot(outward) < 0.0;
            break;
        }
        TopoDS_Face out;
        builder_.MakeFace(out, surface, close_enough);
        for (const std::vector<TopoDS_Edge>& loop : loops_of(p)) {
            TopoDS_Wire wire;
            builder_.MakeWire(wire);
            if (turned)
                for (auto e = loop.rbegin(); e != loop.rend(); ++e) builder_.Add(wire, e->Reversed());
            else
                for (const TopoDS_Edge& e : loop) builder_.Add(wire, e);
            wire.Closed(true);
            builder_.Add(out, wire);
        }
        if (s.kind != Kind::Plane) {
            ShapeFix_Face fix;
            fix.SetContext(context_);
            fix.Init(out);
            fix.FixWireTool()->FixEdgeCurvesMode() = 1;
            fix.FixSmallAreaWireMode() = 0;
            fix.FixIntersectingWiresMode() = 0;
            fix.FixWireTool()->FixSelfIntersectionMode() = 0;
            fix.FixWireTool()->FixNotchedEdgesMode() = 0;
            fix.FixWireTool()->FixSmallMode() = 0;
            fix.FixOrientationMode() = 0;
            fix.Perform();
            if (fix.Result().ShapeType() == TopAbs_FACE) out = TopoDS::Face(fix.Result());
        }
        if (turned) out.Reverse();
        return out;
    }

    TopoDS_Shape solids_of(const std::vector<std::vector<TopoDS_Face>>& of_shell) {
        struct Piece {
            TopoDS_Shell shell;
            double volume = 0.0;
            Vec3 low = Vec3::Constant(1e300), high = Vec3::Constant(-1e300);
        };
        std::vector<Piece> pieces(shells_);
        for (std::size_t t = 0; t < skin_.triangles.size(); ++t) {
            Piece& piece = pieces[shell_[t]];
            piece.volume += corner(t, 0).dot(corner(t, 1).cross(corner(t, 2))) / 6.0;
            for (std::size_t k = 0; k < 3; ++k) {
                piece.low = piece.low.cwiseMin(corner(t, k));
                piece.high = piece.high.cwiseMax(corner(t, k));
            }
        }
        for (std::size_t s = 0; s < of_shell.size(); ++s) {
            Piece& piece = pieces[s];
            builder_.MakeShell(piece.shell);
            for (const TopoDS_Face& face : of_shell[s]) builder_.Add(piece.shell, face);
            piece.shell = TopoDS::Shell(context_->Apply(piece.shell));
            piece.shell.Closed(true);
            BRepLib::SameParameter(piece.shell, 1e-5, false);
        }
        // Shells turned inside out are hollows, of the smallest body around them.
        std::vector<TopoDS_Solid> solids;
        std::vector<std::size_t> outer;
        for (std::size_t i = 0; i < pieces.size(); ++i) {
            if (pieces[i].volume <= 0.0) continue;
            TopoDS_Solid solid;
            builder_.MakeSolid(solid);
            builder_.Add(solid, pieces[i].shell);
            solids.push_back(solid);
            outer.push_back(i);
        }
        for (const Piece& hollow : pieces) {
            if (hollow.volume > 0.0) continue;
            std::size_t best = outer.size();
            for (std::size_t k = 0; k < outer.size(); ++k) {
                const Piece& around = pieces[outer[k]];
                const bool inside = (hollow.low - around.low).minCoeff() >= 0.0 &&
                                    (around.high - hollow.high).minCoeff() >= 0.0;
                if (inside && (best == outer.size() || around.volume < pieces[outer[best]].volume)) best = k;
            }
            if (best == outer.size()) throw std::runtime_error("a hollow lies in no body");
            builder_.Add(solids[best], hollow.shell);
        }
        if (solids.empty()) throw std::runtime_error("the part has no volume");
        if (solids.size() == 1) return solids.front();
        TopoDS_Compound all;
        builder_.MakeCompound(all);
        for (const TopoDS_Solid& solid : solids) builder_.Add(all, solid);
        return all;
    }

    static constexpr std::size_t none = static_cast<std::size_t>(-1);

    Skin skin_;
    std::vector<Vec3> points_;
    std::vector<std::array<Vec3, 3>> normal_; // at the corners of free triangles
    std::vector<Surface> surfaces_;
    std::vector<MeshEdge> edges_;
    std::unordered_map<std::uint64_t, std::size_t> by_key_;
    std::vector<std::array<std::size_t, 3>> edge_of_; // of each triangle
    std::vector<std::size_t> patch_, shell_;          // of each triangle
    std::size_t patch_count_ = 0, shells_ = 0;
    std::vector<std::vector<std::size_t>> members_; // triangles of each patch
    std::vector<Chain> chains_;
    std::vector<std::size_t> chain_of_; // of each mesh edge
    std::unordered_map<std::int32_t, TopoDS_Vertex> vertices_;
    std::vector<std::optional<CurvedTriangle>> curved_; // of each free triangle, of degree three
    std::vector<std::size_t> degree_;                   // of the faces that they become
    std::vector<char> tried_;                           // a higher degree for them
    std::vector<StepResult::Place> places_;
    double bend_ = 0.0;
    std::size_t bends_ = 0, bends_small_ = 0;
    BRep_Builder builder_;
    Handle(ShapeBuild_ReShape) context_ = new ShapeBuild_ReShape;
};

// The first thing wrong of a shape, in words.
std::string trouble_of(const TopoDS_Shape& shape, const BRepCheck_Analyzer& check) {
    static const std::array<std::pair<TopAbs_ShapeEnum, const char*>, 6> kinds{{{TopAbs_VERTEX, "vertex"},
                                                                                {TopAbs_EDGE, "edge"},
                                                                                {TopAbs_WIRE, "wire"},
                                                                                {TopAbs_FACE, "face"},
                                                                                {TopAbs_SHELL, "shell"},
                                                                                {TopAbs_SOLID, "solid"}}};
    for (const auto& [kind, name] : kinds) {
        TopTools_IndexedMapOfShape all;
        TopExp::MapShapes(shape, kind, all);
        for (int i = 1; i <= all.Extent(); ++i) {
            if (check.IsValid(all(i))) continue;
            const Handle(BRepCheck_Result)& result = check.Result(all(i));
            int code = result->Status().IsEmpty() ? -1 : static_cast<int>(result->Status().First());
            result->InitContextIterator();
            while (code <= 0 && result->MoreShapeInContext()) {
                if (!result->StatusOnShape().IsEmpty())
                    code = static_cast<int>(result->StatusOnShape().First());
                result->NextShapeInContext();
            }
            Bnd_Box box;
            BRepBndLib::Add(all(i), box);
            const gp_Pnt low = box.CornerMin();
            return std::string("a ") + name + " near (" + std::to_string(low.X()) + ", " +
                   std::to_string(low.Y()) + ", " + std::to_string(low.Z()) + ") mm, status " +
                   std::to_string(code);
        }
    }
    return {};
}

double volume_of(const TopoDS_Shape& shape, double scale) {
    GProp_GProps properties;
    BRepGProp::VolumeProperties(shape, properties);
    return properties.Mass() / (scale * scale * scale);
}

StepResult read_back(const std::filesystem::path& file, double scale) {
    STEPControl_Reader reader;
    if (reader.ReadFile(file.c_str()) != IFSelect_RetDone)
        throw std::runtime_error("the file that was written could not be read again");
    reader.TransferRoots();
    const TopoDS_Shape shape = reader.OneShape();
    StepResult out;
    TopTools_IndexedMapOfShape solids;
    TopExp::MapShapes(shape, TopAbs_SOLID, solids);
    out.solids = solids.Extent();
    TopTools_IndexedMapOfShape faces;
    TopExp::MapShapes(shape, TopAbs_FACE, faces);
    for (int i = 1; i <= faces.Extent(); ++i)
        switch (BRepAdaptor_Surface(TopoDS::Face(faces(i)), false).GetType()) {
        case GeomAbs_Plane:
            ++out.planes;
            break;
        case GeomAbs_Cylinder:
            ++out.cylinders;
            break;
        case GeomAbs_Cone:
            ++out.cones;
            break;
        case GeomAbs_Sphere:
            ++out.spheres;
            break;
        case GeomAbs_BSplineSurface:
        case GeomAbs_BezierSurface:
            ++out.patches;
            break;
        default:
            ++out.others;
        }
    TopTools_IndexedMapOfShape edges;
    TopExp::MapShapes(shape, TopAbs_EDGE, edges);
    for (int i = 1; i <= edges.Extent(); ++i)
        out.tolerance = std::max(out.tolerance, BRep_Tool::Tolerance(TopoDS::Edge(edges(i))) / scale);
    const BRepCheck_Analyzer check(shape);
    out.valid = out.solids > 0 && check.IsValid();
    if (!out.valid) out.trouble = out.solids == 0 ? "no solid came out" : trouble_of(shape, check);
    out.volume = volume_of(shape, scale);
    return out;
}

} // namespace

StepResult write_solid(const Skin& skin, const std::filesystem::path& file) try {
    Message::DefaultMessenger()->RemovePrinters(STANDARD_TYPE(Message_Printer));
    SolidWriter writer(skin);
    const TopoDS_Shape solid = writer.make();
    STEPControl_Writer out;
    Interface_Static::SetCVal("write.step.schema", "AP242DIS");
    Interface_Static::SetCVal("write.step.unit", "MM");
    // Curves in the parameters of faces are left to readers: the library fails to write those of these
    // patches.
    Interface_Static::SetIVal("write.surfacecurve.mode", 0);
    Interface_Static::SetCVal("write.step.product.name", skin.title.c_str());
    if (out.Transfer(solid, STEPControl_AsIs) != IFSelect_RetDone ||
        out.Write(file.c_str()) != IFSelect_RetDone)
        throw std::runtime_error("the CAD library could not write the solid");
    StepResult result = read_back(file, skin.scale);
    result.bend = writer.bend();
    result.within_a_degree = writer.within_a_degree();
    result.places = writer.take_places();
    return result;
} catch (const Standard_Failure& bad) {
    throw std::runtime_error(std::string("the CAD library could not make a solid of it: ") +
                             bad.GetMessageString());
}

} // namespace upright::cad
