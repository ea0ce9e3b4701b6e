#include "design/columns.hpp"

#include "geometry/distance.hpp"

#include <algorithm>
#include <cmath>
#include <map>

namespace upright {

namespace {

constexpr double same_place = 1e-3; // of a size: middles of one column
constexpr double least_depth = 1.5; // elements in a column of the mean, for columns to be such

using Cell = std::pair<long, long>;

} // namespace

Columns::Columns(const Mesh& mesh, const Vec3& along) : column_(mesh.elements()), reads_(mesh.elements()) {
    const auto [u, v] = across(along);
    const auto cell_of = [&, u = u, v = v](const Vec3& p, double width) {
        return Cell{std::lround(p.dot(u) / width), std::lround(p.dot(v) / width)};
    };
    const auto number = [&](double width) {
        std::map<Cell, std::int32_t> numbers;
        for (std::size_t e = 0; e < mesh.elements(); ++e) {
            const auto [at, fresh] =
                numbers.emplace(cell_of(mesh.center(e), width), static_cast<std::int32_t>(numbers.size()));
            column_[e] = at->second;
        }
        count_ = numbers.size();
        return numbers;
    };
    number(same_place * mesh.size);
    exact_ = static_cast<double>(mesh.elements()) >= least_depth * static_cast<double>(count_);
    if (exact_) {
        for (std::size_t e = 0; e < mesh.elements(); ++e) reads_[e] = {{of(static_cast<ElementId>(e)), 1.0}};
        return;
    }
    const std::map<Cell, std::int32_t> numbers = number(mesh.size);
    for (std::size_t e = 0; e < mesh.elements(); ++e) {
        const double x = mesh.center(e).dot(u) / mesh.size;
        const double y = mesh.center(e).dot(v) / mesh.size;
        const auto i = static_cast<long>(std::floor(x));
        const auto j = static_cast<long>(std::floor(y));
        double sum = 0.0;
        for (const long di : {0L, 1L})
            for (const long dj : {0L, 1L}) {
                const auto found = numbers.find({i + di, j + dj});
                if (found == numbers.end()) continue;
                const double weight = (1.0 - std::abs(x - static_cast<double>(i + di))) *
                                      (1.0 - std::abs(y - static_cast<double>(j + dj)));
                if (weight <= 0.0) continue;
                reads_[e].emplace_back(static_cast<std::size_t>(found->second), weight);
                sum += weight;
            }
        for (auto& [column, weight] : reads_[e]) weight /= sum;
    }
}

std::pair<double, double> extent_along(const Mesh& mesh, const Vec3& along) {
    double low = 1e300;
    double high = -1e300;
    for (const Vec3& p : mesh.nodes) {
        low = std::min(low, p.dot(along));
        high = std::max(high, p.dot(along));
    }
    return {low, high};
}

} // namespace upright
