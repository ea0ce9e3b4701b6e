// Middle surfaces: borders divided once for all that meet there, patches meshed between them.
#include "mesh/mid_surface.hpp"

#include "base/angles.hpp"
#include "base/edge_key.hpp"
#include "base/groups.hpp"
#include "mesh/flat_mesher.hpp"
#include "mesh/middle/sheet.hpp"
#include "mesh/polyline.hpp"
#include "mesh/size_field.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <set>

namespace upright {

namespace {

using middle::Patch;
using middle::Sheet;
using middle::Wall;
using middle::Walls;

constexpr double corner_turn = 30.0 * degree; // of a border
constexpr double piece_turn = 45.0 * degree;  // of one element's side on a round border
constexpr double least_round = 6.0;           // of them about a closed one
constexpr double most_widths = 1.5;           // of a patch, that a side of its border is long
constexpr double growth = 0.4;                // of the size over distance
constexpr double most_triangles = 5e6;
constexpr int most_rounds = 5; // of finer borders where a patch cannot be meshed

constexpr double most_off = 0.15; // of an area, by chords of its borders

double area_of(const std::vector<Vec2>& points, const std::vector<std::array<std::int32_t, 3>>& triangles) {
    double out = 0.0;
    for (const auto& t : triangles) {
        const Vec2& a = points[static_cast<std::size_t>(t[0])];
        const Vec2 u = points[static_cast<std::size_t>(t[1])] - a;
        const Vec2 v = points[static_cast<std::size_t>(t[2])] - a;
        out += 0.5 * (u.x() * v.y() - u.y() * v.x());
    }
    return out;
}

// A stretch of border between corners, or a closed one.
struct Border {
    Polyline line;
    std::array<std::int32_t, 2> ends{}; // points of the sheet; one and the same where it is closed
    std::vector<std::size_t> patches;   // that it bounds, or lies in
    double turning = 0.0;
    int finer = 0;                     // halvings
    std::vector<std::int32_t> samples; // of the result
};

class MidMesher {
  public:
    MidMesher(const FacetBody& body, const MidSurfaceOptions& options, const Place& place)
        : body_(body), walls_(middle::find_walls(body)) {
        if (walls_.all.empty()) {
            const auto& faces = body.mesh().faces;
            const auto other = std::count_if(faces.begin(), faces.end(), [](const FacetFace& f) {
                return f.kind != FaceKind::Plane && f.kind != FaceKind::Cylinder;
            });
            throw Error::input(
                place,
                fmt::format("body \"{}\" has no thin wall between planes or coaxial cylinders ({} of its {} "
                            "faces are of another form)",
                            body.name(), other, faces.size()),
                "Mesh it as a solid; of triangles, whose faces are told apart at sharp edges alone, take the "
                "STEP file");
        }
        sheet_ = middle::middle_sheet(body, walls_);
        double area = 0.0;
        double volume = 0.0;
        for (const Wall& wall : walls_.all) {
            area += wall.area;
            volume += wall.area * wall.thickness;
        }
        out_.size = options.size > 0.0 ? options.size
                                       : std::max(2.0 * volume / area, body.bounds().diagonal() / 50.0);
        double whole = 0.0;
        for (std::size_t f = 0; f < walls_.kept.size(); ++f)
            if (walls_.kept[f]) whole += body.mesh().faces[f].area;
        const double triangles = whole / (0.43 * out_.size * out_.size); // equilateral ones
        if (triangles > most_triangles)
            throw Error::numerics(fmt::format("elements of {:g} make {:.2g} triangles of body \"{}\"",
                                              out_.size, triangles, body.name()),
                                  fmt::format("Write a --mesh-size of {:.2g} or more",
                                              out_.size * std::sqrt(triangles / most_triangles) * 1.05));
    }

    MidSurface make() {
        find_borders();
        for (int round = 0;; ++round) {
            sample();
            if (mesh_patches(round + 1 == most_rounds)) break;
        }
        describe();
        return std::move(out_);
    }

  private:
    const Vec3& point(std::int32_t v) const { return sheet_.points[static_cast<std::size_t>(v)]; }

    static std::vector<std::size_t> patches_at(const Sheet& sheet, std::uint64_t key) {
        std::vector<std::size_t> out;
        for (const std::size_t t : sheet.borders.at(key)) out.push_back(sheet.patch_of[t]);
        std::sort(out.begin(), out.end());
        return out;
    }

    void find_borders() {
        borders_of_.resize(sheet_.patches.size());
        std::map<std::int32_t, std::vector<std::int32_t>> next;
        for (const auto& [key, list] : sheet_.borders) {
            const auto a = static_cast<std::int32_t>(key >> 32U);
            const auto b = static_cast<std::int32_t>(key & 0xffffffffU);
            next[a].push_back(b);
            next[b].push_back(a);
        }
        const auto turn_at = [&](std::int32_t a, std::int32_t v, std::int32_t b) {
            const Vec3 u = point(v) - point(a);
            const Vec3 w = point(b) - point(v);
            return std::atan2(u.cross(w).norm(), u.dot(w));
        };
        const auto corner = [&](std::int32_t v) {
            const auto& list = next.at(v);
            return list.size() != 2 || turn_at(list[0], v, list[1]) > corner_turn ||
                   patches_at(sheet_, edge_key(list[0], v)) != patches_at(sheet_, edge_key(v, list[1]));
        };
        std::set<std::uint64_t> used;
        const auto walk = [&](std::int32_t from, std::int32_t to, bool closed) {
            if (!used.insert(edge_key(from, to)).second) return;
            Border out;
            out.patches = patches_at(sheet_, edge_key(from, to));
            out.patches.erase(std::unique(out.patches.begin(), out.patches.end()), out.patches.end());
            out.line.points = {point(from), point(to)};
            std::int32_t before = from;
            std::int32_t here = to;
            while (here != from && (closed || !corner(here))) {
                const auto& list = next.at(here);
                const std::int32_t onward = list[0] == before ? list[1] : list[0];
                out.turning += turn_at(before, here, onward);
                used.insert(edge_key(here, onward));
                out.line.points.push_back(point(onward));
                before = here;
                here = onward;
            }
            out.ends = {from, here};
            out.line.measure();
            for (const std::size_t k : out.patches) borders_of_[k].push_back(borders_.size());
            borders_.push_back(std::move(out));
        };
        for (const auto& [v, list] : next)
            if (corner(v))
                for (const std::int32_t to : list) walk(v, to, false);
        for (const auto& [v, list] : next)
            for (const std::int32_t to : list) walk(v, to, true);
    }

    // What a border asks for by itself: the size, or less where a patch is narrow or it turns.
    double own_size(const Border& border) const {
        double most = out_.size;
        for (const std::size_t k : border.patches)
            most = std::min(most, most_widths * sheet_.patches[k].width);
        const bool closed = border.ends[0] == border.ends[1];
        const double least = std::max(closed ? least_round : 1.0, border.turning / piece_turn);
        const double count = std::ceil(std::max(border.line.length() / most, least) - 0.2);
        return border.line.length() / (count * std::pow(2.0, border.finer));
    }

    // Shares of each border that grow with the distance from what is finer, on the surfaces that it lies on.
    void sample() {
        Bounds box;
        for (const Vec3& p : sheet_.points) box.include(p);
        SizeField sizes(box, out_.size, 0.5 * out_.size);
        for (const Border& border : borders_) {
            const double own = own_size(border);
            const int n = static_cast<int>(std::ceil(border.line.length() / own)) * 2;
            for (int i = 0; i <= n; ++i) sizes.ask(border.line.at(border.line.length() * i / n), own);
        }
        sizes.limit(growth);
        out_.mesh.points.clear();
        std::map<std::int32_t, std::int32_t> ends; // points of the sheet that are nodes
        for (Border& border : borders_) {
            const double own = own_size(border);
            const int fine = 20 * static_cast<int>(std::ceil(border.line.length() / own));
            std::vector<double> sum{0.0};
            for (int i = 0; i < fine; ++i) {
                const Vec3 p = border.line.at(border.line.length() * (i + 0.5) / fine);
                sum.push_back(sum.back() + border.line.length() / fine / std::min(own, sizes.at(p)));
            }
            const int count = std::max(1, static_cast<int>(std::lround(sum.back())));
            const auto end = [&](std::int32_t v) {
                const auto [found, fresh] =
                    ends.emplace(v, static_cast<std::int32_t>(out_.mesh.points.size()));
                if (fresh) out_.mesh.points.push_back(point(v));
                return found->second;
            };
            border.samples = {end(border.ends[0])};
            for (int i = 1; i < count; ++i) {
                const double want = sum.back() * i / count;
                const auto above = std::upper_bound(sum.begin(), sum.end(), want);
                const double share = (want - *(above - 1)) / (*above - *(above - 1));
                const double along =
                    border.line.length() * (static_cast<double>(above - 1 - sum.begin()) + share) / fine;
                border.samples.push_back(static_cast<std::int32_t>(out_.mesh.points.size()));
                out_.mesh.points.push_back(onto(border, border.line.at(along)));
            }
            border.samples.push_back(end(border.ends[1]));
        }
    }

    Vec3 onto(const Border& border, Vec3 p) const {
        if (border.patches.size() == 1) return sheet_.patches[border.patches.front()].nearest(p);
        for (int pass = 0; pass < 4; ++pass)
            for (const std::size_t k : border.patches)
                if (sheet_.patches[k].round) p = sheet_.patches[k].nearest(p);
        return p;
    }

    // False where one of them needs finer borders, which it has then.
    bool mesh_patches(bool last) {
        out_.mesh.triangles.clear();
        out_.mesh.face_of.clear();
        out_.smallest_angle = 180.0;
        bool whole = true;
        for (std::size_t k = 0; k < sheet_.patches.size(); ++k) {
            try {
                mesh_patch(k);
            } catch (const Error& bad) {
                const int number = body_.mesh().faces[sheet_.patches[k].face].number;
                if (last)
                    throw Error::numerics(
                        fmt::format("the middle of face {} of body \"{}\" cannot be meshed: {}", number,
                                    body_.name(), bad.what()),
                        "Write a smaller --mesh-size");
                whole = false;
                for (const std::size_t b : borders_of_[k]) ++borders_[b].finer;
            }
        }
        return whole;
    }

    void mesh_patch(std::size_t k) {
        const Patch& patch = sheet_.patches[k];
        FlatInput input;
        std::map<std::int32_t, std::int32_t> number;
        for (const std::size_t t : patch.triangles) {
            std::array<std::int32_t, 3> ids{};
            for (std::size_t i = 0; i < 3; ++i) {
                const std::int32_t v = sheet_.triangles[t][i];
                const auto [at, fresh] = number.emplace(v, static_cast<std::int32_t>(input.points.size()));
                if (fresh) input.points.push_back(patch.flat(point(v)));
                ids[i] = at->second;
            }
            input.triangles.push_back(ids);
            input.region.push_back(0);
        }
        std::map<std::pair<double, double>, std::int32_t> known;
        for (const std::size_t b : borders_of_[k]) {
            const Border& border = borders_[b];
            std::vector<Vec2>& chain = input.kept_borders.emplace_back();
            for (const std::int32_t v : border.samples) {
                chain.push_back(patch.flat(out_.mesh.points[static_cast<std::size_t>(v)]));
                known[{chain.back().x(), chain.back().y()}] = v;
            }
        }
        FlatOptions options;
        options.gradient = growth;
        options.size = patch.round ? std::min(out_.size, piece_turn * patch.radius) : out_.size;
        const FlatTriangles flat = make_flat_triangles(input, options);
        const double asked = area_of(input.points, input.triangles);
        const double got = area_of(flat.points, flat.triangles);
        if (std::abs(got - asked) > most_off * asked)
            throw Error::numerics(fmt::format("{:.4g} of its area of {:.4g} come out", got, asked));
        std::vector<std::int32_t> node;
        for (const Vec2& q : flat.points) {
            const auto found = known.find({q.x(), q.y()});
            node.push_back(found != known.end() ? found->second
                                                : static_cast<std::int32_t>(out_.mesh.points.size()));
            if (found == known.end()) out_.mesh.points.push_back(patch.place(q));
        }
        for (const auto& t : flat.triangles) {
            out_.mesh.triangles.push_back({node[static_cast<std::size_t>(t[0])],
                                           node[static_cast<std::size_t>(t[1])],
                                           node[static_cast<std::size_t>(t[2])]});
            out_.mesh.face_of.push_back(static_cast<std::int32_t>(patch.face));
        }
        out_.smallest_angle = std::min(out_.smallest_angle, flat.smallest_angle);
    }

    // Faces by their own numbers, walls, what is left, pieces.
    void describe() {
        const std::vector<FacetFace>& faces = body_.mesh().faces;
        std::vector<std::int32_t> number(faces.size(), -1);
        for (std::size_t f = 0; f < faces.size(); ++f) {
            if (!walls_.kept[f]) {
                if (!walls_.side[f] && !walls_.edge[f] && walls_.rounds[f].empty())
                    out_.left.push_back({faces[f].number, faces[f].area});
                continue;
            }
            number[f] = static_cast<std::int32_t>(out_.mesh.faces.size());
            FacetFace face = faces[f];
            face.number = number[f] + 1;
            const double half = 0.5 * walls_.thickness[f];
            if (face.kind == FaceKind::Cylinder) face.radius += face.hole ? half : -half;
            out_.mesh.faces.push_back(face);
            MidSurface::Wall& wall = out_.walls.emplace_back();
            wall.side = {faces[f].number};
            wall.thickness = walls_.thickness[f];
            wall.least = walls_.least[f];
            wall.most = walls_.most[f];
            for (const Wall& one : walls_.all) {
                const auto a = static_cast<std::size_t>(one.a);
                const auto b = static_cast<std::size_t>(one.b);
                if (a == f) wall.other.push_back(faces[b].number);
                if (b == f) wall.other.push_back(faces[a].number);
            }
        }
        for (std::int32_t& f : out_.mesh.face_of) f = number[static_cast<std::size_t>(f)];
        measure_faces(out_.mesh);
        for (std::size_t i = 0; i < out_.walls.size(); ++i)
            out_.volume += out_.walls[i].thickness * out_.mesh.faces[i].area;
        count_pieces();
    }

    void count_pieces() {
        const FacetMesh& mesh = out_.mesh;
        Groups one(mesh.points.size());
        for (const auto& t : mesh.triangles) {
            one.join(static_cast<std::size_t>(t[0]), static_cast<std::size_t>(t[1]));
            one.join(static_cast<std::size_t>(t[0]), static_cast<std::size_t>(t[2]));
        }
        std::map<std::size_t, std::vector<std::array<std::int32_t, 3>>> pieces;
        for (const auto& t : mesh.triangles) pieces[one.root(static_cast<std::size_t>(t[0]))].push_back(t);
        out_.pieces = static_cast<int>(pieces.size());
        if (pieces.size() < 2) return;
        // From the largest to the one that is nearest to it.
        const auto largest = std::max_element(pieces.begin(), pieces.end(), [](const auto& p, const auto& q) {
            return p.second.size() < q.second.size();
        });
        const FacetTree tree(mesh.points, largest->second);
        out_.gap = 1e300;
        for (std::size_t v = 0; v < mesh.points.size(); ++v) {
            if (one.root(v) == largest->first || pieces.count(one.root(v)) == 0) continue;
            const FacetTree::Nearest near = tree.nearest(mesh.points[v], out_.gap);
            if (near.triangle < 0 || near.distance >= out_.gap) continue;
            out_.gap = near.distance;
            out_.gap_at = near.place;
        }
    }

    const FacetBody& body_;
    Walls walls_;
    Sheet sheet_;
    std::vector<Border> borders_;
    std::vector<std::vector<std::size_t>> borders_of_; // each patch
    MidSurface out_;
};

} // namespace

MidSurface make_mid_surface(const FacetBody& body, const MidSurfaceOptions& options, const Place& place) {
    return MidMesher(body, options, place).make();
}

} // namespace upright
