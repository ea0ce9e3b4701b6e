#include "part/solid/design_field.hpp"

#include "mesh/locator.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <optional>

namespace upright {

namespace {

constexpr int margin = 6;      // cells around
constexpr int grid_layers = 4; // in which values go on beyond the design
constexpr int free_layers = 6; // the same of a lattice that is not the mesh's own
// Few, or what is void within a wall of the space fills up from beside it.
constexpr int grid_sweeps = 2, free_sweeps = 20;
constexpr double fine = 0.75; // of the mesh's size
constexpr double about = 1.2,
                 known_within =
                     0.75;         // in sizes: radius of the least squares, and how near an element has to be
constexpr double most_local = 3.0; // sizes: of an element that is larger than others
constexpr double ridge = 0.01;
constexpr int corrections = 2;                               // of a lattice that is not the mesh's own
constexpr double lowest_beyond = -0.5, highest_beyond = 1.5; // of coefficients, where a field is steep

// Weights of a cubic B-spline at four cells, and their slopes.
void weights_at(double t, std::array<double, 4>& w, std::array<double, 4>& s) {
    const double u = 1.0 - t;
    w = {u * u * u / 6.0, (3.0 * t * t * t - 6.0 * t * t + 4.0) / 6.0,
         (3.0 * u * u * u - 6.0 * u * u + 4.0) / 6.0, t * t * t / 6.0};
    s = {-0.5 * u * u, 1.5 * t * t - 2.0 * t, -1.5 * u * u + 2.0 * u, 0.5 * t * t};
}

} // namespace

DesignField::DesignField(const Mesh& mesh, const std::vector<double>& value, const std::vector<bool>& counts,
                         bool smooth) {
    std::vector<double> asked = value;
    take(mesh, asked, counts);
    for (int round = 0; smooth && !mesh.on_grid() && round < corrections; ++round) {
        for (std::size_t e = 0; e < asked.size(); ++e)
            if (counts[e]) asked[e] += value[e] - this->value(mesh.center(e));
        take(mesh, asked, counts);
    }
}

void DesignField::take(const Mesh& mesh, const std::vector<double>& value, const std::vector<bool>& counts) {
    if (mesh.on_grid())
        take_grid(mesh, value, counts);
    else
        sample(mesh, value, counts);
    mirror(mesh);
    go_on(mesh.on_grid() ? grid_layers : free_layers, mesh.on_grid() ? grid_sweeps : free_sweeps);
}

void DesignField::take_grid(const Mesh& mesh, const std::vector<double>& value,
                            const std::vector<bool>& counts) {
    const CellGrid& grid = mesh.grid;
    step_ = grid.cell;
    origin_ = grid.origin + (0.5 - margin) * step_;
    for (std::size_t a = 0; a < 3; ++a) count_[a] = grid.count[a] + 2 * margin;
    values_.assign(at({0, 0, count_[2]}), 0.0);
    known_.assign(values_.size(), 0);
    for (std::size_t e = 0; e < mesh.cell_of.size(); ++e) {
        if (!counts[e]) continue;
        std::array<int, 3> c = grid.indices(mesh.cell_of[e]);
        for (int& i : c) i += margin;
        values_[at(c)] = value[e];
        known_[at(c)] = 1;
    }
}

// Moving least squares of first order about each cell's middle.
void DesignField::sample(const Mesh& mesh, const std::vector<double>& value,
                         const std::vector<bool>& counts) {
    const double h = fine * mesh.size;
    // Whole steps, so that planes of symmetry lie between cells.
    for (std::size_t a = 0; a < 3; ++a) {
        const auto axis = static_cast<Eigen::Index>(a);
        const int whole = std::max(1, static_cast<int>(std::ceil(mesh.bounds.size()[axis] / h)));
        step_[axis] = mesh.bounds.size()[axis] / whole;
        count_[a] = whole + 2 * margin;
    }
    origin_ = mesh.bounds.low + (0.5 - margin) * step_;
    values_.assign(at({0, 0, count_[2]}), 0.0);
    known_.assign(values_.size(), 0);
    // Of each element, as if it were a cube: where they are large they lie further apart.
    std::vector<double> size(mesh.elements(), 0.0);
    double widest = mesh.size;
    for (std::size_t e = 0; e < size.size(); ++e) {
        if (!counts[e]) continue;
        for (const NodeId n : mesh.nodes_of(static_cast<ElementId>(e)))
            size[e] =
                std::max(size[e], (mesh.nodes[index(n)] - mesh.center(e)).norm() * 2.0 / std::sqrt(3.0));
        size[e] = std::clamp(size[e], mesh.size, most_local * mesh.size);
        widest = std::max(widest, size[e]);
    }
    const ElementLocator close(mesh, about * mesh.size);
    const ElementLocator wide(mesh, about * widest);
#pragma omp parallel for schedule(dynamic)
    for (int k = 0; k < count_[2]; ++k) {
        std::vector<std::pair<ElementId, double>> near;
        for (int j = 0; j < count_[1]; ++j)
            for (int i = 0; i < count_[0]; ++i) {
                const Vec3 p = origin_ + step_.cwiseProduct(Vec3(i, j, k));
                std::pair<double, double> nearest; // how far it is, and its size
                const auto look = [&](const ElementLocator& in, double radius) {
                    near.clear();
                    nearest = {1e300, 0.0};
                    in.near(p, radius, [&](ElementId e, double d) {
                        if (!counts[index(e)]) return;
                        near.emplace_back(e, d);
                        nearest = std::min(nearest, {d, size[index(e)]});
                    });
                };
                look(close, about * mesh.size);
                if (widest > mesh.size &&
                    (nearest.first > known_within * mesh.size || nearest.second > mesh.size))
                    look(wide, about * widest);
                if (nearest.first > known_within * nearest.second) continue;
                const double radius = about * nearest.second;
                Eigen::Matrix4d sums = Eigen::Matrix4d::Zero();
                Eigen::Vector4d right = Eigen::Vector4d::Zero();
                for (const auto& [e, d] : near) {
                    if (d > radius) continue;
                    const double w = (1.0 - d / radius) * (1.0 - d / radius) * mesh.volume(e);
                    const Vec3 off = (mesh.center(e) - p) / radius;
                    const Eigen::Vector4d base(1.0, off.x(), off.y(), off.z());
                    sums += w * base * base.transpose();
                    right += w * value[index(e)] * base;
                }
                for (int a = 1; a < 4; ++a) sums(a, a) += ridge * sums(0, 0);
                const std::size_t n = at({i, j, k});
                values_[n] = std::clamp(sums.ldlt().solve(right)[0], lowest_beyond, highest_beyond);
                known_[n] = 1;
            }
    }
}

// Grids are cut at planes of symmetry; of other lattices what lies beyond is taken from this side.
void DesignField::mirror(const Mesh& mesh) {
    for (std::size_t a = 0; a < 3; ++a) {
        image_[a].resize(static_cast<std::size_t>(count_[a]));
        for (int i = 0; i < count_[a]; ++i) image_[a][static_cast<std::size_t>(i)] = i;
    }
    for (const SymmetryCut& cut : mesh.symmetry) {
        const auto a = static_cast<std::size_t>(cut.axis);
        const double at_cell = (cut.at - origin_[cut.axis]) / step_[cut.axis];
        for (int i = 0; i < count_[a]; ++i) {
            if (cut.high ? i < at_cell : i > at_cell) continue;
            const int other = static_cast<int>(std::lround(2.0 * at_cell - i));
            if (other >= 0 && other < count_[a]) image_[a][static_cast<std::size_t>(i)] = other;
        }
    }
}

void DesignField::go_on(int layers, int sweeps) {
    // Cells to fill, layer by layer, from their neighbours' means.
    const auto neighbour = [&](std::array<int, 3> c, int side) -> long {
        const auto a = static_cast<std::size_t>(side / 2);
        c[a] += side % 2 == 0 ? -1 : 1;
        if (c[a] < 0 || c[a] >= count_[a]) return -1;
        for (std::size_t b = 0; b < 3; ++b) c[b] = image_[b][static_cast<std::size_t>(c[b])];
        return static_cast<long>(at(c));
    };
    // Nothing where none is known.
    const auto mean_about = [&](const std::array<int, 3>& c) -> std::optional<double> {
        double sum = 0.0;
        int count = 0;
        for (int side = 0; side < 6; ++side) {
            const long n = neighbour(c, side);
            if (n < 0 || known_[static_cast<std::size_t>(n)] == 0) continue;
            sum += values_[static_cast<std::size_t>(n)];
            ++count;
        }
        return count > 0 ? std::optional<double>(sum / count) : std::nullopt;
    };
    // Straight on from a neighbour and the one behind it: where a surface meets a face of the space at an
    // angle it goes on at that angle. From the mean of several where a cell lies in a corner.
    const auto straight_on = [&](const std::array<int, 3>& c) -> std::optional<std::pair<double, int>> {
        double sum = 0.0;
        int count = 0;
        for (int side = 0; side < 6; ++side) {
            const long n = neighbour(c, side);
            if (n < 0 || known_[static_cast<std::size_t>(n)] == 0) continue;
            std::array<int, 3> next = c;
            next[static_cast<std::size_t>(side / 2)] += side % 2 == 0 ? -1 : 1;
            const long behind = neighbour(next, side);
            double value = values_[static_cast<std::size_t>(n)];
            if (behind >= 0 && known_[static_cast<std::size_t>(behind)] != 0)
                value += value - values_[static_cast<std::size_t>(behind)];
            sum += std::clamp(value, lowest_beyond, highest_beyond);
            ++count;
        }
        if (count == 0) return {};
        return std::pair(sum / count, count);
    };
    std::vector<std::array<int, 3>> filled;
    for (int layer = 0; layer < layers; ++layer) {
        std::vector<std::pair<std::size_t, double>> fresh;
        for (int k = 0; k < count_[2]; ++k)
            for (int j = 0; j < count_[1]; ++j)
                for (int i = 0; i < count_[0]; ++i) {
                    const std::array<int, 3> c{i, j, k};
                    if (known_[at(c)] != 0) continue;
                    const auto on = straight_on(c);
                    if (!on) continue;
                    fresh.emplace_back(at(c), on->first);
                    if (on->second > 1) filled.push_back(c);
                }
        for (const auto& [n, v] : fresh) {
            values_[n] = v;
            known_[n] = 1;
        }
    }
    for (int sweep = 0; sweep < sweeps; ++sweep)
        for (const std::array<int, 3>& c : filled)
            if (const std::optional<double> mean = mean_about(c)) values_[at(c)] = *mean;
}

double DesignField::value(const Vec3& p, Vec3& slope) const {
    std::array<std::array<double, 4>, 3> w{};
    std::array<std::array<double, 4>, 3> s{};
    std::array<std::array<std::size_t, 4>, 3> cell{};
    const std::array<std::size_t, 3> stride{1, static_cast<std::size_t>(count_[0]), at({0, 0, 1})};
    for (std::size_t a = 0; a < 3; ++a) {
        const auto axis = static_cast<Eigen::Index>(a);
        const double u = std::clamp((p[axis] - origin_[axis]) / step_[axis], 1.0, count_[a] - 2.0 - 1e-9);
        const auto low = static_cast<std::size_t>(u) - 1;
        weights_at(u - std::floor(u), w[a], s[a]);
        for (std::size_t i = 0; i < 4; ++i)
            cell[a][i] = stride[a] * static_cast<std::size_t>(image_[a][low + i]);
    }
    double out = 0.0;
    slope = Vec3::Zero();
    for (std::size_t k = 0; k < 4; ++k) {
        double plane = 0.0;
        double plane_x = 0.0;
        double plane_y = 0.0;
        for (std::size_t j = 0; j < 4; ++j) {
            const double* row = values_.data() + cell[2][k] + cell[1][j];
            double line = 0.0;
            double line_x = 0.0;
            for (std::size_t i = 0; i < 4; ++i) {
                line += w[0][i] * row[cell[0][i]];
                line_x += s[0][i] * row[cell[0][i]];
            }
            plane += w[1][j] * line;
            plane_x += w[1][j] * line_x;
            plane_y += s[1][j] * line;
        }
        out += w[2][k] * plane;
        slope += Vec3(w[2][k] * plane_x, w[2][k] * plane_y, s[2][k] * plane);
    }
    slope = slope.cwiseQuotient(step_);
    return out;
}

double DesignField::value(const Vec3& p) const {
    Vec3 slope;
    return value(p, slope);
}

Vec3 DesignField::slope(const Vec3& p) const {
    Vec3 out;
    value(p, out);
    return out;
}

} // namespace upright
