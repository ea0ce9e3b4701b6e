#include "mesh/size_field.hpp"

#include <cmath>

namespace upright {

namespace {
constexpr double most_places = 6e6;
}

SizeField::SizeField(const Bounds& box, double size, double spacing) : size_(size), spacing_(spacing) {
    const auto places = [&] {
        const Vec3 n = box.size() / spacing_ + Vec3::Constant(3.0);
        return n.prod();
    };
    while (places() > most_places) spacing_ *= 1.2;
    low_ = box.low - Vec3::Constant(spacing_);
    for (int a = 0; a < 3; ++a)
        count_[static_cast<std::size_t>(a)] = static_cast<int>(std::ceil(box.size()[a] / spacing_)) + 3;
    values_.assign(index(0, 0, count_[2]), size);
}

void SizeField::ask(const Vec3& p, double size) {
    const Vec3 u = (p - low_) / spacing_;
    std::array<int, 3> low{};
    for (int a = 0; a < 3; ++a)
        low[static_cast<std::size_t>(a)] =
            std::clamp(static_cast<int>(std::floor(u[a])), 0, count_[static_cast<std::size_t>(a)] - 2);
    for (int c = 0; c < 8; ++c) {
        double& v = values_[index(low[0] + (c & 1), low[1] + ((c >> 1) & 1), low[2] + (c >> 2))];
        v = std::min(v, size);
    }
}

void SizeField::limit(double gradient) {
    // Sweeps in both senses until nothing changes (a few suffice).
    for (int round = 0; round < 20; ++round) {
        bool changed = false;
        for (const int sense : {1, -1}) {
            const auto sweep = [&](int n, int i) { return sense > 0 ? i : n - 1 - i; };
            for (int k = 0; k < count_[2]; ++k)
                for (int j = 0; j < count_[1]; ++j)
                    for (int i = 0; i < count_[0]; ++i) {
                        const int x = sweep(count_[0], i);
                        const int y = sweep(count_[1], j);
                        const int z = sweep(count_[2], k);
                        double& v = values_[index(x, y, z)];
                        for (int c = 1; c < 14; ++c) {
                            // Half of the 26 neighbours: those swept before.
                            const int d = 13 + c;
                            const int dx = (d % 3) - 1;
                            const int dy = (d / 3 % 3) - 1;
                            const int dz = (d / 9) - 1;
                            const int nx = x - sense * dx;
                            const int ny = y - sense * dy;
                            const int nz = z - sense * dz;
                            if (nx < 0 || ny < 0 || nz < 0 || nx >= count_[0] || ny >= count_[1] ||
                                nz >= count_[2])
                                continue;
                            const double reach =
                                values_[index(nx, ny, nz)] +
                                gradient * spacing_ *
                                    std::sqrt(static_cast<double>(dx * dx + dy * dy + dz * dz));
                            if (reach < v - 1e-9 * size_) {
                                v = reach;
                                changed = true;
                            }
                        }
                    }
        }
        if (!changed) return;
    }
}

double SizeField::at(const Vec3& p) const {
    const Vec3 u = (p - low_) / spacing_;
    std::array<int, 3> low{};
    Vec3 t;
    for (int a = 0; a < 3; ++a) {
        const auto i = static_cast<std::size_t>(a);
        low[i] = std::clamp(static_cast<int>(std::floor(u[a])), 0, count_[i] - 2);
        t[a] = std::clamp(u[a] - low[i], 0.0, 1.0);
    }
    double out = 0.0;
    for (int c = 0; c < 8; ++c) {
        const double w = ((c & 1) != 0 ? t.x() : 1 - t.x()) * (((c >> 1) & 1) != 0 ? t.y() : 1 - t.y()) *
                         ((c >> 2) != 0 ? t.z() : 1 - t.z());
        out += w * values_[index(low[0] + (c & 1), low[1] + ((c >> 1) & 1), low[2] + (c >> 2))];
    }
    return out;
}

double SizeField::smallest() const {
    return *std::min_element(values_.begin(), values_.end());
}

} // namespace upright
