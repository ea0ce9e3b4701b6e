#include "part/solid/lattice_cell.hpp"

#include "base/reduction.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstdint>

namespace upright {

namespace {

// To the nearest multiple of the period.
double wrapped(double v, double period) {
    return v - period * static_cast<double>(static_cast<std::int64_t>(v / period + (v < 0.0 ? -0.5 : 0.5)));
}

// The nearest of the struts met so far.
struct Nearest {
    double square = 1e300;
    Vec3 off = Vec3::Zero(); // from it to the place
    void take(double u, const Vec3& along_u, double v, const Vec3& along_v) {
        const double one = u * u + v * v;
        if (one >= square) return;
        square = one;
        off = u * along_u + v * along_v;
    }
};

} // namespace

LatticeCell::LatticeCell(const InfillCard& card)
    : cell_(card.cell), period_(card.period), thickness_(card.thickness), origin_(card.origin),
      axes_(card.axes) {}

double LatticeCell::distance(const Vec3& p, Vec3* slope) const {
    Vec3 off;
    const double middle = to_middle(axes_.transpose() * (p - origin_), off);
    if (slope != nullptr) *slope = middle > 0.0 ? Vec3(axes_ * off / middle) : Vec3(Vec3::UnitZ());
    return middle - 0.5 * thickness_;
}

double LatticeCell::to_middle(const Vec3& q, Vec3& off) const {
    return cell_ == InfillCard::Cell::Gyroid ? to_sheet(q, off) : to_struts(q, off);
}

double LatticeCell::to_struts(const Vec3& q, Vec3& off) const {
    Nearest out;
    const double width = period_ * std::sqrt(0.5);
    for (Eigen::Index a = 0; a < 3; ++a) {
        const Eigen::Index i = (a + 1) % 3;
        const Eigen::Index j = (a + 2) % 3;
        if (cell_ == InfillCard::Cell::Cubic) {
            out.take(wrapped(q[i], period_), Vec3::Unit(i), wrapped(q[j], period_), Vec3::Unit(j));
            continue;
        }
        // The lines along a diagonal of two axes through the points of a face-centred lattice: where they
        // cross the plane across them they make a centred rectangle, of the third axis and the other
        // diagonal.
        for (const double sign : {-1.0, 1.0}) {
            const Vec3 across = std::sqrt(0.5) * (Vec3::Unit(i) + sign * Vec3::Unit(j));
            const double u = across.dot(q);
            out.take(wrapped(u, width), across, wrapped(q[a], period_), Vec3::Unit(a));
            out.take(wrapped(u - 0.5 * width, width), across, wrapped(q[a] - 0.5 * period_, period_),
                     Vec3::Unit(a));
        }
    }
    off = out.off;
    return std::sqrt(out.square);
}

double LatticeCell::to_sheet(const Vec3& q, Vec3& off) const {
    const double k = 2.0 * M_PI / period_;
    const auto value = [&](const Vec3& at, Vec3& slope) {
        const std::array<double, 3> s{std::sin(k * at.x()), std::sin(k * at.y()), std::sin(k * at.z())};
        const std::array<double, 3> c{std::cos(k * at.x()), std::cos(k * at.y()), std::cos(k * at.z())};
        for (std::size_t a = 0; a < 3; ++a)
            slope[static_cast<Eigen::Index>(a)] = k * (c[a] * c[(a + 1) % 3] - s[(a + 2) % 3] * s[a]);
        return s[0] * c[1] + s[1] * c[2] + s[2] * c[0];
    };
    // Where the slope vanishes, in the middle of a channel, one is as far from the sheet as can be.
    const double longest = 0.25 * period_;
    Vec3 at = q;
    Vec3 slope;
    off = Vec3::Zero();
    for (int step = 0; step < 4; ++step) {
        const double v = value(at, slope);
        const double square = slope.squaredNorm();
        if (std::abs(v) > longest * std::sqrt(square)) {
            off = (v > 0.0 ? longest : -longest) * slope.normalized();
            return longest;
        }
        at -= v / square * slope;
    }
    off = q - at;
    if (off.norm() > longest) off *= longest / off.norm();
    return off.norm();
}

std::vector<double> LatticeCell::shares(int n) const {
    // Each by 4 x 4 x 4 points, of which one counts by how much of its cube's width lies within.
    constexpr int fine = 4;
    const double step = period_ / (n * fine);
    std::vector<double> out(static_cast<std::size_t>(n) * static_cast<std::size_t>(n) *
                            static_cast<std::size_t>(n));
#pragma omp parallel for schedule(static)
    for (std::size_t cell = 0; cell < out.size(); ++cell) {
        const auto side = static_cast<std::size_t>(n);
        const Vec3 low = fine * step *
                         Vec3(static_cast<double>(cell % side), static_cast<double>(cell / side % side),
                              static_cast<double>(cell / side / side));
        for (int i = 0; i < fine * fine * fine; ++i) {
            const Vec3 q = low + step * Vec3(i % fine + 0.5, i / fine % fine + 0.5, i / (fine * fine) + 0.5);
            Vec3 off;
            out[cell] += std::clamp(0.5 - (to_middle(q, off) - 0.5 * thickness_) / step, 0.0, 1.0);
        }
        out[cell] /= fine * fine * fine;
    }
    return out;
}

double LatticeCell::share() const {
    const std::vector<double> all = shares(32);
    return sum_of(all) / static_cast<double>(all.size());
}

} // namespace upright
