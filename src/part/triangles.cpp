#include "part/triangles.hpp"

#include "base/error.hpp"
#include "base/files.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cerrno>
#include <cstring>
#include <fstream>
#include <map>

namespace upright {

namespace {

const Vec3& point(const Triangles& s, std::int32_t i) {
    return s.points[static_cast<std::size_t>(i)];
}

Vec3 area_vector(const Triangles& s, const std::array<std::int32_t, 3>& t) {
    return 0.5 * (point(s, t[1]) - point(s, t[0])).cross(point(s, t[2]) - point(s, t[0]));
}

using Around = std::vector<std::vector<std::int32_t>>;

Around neighbours_of(const Triangles& s) {
    Around out(s.points.size());
    for (const auto& t : s.corners)
        for (std::size_t i = 0; i < 3; ++i) out[static_cast<std::size_t>(t[i])].push_back(t[(i + 1) % 3]);
    return out; // on a closed surface every neighbour comes once this way
}

enum class Hold : char { Free, Border, Pinned };

// Pinned points with a free neighbour are the border between the two.
std::vector<Hold> holds_of(const Around& neighbours, const std::vector<bool>& pinned, bool slide) {
    std::vector<Hold> out(pinned.size(), Hold::Free);
    for (std::size_t i = 0; i < pinned.size(); ++i) {
        if (!pinned[i]) continue;
        const auto free = [&](std::int32_t n) { return !pinned[static_cast<std::size_t>(n)]; };
        const bool border = slide && std::any_of(neighbours[i].begin(), neighbours[i].end(), free);
        out[i] = border ? Hold::Border : Hold::Pinned;
    }
    return out;
}

// Moves every point towards (or away from) the middle of its neighbours; border points look at their border
// alone.
void relax(Triangles& s, const Around& neighbours, const std::vector<Hold>& hold, double factor) {
    std::vector<Vec3> next = s.points;
    for (std::size_t i = 0; i < s.points.size(); ++i) {
        if (hold[i] == Hold::Pinned) continue;
        Vec3 mean = Vec3::Zero();
        int count = 0;
        for (const std::int32_t n : neighbours[i]) {
            if (hold[i] == Hold::Border && hold[static_cast<std::size_t>(n)] != Hold::Border) continue;
            mean += point(s, n);
            ++count;
        }
        if (count > 1) next[i] += factor * (mean / count - s.points[i]);
    }
    s.points = std::move(next);
}

// Moves the free points along their normals so that the volume changes by `wanted`, to first order.
void offset(Triangles& s, const std::vector<bool>& pinned, double wanted) {
    std::vector<Vec3> normal(s.points.size(), Vec3::Zero());
    for (const auto& t : s.corners) {
        const Vec3 share = area_vector(s, t) / 3.0;
        for (const std::int32_t c : t) normal[static_cast<std::size_t>(c)] += share;
    }
    double free_area = 0.0;
    for (std::size_t i = 0; i < normal.size(); ++i)
        if (!pinned[i]) free_area += normal[i].norm();
    if (free_area <= 0.0) return;
    const double distance = wanted / free_area;
    for (std::size_t i = 0; i < normal.size(); ++i)
        if (!pinned[i] && normal[i].norm() > 0.0) s.points[i] += distance * normal[i].normalized();
}

} // namespace

double volume(const Triangles& s) {
    double out = 0.0;
    for (const auto& t : s.corners) out += point(s, t[0]).dot(point(s, t[1]).cross(point(s, t[2]))) / 6.0;
    return out;
}

double area(const Triangles& s) {
    double out = 0.0;
    for (const auto& t : s.corners) out += area_vector(s, t).norm();
    return out;
}

bool closed(const Triangles& s) {
    std::vector<std::uint64_t> forward;
    std::vector<std::uint64_t> backward;
    const auto key = [](std::int32_t a, std::int32_t b) {
        return (static_cast<std::uint64_t>(static_cast<std::uint32_t>(a)) << 32U) |
               static_cast<std::uint32_t>(b);
    };
    for (const auto& t : s.corners)
        for (std::size_t i = 0; i < 3; ++i) {
            forward.push_back(key(t[i], t[(i + 1) % 3]));
            backward.push_back(key(t[(i + 1) % 3], t[i]));
        }
    std::sort(forward.begin(), forward.end());
    std::sort(backward.begin(), backward.end());
    return !forward.empty() && forward == backward;
}

void smooth_holding_volume(Triangles& s, const std::vector<bool>& pinned, int passes,
                           const std::function<Vec3(const Vec3&)>& onto_exact) {
    const double target = volume(s);
    const Around neighbours = neighbours_of(s);
    const std::vector<Hold> hold = holds_of(neighbours, pinned, static_cast<bool>(onto_exact));
    for (int pass = 0; pass < passes; ++pass) {
        relax(s, neighbours, hold, 0.5);
        relax(s, neighbours, hold, -0.53);
        for (std::size_t i = 0; i < s.points.size(); ++i)
            if (hold[i] == Hold::Border) s.points[i] = onto_exact(s.points[i]);
    }
    for (int i = 0; i < 6; ++i) {
        const double missing = target - volume(s);
        if (std::abs(missing) < 1e-7 * std::abs(target)) break;
        offset(s, pinned, missing);
    }
}

void write_stl(const std::filesystem::path& file, const Triangles& s, const std::string& header) {
    write_then_rename(file, [&](const std::filesystem::path& temporary) {
        errno = 0;
        std::ofstream out(temporary, std::ios::binary);
        std::array<char, 80> head{};
        std::memcpy(head.data(), header.data(), std::min(header.size(), head.size() - 1));
        out.write(head.data(), head.size());
        const auto count = static_cast<std::uint32_t>(s.corners.size());
        out.write(reinterpret_cast<const char*>(&count), sizeof count);
        for (const auto& t : s.corners) {
            std::array<float, 12> record{};
            const Vec3 n = area_vector(s, t).normalized();
            for (int a = 0; a < 3; ++a) record[static_cast<std::size_t>(a)] = static_cast<float>(n[a]);
            for (std::size_t c = 0; c < 3; ++c)
                for (int a = 0; a < 3; ++a)
                    record[3 + 3 * c + static_cast<std::size_t>(a)] = static_cast<float>(point(s, t[c])[a]);
            const std::uint16_t attributes = 0;
            out.write(reinterpret_cast<const char*>(record.data()), sizeof record);
            out.write(reinterpret_cast<const char*>(&attributes), sizeof attributes);
        }
        out.close();
        if (!out)
            throw Error::files(file.string(),
                               std::string("cannot be written: ") + std::strerror(errno ? errno : EIO),
                               "Choose another place with --out");
    });
}

} // namespace upright
