#include "mesh/fitted_mesh.hpp"

#include "base/angles.hpp"

#include "geometry/cad_module.hpp"
#include "geometry/file_body.hpp"
#include "mesh/flat_mesher.hpp"
#include "mesh/quality.hpp"
#include "study/file_slot.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <stdexcept>
#include <unordered_map>

namespace upright {

namespace {

using cad::Solid;

class Builder {
  public:
    explicit Builder(const Space& space) : space_(space), regions_(space.regions) {
        for (const FieldRegion& card : space.regions.regions())
            if (const Shape* shape = std::get_if<Shape>(&card.extent);
                shape != nullptr && card.role != Role::Void)
                box_.include(bounds(*shape));
        if (box_.empty())
            throw Error::input(space.where(), "no region has material and a shape of its own",
                               "Write a [[region]] with a shape");
    }

    FittedMesh run() {
        if (space_.mesh.flat()) return run_flat();
        guard_size();
        FittedInput input;
        if (!facets_alone(input)) arrangement(input);
        FittedOptions options;
        set_sizes(options);
        for (const FieldRegion& region : regions_.regions()) options.region_names.push_back(region.name);
        FittedTets tets;
        try {
            tets = make_fitted_tets(input, options);
        } catch (const Error& bad) {
            throw Error::numerics(std::string(bad.what()));
        }
        return to_mesh(tets);
    }

  private:
    // Where a refinement asks for what.
    std::pair<std::function<double(const Vec3&)>, double> refinement(const RefineCard& card) const {
        if (card.size >= space_.mesh.size)
            throw Error::input(card.place, "a refinement must be finer than [mesh] size",
                               "Write a smaller size");
        return {[this, &card](const Vec3& p) {
                    if (card.inside) return signed_distance(*card.inside, p);
                    double d = 1e300;
                    for (std::size_t r = 0; r < regions_.size(); ++r)
                        if (refers_to(card.on, regions_[r].name)) d = std::min(d, regions_.distance(r, p));
                    return d - 0.5 * card.size;
                },
                card.size};
    }

    // The size asked for, and the refinements, of tetrahedra and of triangles.
    template <class Options> void set_sizes(Options& options) const {
        options.size = space_.mesh.size;
        if (space_.mesh.curvature) options.curvature = *space_.mesh.curvature;
        if (space_.mesh.smallest) options.smallest = *space_.mesh.smallest / space_.mesh.size;
        for (const RefineCard& card : space_.mesh.refine) {
            options.smallest = std::min(options.smallest, 0.5 * card.size / space_.mesh.size);
            options.refine.push_back(refinement(card));
        }
    }

    // The size and the cuts of a mesh whose nodes stand; those on a symmetry plane lie on it exactly.
    void set_symmetry(Mesh& mesh) const {
        mesh.size = space_.mesh.size;
        mesh.symmetry = cuts_;
        for (Vec3& p : mesh.nodes)
            for (const SymmetryCut& cut : cuts_)
                if (std::abs(p[cut.axis] - cut.at) < 1e-6 * mesh.size) p[cut.axis] = cut.at;
    }

    // Triangles in the plane: the regions as bodies of some height are cut against each other, and what lies
    // in z = 0 is meshed.
    FittedMesh run_flat() {
        height_ = 0.5 * box_.diagonal();
        const double cells = 2.3 * box_.size().x() * box_.size().y() / (space_.mesh.size * space_.mesh.size);
        if (cells > 2e7)
            throw Error::input(space_.mesh.place,
                               fmt::format("a size of {:g} {} makes about {:.3g} triangles", space_.mesh.size,
                                           space_.units.length, cells),
                               "Write a larger size");
        const cad::Arrangement cut = arranged(0.02);
        const std::vector<std::int32_t> region = classify(cut);
        FlatInput input;
        for (const Vec3& p : cut.points) input.points.emplace_back(p.x(), p.y());
        for (std::size_t t = 0; t < cut.triangles.size(); ++t) {
            std::array<std::int32_t, 3> c = cut.triangles[t];
            const auto at = [&](std::size_t i) -> const Vec3& {
                return cut.points[static_cast<std::size_t>(c[i])];
            };
            const double level = std::max({std::abs(at(0).z()), std::abs(at(1).z()), std::abs(at(2).z())});
            if (level > 1e-6 * height_) continue;
            const std::int32_t cell = std::max(cut.cells_of[t][0], cut.cells_of[t][1]);
            if (Vec3((at(1) - at(0)).cross(at(2) - at(0))).z() < 0.0) std::swap(c[1], c[2]);
            input.triangles.push_back(c);
            input.region.push_back(cell < 0 ? -1 : region[static_cast<std::size_t>(cell)]);
        }
        if (std::all_of(input.region.begin(), input.region.end(), [](std::int32_t r) { return r < 0; }))
            throw Error::input(space_.mesh.place, "nothing is solid",
                               "Look for a void that covers everything");
        FlatOptions options;
        set_sizes(options);
        const FlatTriangles flat = make_flat_triangles(input, options);
        FittedMesh out;
        Mesh& mesh = out.mesh;
        for (const Vec2& p : flat.points) mesh.nodes.emplace_back(p.x(), p.y(), 0.0);
        set_symmetry(mesh);
        for (std::size_t t = 0; t < flat.triangles.size(); ++t) {
            std::vector<NodeId> ids;
            for (const std::int32_t n : flat.triangles[t]) ids.push_back(static_cast<NodeId>(n));
            const auto owner = static_cast<RegionId>(flat.region[t]);
            mesh.add(space_.mesh.shell() ? ElementKind::ShellTri3 : ElementKind::Tri3, ids, owner);
            mesh.thickness.push_back(regions_[owner].deep);
        }
        if (space_.mesh.order == 2) {
            raise_order(mesh);
            bend_flat(mesh, flat);
        }
        if (flat.smallest_angle < 20.0)
            out.remarks.push_back(fmt::format("the smallest angle is {:.1f} deg, at ({:.4g}, {:.4g})",
                                              flat.smallest_angle, flat.worst.x(), flat.worst.y()));
        mesh.finish();
        return out;
    }

    // Middles of edges onto their border.
    static void bend_flat(Mesh& mesh, const FlatTriangles& flat) {
        std::map<std::pair<std::int32_t, std::int32_t>, Vec2> wanted;
        for (const auto& [ends, place] : flat.border) wanted[std::minmax(ends[0], ends[1])] = place;
        for (std::size_t e = 0; e < mesh.elements(); ++e) {
            const NodeRange ids = mesh.nodes_of(static_cast<ElementId>(e));
            for (std::size_t k = 0; k < 3; ++k) {
                const auto a = static_cast<std::int32_t>(ids[k]);
                const auto b = static_cast<std::int32_t>(ids[(k + 1) % 3]);
                if (const auto found = wanted.find(std::minmax(a, b)); found != wanted.end())
                    mesh.nodes[index(ids[3 + k])].head(2) = found->second;
            }
        }
    }

    void guard_size() const {
        const double cells = box_.size().prod() / std::pow(space_.mesh.size, 3) * 6.0;
        if (cells > 5e7)
            throw Error::input(space_.mesh.place,
                               fmt::format("a size of {:g} {} makes about {:.3g} tetrahedra",
                                           space_.mesh.size, space_.units.length, cells),
                               fmt::format("Write a larger size; {:.2g} makes about a hundred thousand",
                                           space_.mesh.size * std::cbrt(cells / 1e5)));
    }

    // One body of triangles without anything that cuts it needs no exact geometry.
    bool facets_alone(FittedInput& input) const {
        const auto layers =
            std::count_if(regions_.regions().begin(), regions_.regions().end(),
                          [](const FieldRegion& region) { return !region.on_surfaces.empty(); });
        if (layers + 1 != static_cast<std::ptrdiff_t>(regions_.size()) || !space_.symmetry.empty())
            return false;
        const Shape* shape = std::get_if<Shape>(&regions_.regions().front().extent);
        const FileBody* file = shape == nullptr ? nullptr : std::get_if<FileBody>(shape);
        if (file == nullptr || is_step(*file)) return false;
        const FacetMesh& mesh = file_body(*file).mesh();
        input.points = mesh.points;
        input.triangles = mesh.triangles;
        input.face_of = mesh.face_of;
        input.regions.assign(mesh.triangles.size(), {0, -1});
        for (const FacetFace& f : mesh.faces) input.face_radius.push_back(f.radius);
        return true;
    }

    static bool is_step(const FileBody& body) {
        std::string kind = body.slot->file.extension().string();
        std::transform(kind.begin(), kind.end(), kind.begin(),
                       [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
        return kind == ".step" || kind == ".stp";
    }

    // `angle`: that triangles of round faces span, in radians; less where elements are to be as fine.
    cad::Arrangement arranged(double angle) {
        if (space_.mesh.curvature) angle = std::min(angle, 0.25 * *space_.mesh.curvature * degree);
        std::vector<Solid> solids;
        for (std::size_t r = 0; r < regions_.size(); ++r) add_region(r, solids);
        for (const SymmetryPlane& plane : space_.symmetry) add_cut(plane, solids);
        try {
            return cad::module().arrange(solids, space_.units.length_si, 0.01 * space_.mesh.size, angle);
        } catch (const std::runtime_error& bad) {
            throw Error::input(space_.mesh.place, bad.what(),
                               "Move the regions a little apart, or use kind = \"grid\"");
        }
    }

    void arrangement(FittedInput& input) {
        const cad::Arrangement cut = arranged(0.15);
        const std::vector<std::int32_t> region = classify(cut);
        input.points = cut.points;
        input.face_radius = cut.radius;
        for (std::size_t t = 0; t < cut.triangles.size(); ++t) {
            const auto of = [&](std::int32_t cell) {
                return cell < 0 ? -1 : region[static_cast<std::size_t>(cell)];
            };
            const std::array<std::int32_t, 2> sides{of(cut.cells_of[t][0]), of(cut.cells_of[t][1])};
            if (sides[0] == sides[1]) continue; // inside of a region, or outside of the body
            input.triangles.push_back(cut.triangles[t]);
            input.face_of.push_back(cut.face_of[t]);
            input.regions.push_back(sides);
        }
        if (input.triangles.empty())
            throw Error::input(space_.mesh.place, "nothing is solid",
                               "Look for a void that covers everything");
    }

    // Adds the solid whose faces bound a region.
    void add_region(std::size_t r, std::vector<Solid>& out) {
        const FieldRegion& card = regions_[r];
        if (const Shape* shape = std::get_if<Shape>(&card.extent)) return add_shape(card, *shape, 0.0, out);
        if (std::holds_alternative<HoleRing>(card.extent)) {
            for (const Ring& ring : regions_.extents().rings[r]) {
                Solid s;
                s.kind = Solid::Kind::Cylinder;
                s.a = ring.from;
                s.b = ring.to;
                s.radius_a = ring.outer;
                out.push_back(s);
            }
            return;
        }
        const Skin& skin = std::get<Skin>(card.extent);
        if (!card.on_surfaces.empty()) return; // found on the mesh
        for (const std::size_t other : card.covers) {
            const Shape* shape = std::get_if<Shape>(&regions_[other].extent);
            if (shape == nullptr)
                throw Error::input(card.place, "a fitted mesh cannot make the skin of a skin",
                                   "Name a region with a shape");
            add_shape(card, *shape, skin.into_body ? -skin.depth : skin.depth, out);
        }
    }

    // A shape, grown by `grow` on all sides.
    void add_shape(const RegionCard& card, const Shape& shape, double grow, std::vector<Solid>& out,
                   const Mat3& axes = Mat3::Identity(), const Vec3& origin = Vec3::Zero()) {
        Solid s;
        s.axes = axes;
        s.origin = origin;
        const auto swept = [&](const Vec3& from, const Vec3& to) {
            const Vec3 way = (to - from).normalized();
            s.a = from - grow * way;
            s.b = to + grow * way;
        };
        if (const Box* box = std::get_if<Box>(&shape)) {
            s.kind = Solid::Kind::Box;
            s.a = box->low - Vec3::Constant(grow);
            s.b = box->high + Vec3::Constant(grow);
            if (height_ > 0.0) {
                s.a.z() = 0.0;
                s.b.z() = height_;
            }
            if (!((s.b - s.a).minCoeff() > 0.0))
                throw Error::input(card.place, "the layer is deeper than the body is thick",
                                   "Write a smaller depth");
        } else if (const Cylinder* c = std::get_if<Cylinder>(&shape)) {
            s.kind = Solid::Kind::Cylinder;
            swept(c->from, c->to);
            s.radius_a = c->radius + grow;
        } else if (const Cone* c2 = std::get_if<Cone>(&shape)) {
            s.kind = Solid::Kind::Cone;
            const double slope = (c2->radius_to - c2->radius_from) / (c2->to - c2->from).norm();
            const double side = grow * std::sqrt(1.0 + slope * slope);
            swept(c2->from, c2->to);
            s.radius_a = std::max(0.0, c2->radius_from + side - slope * grow);
            s.radius_b = std::max(0.0, c2->radius_to + side + slope * grow);
        } else if (const Sphere* ball = std::get_if<Sphere>(&shape)) {
            s.kind = Solid::Kind::Sphere;
            s.a = ball->center;
            s.radius_a = ball->radius + grow;
        } else if (const Prism* p = std::get_if<Prism>(&shape)) {
            s.kind = Solid::Kind::Prism;
            s.a = p->from;
            s.b = p->to;
            s.grow = grow;
            const auto [u, v] = across(p->to - p->from);
            for (const Vec2& corner : p->polygon) s.loop.push_back(p->from + corner.x() * u + corner.y() * v);
        } else if (const HalfSpace* half = std::get_if<HalfSpace>(&shape)) {
            // A box larger than the body, with one face on the plane.
            s.kind = Solid::Kind::Box;
            const double size = 4.0 * box_.diagonal();
            const auto [u, v] = across(half->normal);
            Mat3 turn;
            turn << u, half->normal.cross(u), half->normal;
            s.axes = axes * turn;
            s.origin = axes * half->point + origin;
            if (height_ > 0.0) {
                const Vec3 along = Vec3::UnitZ().cross(half->normal);
                Mat3 upright_turn;
                upright_turn << along, Vec3::UnitZ().cross(along), Vec3::UnitZ();
                // Its second axis looks against the normal.
                s.axes = axes * upright_turn;
                s.a = Vec3(-size, -size, 0.0);
                s.b = Vec3(size, 0.0, height_);
                out.push_back(s);
                return;
            }
            // Centred beside the body, so that the box holds it.
            const Vec3 middle = turn.transpose() * (box_.center() - half->point);
            s.a = Vec3(middle.x() - size, middle.y() - size, 0.0);
            s.b = Vec3(middle.x() + size, middle.y() + size, size + std::abs(middle.z()));
        } else if (const Outside* outside = std::get_if<Outside>(&shape)) {
            // Cut by the same faces; what lies beyond them is told by asking.
            return add_shape(card, outside->shape->shape, -grow, out, axes, origin);
        } else if (const Placed* placed = std::get_if<Placed>(&shape)) {
            return add_shape(card, placed->shape->shape, grow, out, axes * placed->axes,
                             axes * placed->origin + origin);
        } else if (const Disk* disk = std::get_if<Disk>(&shape)) {
            s.kind = Solid::Kind::Cylinder;
            s.a = disk->center;
            s.b = disk->center + height_ * Vec3::UnitZ();
            if (disk->inner - grow > 0.0) {
                s.radius_a = disk->inner - grow;
                out.push_back(s);
            }
            s.radius_a = disk->radius + grow;
            if (!(s.radius_a > 0.0))
                throw Error::input(card.place, "the layer is deeper than the body is thick",
                                   "Write a smaller depth");
        } else if (const Polygon* polygon = std::get_if<Polygon>(&shape)) {
            s.kind = Solid::Kind::Prism;
            // Growing moves its ends to where they belong.
            s.a = grow * Vec3::UnitZ();
            s.b = (height_ - grow) * Vec3::UnitZ();
            s.grow = grow;
            for (const Vec2& corner : polygon->corners) s.loop.emplace_back(corner.x(), corner.y(), grow);
        } else if (const FileBody* file = std::get_if<FileBody>(&shape)) {
            s.grow = grow;
            if (!is_step(*file))
                throw Error::input(card.place,
                                   "a fitted mesh cannot cut regions into a body of triangles (STL, OBJ)",
                                   "Use a STEP file, leave the other regions out, or use kind = \"grid\"");
            s.kind = Solid::Kind::File;
            s.file = file->slot->file;
            s.heal = file->slot->heal;
            const std::string& name = file_body(*file).name();
            const std::shared_ptr<const BodyFile> all = shared_bodies(*file->slot);
            for (std::size_t i = 0; i < all->bodies.size(); ++i)
                if (all->bodies[i]->name() == name) s.body = static_cast<int>(i);
            if (file->slot->unit_given && all->unit_si > 0.0)
                s.scale = file->slot->scale * file->slot->length_si / all->unit_si;
        } else {
            throw Error::input(card.place, "this shape has no place in a fitted mesh");
        }
        out.push_back(s);
    }

    // The half that is not modelled, as one more solid.
    void add_cut(const SymmetryPlane& plane, std::vector<Solid>& out) {
        const double middle = 0.5 * (box_.low[plane.axis] + box_.high[plane.axis]);
        const bool keep_high = plane.at < middle - 1e-6 * box_.size()[plane.axis];
        cuts_.push_back({plane.axis, plane.at, !keep_high});
        HalfSpace half;
        half.point = Vec3::Zero();
        half.point[plane.axis] = plane.at;
        half.normal = (keep_high ? -1.0 : 1.0) * Vec3::Unit(plane.axis);
        add_shape(regions_.regions().front(), half, 0.0, out);
    }

    // The region of each cell: who owns a place deep inside of it.
    std::vector<std::int32_t> classify(const cad::Arrangement& cut) const {
        std::vector<std::vector<std::size_t>> triangles(static_cast<std::size_t>(cut.cells));
        for (std::size_t t = 0; t < cut.triangles.size(); ++t)
            for (const std::int32_t c : cut.cells_of[t])
                if (c >= 0) triangles[static_cast<std::size_t>(c)].push_back(t);
        std::vector<std::int32_t> out(static_cast<std::size_t>(cut.cells), -1);
        std::vector<FacetTree::Hit> hits;
        for (std::size_t c = 0; c < triangles.size(); ++c) {
            std::vector<std::array<std::int32_t, 3>> list;
            for (const std::size_t t : triangles[c]) list.push_back(cut.triangles[t]);
            const FacetTree tree(cut.points, list);
            Vec3 best = Vec3::Zero();
            double depth = -1.0;
            const std::size_t stride = std::max<std::size_t>(1, triangles[c].size() / 60);
            for (std::size_t i = 0; i < triangles[c].size(); i += stride) {
                const std::size_t t = triangles[c][i];
                const auto at = [&](std::size_t k) -> const Vec3& {
                    return cut.points[static_cast<std::size_t>(cut.triangles[t][k])];
                };
                Vec3 n = (at(1) - at(0)).cross(at(2) - at(0)).normalized();
                if (cut.cells_of[t][0] == static_cast<std::int32_t>(c)) n = -n; // into the cell
                const Vec3 from = (at(0) + at(1) + at(2)) / 3.0 + 1e-7 * box_.diagonal() * n;
                tree.crossings(from, n, hits);
                double along = 1e300;
                for (const FacetTree::Hit& h : hits) along = std::min(along, h.along);
                if (along > 1e299) continue;
                const Vec3 p = from + 0.5 * along * n;
                double d = tree.nearest(p).distance;
                // In the plane depth is that of the border, not that of the height.
                if (height_ > 0.0 && std::abs(n.z()) > 0.5) continue;
                if (height_ > 0.0) d = along;
                if (d > depth) {
                    depth = d;
                    best = p;
                    if (height_ > 0.0) best.z() = 0.0;
                }
            }
            bool modelled = depth > 0.0;
            for (const SymmetryCut& s : cuts_)
                modelled = modelled && (s.high ? best[s.axis] < s.at : best[s.axis] > s.at);
            if (!modelled) continue;
            const RegionId owner = regions_.owner(best);
            if (owner != RegionId::None && regions_[owner].role != Role::Void)
                out[c] = static_cast<std::int32_t>(owner);
        }
        return out;
    }

    FittedMesh to_mesh(const FittedTets& tets) const {
        FittedMesh out;
        Mesh& mesh = out.mesh;
        out.remarks = tets.remarks;
        mesh.nodes = tets.points;
        set_symmetry(mesh);
        for (std::size_t t = 0; t < tets.tets.size(); ++t) {
            std::vector<NodeId> ids;
            for (const std::int32_t n : tets.tets[t]) ids.push_back(static_cast<NodeId>(n));
            mesh.add(ElementKind::Tet4, ids, static_cast<RegionId>(tets.region[t]));
        }
        if (space_.mesh.order == 2) {
            raise_order(mesh);
            bend(mesh, tets);
        }
        mesh.finish();
        return out;
    }

    // Moves the middles of skin edges onto the exact shapes, half way back where an element would suffer.
    void bend(Mesh& mesh, const FittedTets& tets) const {
        // Which edge's middle is which node.
        static constexpr std::array<std::array<std::size_t, 2>, 6> edges{
            {{0, 1}, {1, 2}, {2, 0}, {0, 3}, {1, 3}, {2, 3}}};
        std::unordered_map<std::uint64_t, NodeId> middle;
        std::vector<std::vector<std::size_t>> users(mesh.nodes.size());
        const auto key = [](std::size_t a, std::size_t b) {
            return (static_cast<std::uint64_t>(std::min(a, b)) << 32U) |
                   static_cast<std::uint64_t>(std::max(a, b));
        };
        for (std::size_t e = 0; e < mesh.elements(); ++e) {
            const NodeRange ids = mesh.nodes_of(static_cast<ElementId>(e));
            for (std::size_t k = 0; k < 6; ++k) {
                middle[key(index(ids[edges[k][0]]), index(ids[edges[k][1]]))] = ids[4 + k];
                users[index(ids[4 + k])].push_back(e);
            }
        }
        std::unordered_map<std::uint64_t, Vec3> wanted;
        for (const FittedTets::Face& face : tets.skin)
            for (std::size_t i = 0; i < 3; ++i) {
                const auto a = static_cast<std::size_t>(face.nodes[i]);
                const auto b = static_cast<std::size_t>(face.nodes[(i + 1) % 3]);
                const Vec3 p = 0.5 * (mesh.nodes[a] + mesh.nodes[b]);
                // Onto the nearest of the exact shapes' surfaces, when both ends lie on it.
                const double slack = 0.02 * mesh.size;
                Vec3 best = p;
                double nearest = 1e300;
                for (std::size_t r = 0; r < regions_.size(); ++r) {
                    const auto d = [&](const Vec3& q) { return regions_.distance(r, q); };
                    if (std::abs(d(mesh.nodes[a])) > slack || std::abs(d(mesh.nodes[b])) > slack) continue;
                    Vec3 q = p;
                    for (int step = 0; step < 3; ++step) {
                        const double value = d(q);
                        Vec3 slope;
                        const double eps = 1e-4 * mesh.size;
                        for (int k = 0; k < 3; ++k)
                            slope[k] = (d(q + eps * Vec3::Unit(k)) - d(q - eps * Vec3::Unit(k))) / (2 * eps);
                        if (slope.squaredNorm() < 0.5) break;
                        q -= value / slope.squaredNorm() * slope;
                    }
                    const double moved = (q - p).norm();
                    if (moved < 0.25 * (mesh.nodes[a] - mesh.nodes[b]).norm() && moved < nearest) {
                        nearest = moved;
                        best = q;
                    }
                }
                if (nearest < 1e299 && nearest > 0.0) wanted[key(a, b)] = best;
            }
        for (const auto& [edge, to] : wanted) {
            const NodeId n = middle.at(edge);
            const Vec3 straight = mesh.nodes[index(n)];
            for (const double share : {1.0, 0.5, 0.25, 0.0}) {
                mesh.nodes[index(n)] = straight + share * (to - straight);
                bool fine = true;
                for (const std::size_t e : users[index(n)]) fine = fine && least_jacobian(mesh, e) > 0.2;
                if (fine) break;
            }
        }
    }

    const Space& space_;
    const RegionField& regions_;
    Bounds box_;
    double height_ = 0.0; // of the bodies that stand for regions of the plane; 0 in space
    std::vector<SymmetryCut> cuts_;
};

} // namespace

FittedMesh make_fitted_mesh(const Space& space) {
    return Builder(space).run();
}

} // namespace upright
