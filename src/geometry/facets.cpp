#include "geometry/facets.hpp"

#include "base/angles.hpp"
#include "base/edge_key.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>
#include <unordered_map>

namespace upright {

const char* text(FaceKind kind) {
    switch (kind) {
    case FaceKind::Plane:
        return "plane";
    case FaceKind::Cylinder:
        return "cylinder";
    case FaceKind::Cone:
        return "cone";
    case FaceKind::Sphere:
        return "sphere";
    case FaceKind::Torus:
        return "torus";
    case FaceKind::FreeForm:
        break;
    }
    return "free form";
}

namespace {

constexpr int leaf_size = 4;

double box_distance2(const Eigen::Vector3f& low, const Eigen::Vector3f& high, const Vec3& p) {
    double out = 0.0;
    for (int a = 0; a < 3; ++a) {
        const double d =
            std::max({static_cast<double>(low[a]) - p[a], 0.0, p[a] - static_cast<double>(high[a])});
        out += d * d;
    }
    return out;
}

Vec3 area_vector(const FacetMesh& mesh, std::size_t t) {
    const auto& c = mesh.triangles[t];
    const auto at = [&](int i) -> const Vec3& {
        return mesh.points[static_cast<std::size_t>(c[static_cast<std::size_t>(i)])];
    };
    return 0.5 * (at(1) - at(0)).cross(at(2) - at(0));
}

Vec3 middle(const FacetMesh& mesh, std::size_t t) {
    Vec3 out = Vec3::Zero();
    for (const std::int32_t i : mesh.triangles[t]) out += mesh.points[static_cast<std::size_t>(i)];
    return out / 3.0;
}

// Fits a circular cylinder: the axis is the direction across all normals; the radius by a circle fit.
void fit(const FacetMesh& mesh, const std::vector<std::size_t>& triangles, FacetFace& face) {
    Mat3 spread = Mat3::Zero();
    for (const std::size_t t : triangles) {
        const Vec3 a = area_vector(mesh, t);
        if (a.norm() > 0.0) spread += a * a.transpose() / a.norm();
    }
    spread /= std::max(spread.trace(), 1e-300);
    const Eigen::SelfAdjointEigenSolver<Mat3> eigen(spread);
    if (eigen.eigenvalues()[1] < 1e-6) {
        face.kind = FaceKind::Plane;
        return;
    }
    face.kind = FaceKind::FreeForm;
    if (eigen.eigenvalues()[0] > 1e-6) return;
    const Vec3 axis = eigen.eigenvectors().col(0);
    const Vec3 u = eigen.eigenvectors().col(1);
    const Vec3 v = eigen.eigenvectors().col(2);
    Mat3 normal = Mat3::Zero();
    Vec3 right = Vec3::Zero();
    double low = 1e300;
    double high = -1e300;
    for (const std::size_t t : triangles)
        for (const std::int32_t i : mesh.triangles[t]) {
            const Vec3& p = mesh.points[static_cast<std::size_t>(i)];
            const Vec3 row(p.dot(u), p.dot(v), 1.0);
            normal += row * row.transpose();
            right += row * row.head<2>().squaredNorm();
            low = std::min(low, p.dot(axis));
            high = std::max(high, p.dot(axis));
        }
    const Vec3 solution = normal.ldlt().solve(right);
    const Vec2 center = 0.5 * solution.head<2>();
    const double radius = std::sqrt(std::max(0.0, solution[2] + center.squaredNorm()));
    double inward = 0.0;
    for (const std::size_t t : triangles) {
        for (const std::int32_t i : mesh.triangles[t]) {
            const Vec3& p = mesh.points[static_cast<std::size_t>(i)];
            if (std::abs(std::hypot(p.dot(u) - center.x(), p.dot(v) - center.y()) - radius) > 0.01 * radius)
                return;
        }
        const Vec3 m = middle(mesh, t);
        inward += area_vector(mesh, t).dot((m.dot(u) - center.x()) * u + (m.dot(v) - center.y()) * v);
    }
    face.kind = FaceKind::Cylinder;
    face.radius = radius;
    face.hole = inward < 0.0;
    face.axis_from = center.x() * u + center.y() * v + low * axis;
    face.axis_to = center.x() * u + center.y() * v + high * axis;
}

} // namespace

Vec3 nearest_on_triangle(const Vec3& p, const Vec3& a, const Vec3& b, const Vec3& c) {
    const Vec3 ab = b - a;
    const Vec3 ac = c - a;
    const Vec3 ap = p - a;
    const double d1 = ab.dot(ap);
    const double d2 = ac.dot(ap);
    if (d1 <= 0 && d2 <= 0) return a;
    const Vec3 bp = p - b;
    const double d3 = ab.dot(bp);
    const double d4 = ac.dot(bp);
    if (d3 >= 0 && d4 <= d3) return b;
    const double vc = d1 * d4 - d3 * d2;
    if (vc <= 0 && d1 >= 0 && d3 <= 0) return a + ab * (d1 / (d1 - d3));
    const Vec3 cp = p - c;
    const double d5 = ab.dot(cp);
    const double d6 = ac.dot(cp);
    if (d6 >= 0 && d5 <= d6) return c;
    const double vb = d5 * d2 - d1 * d6;
    if (vb <= 0 && d2 >= 0 && d6 <= 0) return a + ac * (d2 / (d2 - d6));
    const double va = d3 * d6 - d5 * d4;
    if (va <= 0 && d4 - d3 >= 0 && d5 - d6 >= 0) return b + (c - b) * ((d4 - d3) / ((d4 - d3) + (d5 - d6)));
    const double sum = va + vb + vc;
    return a + ab * (vb / sum) + ac * (vc / sum);
}

FacetTree::FacetTree(const std::vector<Vec3>& points,
                     const std::vector<std::array<std::int32_t, 3>>& triangles) {
    Bounds all;
    std::vector<Vec3> middles;
    for (const auto& t : triangles) {
        std::array<Vec3, 3> c;
        for (std::size_t i = 0; i < 3; ++i) {
            c[i] = points[static_cast<std::size_t>(t[i])];
            all.include(c[i]);
        }
        corners_.push_back(c);
        middles.push_back((c[0] + c[1] + c[2]) / 3.0);
    }
    if (corners_.empty()) return;
    shift_ = all.center();
    slack_ = static_cast<float>(1e-6 * std::max(all.diagonal(), 1e-300));
    order_.resize(corners_.size());
    std::iota(order_.begin(), order_.end(), 0);
    boxes_.reserve(corners_.size());
    build(0, static_cast<std::int32_t>(order_.size()), middles);
    for (const std::int32_t t : order_) in_leaf_.push_back(corners_[static_cast<std::size_t>(t)]);
}

std::int32_t FacetTree::build(std::int32_t first, std::int32_t last, std::vector<Vec3>& middles) {
    const auto self = static_cast<std::int32_t>(boxes_.size());
    boxes_.emplace_back();
    Bounds box;
    Bounds spread;
    for (std::int32_t i = first; i < last; ++i) {
        const auto t = static_cast<std::size_t>(order_[static_cast<std::size_t>(i)]);
        for (const Vec3& p : corners_[t]) box.include(Vec3(p - shift_));
        spread.include(middles[t]);
    }
    Box node;
    node.low = box.low.cast<float>().array() - slack_;
    node.high = box.high.cast<float>().array() + slack_;
    if (last - first <= leaf_size) {
        node.first = first;
        node.count = last - first;
        boxes_[static_cast<std::size_t>(self)] = node;
        return self;
    }
    int axis = 0;
    spread.size().maxCoeff(&axis);
    const std::int32_t half = (first + last) / 2;
    std::nth_element(order_.begin() + first, order_.begin() + half, order_.begin() + last,
                     [&](std::int32_t a, std::int32_t b) {
                         return middles[static_cast<std::size_t>(a)][axis] <
                                middles[static_cast<std::size_t>(b)][axis];
                     });
    build(first, half, middles);
    node.first = build(half, last, middles);
    boxes_[static_cast<std::size_t>(self)] = node;
    return self;
}

FacetTree::Nearest FacetTree::nearest(const Vec3& place, double reach) const {
    Nearest out;
    if (boxes_.empty()) return out;
    const Vec3 p = place - shift_;
    double best = reach < 1e150 ? reach * reach : 1e300;
    std::array<std::pair<std::int32_t, double>, 96> stack;
    std::size_t top = 0;
    stack[top++] = {0, box_distance2(boxes_[0].low, boxes_[0].high, p)};
    while (top > 0) {
        const auto [at, near] = stack[--top];
        if (near >= best) continue;
        const Box& box = boxes_[static_cast<std::size_t>(at)];
        if (box.count > 0) {
            for (std::int32_t i = box.first; i < box.first + box.count; ++i) {
                const auto& c = in_leaf_[static_cast<std::size_t>(i)];
                const Vec3 q = nearest_on_triangle(place, c[0], c[1], c[2]);
                const double d = (q - place).squaredNorm();
                if (d < best) {
                    best = d;
                    out.triangle = order_[static_cast<std::size_t>(i)];
                    out.place = q;
                }
            }
            continue;
        }
        const Box& left = boxes_[static_cast<std::size_t>(at) + 1];
        const Box& right = boxes_[static_cast<std::size_t>(box.first)];
        const double dl = box_distance2(left.low, left.high, p);
        const double dr = box_distance2(right.low, right.high, p);
        const std::pair<std::int32_t, double> l{at + 1, dl};
        const std::pair<std::int32_t, double> r{box.first, dr};
        stack[top++] = dl < dr ? r : l;
        stack[top++] = dl < dr ? l : r;
    }
    if (out.triangle >= 0) out.distance = std::sqrt(best);
    return out;
}

void FacetTree::crossings(const Vec3& from, const Vec3& direction, std::vector<Hit>& out) const {
    out.clear();
    if (boxes_.empty()) return;
    const Vec3 o = from - shift_;
    const Vec3 inverse = direction.cwiseInverse();
    std::array<std::int32_t, 96> stack;
    std::size_t top = 0;
    stack[top++] = 0;
    while (top > 0) {
        const std::int32_t at = stack[--top];
        const Box& box = boxes_[static_cast<std::size_t>(at)];
        double enter = 0.0;
        double leave = 1e300;
        for (int a = 0; a < 3; ++a) {
            double t0 = (static_cast<double>(box.low[a]) - o[a]) * inverse[a];
            double t1 = (static_cast<double>(box.high[a]) - o[a]) * inverse[a];
            if (t0 > t1) std::swap(t0, t1);
            enter = std::max(enter, t0);
            leave = std::min(leave, t1);
        }
        if (enter > leave) continue;
        if (box.count == 0) {
            stack[top++] = at + 1;
            stack[top++] = box.first;
            continue;
        }
        for (std::int32_t i = box.first; i < box.first + box.count; ++i) {
            const std::int32_t t = order_[static_cast<std::size_t>(i)];
            const auto& c = corners_[static_cast<std::size_t>(t)];
            const Vec3 e1 = c[1] - c[0];
            const Vec3 e2 = c[2] - c[0];
            const Vec3 n = e1.cross(e2);
            const double det = -direction.dot(n);
            const double size = n.norm() * direction.norm();
            if (std::abs(det) < 1e-14 * size || size == 0.0) continue;
            const Vec3 r = from - c[0];
            const double along = r.dot(n) / det;
            const Vec3 q = r.cross(direction);
            const double u = e2.dot(q) / det;
            const double v = -e1.dot(q) / det;
            constexpr double margin = 1e-9;
            if (u < -margin || v < -margin || u + v > 1 + margin || along <= 0.0) continue;
            const bool edge = u < margin || v < margin || u + v > 1 - margin;
            out.push_back({along, t, edge || std::abs(det) < 1e-5 * size});
        }
    }
}

FacetBody::FacetBody(std::string name, FacetMesh mesh)
    : name_(std::move(name)), mesh_(std::move(mesh)), tree_(mesh_.points, mesh_.triangles) {
    std::unordered_map<std::uint64_t, std::array<std::int32_t, 3>> edges; // count, sense, first triangle
    for (std::size_t t = 0; t < mesh_.triangles.size(); ++t) {
        volume_ += middle(mesh_, t).dot(area_vector(mesh_, t)) / 3.0;
        const auto& c = mesh_.triangles[t];
        for (std::size_t i = 0; i < 3; ++i) {
            bounds_.include(mesh_.points[static_cast<std::size_t>(c[i])]);
            auto& entry = edges
                              .try_emplace(edge_key(c[i], c[(i + 1) % 3]),
                                           std::array<std::int32_t, 3>{0, 0, static_cast<std::int32_t>(t)})
                              .first->second;
            ++entry[0];
            entry[1] += c[i] < c[(i + 1) % 3] ? 1 : -1;
            if (entry[0] == 2) {
                const auto other = static_cast<std::size_t>(entry[2]);
                const Vec3 a = area_vector(mesh_, t).normalized();
                const Vec3 b = area_vector(mesh_, other).normalized();
                if (mesh_.face_of[t] != mesh_.face_of[other] && a.dot(b) < std::cos(0.26))
                    edges_.emplace_back(mesh_.points[static_cast<std::size_t>(c[i])],
                                        mesh_.points[static_cast<std::size_t>(c[(i + 1) % 3])]);
            }
        }
    }
    for (const auto& [key, entry] : edges)
        if (entry[0] != 2 || entry[1] != 0) ++open_edges_;
}

bool FacetBody::inside(const Vec3& p) const {
    if (!bounds_.holds(p, 0.0)) return false;
    // Directions that no face of a drawing is likely to lie along; a doubtful hit asks for another.
    static const std::array<Vec3, 5> directions{Vec3(0.5773, 0.4127, 0.7045), Vec3(-0.3317, 0.8713, -0.3619),
                                                Vec3(0.7919, -0.2533, -0.5557),
                                                Vec3(-0.6151, -0.5021, 0.6079), Vec3(0.1237, 0.9231, 0.3643)};
    thread_local std::vector<FacetTree::Hit> hits;
    int votes = 0;
    for (const Vec3& d : directions) {
        tree_.crossings(p, d, hits);
        bool doubtful = false;
        for (const FacetTree::Hit& h : hits) doubtful = doubtful || h.doubtful;
        const bool in = hits.size() % 2 == 1;
        if (!doubtful) return in;
        votes += in ? 1 : -1;
    }
    return votes > 0;
}

double FacetBody::signed_distance(const Vec3& p) const {
    const double d = tree_.nearest(p).distance;
    return inside(p) ? -d : d;
}

void measure_faces(FacetMesh& mesh) {
    for (FacetFace& face : mesh.faces) {
        face.area = 0.0;
        face.centroid = face.normal = Vec3::Zero();
    }
    for (std::size_t t = 0; t < mesh.triangles.size(); ++t) {
        FacetFace& face = mesh.faces[static_cast<std::size_t>(mesh.face_of[t])];
        const Vec3 a = area_vector(mesh, t);
        face.area += a.norm();
        face.centroid += a.norm() * middle(mesh, t);
        face.normal += a;
    }
    for (FacetFace& face : mesh.faces) {
        if (face.area <= 0.0) continue;
        face.centroid /= face.area;
        face.normal /= face.area;
    }
}

void number_patches(FacetMesh& mesh, double degrees) {
    const double least = std::cos(degrees * pi / 180.0);
    std::unordered_map<std::uint64_t, std::vector<std::int32_t>> edges;
    for (std::size_t t = 0; t < mesh.triangles.size(); ++t)
        for (std::size_t i = 0; i < 3; ++i)
            edges[edge_key(mesh.triangles[t][i], mesh.triangles[t][(i + 1) % 3])].push_back(
                static_cast<std::int32_t>(t));
    mesh.face_of.assign(mesh.triangles.size(), -1);
    mesh.faces.clear();
    std::vector<std::size_t> stack;
    for (std::size_t seed = 0; seed < mesh.triangles.size(); ++seed) {
        if (mesh.face_of[seed] >= 0) continue;
        const auto number = static_cast<std::int32_t>(mesh.faces.size());
        std::vector<std::size_t> members;
        mesh.face_of[seed] = number;
        stack.push_back(seed);
        while (!stack.empty()) {
            const std::size_t t = stack.back();
            stack.pop_back();
            members.push_back(t);
            const Vec3 n = area_vector(mesh, t).normalized();
            for (std::size_t i = 0; i < 3; ++i) {
                const auto& at = edges[edge_key(mesh.triangles[t][i], mesh.triangles[t][(i + 1) % 3])];
                if (at.size() != 2) continue;
                const auto other =
                    static_cast<std::size_t>(at[0] == static_cast<std::int32_t>(t) ? at[1] : at[0]);
                if (mesh.face_of[other] >= 0 || area_vector(mesh, other).normalized().dot(n) < least)
                    continue;
                mesh.face_of[other] = number;
                stack.push_back(other);
            }
        }
        FacetFace face;
        face.number = number + 1;
        fit(mesh, members, face);
        mesh.faces.push_back(face);
    }
    measure_faces(mesh);
}

} // namespace upright
