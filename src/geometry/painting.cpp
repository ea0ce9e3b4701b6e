#include "geometry/painting.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

// Whether a face belongs to a region: it bounds what a solid region painted, or it is the wall that a void
// left.
bool belongs(const Study& study, const Painting& painting, const CellFace& face, std::size_t region) {
    const long beyond = painting.grid.neighbour(face.cell, face.side);
    if (study.regions[region].role == Role::Void)
        return beyond >= 0 &&
               painting.owner[static_cast<std::size_t>(beyond)] == static_cast<RegionId>(region);
    return painting.covered[region][face.cell] &&
           !(beyond >= 0 && painting.covered[region][static_cast<std::size_t>(beyond)]);
}

bool of_any(const Study& study, const Painting& painting, const SurfaceCard& card, const CellFace& face) {
    for (std::size_t r = 0; r < painting.covered.size(); ++r)
        if (refers_to(card.of, study.regions[r].name) && belongs(study, painting, face, r)) return true;
    return false;
}

bool on_plane(const CellGrid& grid, const SurfaceCard::OnPlane& plane, const CellFace& face) {
    double reach = 0.0;
    for (int a = 0; a < grid.axes(); ++a) reach += 0.5 * std::abs(plane.normal[a]) * grid.cell[a];
    const double off = std::abs((face_center(grid, face) - plane.point).dot(plane.normal));
    return off <= reach * (1 + 1e-9) && std::abs(face_normal(face.side).dot(plane.normal)) > 0.5;
}

bool on_cylinder(const CellGrid& grid, const SurfaceCard::OnCylinder& c, const CellFace& face) {
    const Vec3 axis = c.to - c.from;
    const double length = axis.norm();
    const Vec3 r = face_center(grid, face) - c.from;
    const double along = r.dot(axis) / length;
    if (along < -1e-9 * length || along > length * (1 + 1e-9)) return false;
    if (std::abs(face_normal(face.side).dot(axis)) > 0.5 * length) return false;
    const double radius = (r - axis * (along / length)).norm();
    return std::abs(radius - c.radius) <= 0.87 * grid.cell.maxCoeff();
}

// The faces of the boundary that a surface's rules leave, and how many were left after each rule.
std::vector<CellFace> pick(const Study& study, const Painting& painting, const SurfaceCard& card,
                           std::string& story, Bounds& before) {
    const CellGrid& grid = painting.grid;
    std::vector<CellFace> left = painting.boundary;
    const auto keep = [&](const char* rule, const auto& condition) {
        if (left.empty()) return;
        before = Bounds();
        for (const CellFace& f : left) before.include(face_center(grid, f));
        left.erase(std::remove_if(left.begin(), left.end(), [&](const CellFace& f) { return !condition(f); }),
                   left.end());
        story += fmt::format("{}\"{}\" leaves {}", story.empty() ? "" : ", ", rule, left.size());
    };
    if (!card.of.empty()) keep("of", [&](const CellFace& f) { return of_any(study, painting, card, f); });
    if (card.on_plane) keep("on_plane", [&](const CellFace& f) { return on_plane(grid, *card.on_plane, f); });
    if (card.on_cylinder)
        keep("on_cylinder", [&](const CellFace& f) { return on_cylinder(grid, *card.on_cylinder, f); });
    if (card.inside) {
        const double tolerance = 1e-9 * grid.box().diagonal();
        keep("inside", [&](const CellFace& f) {
            return signed_distance(*card.inside, face_center(grid, f)) <= tolerance;
        });
    }
    if (card.facing) {
        const double least = std::cos(card.tilt * 3.14159265358979323846 / 180.0) - 1e-12;
        keep("facing", [&](const CellFace& f) { return face_normal(f.side).dot(*card.facing) >= least; });
    }
    return left;
}

std::vector<CellFace> find_boundary(const Study& study, const Painting& painting) {
    std::vector<CellFace> out;
    const CellGrid& grid = painting.grid;
    for (std::size_t c = 0; c < grid.size(); ++c) {
        if (!painting.solid(study, c)) continue;
        for (int side = 0; side < 2 * grid.axes(); ++side) {
            const long beyond = grid.neighbour(c, side);
            if (beyond >= 0 && painting.solid(study, static_cast<std::size_t>(beyond))) continue;
            if (beyond < 0 &&
                grid.symmetric[static_cast<std::size_t>(side / 2)][static_cast<std::size_t>(side % 2)])
                continue;
            out.push_back({c, side});
        }
    }
    return out;
}

double face_distance(const CellGrid& grid, const CellFace& face, const Vec3& p) {
    Vec3 half = 0.5 * grid.cell;
    half[face.side / 2] = 0.0;
    if (grid.plane) half.z() = 1e300;
    return ((p - face_center(grid, face)).cwiseAbs() - half).cwiseMax(0.0).norm();
}

// The surfaces that a skin covers, by name.
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

// Marks the cells of a layer under faces: within the depth of a face, on the side of the material.
void mark_under_faces(const CellGrid& grid, const std::vector<CellFace>& faces, double depth,
                      std::vector<bool>& mark) {
    for (const CellFace& face : faces) {
        mark[face.cell] = true;
        const std::array<int, 3> at = grid.indices(face.cell);
        std::array<int, 3> low{};
        std::array<int, 3> high{};
        for (std::size_t a = 0; a < 3; ++a) {
            const int reach = static_cast<int>(a) < grid.axes()
                                  ? static_cast<int>(depth / grid.cell[static_cast<int>(a)]) + 1
                                  : 0;
            low[a] = std::max(0, at[a] - reach);
            high[a] = std::min(grid.count[a] - 1, at[a] + reach);
        }
        for (int k = low[2]; k <= high[2]; ++k)
            for (int j = low[1]; j <= high[1]; ++j)
                for (int i = low[0]; i <= high[0]; ++i)
                    if (face_distance(grid, face, grid.center({i, j, k})) <= depth)
                        mark[grid.at(i, j, k)] = true;
    }
}

class Painter {
  public:
    Painter(const Study& study, const CellGrid& grid) : study_(study) {
        out_.grid = grid;
        out_.owner.assign(grid.size(), RegionId::None);
    }

    Painting run() {
        for (std::size_t r = 0; r < study_.regions.size(); ++r) paint_region(r);
        out_.boundary = find_boundary(study_, out_);
        for (const SurfaceCard& card : study_.surfaces) out_.surfaces.push_back(pick_or_throw(card));
        return std::move(out_);
    }

  private:
    void paint_region(std::size_t r) {
        const RegionCard& card = study_.regions[r];
        const std::size_t cells = out_.grid.size();
        std::vector<bool> mark(cells, false);
        if (const Shape* shape = std::get_if<Shape>(&card.extent)) {
            const double tolerance = 1e-9 * out_.grid.box().diagonal();
            for (std::size_t c = 0; c < cells; ++c)
                mark[c] = signed_distance(*shape, out_.grid.center(c)) <= tolerance;
        } else {
            mark_skin(r, std::get<Skin>(card.extent), mark);
        }
        if (!card.within.empty()) {
            for (std::size_t c = 0; c < cells; ++c) {
                if (!mark[c]) continue;
                mark[c] = false;
                for (const std::string& name : card.within)
                    for (std::size_t other = 0; other < r; ++other)
                        if (refers_to(name, study_.regions[other].name) && out_.covered[other][c])
                            mark[c] = true;
            }
        }
        for (std::size_t c = 0; c < cells; ++c)
            if (mark[c]) out_.owner[c] = static_cast<RegionId>(r);
        out_.covered.push_back(std::move(mark));
    }

    void mark_skin(std::size_t r, const Skin& skin, std::vector<bool>& mark) {
        const CellGrid& grid = out_.grid;
        const std::vector<std::size_t> surfaces = skin_surfaces(study_, skin);
        const std::vector<std::size_t> regions = skin_regions(study_, skin, r);
        if (!surfaces.empty()) {
            out_.boundary = find_boundary(study_, out_);
            out_.surfaces.resize(study_.surfaces.size());
            for (const std::size_t s : surfaces) {
                out_.surfaces[s] = pick_or_throw(study_.surfaces[s]);
                mark_under_faces(grid, out_.surfaces[s], skin.depth, mark);
            }
            skin_faces_ = true;
        }
        for (const std::size_t target : regions) {
            const std::vector<bool>& core = out_.covered[target];
            for (std::size_t c = 0; c < grid.size(); ++c) {
                if (mark[c] || core[c]) continue;
                bool near = region_distance(study_, out_, static_cast<RegionId>(target), grid.center(c)) <=
                            skin.depth;
                for (int side = 0; !near && side < 2 * grid.axes(); ++side) {
                    const long beyond = grid.neighbour(c, side);
                    near = beyond >= 0 && core[static_cast<std::size_t>(beyond)];
                }
                mark[c] = near;
            }
        }
        for (std::size_t c = 0; c < grid.size(); ++c)
            if (mark[c] && !out_.solid(study_, c)) mark[c] = false;
        if (skin_faces_) out_.surfaces.clear();
        skin_faces_ = false;
    }

    std::vector<CellFace> pick_or_throw(const SurfaceCard& card) {
        std::string story;
        Bounds before;
        std::vector<CellFace> faces = pick(study_, out_, card, story, before);
        if (faces.empty() && before.empty())
            throw Error::input(card.place,
                               "the surface \"" + card.name + "\" picks no face: nothing is solid");
        if (faces.empty())
            throw Error::input(
                card.place,
                fmt::format("the surface \"{}\" picks no face: of {} boundary faces {}", card.name,
                            out_.boundary.size(), story),
                fmt::format(
                    "Loosen the last rule; the middles of the faces before it span ({:g}, {:g}, {:g}) "
                    "to ({:g}, {:g}, {:g})",
                    before.low.x(), before.low.y(), before.low.z(), before.high.x(), before.high.y(),
                    before.high.z()));
        return faces;
    }

    const Study& study_;
    Painting out_;
    bool skin_faces_ = false;
};

} // namespace

Painting paint(const Study& study, const CellGrid& grid) {
    return Painter(study, grid).run();
}

Vec3 face_normal(int side) {
    return Vec3::Unit(side / 2) * (side % 2 == 0 ? -1.0 : 1.0);
}

Vec3 face_center(const CellGrid& grid, const CellFace& face) {
    return grid.center(face.cell) + 0.5 * grid.cell[face.side / 2] * face_normal(face.side);
}

double face_area(const CellGrid& grid, int side) {
    return grid.cell_volume() / grid.cell[side / 2];
}

double region_distance(const Study& study, const Painting& painting, RegionId region, const Vec3& p) {
    const RegionCard& card = study.regions[index(region)];
    if (const Shape* shape = std::get_if<Shape>(&card.extent)) return signed_distance(*shape, p);
    const Skin& skin = std::get<Skin>(card.extent);
    double out = 1e300;
    for (const std::size_t target : skin_regions(study, skin, index(region))) {
        const double d = region_distance(study, painting, static_cast<RegionId>(target), p);
        out = std::min(out, std::max(d - skin.depth, -d));
    }
    if (!painting.surfaces.empty()) {
        for (const std::size_t s : skin_surfaces(study, skin))
            for (const CellFace& face : painting.surfaces[s])
                out = std::min(out, face_distance(painting.grid, face, p) - skin.depth);
    }
    return out;
}

} // namespace upright
