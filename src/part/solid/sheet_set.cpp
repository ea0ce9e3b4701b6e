#include "part/solid/sheet_set.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

namespace upright {

std::optional<Vec3> SheetSet::onto(const std::vector<std::int32_t>& which, const Vec3& p) const {
    constexpr int most_steps = 15;
    constexpr double near_enough = 1e-6, times_near = 10.0; // in the end, of a size and of what is asked
    constexpr int patient_steps = 4; // after them a step that does not halve what is left is the last
    const auto k = static_cast<Eigen::Index>(which.size());
    if (k > 3) return std::nullopt;
    Vec3 at = p;
    double before = 1e300;
    double left = 0.0; // of what is near enough
    Eigen::MatrixXd slopes(k, 3);
    Eigen::VectorXd values(k);
    for (int step = 0; step < most_steps; ++step) {
        left = 0.0;
        for (Eigen::Index i = 0; i < k; ++i) {
            const Sheet& sheet = (*this)[which[static_cast<std::size_t>(i)]];
            Vec3 normal;
            values[i] = sheet.value(at, normal);
            slopes.row(i) = normal.transpose();
            left = std::max(left, std::abs(values[i]) / (sheet.near * size_));
        }
        if (left <= 1.0) return at;
        if (step > patient_steps && left > 0.5 * before) break;
        before = left;
        const Eigen::MatrixXd products = slopes * slopes.transpose();
        if (k > 1 && std::abs(products.determinant()) < 1e-6) return std::nullopt;
        Vec3 move = -slopes.transpose() * products.ldlt().solve(values);
        const double far = 0.5 * size_;
        if (move.norm() > far) move *= far / move.norm();
        at += move;
        if (!at.allFinite() || (at - p).norm() > size_) return std::nullopt;
    }
    for (Eigen::Index i = 0; i < k; ++i) {
        const double allowed =
            std::max(near_enough, times_near * (*this)[which[static_cast<std::size_t>(i)]].near);
        if (!(std::abs(values[i]) <= allowed * size_)) return std::nullopt;
    }
    return at;
}

std::int32_t sheet_of_triangle(const SheetSet& sheets, const std::array<Vec3, 3>& corners,
                               const std::array<const std::vector<std::int32_t>*, 3>& on) {
    const Vec3 normal = Vec3(corners[1] - corners[0]).cross(corners[2] - corners[0]).normalized();
    std::int32_t best = -1;
    double along = -1.0;
    for (const std::int32_t s : *on[0]) {
        if (std::find(on[1]->begin(), on[1]->end(), s) == on[1]->end() ||
            std::find(on[2]->begin(), on[2]->end(), s) == on[2]->end())
            continue;
        const double one =
            std::abs(normal.dot(sheets[s].normal((corners[0] + corners[1] + corners[2]) / 3.0)));
        if (one <= along) continue;
        along = one;
        best = s;
    }
    return best;
}

} // namespace upright
