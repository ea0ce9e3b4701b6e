#include "geometry/painting.hpp"

#include "base/angles.hpp"
#include "geometry/file_body.hpp"
#include "geometry/region_field.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

constexpr double half = 0.5 - 1e-9; // of a cell, which then belongs

void add_triangles(std::vector<Vec3>& points, std::vector<std::array<std::int32_t, 3>>& triangles,
                   std::vector<Vec3> corners, bool plane, double height) {
    // In the plane a side is a line; a strip across it measures the same distance.
    if (plane || corners.size() == 2) {
        const Vec3 up = plane ? Vec3(height * Vec3::UnitZ()) : Vec3(Vec3::Zero());
        corners = {corners[0] - up, corners[1] - up, corners[1] + up, corners[0] + up};
    }
    const auto base = static_cast<std::int32_t>(points.size());
    points.insert(points.end(), corners.begin(), corners.end());
    for (std::size_t i = 2; i < corners.size(); ++i)
        triangles.push_back(
            {base, base + static_cast<std::int32_t>(i) - 1, base + static_cast<std::int32_t>(i)});
}

// Picks the faces of the boundary that a surface's rules leave.
class Picker {
  public:
    Picker(const Space& space, const Cells& cells, const Painting& painting)
        : space_(space), cells_(cells), painting_(painting),
          has_voids_(std::any_of(space.regions.regions().begin(), space.regions.regions().end(),
                                 [](const FieldRegion& r) { return r.role == Role::Void; })) {}

    std::vector<CellFace> pick_or_throw(const SurfaceCard& card) {
        std::vector<CellFace> faces = pick(card);
        if (faces.empty() && before_.empty())
            throw Error::input(card.place,
                               "the surface \"" + card.name + "\" picks no face: nothing is solid");
        if (const std::string plane = faces.empty() ? beyond(card) : ""; !plane.empty())
            throw Error::input(card.place,
                               "the surface \"" + card.name + "\" lies beyond the symmetry plane " + plane +
                                   ": that part is the mirror image of what is modelled",
                               "Name its mirror image, or model the other side");
        if (faces.empty())
            throw Error::input(
                card.place,
                fmt::format("the surface \"{}\" picks no face: of {} boundary faces {}", card.name,
                            painting_.boundary.size(), story_),
                fmt::format(
                    "Loosen the last rule; the middles of the faces before it span ({:g}, {:g}, {:g}) "
                    "to ({:g}, {:g}, {:g})",
                    before_.low.x(), before_.low.y(), before_.low.z(), before_.high.x(), before_.high.y(),
                    before_.high.z()));
        return faces;
    }

  private:
    // The symmetry plane beyond which everything lies that a surface may be, if there is one.
    std::string beyond(const SurfaceCard& card) const {
        const auto look = [&](const Bounds& part) {
            return beyond_symmetry(space_.symmetry, cells_.box(), part);
        };
        std::string out;
        for (const FieldRegion& region : space_.regions.regions()) {
            if (!refers_to(card.of, region.name)) continue;
            const Shape* shape = std::get_if<Shape>(&region.extent);
            out = shape == nullptr ? "" : look(bounds(*shape));
            if (out.empty()) break;
        }
        if (out.empty() && card.inside) out = look(bounds(*card.inside));
        const auto place = [&](const std::vector<Vec3>& points) {
            Bounds box;
            for (const Vec3& p : points) box.include(p);
            if (out.empty()) out = look(box);
        };
        if (card.on_cylinder) place({card.on_cylinder->from, card.on_cylinder->to});
        for (const SymmetryPlane& plane : space_.symmetry)
            if (card.on_plane && std::abs(card.on_plane->normal[plane.axis]) > 0.999)
                place({card.on_plane->point});
        return out;
    }

    Vec3 center(const CellFace& f) const { return cells_.face_center(f.cell, f.side); }
    Vec3 normal(const CellFace& f) const { return cells_.face_normal(f.cell, f.side); }

    // The outward normal of the shapes that made a wall, which stairs only follow; of a mesh's own face where
    // it has no stairs or the shapes do not tell.
    Vec3 wall_normal(const CellFace& f) const {
        const Vec3 own = normal(f);
        if (!cells_.stairs() || cells_.always_free(f.cell, f.side)) return own;
        const Vec3 p = center(f);
        const double step = 0.05 * cells_.cell_size();
        Vec3 slope = Vec3::Zero();
        for (int a = 0; a < (cells_.plane() ? 2 : 3); ++a) {
            const Vec3 by = step * Vec3::Unit(a);
            slope[a] = painting_.regions.body_distance(p + by) - painting_.regions.body_distance(p - by);
        }
        // Where faces of shapes meet the distance has a crease, and the stairs say which of them it is.
        if (slope.norm() < 1.9 * step || slope.dot(own) <= 0.0) return own;
        return slope.normalized();
    }

    // Half of a cell's (or side's) extent along a direction.
    double half_extent(const CellFace& f, const Vec3& direction) const {
        if (!cells_.stairs()) return 0.02 * cells_.cell_size();
        double out = 0.0;
        const Vec3 c = cells_.center(f.cell);
        for (int side = 0; side < cells_.sides(f.cell); ++side)
            for (const Vec3& p : cells_.face_corners(f.cell, side))
                out = std::max(out, std::abs((p - c).dot(direction)));
        return out;
    }

    // Whether a face belongs to a region: it bounds what a solid region painted, or it is the wall that a
    // void left.
    bool belongs(const CellFace& face, std::size_t region) const {
        const long beyond = cells_.neighbour(face.cell, face.side);
        if (space_.regions[region].role == Role::Void) {
            if (beyond >= 0 && !cells_.always_free(face.cell, face.side))
                return painting_.owner[static_cast<std::size_t>(beyond)] == static_cast<RegionId>(region);
            // A grid has cells in every void that it reaches; other meshes are made without some of them.
            if (dynamic_cast<const GridCells*>(&cells_) != nullptr) return false;
            return painting_.regions.owner(just_beyond(face)) == static_cast<RegionId>(region);
        }
        if (beyond < 0 && painting_.covered[region][face.cell] &&
            dynamic_cast<const GridCells*>(&cells_) == nullptr && has_voids_) {
            // The wall of a void that took a part of the region bears the void's name, though no cell is
            // there.
            const Vec3 p = just_beyond(face);
            const RegionId owner = painting_.regions.owner(p);
            if (owner != RegionId::None && space_.regions[owner].role == Role::Void &&
                painting_.regions.distance(region, p) <= 0.0)
                return false;
        }
        return painting_.covered[region][face.cell] &&
               !(beyond >= 0 && !cells_.always_free(face.cell, face.side) &&
                 painting_.covered[region][static_cast<std::size_t>(beyond)]);
    }

    Vec3 just_beyond(const CellFace& face) const {
        return center(face) + 0.05 * cells_.cell_size() * normal(face);
    }

    bool of_any(const SurfaceCard& card, const CellFace& face) const {
        for (std::size_t r = 0; r < painting_.covered.size(); ++r)
            if (refers_to(card.of, space_.regions[r].name) && belongs(face, r)) return true;
        return false;
    }

    bool on_plane(const SurfaceCard::OnPlane& plane, const CellFace& face) const {
        const double off = std::abs((center(face) - plane.point).dot(plane.normal));
        return off <= half_extent(face, plane.normal) * (1 + 1e-9) &&
               std::abs(normal(face).dot(plane.normal)) > (cells_.stairs() ? 0.5 : 0.98);
    }

    bool near_cylinder(const Vec3& from, const Vec3& to, double radius, const CellFace& face) const {
        const Vec3 axis = to - from;
        const double length = axis.norm();
        const Vec3 r = center(face) - from;
        const double along = r.dot(axis) / length;
        const double slack = 1e-9 * length;
        if (along < -slack || along > length + slack) return false;
        if (std::abs(normal(face).dot(axis)) > 0.5 * length) return false;
        const double off = std::abs((r - axis * (along / length)).norm() - radius);
        // A chord of a fitted mesh lies inside of its arc.
        const double chord = cells_.cell_size() * cells_.cell_size() / (8.0 * radius);
        return off <= (cells_.stairs() ? 0.87 * cells_.cell_size()
                                       : std::min(1.5 * chord, 0.3 * cells_.cell_size()) + 1e-6 * radius);
    }

    // Whether a face lies on numbered faces of the CAD bodies that its surface may be of.
    bool on_cad(const SurfaceCard& card, const CellFace& face) const {
        for (const FieldRegion& region : space_.regions.regions()) {
            const Shape* shape = std::get_if<Shape>(&region.extent);
            if (shape == nullptr || (!card.of.empty() && !refers_to(card.of, region.name))) continue;
            const Placed* placed = nullptr;
            const FacetBody* body = body_of(*shape, placed);
            if (body == nullptr) continue;
            const double reach = cells_.stairs() ? 0.87 * cells_.cell_size() : 0.3 * cells_.cell_size();
            const Vec3 p = into(placed, center(face));
            const FacetTree::Nearest near = body->tree().nearest(p, reach);
            if (near.triangle < 0) continue;
            const std::int32_t number = body->mesh().face_of[static_cast<std::size_t>(near.triangle)];
            if (std::find(card.cad.begin(), card.cad.end(), number + 1) == card.cad.end()) continue;
            const auto& c = body->tree().corners()[static_cast<std::size_t>(near.triangle)];
            Vec3 n = (c[1] - c[0]).cross(c[2] - c[0]).normalized();
            if (placed != nullptr) n = placed->axes * n;
            if (n.dot(normal(face)) > (cells_.stairs() ? 0.4 : 0.7)) return true;
        }
        return false;
    }

    std::vector<CellFace> pick(const SurfaceCard& card) {
        std::vector<CellFace> left = painting_.boundary;
        const auto keep = [&](const char* rule, const auto& condition) {
            if (left.empty()) return;
            before_ = Bounds();
            for (const CellFace& f : left) before_.include(center(f));
            left.erase(
                std::remove_if(left.begin(), left.end(), [&](const CellFace& f) { return !condition(f); }),
                left.end());
            story_ += fmt::format("{}\"{}\" leaves {}", story_.empty() ? "" : ", ", rule, left.size());
        };
        if (!card.cad.empty()) {
            require_cad(card);
            keep("cad", [&](const CellFace& f) { return on_cad(card, f); });
        } else if (!card.of.empty()) {
            keep("of", [&](const CellFace& f) { return of_any(card, f); });
        }
        if (!card.set.empty())
            keep("set", [&](const CellFace& f) { return cells_.in_point_set(card.set, f.cell, f.side); });
        if (card.on_plane) keep("on_plane", [&](const CellFace& f) { return on_plane(*card.on_plane, f); });
        if (card.on_cylinder) {
            const auto& c = *card.on_cylinder;
            keep("on_cylinder", [&](const CellFace& f) { return near_cylinder(c.from, c.to, c.radius, f); });
        }
        if (card.hole_radius) {
            const std::vector<Hole> holes = painting_.regions.holes(card.of, card.hole_radius);
            if (holes.empty())
                throw Error::input(card.place,
                                   fmt::format("the surface \"{}\": there is no hole of radius {:g}",
                                               card.name, *card.hole_radius),
                                   "\"upright inspect\" lists the holes of a file with their radii");
            keep("hole", [&](const CellFace& f) {
                return std::any_of(holes.begin(), holes.end(),
                                   [&](const Hole& h) { return near_cylinder(h.from, h.to, h.radius, f); });
            });
        }
        if (card.inside) {
            const double tolerance = 1e-9 * cells_.box().diagonal();
            keep("inside", [&](const CellFace& f) { return contains(*card.inside, center(f), tolerance); });
        }
        if (!card.facing.empty()) {
            const double least = std::cos(card.tilt * pi / 180.0) - 1e-9;
            keep("facing", [&](const CellFace& f) {
                const Vec3 n = wall_normal(f);
                return std::any_of(card.facing.begin(), card.facing.end(),
                                   [&](const Vec3& direction) { return n.dot(direction) >= least; });
            });
        }
        return left;
    }

    void require_cad(const SurfaceCard& card) const {
        std::size_t most = 0;
        bool any = false;
        for (const FieldRegion& region : space_.regions.regions()) {
            const Shape* shape = std::get_if<Shape>(&region.extent);
            if (shape == nullptr || (!card.of.empty() && !refers_to(card.of, region.name))) continue;
            const Placed* placed = nullptr;
            if (const FacetBody* body = body_of(*shape, placed)) {
                any = true;
                most = std::max(most, body->mesh().faces.size());
            }
        }
        if (!any)
            throw Error::input(card.place,
                               "the surface \"" + card.name +
                                   "\" names faces of a file, but no region it is of comes from one",
                               "Write of = \"…\" with a region that has file = \"…\"");
        for (const int number : card.cad)
            if (static_cast<std::size_t>(number) > most)
                throw Error::input(card.place,
                                   fmt::format("the surface \"{}\" names face {}; the file has faces 1 to {}",
                                               card.name, number, most),
                                   "\"upright inspect\" lists and draws them");
    }

    const Space& space_;
    const Cells& cells_;
    const Painting& painting_;
    bool has_voids_;
    std::string story_;
    Bounds before_;
};

std::vector<CellFace> find_boundary(const Cells& cells, const Painting& painting) {
    std::vector<CellFace> out;
    for (std::size_t c = 0; c < cells.size(); ++c) {
        if (!painting.solid(c)) continue;
        for (int side = 0; side < cells.sides(c); ++side) {
            if (!cells.always_free(c, side)) {
                const long beyond = cells.neighbour(c, side);
                if (beyond >= 0 && painting.solid(static_cast<std::size_t>(beyond))) continue;
                if (cells.on_symmetry(c, side)) continue;
            }
            out.push_back({c, side});
        }
    }
    return out;
}

class Painter {
  public:
    Painter(const Space& space, const Cells& cells) : space_(space), cells_(cells) {
        out_.owner.assign(cells.size(), RegionId::None);
        out_.regions = space.regions;
    }

    Painting run() {
        for (std::size_t r = 0; r < space_.regions.size(); ++r) paint_region(r);
        pick_surfaces(space_, cells_, out_);
        return std::move(out_);
    }

  private:
    void paint_region(std::size_t r) {
        const FieldRegion& card = out_.regions[r];
        std::vector<bool> mark(cells_.size(), false);
        if (const Shape* shape = std::get_if<Shape>(&card.extent))
            mark_shape(*shape, card, mark);
        else if (const Skin* skin = std::get_if<Skin>(&card.extent))
            mark_skin(r, *skin, mark);
        else
            mark_rings(r, mark);
        if (!card.within.empty()) {
            for (std::size_t c = 0; c < cells_.size(); ++c) {
                if (!mark[c]) continue;
                mark[c] = false;
                for (const std::size_t other : card.inside_of)
                    if (out_.covered[other][c]) mark[c] = true;
            }
        }
        for (std::size_t c = 0; c < cells_.size(); ++c)
            if (mark[c]) out_.owner[c] = static_cast<RegionId>(r);
        out_.covered.push_back(std::move(mark));
    }

    // Whether at least half of a cell lies where a distance is below zero.
    bool holds_half(std::size_t c, const std::function<double(const Vec3&)>& distance) {
        cells_.pieces(c, pieces_);
        return share_below(pieces_, distance) >= half;
    }

    // A layer or ring that is too thin for the cells would be lost without a word.
    void require_some(std::size_t r, const std::vector<bool>& mark, double depth) const {
        if (std::find(mark.begin(), mark.end(), true) != mark.end()) return;
        const FieldRegion& card = out_.regions[r];
        // Where there is no material at all the ledger says so.
        bool any = false;
        for (std::size_t c = 0; c < cells_.size() && !any; ++c)
            any = out_.solid(c) && out_.regions.distance(r, cells_.center(c)) < cells_.reach(c);
        if (!any) return;
        throw Error::input(
            card.place,
            fmt::format("the region \"{}\" comes to no cell: it is {:g} deep, less than half a cell of {:g}",
                        card.name, depth, cells_.cell_size()),
            fmt::format("Write cells of {:g} or smaller, or a depth of at least {:g}", 2.0 * depth,
                        0.5 * cells_.cell_size()));
    }

    void mark_shape(const Shape& shape, const RegionCard& card, std::vector<bool>& mark) {
        if (const CellSet* set = std::get_if<CellSet>(&shape)) {
            for (std::size_t c = 0; c < cells_.size(); ++c) mark[c] = cells_.in_cell_set(*set, c);
            if (std::none_of(mark.begin(), mark.end(), [](bool m) { return m; }))
                throw Error::input(card.place,
                                   "the region \"" + card.name + "\" finds no cell in the set \"" +
                                       set->array + "\" of the mesh file",
                                   "\"upright inspect\" lists the arrays of a mesh file");
            return;
        }
        const Bounds box = bounds(shape);
        for (std::size_t c = 0; c < cells_.size(); ++c) {
            const Vec3 middle = cells_.center(c);
            const double reach = cells_.reach(c);
            if (!box.empty() && !(cells_.plane() ? Bounds{Vec3(box.low.x(), box.low.y(), -1e300),
                                                          Vec3(box.high.x(), box.high.y(), 1e300)}
                                                 : box)
                                     .holds(middle, reach))
                continue;
            const int side = side_of_ball(shape, middle, reach);
            mark[c] = side < 0 ||
                      (side == 0 && holds_half(c, [&](const Vec3& p) { return signed_distance(shape, p); }));
        }
    }

    void mark_rings(std::size_t r, std::vector<bool>& mark) {
        for (const Ring& ring : out_.regions.extents().rings[r])
            for (std::size_t c = 0; c < cells_.size(); ++c) {
                if (mark[c] || !out_.solid(c)) continue;
                const double d = ring_distance(ring, cells_.center(c));
                if (d > cells_.reach(c)) continue;
                mark[c] = d < -cells_.reach(c) ||
                          holds_half(c, [&](const Vec3& p) { return ring_distance(ring, p); });
            }
        require_some(r, mark, std::get<HoleRing>(space_.regions[r].extent).depth);
    }

    void mark_skin(std::size_t r, const Skin& skin, std::vector<bool>& mark) {
        const FieldRegion& region = out_.regions[r];
        if (!region.on_surfaces.empty()) mark_under_surfaces(r, skin, region.on_surfaces, mark);
        for (const std::size_t target : region.covers) {
            const std::vector<bool>& core = out_.covered[target];
            const auto distance = [&](const Vec3& p) {
                const double d = out_.regions.distance(target, p);
                return skin.into_body ? -d : d;
            };
            for (std::size_t c = 0; c < cells_.size(); ++c) {
                if (mark[c] || core[c] != skin.into_body || !out_.solid(c)) continue;
                const double d = distance(cells_.center(c));
                const double reach = cells_.reach(c);
                if (d >= skin.depth + reach || d <= -reach) continue;
                cells_.pieces(c, pieces_);
                const double before = share_below(pieces_, distance);
                const double within =
                    share_below(pieces_, [&](const Vec3& p) { return distance(p) - skin.depth; });
                mark[c] = before < 1.0 && within - before >= half * (1.0 - before);
            }
        }
        for (std::size_t c = 0; c < cells_.size(); ++c)
            if (mark[c] && !out_.solid(c)) mark[c] = false;
        require_some(r, mark, skin.depth);
    }

    // Marks the cells of a layer under faces: within the depth of a face, on the side of the material.
    void mark_under_surfaces(std::size_t r, const Skin& skin, const std::vector<std::size_t>& surfaces,
                             std::vector<bool>& mark) {
        out_.boundary = find_boundary(cells_, out_);
        std::vector<Vec3> points;
        std::vector<std::array<std::int32_t, 3>> triangles;
        Bounds box;
        for (const std::size_t s : surfaces)
            for (const CellFace& face : Picker(space_, cells_, out_).pick_or_throw(space_.surfaces[s])) {
                const std::vector<Vec3> corners = cells_.face_corners(face.cell, face.side);
                for (const Vec3& p : corners) box.include(p);
                add_triangles(points, triangles, corners, cells_.plane(), 10.0 * cells_.box().diagonal());
            }
        const auto tree = std::make_shared<FacetTree>(points, triangles);
        out_.regions.lay(r, tree);
        for (std::size_t c = 0; c < cells_.size(); ++c) {
            if (mark[c] || !out_.solid(c)) continue;
            if (!box.holds(cells_.center(c), skin.depth + cells_.reach(c))) continue;
            mark[c] = holds_half(c, [&](const Vec3& p) { return tree->nearest(p).distance - skin.depth; });
        }
    }

    const Space& space_;
    const Cells& cells_;
    Painting out_;
    std::vector<CellPiece> pieces_;
};

} // namespace

std::string beyond_symmetry(const std::vector<SymmetryPlane>& planes, const Bounds& modelled,
                            const Bounds& part) {
    if (part.empty()) return {};
    for (const SymmetryPlane& plane : planes) {
        const bool above = std::abs(plane.at - modelled.low[plane.axis]) <
                           std::abs(plane.at - modelled.high[plane.axis]); // the modelled part lies
        const double slack = 1e-9 * modelled.diagonal();
        if (above ? part.high[plane.axis] <= plane.at + slack : part.low[plane.axis] >= plane.at - slack)
            return fmt::format("{} = {:g}", "xyz"[plane.axis], plane.at);
    }
    return {};
}

void pick_surfaces(const Space& space, const Cells& cells, Painting& painting) {
    painting.boundary = find_boundary(cells, painting);
    painting.surfaces.clear();
    for (const SurfaceCard& card : space.surfaces)
        painting.surfaces.push_back(Picker(space, cells, painting).pick_or_throw(card));
}

Painting paint(const Space& space, const Cells& cells) {
    return Painter(space, cells).run();
}

Painting paint(const Space& space, const CellGrid& grid) {
    Painting out = paint(space, GridCells(grid));
    out.grid = grid;
    return out;
}

} // namespace upright
