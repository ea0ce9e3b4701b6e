#include "design/chain.hpp"

#include <cmath>

namespace upright {

namespace {

// An index folded back at symmetry planes; -1 beyond any other end.
int folded(int i, int count, const std::array<bool, 2>& symmetric) {
    if (i < 0) {
        if (!symmetric[0]) return -1;
        i = -1 - i;
    }
    if (i >= count) {
        if (!symmetric[1]) return -1;
        i = 2 * count - 1 - i;
    }
    return i >= 0 && i < count ? i : -1;
}

std::vector<bool> design_elements(const Model& model) {
    std::vector<bool> out(model.mesh.elements());
    for (std::size_t e = 0; e < out.size(); ++e)
        out[e] = model.role(static_cast<ElementId>(e)) == Role::Design;
    return out;
}

std::vector<std::size_t> where_true(const std::vector<bool>& flags) {
    std::vector<std::size_t> out;
    for (std::size_t i = 0; i < flags.size(); ++i)
        if (flags[i]) out.push_back(i);
    return out;
}

std::vector<std::int32_t> numbered(const std::vector<bool>& flags) {
    std::vector<std::int32_t> out(flags.size(), -1);
    std::int32_t next = 0;
    for (std::size_t i = 0; i < flags.size(); ++i)
        if (flags[i]) out[i] = next++;
    return out;
}

} // namespace

DensityFilter::DensityFilter(const Model& model, const std::vector<std::int32_t>& variable_of,
                             double radius) {
    const Mesh& mesh = model.mesh;
    const CellGrid& grid = mesh.grid;
    struct Offset {
        int i, j, k;
        double weight;
    };
    std::vector<Offset> offsets;
    std::array<int, 3> reach{};
    for (int a = 0; a < grid.axes(); ++a)
        reach[static_cast<std::size_t>(a)] = static_cast<int>(radius / grid.cell[a]);
    for (int k = -reach[2]; k <= reach[2]; ++k)
        for (int j = -reach[1]; j <= reach[1]; ++j)
            for (int i = -reach[0]; i <= reach[0]; ++i) {
                const Vec3 step(i * grid.cell.x(), j * grid.cell.y(), grid.plane ? 0.0 : k * grid.cell.z());
                const double weight = radius - step.norm();
                if (weight > 0.0 || (i == 0 && j == 0 && k == 0))
                    offsets.push_back({i, j, k, std::max(weight, 1e-300)});
            }
    starts_.push_back(0);
    for (std::size_t e = 0; e < mesh.elements(); ++e) {
        if (variable_of[e] < 0) continue;
        const auto at = grid.indices(mesh.cell_of[e]);
        double sum = 0.0;
        for (const Offset& o : offsets) {
            const int i = folded(at[0] + o.i, grid.count[0], grid.symmetric[0]);
            const int j = folded(at[1] + o.j, grid.count[1], grid.symmetric[1]);
            const int k = folded(at[2] + o.k, grid.count[2], grid.symmetric[2]);
            if (i < 0 || j < 0 || k < 0) continue;
            const std::int32_t other = mesh.element_of[grid.at(i, j, k)];
            if (other < 0 || variable_of[static_cast<std::size_t>(other)] < 0) continue;
            columns_.push_back(variable_of[static_cast<std::size_t>(other)]);
            weights_.push_back(o.weight);
            sum += o.weight;
        }
        for (std::size_t n = starts_.back(); n < weights_.size(); ++n) weights_[n] /= sum;
        starts_.push_back(weights_.size());
    }
}

std::vector<double> DensityFilter::apply(const std::vector<double>& x) const {
    std::vector<double> out(x.size(), 0.0);
    for (std::size_t r = 0; r + 1 < starts_.size(); ++r)
        for (std::size_t n = starts_[r]; n < starts_[r + 1]; ++n)
            out[r] += weights_[n] * x[static_cast<std::size_t>(columns_[n])];
    return out;
}

std::vector<double> DensityFilter::transpose(const std::vector<double>& g) const {
    std::vector<double> out(g.size(), 0.0);
    for (std::size_t r = 0; r + 1 < starts_.size(); ++r)
        for (std::size_t n = starts_[r]; n < starts_[r + 1]; ++n)
            out[static_cast<std::size_t>(columns_[n])] += weights_[n] * g[r];
    return out;
}

double project(double density, double sharpness) {
    if (sharpness <= 0.0) return density;
    const double half = std::tanh(0.5 * sharpness);
    return (half + std::tanh(sharpness * (density - 0.5))) / (2.0 * half);
}

double project_slope(double density, double sharpness) {
    if (sharpness <= 0.0) return 1.0;
    const double t = std::tanh(sharpness * (density - 0.5));
    return sharpness * (1.0 - t * t) / (2.0 * std::tanh(0.5 * sharpness));
}

DesignChain::DesignChain(const Model& model, double filter_radius)
    : is_design_(design_elements(model)), element_of_(where_true(is_design_)),
      variable_of_(numbered(is_design_)), filter_(model, variable_of_, filter_radius) {}

std::vector<double> DesignChain::physical(const std::vector<double>& x, double sharpness) const {
    const std::vector<double> filtered = filter_.apply(x);
    std::vector<double> out(is_design_.size(), 1.0);
    for (std::size_t v = 0; v < filtered.size(); ++v) out[element_of_[v]] = project(filtered[v], sharpness);
    return out;
}

std::vector<double> DesignChain::pull_back(const std::vector<double>& x, double sharpness,
                                           const std::vector<double>& gradient) const {
    const std::vector<double> filtered = filter_.apply(x);
    std::vector<double> inner(filtered.size());
    for (std::size_t v = 0; v < filtered.size(); ++v)
        inner[v] = gradient[element_of_[v]] * project_slope(filtered[v], sharpness);
    return filter_.transpose(inner);
}

} // namespace upright
