#include "part/solid/built_up.hpp"

#include "base/angles.hpp"
#include "geometry/distance.hpp"

#include <algorithm>
#include <cmath>

namespace upright {

namespace {

constexpr int directions = 16;               // of a cone's rim
constexpr double never = -0.5, always = 1.5; // beyond what a field is
constexpr double most_places = 3e7;          // of the lattice: coarser where there would be more
constexpr double narrowest = 0.5;            // tangent of a cone whose rim lies on the next place
constexpr int spreads = 2;                   // layers around the design to which its values go on

} // namespace

BuiltUp::BuiltUp(const Wish& wish) {
    const auto [u, v] = across(wish.up);
    axes_.row(0) = u;
    axes_.row(1) = v;
    axes_.row(2) = wish.up;
    Bounds turned;
    for (int k = 0; k < 8; ++k)
        turned.include(axes_ * Vec3((k & 1) != 0 ? wish.box.high.x() : wish.box.low.x(),
                                    (k & 2) != 0 ? wish.box.high.y() : wish.box.low.y(),
                                    (k & 4) != 0 ? wish.box.high.z() : wish.box.low.z()));
    // One step across is as far as the cone is wider from layer to layer, of a slender one further.
    const Vec3 size = turned.size();
    double side = wish.step * std::clamp(wish.reach, narrowest, 1.0);
    double up = side / std::max(wish.reach, narrowest);
    const double places = size.x() * size.y() * size.z() / (side * side * up);
    const double coarser = std::cbrt(std::max(1.0, places / most_places));
    side *= coarser;
    up *= coarser;
    rim_ = wish.reach * up / side;
    step_ = Vec3(side, side, up);
    // The lowest layer is where the space ends; across there is one row more on each side.
    low_ = turned.low - Vec3(step_.x(), step_.y(), 0.0);
    for (std::size_t a = 0; a < 3; ++a) {
        const auto axis = static_cast<Eigen::Index>(a);
        count_[a] = static_cast<int>(std::ceil(size[axis] / step_[axis])) + (a < 2 ? 3 : 1);
    }
    build(wish);
    for (int i = 0; i < spreads; ++i) spread();
}

void BuiltUp::build(const Wish& wish) {
    excess_.assign(at(0, 0, count_[2]), 0.0F);
    known_.assign(excess_.size(), 0);
    const auto layer = at(0, 0, 1);
    std::vector<double> below(layer, never);
    std::vector<double> here(layer, never);
    std::array<std::array<double, 2>, directions> rim{};
    for (std::size_t d = 0; d < rim.size(); ++d) {
        const double turn = 2.0 * pi * static_cast<double>(d) / directions;
        rim[d] = {rim_ * std::cos(turn), rim_ * std::sin(turn)};
    }
    // Between places of the layer below; `i`, `j` and the offset are steps.
    const auto between = [&](double x, double y) {
        const int i = std::clamp(static_cast<int>(std::floor(x)), 0, count_[0] - 2);
        const int j = std::clamp(static_cast<int>(std::floor(y)), 0, count_[1] - 2);
        const double s = std::clamp(x - i, 0.0, 1.0);
        const double t = std::clamp(y - j, 0.0, 1.0);
        const double* row = below.data() + at(i, j, 0);
        const double* next = row + count_[0];
        return (1.0 - t) * ((1.0 - s) * row[0] + s * row[1]) + t * ((1.0 - s) * next[0] + s * next[1]);
    };
    for (int k = 0; k < count_[2]; ++k) {
#pragma omp parallel for schedule(dynamic)
        for (int j = 0; j < count_[1]; ++j)
            for (int i = 0; i < count_[0]; ++i) {
                const Vec3 place = low_ + step_.cwiseProduct(Vec3(i, j, k));
                const Vec3 p = axes_.transpose() * place;
                const std::size_t n = at(i, j, 0);
                const BuiltUp::Place is = wish.place(p);
                if (is != Place::Free) {
                    here[n] = is == Place::Solid ? always : never;
                    continue;
                }
                const double value = wish.field(p);
                double borne = k == 0 ? (wish.plate ? always : never) : below[n];
                for (std::size_t d = 0; d < rim.size() && k > 0 && borne < value; ++d)
                    borne = std::max(borne, between(i + rim[d][0], j + rim[d][1]));
                here[n] = std::min(value, borne);
                const std::size_t m = at(i, j, k);
                excess_[m] = static_cast<float>(value - here[n]);
                known_[m] = 1;
            }
        below.swap(here);
    }
}

// To places beside the design: the mean of those next to them.
void BuiltUp::spread() {
    std::vector<std::pair<std::size_t, float>> fresh;
    for (int k = 0; k < count_[2]; ++k)
        for (int j = 0; j < count_[1]; ++j)
            for (int i = 0; i < count_[0]; ++i) {
                if (known_[at(i, j, k)] != 0) continue;
                float sum = 0.0F;
                int many = 0;
                for (int c = std::max(k - 1, 0); c <= std::min(k + 1, count_[2] - 1); ++c)
                    for (int b = std::max(j - 1, 0); b <= std::min(j + 1, count_[1] - 1); ++b)
                        for (int a = std::max(i - 1, 0); a <= std::min(i + 1, count_[0] - 1); ++a)
                            if (known_[at(a, b, c)] != 0) {
                                sum += excess_[at(a, b, c)];
                                ++many;
                            }
                if (many > 0) fresh.emplace_back(at(i, j, k), sum / static_cast<float>(many));
            }
    for (const auto& [n, value] : fresh) {
        excess_[n] = value;
        known_[n] = 1;
    }
}

double BuiltUp::excess(const Vec3& p, Vec3& slope) const {
    const Vec3 place = (axes_ * p - low_).cwiseQuotient(step_);
    std::array<int, 3> cell{};
    Vec3 t;
    for (std::size_t a = 0; a < 3; ++a) {
        const auto axis = static_cast<Eigen::Index>(a);
        cell[a] = std::clamp(static_cast<int>(std::floor(place[axis])), 0, std::max(0, count_[a] - 2));
        t[axis] = std::clamp(place[axis] - cell[a], 0.0, 1.0);
    }
    double out = 0.0;
    Vec3 by = Vec3::Zero();
    for (int corner = 0; corner < 8; ++corner) {
        std::array<int, 3> n = cell;
        Vec3 w;
        Vec3 sign;
        for (std::size_t a = 0; a < 3; ++a) {
            const auto axis = static_cast<Eigen::Index>(a);
            const bool high = (corner >> a & 1) != 0;
            n[a] = std::min(n[a] + (high ? 1 : 0), count_[a] - 1);
            w[axis] = high ? t[axis] : 1.0 - t[axis];
            sign[axis] = high ? 1.0 : -1.0;
        }
        const double value = excess_[at(n[0], n[1], n[2])];
        if (value == 0.0) continue;
        out += w.prod() * value;
        by += value * Vec3(sign.x() * w.y() * w.z(), w.x() * sign.y() * w.z(), w.x() * w.y() * sign.z());
    }
    slope = axes_.transpose() * by.cwiseQuotient(step_);
    return out;
}

double BuiltUp::excess(const Vec3& p) const {
    Vec3 slope;
    return excess(p, slope);
}

} // namespace upright
