// Curved patches of free triangles after Vlachos, Peters, Boyd & Mitchell 2001 ("Curved PN triangles"): cubic
// edges from points and normals alone, so that neighbours share them; raised to degree five, whose inner
// points give both patches at an edge one normal at three places between its ends as well. A triangle is a
// part of a square of the same degree each way, trimmed by three straight lines of its parameters.
#include "geometry/cad/solid_writer.hpp"

#include "base/edge_key.hpp"

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

// A cubic from a to d; straight where b and c are its thirds.
struct Cubic {
    Vec3 a, b, c, d;
    Vec3 at(double t) const {
        const double s = 1.0 - t;
        return s * s * s * a + 3.0 * s * s * t * b + 3.0 * s * t * t * c + t * t * t * d;
    }
    // A third of its derivative.
    Vec3 slope(double t) const {
        const double s = 1.0 - t;
        return s * s * (b - a) + 2.0 * s * t * (c - b) + t * t * (d - c);
    }
};

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
        find_shared_normals();
        for (int pass = 0; pass < 5 && straighten_folds(); ++pass) find_shared_normals();
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
            const Sides own = sides_of(t);
            Vec3 mean = 0.1 * own.middle; // of the control points, as of the face
            Vec3 center = Vec3::Zero();
            for (const Cubic& c : own.cubic) {
                mean += 0.1 * (c.a + c.b + c.c);
                center += c.a / 3.0;
            }
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

    // The sides of a triangle as it goes round, and the middle control point of the cubic patch of PN
    // triangles.
    struct Sides {
        std::array<Cubic, 3> cubic;
        Vec3 middle = Vec3::Zero();
        bool flat = true;
    };
    Sides sides_of(std::size_t t) const {
        Sides out;
        Vec3 corners = Vec3::Zero();
        Vec3 mean = Vec3::Zero();
        for (std::size_t k = 0; k < 3; ++k) {
            const MeshEdge& edge = edges_[edge_of_[t][k]];
            const Cubic c = cubic_of(edge);
            out.cubic[k] = edge.first == static_cast<std::int32_t>(t) ? c : Cubic{c.d, c.c, c.b, c.a};
            const Cubic& own = out.cubic[k];
            const double off =
                (own.b - (2.0 * own.a + own.d) / 3.0).norm() + (own.c - (own.a + 2.0 * own.d) / 3.0).norm();
            out.flat = out.flat && off < 1e-9 * (own.d - own.a).norm();
            corners += own.a / 3.0;
            mean += (own.b + own.c) / 6.0;
        }
        out.middle = mean + 0.5 * (mean - corners);
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

    // Where both patches at a smooth edge are given one normal, besides at its ends.
    static constexpr std::array<double, 2> shared_places{1.0 / 3.0, 2.0 / 3.0};
    static constexpr std::size_t shared = shared_places.size();
    using Shared = std::array<Vec3, shared>;

    bool runs_forward(std::size_t t, std::size_t k) const {
        return edges_[edge_of_[t][k]].first == static_cast<std::int32_t>(t);
    }

    // At these places of every smooth edge, as it runs: the means of the normals of the PN triangles at it.
    void find_shared_normals() {
        shared_normals_.assign(edges_.size(), {Vec3::Zero(), Vec3::Zero()});
        for (std::size_t t = 0; t < skin_.triangles.size(); ++t) {
            if (!is_free(t)) continue;
            const Sides own = sides_of(t);
            for (std::size_t k = 0; k < 3; ++k) {
                const MeshEdge& edge = edges_[edge_of_[t][k]];
                if (!smooth_across(edge) || edge.straight) continue;
                const Cubic& c = own.cubic[k];
                for (std::size_t i = 0; i < shared; ++i) {
                    const double s = shared_places[i];
                    const Vec3 across = (1 - s) * (1 - s) * own.cubic[(k + 2) % 3].c +
                                        2 * s * (1 - s) * own.middle + s * s * own.cubic[(k + 1) % 3].b -
                                        c.at(s);
                    shared_normals_[edge_of_[t][k]][runs_forward(t, k) ? i : shared - 1 - i] +=
                        c.slope(s).cross(across).normalized();
                }
            }
        }
        for (auto& of_edge : shared_normals_)
            for (Vec3& n : of_edge)
                if (n.norm() > 0.0) n.normalize();
    }

    // A triangle of degree five: control points [of u][of v], u towards the second corner, v towards the
    // third.
    static constexpr std::size_t degree = 5;
    using Net = std::array<std::array<Vec3, degree + 1>, degree + 1>;

    // The control points of the row next to side k, as the side runs.
    static std::array<std::array<std::size_t, 2>, degree> row_of(std::size_t k) {
        std::array<std::array<std::size_t, 2>, degree> out{};
        for (std::size_t i = 0; i < degree; ++i)
            out[i] = k == 0   ? std::array<std::size_t, 2>{i, 1}
                     : k == 1 ? std::array<std::size_t, 2>{degree - 1 - i, i}
                              : std::array<std::size_t, 2>{1, degree - 1 - i};
        return out;
    }
    // The Bernstein polynomials of the row.
    static std::array<double, degree> weights_at(double s) {
        constexpr std::array<double, degree> choose{1, 4, 6, 4, 1};
        std::array<double, degree> out{};
        for (std::size_t i = 0; i < degree; ++i)
            out[i] = choose[i] * std::pow(s, static_cast<double>(i)) *
                     std::pow(1.0 - s, static_cast<double>(degree - 1 - i));
        return out;
    }
    static Vec3 row_at(const Net& net, std::size_t k, double s) {
        const auto row = row_of(k);
        const auto weights = weights_at(s);
        Vec3 out = Vec3::Zero();
        for (std::size_t i = 0; i < degree; ++i) out += weights[i] * net[row[i][0]][row[i][1]];
        return out;
    }

    // The PN triangle raised to degree five, its six inner points moved as little as gives it the normals on
    // its smooth sides that the neighbours have too.
    Net quintic(std::size_t t, const Sides& own) const {
        Net net;
        for (auto& row : net) row.fill(Vec3::Zero());
        const auto& c = own.cubic;
        net[0][0] = c[0].a, net[1][0] = c[0].b, net[2][0] = c[0].c, net[3][0] = c[0].d;
        net[2][1] = c[1].b, net[1][2] = c[1].c, net[0][3] = c[1].d;
        net[0][2] = c[2].b, net[0][1] = c[2].c;
        net[1][1] = own.middle;
        for (std::size_t n = 3; n < degree; ++n) { // from degree n to the next
            Net up;
            for (auto& row : up) row.fill(Vec3::Zero());
            for (std::size_t i = 0; i <= n + 1; ++i)
                for (std::size_t j = 0; i + j <= n + 1; ++j) {
                    const std::size_t k = n + 1 - i - j;
                    if (i > 0) up[i][j] += static_cast<double>(i) * net[i - 1][j];
                    if (j > 0) up[i][j] += static_cast<double>(j) * net[i][j - 1];
                    if (k > 0) up[i][j] += static_cast<double>(k) * net[i][j];
                    up[i][j] /= static_cast<double>(n + 1);
                }
            net = up;
        }
        constexpr std::array<std::array<std::size_t, 2>, 6> inner{
            {{1, 1}, {2, 1}, {3, 1}, {2, 2}, {1, 3}, {1, 2}}};
        constexpr auto asked = static_cast<Eigen::Index>(3 * shared);
        Eigen::Matrix<double, asked, 18> moves = Eigen::Matrix<double, asked, 18>::Zero();
        Eigen::Matrix<double, asked, 1> miss = Eigen::Matrix<double, asked, 1>::Zero();
        for (std::size_t k = 0; k < 3; ++k) {
            const auto row = row_of(k);
            for (std::size_t i = 0; i < shared; ++i) {
                const std::size_t place = runs_forward(t, k) ? i : shared - 1 - i;
                const Vec3& n = shared_normals_[edge_of_[t][k]][place];
                if (n.norm() == 0.0) continue;
                const auto at = static_cast<Eigen::Index>(shared * k + i);
                miss[at] = -n.dot(row_at(net, k, shared_places[i]) - c[k].at(shared_places[i]));
                const auto weights = weights_at(shared_places[i]);
                for (std::size_t p = 1; p + 1 < degree; ++p) {
                    const auto which = static_cast<Eigen::Index>(
                        std::find(inner.begin(), inner.end(), row[p]) - inner.begin());
                    moves.block<1, 3>(at, 3 * which) = weights[p] * n.transpose();
                }
            }
        }
        Eigen::Matrix<double, asked, asked> gram = moves * moves.transpose();
        gram.diagonal().array() += 1e-4;
        const Eigen::Matrix<double, 18, 1> by = moves.transpose() * gram.ldlt().solve(miss);
        const double size = (c[0].d - c[0].a).norm();
        if (by.allFinite() && by.norm() < 4.0 * size)
            for (std::size_t p = 0; p < inner.size(); ++p)
                net[inner[p][0]][inner[p][1]] += by.segment<3>(static_cast<Eigen::Index>(3 * p));
        return net;
    }

    // Curved sides of a needle may cross, and its face folds over itself: its sides become straight, but
    // those along exact faces that are round. Whether there was any.
    bool straighten_folds() {
        constexpr double standing = 0.34; // cosine: of the face's normal to the facet's
        bool any = false;
        for (std::size_t t = 0; t < skin_.triangles.size(); ++t) {
            if (!is_free(t)) continue;
            const Sides own = sides_of(t);
            if (own.flat) continue;
            const Net net = quintic(t, own);
            const Vec3 n = facet(t).normalized();
            bool folds = false;
            for (std::size_t k = 0; k < 3; ++k)
                for (const double s : {0.0625, 0.125, 0.25, 0.375, 0.5, 0.625, 0.75, 0.875, 0.9375}) {
                    const Vec3 out = own.cubic[k].slope(s).cross(row_at(net, k, s) - own.cubic[k].at(s));
                    folds = folds || !(out.dot(n) > standing * out.norm());
                }
            if (!folds) continue;
            for (const std::size_t e : edge_of_[t]) {
                MeshEdge& edge = edges_[e];
                if (edge.straight || is_round(beside(edge.first)) || is_round(beside(edge.second))) continue;
                edge.straight = any = true;
            }
        }
        return any;
    }

    // The part u, v, u + v <= 1 of a square of degree five each way.
    TopoDS_Face free_face(std::size_t t) {
        const Sides own = sides_of(t);
        TopoDS_Face out;
        TopoDS_Wire wire;
        builder_.MakeWire(wire);
        if (own.flat && skin_.facets) {
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
        const Net net = quintic(t, own);
        // To powers u^m v^n: (1 - u - v)^i = sum over p + q <= i of (-1)^(p + q) i! / (p! q! (i - p - q)!).
        constexpr std::array<double, degree + 1> fact{1.0, 1.0, 2.0, 6.0, 24.0, 120.0};
        const auto choose = [&](std::size_t n, std::size_t k) {
            return k > n ? 0.0 : fact[n] / (fact[k] * fact[n - k]);
        };
        Net power;
        for (auto& row : power) row.fill(Vec3::Zero());
        for (std::size_t j = 0; j <= degree; ++j)
            for (std::size_t k = 0; j + k <= degree; ++k) {
                const std::size_t i = degree - j - k;
                const double count = fact[degree] / (fact[i] * fact[j] * fact[k]);
                for (std::size_t p = 0; p <= i; ++p)
                    for (std::size_t q = 0; p + q <= i; ++q)
                        power[j + p][k + q] += count * ((p + q) % 2 == 0 ? 1.0 : -1.0) * fact[i] /
                                               (fact[p] * fact[q] * fact[i - p - q]) * net[j][k];
            }
        note_places(t, [&](double u, double v) {
            Vec3 at = Vec3::Zero();
            for (std::size_t m = 0; m <= degree; ++m)
                for (std::size_t n = 0; m + n <= degree; ++n)
                    at += std::pow(u, static_cast<double>(m)) * std::pow(v, static_cast<double>(n)) *
                          power[m][n];
            return at;
        });
        TColgp_Array2OfPnt poles(1, degree + 1, 1, degree + 1);
        for (std::size_t i = 0; i <= degree; ++i)
            for (std::size_t j = 0; j <= degree; ++j) {
                Vec3 at = Vec3::Zero();
                for (std::size_t m = 0; m <= i; ++m)
                    for (std::size_t n = 0; n <= j; ++n)
                        at +=
                            choose(i, m) / choose(degree, m) * choose(j, n) / choose(degree, n) * power[m][n];
                poles(static_cast<int>(i) + 1, static_cast<int>(j) + 1) = pnt(at);
            }
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
        note_bends(t, own, net);
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

    // The normals of the patch at places on its smooth sides, against the neighbours' when they come.
    void note_bends(std::size_t t, const Sides& own, const Net& net) {
        for (std::size_t k = 0; k < 3; ++k) {
            if (!smooth_across(edges_[edge_of_[t][k]])) continue;
            const Cubic& c = own.cubic[k];
            BendPlaces normal;
            for (std::size_t i = 0; i < normal.size(); ++i) {
                const double s = static_cast<double>(i + 1) / static_cast<double>(normal.size() + 1);
                normal[i] = c.slope(s).cross(row_at(net, k, s) - c.at(s)).normalized();
            }
            const auto [at, fresh] = side_normals_.emplace(edge_of_[t][k], normal);
            if (fresh) continue;
            for (std::size_t i = 0; i < normal.size(); ++i) { // the neighbour goes the other way
                const double angle =
                    std::acos(std::clamp(at->second[normal.size() - 1 - i].dot(normal[i]), -1.0, 1.0)) *
                    180.0 / pi_here;
                bend_ = std::max(bend_, angle);
                bends_small_ += angle <= 1.0 ? 1 : 0;
                ++bends_;
            }
        }
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
                for (std::size_t j = 0; j < 3; ++j)
                    if (edge_of_[o][j] == edge_of_[t][k]) {
                        k = (j + 1) % 3;
                        break;
                    }
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
            Bnd_Box box;
        };
        std::vector<Piece> pieces;
        std::vector<double> volume(shells_, 0.0);
        for (std::size_t t = 0; t < skin_.triangles.size(); ++t)
            volume[shell_[t]] += corner(t, 0).dot(corner(t, 1).cross(corner(t, 2))) / 6.0;
        for (std::size_t s = 0; s < of_shell.size(); ++s) {
            Piece piece;
            builder_.MakeShell(piece.shell);
            for (const TopoDS_Face& face : of_shell[s]) builder_.Add(piece.shell, face);
            piece.shell = TopoDS::Shell(context_->Apply(piece.shell));
            piece.shell.Closed(true);
            BRepLib::SameParameter(piece.shell, 1e-5, false);
            piece.volume = volume[s];
            BRepBndLib::Add(piece.shell, piece.box);
            pieces.push_back(std::move(piece));
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
                double box[12];
                hollow.box.Get(box[0], box[1], box[2], box[3], box[4], box[5]);
                around.box.Get(box[6], box[7], box[8], box[9], box[10], box[11]);
                bool inside = true;
                for (int a = 0; a < 3; ++a)
                    inside = inside && box[a] >= box[6 + a] && box[3 + a] <= box[9 + a];
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
    std::vector<Shared> shared_normals_;    // of each mesh edge
    using BendPlaces = std::array<Vec3, 7>; // in equal steps
    std::unordered_map<std::size_t, BendPlaces> side_normals_;
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
