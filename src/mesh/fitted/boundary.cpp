// The boundary as patches of exact faces, curves between corners, and the places that are no place for
// tetrahedra.
#include "mesh/fitted/mesher.hpp"

namespace upright::fitting {

// SurfaceGeometry, for the optimiser.
Vec3 FittedMesher::on_curve(std::int32_t curve, const Vec3& p) const {
    const Curve& c = curves_[static_cast<std::size_t>(curve)];
    Vec3 best = c.points.front();
    double nearest = 1e300;
    for (std::size_t i = 1; i < c.points.size(); ++i) {
        const Vec3 edge = c.points[i] - c.points[i - 1];
        const double t =
            std::clamp((p - c.points[i - 1]).dot(edge) / std::max(edge.squaredNorm(), 1e-300), 0.0, 1.0);
        const Vec3 q = c.points[i - 1] + t * edge;
        if ((q - p).squaredNorm() < nearest) {
            nearest = (q - p).squaredNorm();
            best = q;
        }
    }
    return best;
}

// Connected triangles of one exact face between the same regions: the group of each triangle.
std::vector<std::int32_t> FittedMesher::face_groups(const Edges& edges) const {
    std::vector<std::int32_t> group(in_.triangles.size(), -1);
    std::int32_t groups = 0;
    std::vector<std::size_t> stack;
    for (std::size_t seed = 0; seed < in_.triangles.size(); ++seed) {
        if (group[seed] >= 0) continue;
        group[seed] = groups;
        stack.push_back(seed);
        while (!stack.empty()) {
            const std::size_t t = stack.back();
            stack.pop_back();
            for (std::size_t i = 0; i < 3; ++i)
                for (const std::int32_t o :
                     edges.at(edge_key(in_.triangles[t][i], in_.triangles[t][(i + 1) % 3]))) {
                    const auto other = static_cast<std::size_t>(o);
                    if (group[other] >= 0 || in_.face_of[other] != in_.face_of[seed] ||
                        in_.regions[other] != in_.regions[seed])
                        continue;
                    group[other] = groups;
                    stack.push_back(other);
                }
        }
        ++groups;
    }
    return group;
}

// Faces far narrower than an element that go on smoothly into a neighbour become one patch with it: nothing
// of the shape is lost, and no element has to be as small as they are.
void FittedMesher::merge_narrow(const Edges& edges, std::vector<std::int32_t>& group) {
    const double narrow = 0.5 * options_.smallest * options_.size;
    const auto count =
        static_cast<std::size_t>(group.empty() ? 0 : 1 + *std::max_element(group.begin(), group.end()));
    std::vector<double> areas(count, 0.0);
    std::vector<double> around(count, 0.0);
    std::vector<std::size_t> first(count, in_.triangles.size());
    for (std::size_t t = 0; t < group.size(); ++t) {
        areas[static_cast<std::size_t>(group[t])] += area(t);
        first[static_cast<std::size_t>(group[t])] = std::min(first[static_cast<std::size_t>(group[t])], t);
    }
    // How far two groups go on smoothly into each other.
    std::map<std::pair<std::int32_t, std::int32_t>, double> smooth;
    for (const auto& [key, list] : edges) {
        const double length = (in_.points[static_cast<std::size_t>(key >> 32U)] -
                               in_.points[static_cast<std::size_t>(key & 0xffffffffU)])
                                  .norm();
        for (const std::int32_t t : list)
            if (list.size() != 2 ||
                group[static_cast<std::size_t>(list[0])] != group[static_cast<std::size_t>(list[1])])
                around[static_cast<std::size_t>(group[static_cast<std::size_t>(t)])] += length;
        if (list.size() != 2) continue;
        const auto a = static_cast<std::size_t>(list[0]);
        const auto b = static_cast<std::size_t>(list[1]);
        if (group[a] == group[b] || in_.regions[a] != in_.regions[b] ||
            normal(a).dot(normal(b)) < std::cos(20.0 * pi / 180))
            continue;
        smooth[std::minmax(group[a], group[b])] += length;
    }
    Groups merged(count);
    std::vector<std::size_t> order;
    const auto width = [&](std::size_t g) { return around[g] > 0.0 ? 2.0 * areas[g] / around[g] : 1e300; };
    for (std::size_t g = 0; g < count; ++g)
        if (width(g) < narrow) order.push_back(g);
    std::sort(order.begin(), order.end(),
              [&](std::size_t a, std::size_t b) { return std::pair(width(a), a) < std::pair(width(b), b); });
    std::vector<std::vector<std::pair<double, std::size_t>>> next_to(count);
    for (const auto& [pair, length] : smooth) {
        next_to[static_cast<std::size_t>(pair.first)].emplace_back(length, pair.second);
        next_to[static_cast<std::size_t>(pair.second)].emplace_back(length, pair.first);
    }
    for (const std::size_t g : order) {
        const auto best = std::max_element(next_to[g].begin(), next_to[g].end());
        // Along most of one of its sides, or it would be joined at its end alone.
        if (best == next_to[g].end() || best->first < 0.3 * around[g]) continue;
        if (narrow_.faces++ == 0 || width(g) < narrow_.width) {
            narrow_.width = width(g);
            narrow_.at = corner(first[g], 0);
        }
        merged.join(g, best->second);
    }
    if (narrow_.faces == 0) return;
    for (std::int32_t& g : group) g = static_cast<std::int32_t>(merged.root(static_cast<std::size_t>(g)));
}

// Patches: connected triangles of one exact face, with what is too narrow to stand alone.
void FittedMesher::read_patches() {
    Edges edges;
    for (std::size_t t = 0; t < in_.triangles.size(); ++t)
        for (std::size_t i = 0; i < 3; ++i)
            edges[edge_key(in_.triangles[t][i], in_.triangles[t][(i + 1) % 3])].push_back(
                static_cast<std::int32_t>(t));
    std::vector<std::int32_t> group = face_groups(edges);
    merge_narrow(edges, group);
    patch_of_.assign(in_.triangles.size(), -1);
    std::vector<std::int32_t> patch_of_group(in_.triangles.size(), -1);
    for (std::size_t t = 0; t < in_.triangles.size(); ++t) {
        std::int32_t& number = patch_of_group[static_cast<std::size_t>(group[t])];
        if (number < 0) {
            number = static_cast<std::int32_t>(patches_.size());
            patches_.emplace_back();
            patches_.back().regions = in_.regions[t];
        }
        patch_of_[t] = number;
        Patch& patch = patches_[static_cast<std::size_t>(number)];
        const auto face = static_cast<std::size_t>(in_.face_of[t]);
        patch.area += area(t);
        // The radius of what takes most of it.
        if (face < in_.face_radius.size()) patch.area_of[in_.face_of[t]] += area(t);
        patch.triangles.push_back(t);
    }
    for (Patch& patch : patches_) {
        double most = 0.0;
        for (const auto& [face, a] : patch.area_of)
            if (a > most) {
                most = a;
                patch.radius = in_.face_radius[static_cast<std::size_t>(face)];
            }
        std::vector<std::array<std::int32_t, 3>> list;
        for (const std::size_t t : patch.triangles) list.push_back(in_.triangles[t]);
        patch.tree = FacetTree(in_.points, list);
    }
    for (const auto& [key, list] : edges) {
        if (list.size() == 1) {
            const Vec3& p = in_.points[static_cast<std::size_t>(key >> 32U)];
            throw Error::numerics(
                fmt::format("the boundary to be meshed is not closed at ({:.5g}, {:.5g}, {:.5g})", p.x(),
                            p.y(), p.z()),
                "Look at the body with \"upright inspect\"");
        }
        bool feature = list.size() != 2;
        for (const std::int32_t t : list)
            feature = feature ||
                      patch_of_[static_cast<std::size_t>(t)] != patch_of_[static_cast<std::size_t>(list[0])];
        if (list.size() == 2 && !feature)
            feature =
                normal(static_cast<std::size_t>(list[0])).dot(normal(static_cast<std::size_t>(list[1]))) <
                std::cos(30.0 * pi / 180);
        if (feature) features_[key] = list;
    }
    for (const auto& [key, list] : features_) find_wedges(key, list);
}

// Keeps sectors between the faces about an edge that are sharper than fair tetrahedra can fill, or leave
// free.
void FittedMesher::find_wedges(std::uint64_t key, const std::vector<std::int32_t>& list) {
    constexpr double sharpest = 15.0;
    const Vec3& a = in_.points[static_cast<std::size_t>(key >> 32U)];
    const Vec3& b = in_.points[static_cast<std::size_t>(key & 0xffffffffU)];
    const Vec3 along = (b - a).normalized();
    std::vector<std::pair<double, std::int32_t>> around;
    Vec3 u = Vec3::Zero();
    for (const std::int32_t t : list) {
        Vec3 out = Vec3::Zero();
        for (std::size_t i = 0; i < 3; ++i) {
            const Vec3 d = corner(static_cast<std::size_t>(t), i) - a;
            const Vec3 side = d - along * d.dot(along);
            if (side.norm() > out.norm()) out = side;
        }
        if (out.norm() <= 0.0) return;
        out.normalize();
        if (u.norm() == 0.0) u = out;
        around.emplace_back(std::atan2(out.dot(along.cross(u)), out.dot(u)) * 180.0 / pi, t);
    }
    std::sort(around.begin(), around.end());
    for (std::size_t i = 0; i < around.size(); ++i) {
        const double next = i + 1 < around.size() ? around[i + 1].first : around[0].first + 360.0;
        const double angle = next - around[i].first;
        if (angle >= sharpest || around.size() < 2) continue;
        // What the sector holds: it follows the first face, turning from u towards along x u.
        const auto t = static_cast<std::size_t>(around[i].second);
        const double at = around[i].first * pi / 180.0;
        const Vec3 turning = std::cos(at) * along.cross(u) - std::sin(at) * u;
        const bool before = normal(t).dot(turning) > 0.0;
        wedges_.push_back({angle, 0.5 * (a + b), (b - a).norm(), in_.regions[t][before ? 1 : 0] >= 0});
    }
}

// Chains feature edges into curves between corners.
void FittedMesher::read_curves() {
    std::unordered_map<std::int32_t, std::vector<std::int32_t>> at;
    for (const auto& [key, list] : features_) {
        const auto a = static_cast<std::int32_t>(key >> 32U);
        const auto b = static_cast<std::int32_t>(key & 0xffffffffU);
        at[a].push_back(b);
        at[b].push_back(a);
    }
    const auto point = [&](std::int32_t n) -> const Vec3& { return in_.points[static_cast<std::size_t>(n)]; };
    const auto patches_at = [&](std::int32_t a, std::int32_t b) {
        std::vector<std::int32_t> out;
        for (const std::int32_t t : features_.at(edge_key(a, b)))
            out.push_back(patch_of_[static_cast<std::size_t>(t)]);
        std::sort(out.begin(), out.end());
        out.erase(std::unique(out.begin(), out.end()), out.end());
        return out;
    };
    std::map<std::int32_t, std::int32_t> corner_number;
    for (const auto& [n, ends] : at) {
        bool is_corner = ends.size() != 2;
        if (!is_corner) {
            const Vec3 u = (point(n) - point(ends[0])).normalized();
            const Vec3 v = (point(ends[1]) - point(n)).normalized();
            is_corner =
                u.dot(v) < std::cos(40.0 * pi / 180) || patches_at(n, ends[0]) != patches_at(n, ends[1]);
        }
        if (is_corner) corner_number[n] = 0;
    }
    for (auto& [n, number] : corner_number) {
        number = static_cast<std::int32_t>(corners_.size());
        corners_.push_back(point(n));
    }
    corner_patches_.resize(corners_.size());
    std::unordered_set<std::uint64_t> used;
    const auto walk = [&](std::int32_t from, std::int32_t to, bool loop) {
        Curve c;
        c.patches = patches_at(from, to);
        c.points = {point(from), point(to)};
        used.insert(edge_key(from, to));
        const std::int32_t first = from;
        std::int32_t previous = from;
        std::int32_t here = to;
        while (corner_number.count(here) == 0 && here != first) {
            const auto& ends = at[here];
            const std::int32_t next = ends[0] == previous ? ends[1] : ends[0];
            used.insert(edge_key(here, next));
            c.points.push_back(point(next));
            previous = here;
            here = next;
        }
        c.closed = loop;
        if (!loop) {
            c.ends = {corner_number.at(first), corner_number.at(here)};
            for (const std::int32_t e : c.ends)
                corner_patches_[static_cast<std::size_t>(e)].insert(
                    corner_patches_[static_cast<std::size_t>(e)].end(), c.patches.begin(), c.patches.end());
        }
        c.measure();
        curves_.push_back(std::move(c));
    };
    for (const auto& [n, number] : corner_number)
        for (const std::int32_t to : at[n])
            if (used.count(edge_key(n, to)) == 0) walk(n, to, false);
    std::vector<std::int32_t> rest;
    for (const auto& [n, ends] : at) rest.push_back(n);
    std::sort(rest.begin(), rest.end());
    for (const std::int32_t n : rest)
        if (corner_number.count(n) == 0)
            for (const std::int32_t to : at[n])
                if (used.count(edge_key(n, to)) == 0) walk(n, to, true);
    for (auto& list : corner_patches_) {
        std::sort(list.begin(), list.end());
        list.erase(std::unique(list.begin(), list.end()), list.end());
    }
}

} // namespace upright::fitting
