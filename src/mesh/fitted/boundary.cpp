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

// Patches: connected triangles of one exact face.
void FittedMesher::read_patches() {
    std::unordered_map<std::uint64_t, std::vector<std::int32_t>> edges;
    for (std::size_t t = 0; t < in_.triangles.size(); ++t)
        for (std::size_t i = 0; i < 3; ++i)
            edges[edge_key(in_.triangles[t][i], in_.triangles[t][(i + 1) % 3])].push_back(
                static_cast<std::int32_t>(t));
    patch_of_.assign(in_.triangles.size(), -1);
    std::vector<std::size_t> stack;
    for (std::size_t seed = 0; seed < in_.triangles.size(); ++seed) {
        if (patch_of_[seed] >= 0) continue;
        Patch patch;
        patch.regions = in_.regions[seed];
        const auto face = static_cast<std::size_t>(in_.face_of[seed]);
        patch.radius = face < in_.face_radius.size() ? in_.face_radius[face] : 0.0;
        patch_of_[seed] = static_cast<std::int32_t>(patches_.size());
        face_of_patch_.push_back(in_.face_of[seed]);
        stack.push_back(seed);
        while (!stack.empty()) {
            const std::size_t t = stack.back();
            stack.pop_back();
            patch.triangles.push_back(t);
            patch.area += area(t);
            for (std::size_t i = 0; i < 3; ++i)
                for (const std::int32_t o :
                     edges[edge_key(in_.triangles[t][i], in_.triangles[t][(i + 1) % 3])]) {
                    const auto other = static_cast<std::size_t>(o);
                    if (patch_of_[other] >= 0 || in_.face_of[other] != in_.face_of[seed] ||
                        in_.regions[other] != in_.regions[seed])
                        continue;
                    patch_of_[other] = patch_of_[seed];
                    stack.push_back(other);
                }
        }
        std::vector<std::array<std::int32_t, 3>> list;
        for (const std::size_t t : patch.triangles) list.push_back(in_.triangles[t]);
        patch.tree = FacetTree(in_.points, list);
        patches_.push_back(std::move(patch));
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
    for (const auto& [key, list] : features_) require_no_cusp(key, list);
}

// Sectors between the faces about an edge that are sharper than tetrahedra can fill, or leave free.
void FittedMesher::require_no_cusp(std::uint64_t key, const std::vector<std::int32_t>& list) const {
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
        const Vec3 p = 0.5 * (a + b);
        throw Error::numerics(
            fmt::format("faces meet at a cusp of {:.3g} deg at ({:.5g}, {:.5g}, {:.5g}), which no "
                        "tetrahedron of a fair shape fills",
                        angle, p.x(), p.y(), p.z()),
            "Blunt it or fill it, make the touching regions one, or use kind = \"grid\"");
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
        c.arc = {0.0};
        for (std::size_t i = 1; i < c.points.size(); ++i)
            c.arc.push_back(c.arc.back() + (c.points[i] - c.points[i - 1]).norm());
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
