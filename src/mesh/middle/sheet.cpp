// From the sides of walls to their middle.
#include "mesh/middle/sheet.hpp"

#include "base/angles.hpp"
#include "base/edge_key.hpp"
#include "base/groups.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <array>
#include <cmath>
#include <optional>
#include <set>

namespace upright::middle {

namespace {

// Normals within three degrees count as one: which of them a point follows across is not told.
constexpr double least_singular = 0.05;
// Points are one within so much of the thinnest wall; borders of unlike sides within so much.
constexpr double same = 1e-3, joined = 0.5;

class SheetMaker {
  public:
    SheetMaker(const FacetBody& body, const Walls& walls) : mesh_(body.mesh()), walls_(walls) {
        for (const Wall& wall : walls.all) thinnest_ = std::min(thinnest_, wall.thickness);
    }

    Sheet make() {
        move_points();
        join();
        find_patches();
        measure_widths();
        return std::move(out_);
    }

  private:
    const FacetFace& face(std::size_t f) const { return mesh_.faces[f]; }
    const Vec3& point(std::size_t t, std::size_t i) const {
        return out_.points[static_cast<std::size_t>(out_.triangles[t][i])];
    }

    // The shortest way that goes to the middle of every wall at a point: of those whose side it lies on, and
    // of planes that go over into it by a rounded corner.
    void move_points() {
        std::vector<std::set<std::size_t>> at(mesh_.points.size());
        for (std::size_t t = 0; t < mesh_.triangles.size(); ++t) {
            const auto f = static_cast<std::size_t>(mesh_.face_of[t]);
            for (const std::int32_t v : mesh_.triangles[t]) {
                if (walls_.side[f]) at[static_cast<std::size_t>(v)].insert(f);
                for (const std::size_t g : walls_.rounds[f])
                    if (face(g).kind == FaceKind::Plane) at[static_cast<std::size_t>(v)].insert(g);
            }
        }
        out_.points = mesh_.points;
        for (std::size_t v = 0; v < at.size(); ++v) {
            if (at[v].empty()) continue;
            Eigen::MatrixXd A(static_cast<Eigen::Index>(at[v].size()), 3);
            Eigen::VectorXd b(A.rows());
            Eigen::Index row = 0;
            for (const std::size_t f : at[v]) {
                const Vec3 normal = exact_normal(face(f), mesh_.points[v]);
                A.row(row) = normal.transpose();
                const double above =
                    face(f).kind == FaceKind::Plane ? (mesh_.points[v] - face(f).centroid).dot(normal) : 0.0;
                b(row++) = -above - 0.5 * walls_.thickness[f];
            }
            Eigen::JacobiSVD<Eigen::MatrixXd> svd(A, Eigen::ComputeThinU | Eigen::ComputeThinV);
            svd.setThreshold(least_singular);
            out_.points[v] += Vec3(svd.solve(b));
        }
        for (std::size_t t = 0; t < mesh_.triangles.size(); ++t) {
            const auto f = static_cast<std::size_t>(mesh_.face_of[t]);
            if (!walls_.kept[f]) continue;
            out_.triangles.push_back(mesh_.triangles[t]);
            face_of_.push_back(f);
        }
    }

    bool is_one(const Vec3& p, const Vec3& q, const std::set<std::size_t>& a,
                const std::set<std::size_t>& b) const {
        const double d = (p - q).norm();
        if (d >= joined * thinnest_) return false;
        return d < same * thinnest_ ||
               std::none_of(a.begin(), a.end(), [&](std::size_t f) { return b.count(f) > 0; });
    }

    void join() {
        std::vector<std::set<std::size_t>> faces(out_.points.size());
        for (std::size_t t = 0; t < out_.triangles.size(); ++t)
            for (const std::int32_t v : out_.triangles[t])
                faces[static_cast<std::size_t>(v)].insert(face_of_[t]);
        // Points by cells as wide as what is joined.
        const double width = joined * thinnest_;
        std::vector<std::size_t> order;
        std::map<std::array<long, 3>, std::vector<std::size_t>> cells;
        const auto cell_of = [&](const Vec3& p) {
            return std::array<long, 3>{std::lround(p.x() / width), std::lround(p.y() / width),
                                       std::lround(p.z() / width)};
        };
        Groups one(out_.points.size());
        for (std::size_t v = 0; v < faces.size(); ++v) {
            if (faces[v].empty()) continue;
            const Vec3& p = out_.points[v];
            const std::array<long, 3> at = cell_of(p);
            for (long i = -1; i <= 1; ++i)
                for (long j = -1; j <= 1; ++j)
                    for (long k = -1; k <= 1; ++k) {
                        const auto found = cells.find({at[0] + i, at[1] + j, at[2] + k});
                        if (found == cells.end()) continue;
                        for (const std::size_t u : found->second)
                            if (is_one(p, out_.points[u], faces[v], faces[u])) one.join(u, v);
                    }
            cells[at].push_back(v);
            order.push_back(v);
        }
        std::vector<Vec3> sum(out_.points.size(), Vec3::Zero());
        std::vector<double> count(out_.points.size(), 0.0);
        for (const std::size_t v : order) {
            sum[one.root(v)] += out_.points[v];
            count[one.root(v)] += 1.0;
        }
        std::vector<std::int32_t> number(out_.points.size(), -1);
        std::vector<Vec3> points;
        std::vector<std::array<std::int32_t, 3>> triangles;
        std::vector<std::size_t> face_of;
        for (std::size_t t = 0; t < out_.triangles.size(); ++t) {
            std::array<std::int32_t, 3> ids{};
            for (std::size_t i = 0; i < 3; ++i) {
                const std::size_t root = one.root(static_cast<std::size_t>(out_.triangles[t][i]));
                if (number[root] < 0) {
                    number[root] = static_cast<std::int32_t>(points.size());
                    points.push_back(sum[root] / count[root]);
                }
                ids[i] = number[root];
            }
            if (ids[0] == ids[1] || ids[1] == ids[2] || ids[2] == ids[0]) continue;
            triangles.push_back(ids);
            face_of.push_back(face_of_[t]);
        }
        out_.points = std::move(points);
        out_.triangles = std::move(triangles);
        face_of_ = std::move(face_of);
    }

    double angle_about(const FacetFace& f, const Vec3& e1, const Vec3& e2, const Vec3& p) const {
        const Vec3 d = p - on_axis(f, p);
        return std::atan2(d.dot(e2), d.dot(e1));
    }

    // Two directions across the axis of a cylinder, and the middle of the widest stretch about it that no
    // triangle of the face covers; nothing where all is covered.
    struct Round {
        Vec3 e1, e2;
        std::optional<double> free;
    };
    Round round_of(std::size_t f) const {
        Round out;
        const Vec3 along = (face(f).axis_to - face(f).axis_from).normalized();
        out.e1 = along.unitOrthogonal();
        out.e2 = along.cross(out.e1);
        std::vector<std::pair<double, double>> covered; // from, to
        for (std::size_t t = 0; t < out_.triangles.size(); ++t) {
            if (face_of_[t] != f) continue;
            const double a = angle_about(face(f), out.e1, out.e2, point(t, 0));
            double low = 0.0;
            double high = 0.0;
            for (std::size_t i = 1; i < 3; ++i) {
                const double d =
                    std::remainder(angle_about(face(f), out.e1, out.e2, point(t, i)) - a, 2.0 * pi);
                low = std::min(low, d);
                high = std::max(high, d);
            }
            double from = std::remainder(a + low, 2.0 * pi);
            const double width = high - low;
            covered.emplace_back(from, from + width);
            if (from + width > pi) covered.emplace_back(from - 2.0 * pi, from + width - 2.0 * pi);
        }
        std::sort(covered.begin(), covered.end());
        double reached = covered.front().first;
        double widest = 1e-3;
        for (const auto& [from, to] : covered) {
            if (from - reached > widest) {
                widest = from - reached;
                out.free = 0.5 * (from + reached);
            }
            reached = std::max(reached, to);
        }
        // Round the end.
        if (const double last = covered.front().first + 2.0 * pi - reached; last > widest)
            out.free = reached + 0.5 * last;
        return out;
    }

    // Parts of one face that hang together over edges of two triangles; whole turns in two halves.
    void find_patches() {
        std::map<std::size_t, Round> rounds;
        for (const std::size_t f : face_of_)
            if (face(f).kind == FaceKind::Cylinder && rounds.count(f) == 0) rounds[f] = round_of(f);
        const auto half = [&](std::size_t t) {
            const auto found = rounds.find(face_of_[t]);
            if (found == rounds.end() || found->second.free) return 0;
            const Vec3 middle = (point(t, 0) + point(t, 1) + point(t, 2)) / 3.0;
            return angle_about(face(face_of_[t]), found->second.e1, found->second.e2, middle) >= 0.0 ? 1 : 2;
        };
        std::map<std::uint64_t, std::vector<std::size_t>> edges;
        for (std::size_t t = 0; t < out_.triangles.size(); ++t)
            for (std::size_t i = 0; i < 3; ++i)
                edges[edge_key(out_.triangles[t][i], out_.triangles[t][(i + 1) % 3])].push_back(t);
        Groups one(out_.triangles.size());
        for (const auto& [key, list] : edges)
            if (list.size() == 2 && face_of_[list[0]] == face_of_[list[1]] && half(list[0]) == half(list[1]))
                one.join(list[0], list[1]);
        std::map<std::size_t, std::size_t> number;
        for (std::size_t t = 0; t < out_.triangles.size(); ++t) {
            const auto [at, fresh] = number.emplace(one.root(t), out_.patches.size());
            if (fresh) {
                out_.patches.emplace_back();
                Patch& patch = out_.patches.back();
                const FacetFace& f = face(face_of_[t]);
                patch.face = face_of_[t];
                patch.round = f.kind == FaceKind::Cylinder;
                if (patch.round) {
                    const Round& round = rounds.at(patch.face);
                    const double about = half(t) == 1   ? 0.5 * pi
                                         : half(t) == 2 ? -0.5 * pi
                                                        : *round.free + pi;
                    patch.e1 = std::cos(about) * round.e1 + std::sin(about) * round.e2;
                    patch.e3 = (f.axis_to - f.axis_from).normalized();
                    patch.e2 = patch.e3.cross(patch.e1);
                    patch.origin = f.axis_from;
                    patch.sense = f.hole ? -1.0 : 1.0;
                } else {
                    patch.e3 = f.normal.normalized();
                    patch.e1 = patch.e3.unitOrthogonal();
                    patch.e2 = patch.e3.cross(patch.e1);
                    patch.origin = f.centroid - 0.5 * walls_.thickness[patch.face] * patch.e3;
                }
                patch.radius = f.radius + (f.hole ? 0.5 : -0.5) * walls_.thickness[patch.face];
            }
            out_.patch_of.push_back(at->second);
            out_.patches[at->second].triangles.push_back(t);
        }
        for (const auto& [key, list] : edges) {
            const bool inside = list.size() == 2 && out_.patch_of[list[0]] == out_.patch_of[list[1]];
            if (!inside) out_.borders[key] = list;
        }
    }

    void measure_widths() {
        std::vector<double> border(out_.patches.size(), 0.0);
        for (const auto& [key, list] : out_.borders)
            for (const std::size_t t : list)
                border[out_.patch_of[t]] += (out_.points[key >> 32U] - out_.points[key & 0xffffffffU]).norm();
        std::vector<double> area(out_.patches.size(), 0.0);
        for (std::size_t t = 0; t < out_.triangles.size(); ++t)
            area[out_.patch_of[t]] +=
                0.5 * (point(t, 1) - point(t, 0)).cross(point(t, 2) - point(t, 0)).norm();
        for (std::size_t k = 0; k < out_.patches.size(); ++k)
            out_.patches[k].width = 2.0 * area[k] / std::max(border[k], 1e-300);
    }

    const FacetMesh& mesh_;
    const Walls& walls_;
    double thinnest_ = 1e300;
    std::vector<std::size_t> face_of_; // of the body, of each triangle
    Sheet out_;
};

} // namespace

Vec2 Patch::flat(const Vec3& p) const {
    const Vec3 d = p - origin;
    if (!round) return {d.dot(e1), d.dot(e2)};
    return {sense * radius * std::atan2(d.dot(e2), d.dot(e1)), d.dot(e3)};
}

Vec3 Patch::place(const Vec2& q) const {
    if (!round) return origin + q.x() * e1 + q.y() * e2;
    const double angle = sense * q.x() / radius;
    return origin + radius * (std::cos(angle) * e1 + std::sin(angle) * e2) + q.y() * e3;
}

Vec3 Patch::nearest(const Vec3& p) const {
    if (!round) return p - (p - origin).dot(e3) * e3;
    const Vec3 foot = origin + (p - origin).dot(e3) * e3;
    return foot + radius * (p - foot).normalized();
}

Sheet middle_sheet(const FacetBody& body, const Walls& walls) {
    return SheetMaker(body, walls).make();
}

} // namespace upright::middle
