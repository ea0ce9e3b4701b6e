#include "geometry/curved_triangle.hpp"

#include <Eigen/Dense>
#include <cmath>
#include <map>

namespace upright {

namespace {

constexpr double furthest = 4.0; // sizes of the triangle: inner points moved by more make folds
constexpr double soft = 1e-4;    // of conditions that contradict each other

double choose(std::size_t n, std::size_t k) {
    double out = 1.0;
    for (std::size_t i = 0; i < k; ++i) out = out * static_cast<double>(n - i) / static_cast<double>(i + 1);
    return out;
}

double bernstein(std::size_t n, std::size_t i, double s) {
    return choose(n, i) * std::pow(s, static_cast<double>(i)) * std::pow(1.0 - s, static_cast<double>(n - i));
}

} // namespace

Vec3 Cubic::at(double s) const {
    const double r = 1.0 - s;
    return r * r * r * a + 3.0 * r * r * s * b + 3.0 * r * s * s * c + s * s * s * d;
}

Vec3 Cubic::slope(double s) const {
    const double r = 1.0 - s;
    return r * r * (b - a) + 2.0 * r * s * (c - b) + s * s * (d - c);
}

CurvedTriangle::CurvedTriangle(const std::array<Cubic, 3>& sides) : sides_(sides), net_(16, Vec3::Zero()) {
    Vec3 corners = Vec3::Zero();
    Vec3 mean = Vec3::Zero();
    for (const Cubic& side : sides) {
        corners += side.a / 3.0;
        mean += (side.b + side.c) / 6.0;
    }
    at(0, 0) = sides[0].a, at(1, 0) = sides[0].b, at(2, 0) = sides[0].c, at(3, 0) = sides[0].d;
    at(2, 1) = sides[1].b, at(1, 2) = sides[1].c, at(0, 3) = sides[1].d;
    at(0, 2) = sides[2].b, at(0, 1) = sides[2].c;
    at(1, 1) = mean + 0.5 * (mean - corners);
}

CurvedTriangle CurvedTriangle::raised(std::size_t degree) const {
    CurvedTriangle out = *this;
    while (out.degree_ < degree) {
        CurvedTriangle up = out;
        const std::size_t n = ++up.degree_;
        up.net_.assign((n + 1) * (n + 1), Vec3::Zero());
        for (std::size_t i = 0; i <= n; ++i)
            for (std::size_t j = 0; i + j <= n; ++j) {
                const std::size_t k = n - i - j;
                Vec3& sum = up.at(i, j);
                if (i > 0) sum += static_cast<double>(i) * out.at(i - 1, j);
                if (j > 0) sum += static_cast<double>(j) * out.at(i, j - 1);
                if (k > 0) sum += static_cast<double>(k) * out.at(i, j);
                sum /= static_cast<double>(n);
            }
        out = std::move(up);
    }
    return out;
}

std::array<std::size_t, 2> CurvedTriangle::beside(std::size_t side, std::size_t i) const {
    if (side == 0) return {i, 1};
    if (side == 1) return {degree_ - 1 - i, i};
    return {1, degree_ - 1 - i};
}

Vec3 CurvedTriangle::across(std::size_t side, double s) const {
    Vec3 out = -sides_[side].at(s);
    for (std::size_t i = 0; i < degree_; ++i) {
        const auto [u, v] = beside(side, i);
        out += bernstein(degree_ - 1, i, s) * at(u, v);
    }
    return out;
}

Vec3 CurvedTriangle::point(double u, double v) const {
    Vec3 out = Vec3::Zero();
    for (std::size_t i = 0; i <= degree_; ++i) // B_ij = B_i(u) B_j(v / (1 - u)), written without the division
        for (std::size_t j = 0; i + j <= degree_; ++j)
            out += choose(degree_, i) * choose(degree_ - i, j) * std::pow(u, static_cast<double>(i)) *
                   std::pow(v, static_cast<double>(j)) *
                   std::pow(1.0 - u - v, static_cast<double>(degree_ - i - j)) * at(i, j);
    return out;
}

Vec3 CurvedTriangle::normal(std::size_t side, double s) const {
    return sides_[side].slope(s).cross(across(side, s)).normalized();
}

// Least squares of the least size: each normal is one condition, that what leads across the side there stands
// upright to it.
void CurvedTriangle::meet(const std::vector<Asked>& normals) {
    std::map<std::array<std::size_t, 2>, Eigen::Index> inner;
    for (std::size_t i = 1; i < degree_; ++i)
        for (std::size_t j = 1; i + j < degree_; ++j)
            inner.emplace(std::array{i, j}, static_cast<Eigen::Index>(inner.size()));
    const auto asked = static_cast<Eigen::Index>(normals.size());
    Eigen::MatrixXd moves = Eigen::MatrixXd::Zero(asked, 3 * static_cast<Eigen::Index>(inner.size()));
    Eigen::VectorXd miss(asked);
    for (Eigen::Index row = 0; row < asked; ++row) {
        const Asked& a = normals[static_cast<std::size_t>(row)];
        miss[row] = -a.normal.dot(across(a.side, a.s));
        for (std::size_t i = 1; i + 1 < degree_; ++i)
            moves.block<1, 3>(row, 3 * inner.at(beside(a.side, i))) =
                bernstein(degree_ - 1, i, a.s) * a.normal.transpose();
    }
    Eigen::MatrixXd gram = moves * moves.transpose();
    gram.diagonal().array() += soft;
    const Eigen::VectorXd by = moves.transpose() * gram.ldlt().solve(miss);
    if (!by.allFinite() || by.norm() >= furthest * (sides_[0].d - sides_[0].a).norm()) return;
    for (const auto& [where, which] : inner) at(where[0], where[1]) += by.segment<3>(3 * which);
}

// By powers u^m v^n: (1 - u - v)^i is the sum over p + q <= i of (-1)^(p + q) i! / (p! q! (i - p - q)!).
std::vector<Vec3> CurvedTriangle::square() const {
    std::array<double, most + 1> factorial{1.0};
    for (std::size_t i = 1; i <= most; ++i) factorial[i] = factorial[i - 1] * static_cast<double>(i);
    std::array<std::array<Vec3, most + 1>, most + 1> power;
    for (auto& row : power) row.fill(Vec3::Zero());
    for (std::size_t j = 0; j <= degree_; ++j)
        for (std::size_t k = 0; j + k <= degree_; ++k) {
            const std::size_t i = degree_ - j - k;
            const double count = factorial[degree_] / (factorial[j] * factorial[k]);
            for (std::size_t p = 0; p <= i; ++p)
                for (std::size_t q = 0; p + q <= i; ++q)
                    power[j + p][k + q] += count * ((p + q) % 2 == 0 ? 1.0 : -1.0) /
                                           (factorial[p] * factorial[q] * factorial[i - p - q]) * at(j, k);
        }
    std::vector<Vec3> out;
    out.reserve((degree_ + 1) * (degree_ + 1));
    for (std::size_t i = 0; i <= degree_; ++i)
        for (std::size_t j = 0; j <= degree_; ++j) {
            Vec3 pole = Vec3::Zero();
            for (std::size_t m = 0; m <= i; ++m)
                for (std::size_t n = 0; n <= j; ++n)
                    pole +=
                        choose(i, m) / choose(degree_, m) * choose(j, n) / choose(degree_, n) * power[m][n];
            out.push_back(pole);
        }
    return out;
}

} // namespace upright
