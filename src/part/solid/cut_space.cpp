#include "part/solid/cut_space.hpp"

#include "base/error.hpp"
#include "part/solid/refine.hpp"
#include "part/solid/split.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>
#include <unordered_map>

namespace upright {

namespace {

// In lattice steps: an edge is cut where the face is as near; a node with a cut so near (of the edge) moves
// onto the face, by so much at most, and no angle about it may have a smaller sine after it.
constexpr double reach = 2.5, snap = 0.25, most_move = 0.4, least_after = 0.12;
constexpr double on_it = 1e-7; // already on the sheet
// As good as on it where it cannot be moved: faces that end a hair apart are one edge, not a face between.
constexpr double as_good = 1e-3;
constexpr double beside = 0.01; // to both sides of a cut one asks whose the place is
constexpr double along = 0.9;   // cosine: surfaces that go the same way
// Edges on curved faces bend off them by so much of the radius at most (about 30 degrees an edge), unless
// they are as short, in lattice steps.
constexpr double bend = 0.035, shortest = 0.12;
// The lattice of round faces, in their radii; where there is no grid least_step of the mesh's size at least,
// about smaller ones finest of the lattice's own step.
constexpr double of_radius = 0.8, least_step = 0.5, finest = 0.2;
constexpr int samples = 5;     // each way, over a step
constexpr double agreed = 0.9; // share of a component's volume
constexpr double noise = 2.0;  // cells of it that others own: more than that and a wall has a hole

// Places in cubes of one width: is one of them near?
class Near {
  public:
    explicit Near(double width) : width_(width) {}
    void add(const Vec3& p) { cubes_[key(p, 0, 0, 0)].push_back(p); }
    bool any(const Vec3& p) const {
        for (int i = -1; i <= 1; ++i)
            for (int j = -1; j <= 1; ++j)
                for (int k = -1; k <= 1; ++k) {
                    const auto found = cubes_.find(key(p, i, j, k));
                    if (found == cubes_.end()) continue;
                    for (const Vec3& q : found->second)
                        if ((q - p).squaredNorm() <= width_ * width_) return true;
                }
        return false;
    }

  private:
    std::uint64_t key(const Vec3& p, int i, int j, int k) const {
        const auto part = [&](double v, int by) {
            return static_cast<std::uint64_t>(static_cast<std::int64_t>(std::floor(v / width_)) + by) &
                   0x1fffffU;
        };
        return part(p.x(), i) << 42U | part(p.y(), j) << 21U | part(p.z(), k);
    }
    double width_;
    std::unordered_map<std::uint64_t, std::vector<Vec3>> cubes_;
};

// Cells of the grid; else the size of elements, or less where something is bent more closely.
Vec3 step_of(const Mesh& mesh, const RegionField& regions) {
    if (mesh.on_grid()) return mesh.grid.cell;
    double least = mesh.size;
    for (const Sheet& s : sheets_of(regions, {}, mesh.size))
        if (s.kind == Sheet::Kind::Cylinder || s.kind == Sheet::Kind::Sphere)
            least = std::min(least, of_radius * s.radius);
    return Vec3::Constant(std::max(least, least_step * mesh.size));
}

class SpaceCutter {
  public:
    SpaceCutter(const Mesh& mesh, const RegionField& regions)
        : mesh_(mesh), regions_(regions), step_(step_of(mesh, regions)),
          a_(step_.minCoeff()), out_{{}, SheetSet(sheets_of(regions, planes(), a_), a_), 0.0} {}

    SpaceTets run() {
        out_.tets =
            body_centred(boxes(), [&](const Vec3& p) { return regions_.body_distance(p) < step_.norm(); });
        refine_lattice();
        for (std::size_t s = 0; s < out_.sheets.count(); ++s) cut(static_cast<std::int32_t>(s));
        label();
        forget_sheets_beyond_faces();
        refine_curved(out_.tets, out_.sheets, bend, shortest * a_);
        return std::move(out_);
    }

  private:
    // Round faces that are small for the lattice get a finer one about them: a hole of a cell across would be
    // cut into four, and chords cannot become arcs afterwards where the tetrahedra beside them are as large.
    void refine_lattice() {
        std::vector<const Sheet*> small;
        for (std::size_t s = 0; s < out_.sheets.count(); ++s) {
            const Sheet& sheet = out_.sheets[static_cast<std::int32_t>(s)];
            if ((sheet.kind == Sheet::Kind::Cylinder || sheet.kind == Sheet::Kind::Sphere) &&
                sheet.radius < of_radius * a_)
                small.push_back(&sheet);
        }
        if (small.empty()) return;
        std::vector<bool> all(out_.tets.tets.size(), true);
        split_long_edges(out_.tets, all, out_.sheets, [&](const Vec3& p) {
            double out = 1e300;
            for (const Sheet* sheet : small)
                if (std::abs(sheet->value(p)) < sheet->radius && on_written_face(*sheet, p))
                    out = std::min(out, std::max(of_radius * sheet->radius, finest * a_));
            return out;
        });
    }
    std::vector<std::pair<int, double>> planes() const {
        std::vector<std::pair<int, double>> out;
        for (const SymmetryCut& c : mesh_.symmetry) out.emplace_back(c.axis, c.at);
        return out;
    }
    // Aligned to the grid, two boxes beyond the body on every side.
    LatticeBoxes boxes() const {
        LatticeBoxes out;
        out.step = step_;
        out.origin = mesh_.on_grid() ? mesh_.grid.origin : mesh_.bounds.low;
        Vec3 end = mesh_.on_grid() ? mesh_.grid.box().high : mesh_.bounds.high;
        // In whole steps to what finishing adds beyond the space.
        const double far = 10.0 * (end - out.origin).norm();
        for (const FieldRegion& region : regions_.regions()) {
            const Shape* shape = std::get_if<Shape>(&region.extent);
            if (!region.finish || shape == nullptr || region.role == Role::Void) continue;
            const Bounds box = bounds(*shape);
            for (Eigen::Index a = 0; a < 3; ++a) {
                if (box.low[a] < out.origin[a] && box.low[a] > out.origin[a] - far)
                    out.origin[a] -= step_[a] * std::ceil((out.origin[a] - box.low[a]) / step_[a] - 1e-9);
                if (box.high[a] > end[a] && box.high[a] < end[a] + far) end[a] = box.high[a];
            }
        }
        for (std::size_t i = 0; i < 3; ++i) {
            const auto axis = static_cast<Eigen::Index>(i);
            out.count[i] = static_cast<int>(std::ceil((end - out.origin)[axis] / step_[axis] - 1e-9)) + 4;
        }
        out.origin -= 2.0 * step_;
        return out;
    }
    // -1 where there is no material, or beyond a plane of symmetry.
    std::int32_t owner(const Vec3& p) const {
        for (const SymmetryCut& c : mesh_.symmetry)
            if (c.high ? p[c.axis] > c.at : p[c.axis] < c.at) return -1;
        const RegionId r = regions_.owner(p);
        return r == RegionId::None || regions_[r].role == Role::Void ? -1
                                                                     : static_cast<std::int32_t>(index(r));
    }

    std::vector<Crossing> crossings(const Sheet& sheet, const std::vector<double>& value,
                                    const std::vector<std::array<std::int32_t, 2>>& edges) const {
        std::vector<Crossing> out;
        const CutTets& t = out_.tets;
        for (const auto& [a, b] : edges) {
            double fa = value[static_cast<std::size_t>(a)];
            const double fb = value[static_cast<std::size_t>(b)];
            if (!(fa * fb < 0.0)) continue;
            Vec3 low = t.points[static_cast<std::size_t>(a)];
            Vec3 high = t.points[static_cast<std::size_t>(b)];
            const double length = (high - low).norm();
            Vec3 at = low + (high - low) * (fa / (fa - fb));
            if (sheet.curved()) {
                for (int i = 0; i < 30; ++i) {
                    at = 0.5 * (low + high);
                    const double f = sheet.value(at);
                    (f * fa > 0.0 ? low : high) = at;
                }
            }
            out.push_back({a, b, at, length});
        }
        return out;
    }

    bool between_regions(const Sheet& sheet, const Vec3& p) const {
        const Vec3 off = beside * a_ * sheet.normal(p);
        return owner(p + off) != owner(p - off);
    }

    // Whether the face of a region, as it was written, is there, whoever owns the place.
    bool on_written_face(const Sheet& sheet, const Vec3& p) const {
        return std::any_of(sheet.regions.begin(), sheet.regions.end(), [&](std::int32_t r) {
            return r < 0 ? regions_.body_distance(p) < a_
                         : std::abs(regions_.distance(static_cast<std::size_t>(r), p)) < a_;
        });
    }
    // Whether the field goes along an exact face at a point on it. Sheets are cut some way beyond their
    // faces, and there is none there; other faces it meets at an angle.
    bool follows_a_face(const Sheet& field, std::size_t point) const {
        const Vec3& p = out_.tets.points[point];
        const std::vector<std::int32_t>& on = out_.tets.on[point];
        return std::any_of(on.begin(), on.end(), [&](std::int32_t s) {
            const Sheet& face = out_.sheets[s];
            return std::abs(face.normal(p).dot(field.normal(p))) > along && between_regions(face, p);
        });
    }
    // Whether regions change across the sheet somewhere about the place, within a step.
    bool thin_wall_at(const Sheet& sheet, const Vec3& p) const {
        const auto [u, v] = across(sheet.normal(p));
        for (int i = -samples; i <= samples; ++i)
            for (int j = -samples; j <= samples; ++j) {
                Vec3 at = p + a_ / samples * (i * u + j * v);
                at -= sheet.value(at) * sheet.normal(at);
                if (between_regions(sheet, at)) return true;
            }
        return false;
    }

    void cut(std::int32_t number) {
        CutTets& tets = out_.tets;
        const Sheet& sheet = out_.sheets[number];
        std::vector<double> value(tets.points.size());
#pragma omp parallel for schedule(static)
        for (std::size_t i = 0; i < value.size(); ++i) value[i] = sheet.value(tets.points[i]);
        for (std::size_t i = 0; i < value.size(); ++i) {
            if (std::abs(value[i]) > on_it * a_) continue;
            value[i] = 0.0;
            // A plane goes on beyond its face: what lies on it there is as free as any other.
            if (on_written_face(sheet, tets.points[i]) &&
                (sheet.kind != Sheet::Kind::Field || !follows_a_face(sheet, i)))
                tets.put_on(static_cast<std::int32_t>(i), number);
        }
        const auto edges = tets.edges_across(value, [](std::size_t) { return true; });
        std::vector<Crossing> all = crossings(sheet, value, edges);
        std::vector<char> between(all.size(), 0);
#pragma omp parallel for schedule(dynamic, 64)
        for (std::size_t i = 0; i < all.size(); ++i) {
            // Beyond its written face a plane may touch a face of others, where regions change as well.
            between[i] = on_written_face(sheet, all[i].at) && between_regions(sheet, all[i].at) ? 1 : 0;
        }
        Near face(reach * a_);
        for (std::size_t i = 0; i < all.size(); ++i)
            if (between[i] != 0) face.add(all[i].at);
                // A wall thinner than the lattice may lie between crossings.
#pragma omp parallel for schedule(dynamic, 64)
        for (std::size_t i = 0; i < all.size(); ++i)
            if (!face.any(all[i].at) && on_written_face(sheet, all[i].at) && thin_wall_at(sheet, all[i].at))
                between[i] = 2;
        for (std::size_t i = 0; i < all.size(); ++i)
            if (between[i] == 2) face.add(all[i].at);
        if (std::all_of(between.begin(), between.end(), [](char one) { return one == 0; })) return;
        const auto far = [&](const Crossing& c) { return !face.any(c.at); };
        all.erase(std::remove_if(all.begin(), all.end(), far), all.end());
        move_nodes(number, all, value);
        all = crossings(sheet, value, edges);
        all.erase(std::remove_if(all.begin(), all.end(), far), all.end());
        longest_first(all);
        for (const Crossing& c : all) split_on(tets, out_.sheets, c, number);
    }

    // As far as a node may move, and the angles about it allow.
    bool move_onto(std::int32_t n, const std::vector<std::int32_t>& which) {
        CutTets& tets = out_.tets;
        Vec3& place = tets.points[static_cast<std::size_t>(n)];
        const auto to = out_.sheets.onto(which, place);
        if (!to || (*to - place).norm() > most_move * a_) return false;
        const Vec3 from = place;
        const double before = tets.least_sine_at(n);
        place = *to;
        if (tets.least_sine_at(n) >= std::min(least_after, before)) return true;
        place = from;
        return false;
    }

    // Those that have a cut near, the nearest first.
    void move_nodes(std::int32_t number, const std::vector<Crossing>& all, std::vector<double>& value) {
        CutTets& tets = out_.tets;
        std::vector<std::pair<double, std::int32_t>> wish;
        for (const Crossing& c : all)
            for (const std::int32_t n : {c.a, c.b}) {
                const double d = (tets.points[static_cast<std::size_t>(n)] - c.at).norm();
                if (d < snap * c.length) wish.emplace_back(d, n);
            }
        std::sort(wish.begin(), wish.end());
        for (const auto& [d, n] : wish) {
            const auto i = static_cast<std::size_t>(n);
            if (value[i] == 0.0) continue;
            if (!move_onto(n, with_sheet(tets.on[i], number)) && std::abs(value[i]) > as_good * a_) continue;
            value[i] = 0.0;
            tets.put_on(n, number);
        }
    }

    // Whether a sheet runs through the face and parts its two sides.
    bool is_wall(std::size_t t, std::size_t side, std::size_t other) const {
        const CutTets& tets = out_.tets;
        const std::int32_t p = tets.tets[t][tet_faces[side][0]];
        const std::int32_t q = tets.tets[t][tet_faces[side][1]];
        const std::int32_t r = tets.tets[t][tet_faces[side][2]];
        std::int32_t beyond = -1;
        for (const std::int32_t n : tets.tets[other])
            if (n != p && n != q && n != r) beyond = n;
        for (const std::int32_t s : tets.on[static_cast<std::size_t>(p)]) {
            if (!tets.lies_on(q, s) || !tets.lies_on(r, s)) continue;
            const auto value = [&](std::int32_t n) {
                return tets.lies_on(n, s) ? 0.0
                                          : out_.sheets[s].value(tets.points[static_cast<std::size_t>(n)]);
            };
            if (value(tets.tets[t][side]) * value(beyond) <= 0.0) return true;
        }
        return false;
    }

    // What hangs together between walls is of one region: that of most of its volume. Where a wall has a hole
    // two regions hang together, and every tetrahedron is of the region that owns its middle.
    void label() {
        CutTets& tets = out_.tets;
        const std::vector<std::int32_t> component = connected(
            neighbours_of(tets), [](std::size_t) { return true; },
            [&](std::size_t t, std::size_t side, std::size_t o) { return !is_wall(t, side, o); });
        const std::int32_t count =
            component.empty() ? 0 : *std::max_element(component.begin(), component.end()) + 1;
        std::vector<std::map<std::int32_t, double>> votes(static_cast<std::size_t>(count));
        std::vector<std::int32_t> own(tets.tets.size());
#pragma omp parallel for schedule(dynamic, 256)
        for (std::size_t t = 0; t < own.size(); ++t) own[t] = owner(tets.center(t));
        for (std::size_t t = 0; t < own.size(); ++t) {
            votes[static_cast<std::size_t>(component[t])][own[t]] += tets.volume(t);
        }
        std::vector<std::int32_t> chosen(votes.size(), -2);
        for (std::size_t c = 0; c < votes.size(); ++c) {
            double sum = 0.0;
            std::pair<double, std::int32_t> best{-1.0, -1};
            for (const auto& [region, volume] : votes[c]) {
                sum += volume;
                if (volume > best.first) best = {volume, region};
            }
            const double others = sum - best.first;
            if (best.first >= agreed * sum && others <= noise * step_.prod()) chosen[c] = best.second;
        }
        double whole = 0.0;
        double doubtful = 0.0;
        std::vector<bool> kept(tets.tets.size());
        for (std::size_t t = 0; t < kept.size(); ++t) {
            const std::int32_t c = chosen[static_cast<std::size_t>(component[t])];
            tets.label[t] = c == -2 ? own[t] : c;
            kept[t] = tets.label[t] >= 0;
            if (!kept[t]) continue;
            whole += tets.volume(t);
        }
        // Where regions meet without a wall between them their face is no face of a sheet.
        const auto neighbours = neighbours_of(tets);
        for (std::size_t t = 0; t < kept.size(); ++t) {
            if (chosen[static_cast<std::size_t>(component[t])] != -2) continue;
            bool bare = false;
            for (std::size_t side = 0; side < 4; ++side) {
                const std::int32_t o = neighbours[t][side];
                bare = bare || (o >= 0 && tets.label[static_cast<std::size_t>(o)] != tets.label[t] &&
                                !is_wall(t, side, static_cast<std::size_t>(o)));
            }
            if (bare && kept[t]) doubtful += tets.volume(t);
        }
        if (whole <= 0.0)
            throw Error::input({}, "nothing of the space is left to carve a part from",
                               "Check the regions: upright check");
        out_.doubtful = doubtful / whole;
        tets.keep(kept);
    }

    // Sheets were cut some way beyond their faces. Points there are as free as any other: the design's
    // surface may come by, and would be held to what is no face. A point stays on the sheets that a face
    // about it, of a region or of the space, lies on; on all of them where such a face is on none.
    void forget_sheets_beyond_faces() {
        CutTets& tets = out_.tets;
        const auto neighbours = neighbours_of(tets);
        std::vector<std::vector<std::int32_t>> real(tets.points.size());
        for (std::size_t t = 0; t < tets.tets.size(); ++t)
            for (std::size_t side = 0; side < 4; ++side) {
                const std::int32_t o = neighbours[t][side];
                if (o >= 0 && tets.label[static_cast<std::size_t>(o)] == tets.label[t]) continue;
                std::array<std::int32_t, 3> corners{};
                for (std::size_t k = 0; k < 3; ++k) corners[k] = tets.tets[t][tet_faces[side][k]];
                std::vector<std::int32_t> common;
                for (const std::int32_t s : tets.on[static_cast<std::size_t>(corners[0])])
                    if (tets.lies_on(corners[1], s) && tets.lies_on(corners[2], s)) common.push_back(s);
                for (const std::int32_t n : corners) {
                    const auto i = static_cast<std::size_t>(n);
                    const std::vector<std::int32_t>& held = common.empty() ? tets.on[i] : common;
                    real[i].insert(real[i].end(), held.begin(), held.end());
                }
            }
        for (std::vector<std::int32_t>& sheets : real) {
            std::sort(sheets.begin(), sheets.end());
            sheets.erase(std::unique(sheets.begin(), sheets.end()), sheets.end());
        }
        tets.on = std::move(real);
    }

    const Mesh& mesh_;
    const RegionField& regions_;
    Vec3 step_;
    double a_;
    SpaceTets out_;
};

} // namespace

SpaceTets cut_space(const Mesh& mesh, const RegionField& regions) {
    return SpaceCutter(mesh, regions).run();
}

} // namespace upright
