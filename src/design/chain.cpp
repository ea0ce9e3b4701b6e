#include "design/chain.hpp"

#include "base/blocks.hpp"
#include "base/error.hpp"
#include "base/reduction.hpp"

#include <algorithm>
#include <array>
#include <cmath>

namespace upright {

namespace {

constexpr double most_pairs = 2e7;

// An element or its mirror image, by its middle.
struct Source {
    Vec3 at;
    std::int32_t variable;
    double volume;
};

// Elements of the design and their images beyond symmetry planes, as far as the filter reaches.
std::vector<Source> sources(const Mesh& mesh, const std::vector<std::int32_t>& variable_of, double radius) {
    std::vector<Source> out;
    for (std::size_t e = 0; e < mesh.elements(); ++e)
        if (variable_of[e] >= 0) out.push_back({mesh.center(e), variable_of[e], mesh.volume(e)});
    for (const SymmetryCut& cut : mesh.symmetry) {
        const std::size_t count = out.size();
        for (std::size_t i = 0; i < count; ++i) {
            Source image = out[i];
            if (std::abs(image.at[cut.axis] - cut.at) > radius) continue;
            image.at[cut.axis] = 2 * cut.at - image.at[cut.axis];
            out.push_back(image);
        }
    }
    return out;
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

// Values of groups through links, which work on elements: tied ones have one value before and after.
void pass(const std::vector<std::unique_ptr<Link>>& links, const FormMap& form,
          void (Link::*apply)(const std::vector<double>&, std::vector<double>&) const,
          std::vector<double>& values) {
    if (form.ties()) values = form.spread(values);
    std::vector<double> next;
    for (const auto& link : links) {
        ((*link).*apply)(values, next);
        values.swap(next);
    }
    if (form.ties()) values = form.mean(values);
}

} // namespace

DensityFilter::DensityFilter(const Model& model, const std::vector<std::int32_t>& variable_of, double radius,
                             const SolverOptions& options) {
    const Mesh& mesh = model.mesh;
    if (mesh.on_grid()) {
        grid_ = std::make_unique<GridFilter>(model, variable_of, radius);
        return;
    }
    double pairs = 0.0;
    for (std::size_t e = 0; e < mesh.elements(); ++e)
        if (variable_of[e] >= 0)
            pairs += mesh.dimension() == 2 || mesh.shell()
                         ? 3.1416 * radius * radius * mesh.depth(static_cast<ElementId>(e)) / mesh.volume(e)
                         : 4.1888 * radius * radius * radius / mesh.volume(e);
    if (pairs > most_pairs) {
        helmholtz_ = std::make_unique<HelmholtzFilter>(model, variable_of, radius, options);
        return;
    }
    const std::vector<Source> all = sources(mesh, variable_of, radius);
    Bounds box;
    for (const Source& s : all) box.include(s.at);
    // Buckets as wide as the radius, at most about as many as there are elements.
    const double most = std::max(8.0, 2.0 * static_cast<double>(all.size()));
    double width = std::max(radius, 1e-9 * box.diagonal());
    const Vec3 size = all.empty() ? Vec3(Vec3::Zero()) : box.size();
    const auto buckets = [&](int a) { return std::floor(size[a] / width) + 1.0; };
    while (buckets(0) * buckets(1) * buckets(2) > most) width *= 1.3;
    std::array<int, 3> count{};
    for (int a = 0; a < 3; ++a) count[static_cast<std::size_t>(a)] = static_cast<int>(buckets(a));
    const auto bucket = [&](int i, int j, int k) {
        return (static_cast<std::size_t>(k) * static_cast<std::size_t>(count[1]) +
                static_cast<std::size_t>(j)) *
                   static_cast<std::size_t>(count[0]) +
               static_cast<std::size_t>(i);
    };
    const auto place = [&](const Vec3& p) {
        std::array<int, 3> out{};
        for (int a = 0; a < 3; ++a)
            out[static_cast<std::size_t>(a)] = std::clamp(static_cast<int>((p[a] - box.low[a]) / width), 0,
                                                          count[static_cast<std::size_t>(a)] - 1);
        return out;
    };
    std::vector<std::vector<std::uint32_t>> lists(bucket(0, 0, count[2]));
    for (std::size_t s = 0; s < all.size(); ++s) {
        const auto at = place(all[s].at);
        lists[bucket(at[0], at[1], at[2])].push_back(static_cast<std::uint32_t>(s));
    }
    starts_.push_back(0);
    std::vector<std::pair<std::int32_t, double>> row;
    for (std::size_t e = 0; e < mesh.elements(); ++e) {
        if (variable_of[e] < 0) continue;
        const Vec3& p = mesh.center(e);
        const auto at = place(p);
        row.clear();
        for (int k = std::max(0, at[2] - 1); k <= std::min(count[2] - 1, at[2] + 1); ++k)
            for (int j = std::max(0, at[1] - 1); j <= std::min(count[1] - 1, at[1] + 1); ++j)
                for (int i = std::max(0, at[0] - 1); i <= std::min(count[0] - 1, at[0] + 1); ++i)
                    for (const std::uint32_t s : lists[bucket(i, j, k)]) {
                        const double weight = radius - (all[s].at - p).norm();
                        const bool self = all[s].variable == variable_of[e] && all[s].at == p;
                        // The larger ones weigh more.
                        if (weight > 1e-12 * radius || self)
                            row.emplace_back(all[s].variable, std::max(weight, 1e-300) * all[s].volume);
                    }
        double sum = 0.0;
        for (const auto& [variable, weight] : row) sum += weight;
        for (const auto& [variable, weight] : row) {
            columns_.push_back(variable);
            weights_.push_back(weight / sum);
        }
        starts_.push_back(weights_.size());
    }
}

void DensityFilter::apply(const std::vector<double>& x, std::vector<double>& out) const {
    if (grid_) return grid_->apply(x, out);
    if (helmholtz_) {
        out = helmholtz_->apply(x);
        return;
    }
    out.assign(x.size(), 0.0);
    for (std::size_t r = 0; r + 1 < starts_.size(); ++r)
        for (std::size_t n = starts_[r]; n < starts_[r + 1]; ++n)
            out[r] += weights_[n] * x[static_cast<std::size_t>(columns_[n])];
}

void DensityFilter::transpose(const std::vector<double>& g, std::vector<double>& out) const {
    if (grid_) return grid_->transpose(g, out);
    if (helmholtz_) {
        out = helmholtz_->transpose(g);
        return;
    }
    out.assign(g.size(), 0.0);
    for (std::size_t r = 0; r + 1 < starts_.size(); ++r)
        for (std::size_t n = starts_[r]; n < starts_[r + 1]; ++n)
            out[static_cast<std::size_t>(columns_[n])] += weights_[n] * g[r];
}

std::vector<double> DensityFilter::apply(const std::vector<double>& x) const {
    std::vector<double> out;
    apply(x, out);
    return out;
}

std::vector<double> DensityFilter::transpose(const std::vector<double>& g) const {
    std::vector<double> out;
    transpose(g, out);
    return out;
}

DesignChain::DesignChain(const Model& model, double filter_radius, const FormRules& rules,
                         const SolverOptions& options)
    : is_design_(design_elements(model)), element_of_(where_true(is_design_)),
      variable_of_(numbered(is_design_)), filter_(model, variable_of_, filter_radius, options),
      form_(model, element_of_, rules), thresholds_(thresholds_of(rules.card, filter_radius)) {
    for (const auto& rule : rules.asked) {
        if (const auto [why, instead] = rule->unfit(model, rules.card); !why.empty())
            throw Error::input(rules.card.place, rule->word + ": " + why, instead);
        if (auto link = rule->link(model, element_of_, rules.card))
            (link->after_projection() ? after_ : links_).push_back(std::move(link));
    }
}

std::vector<double> DesignChain::variables_of(const std::vector<double>& elements) const {
    std::vector<double> inner(element_of_.size());
    for (std::size_t v = 0; v < inner.size(); ++v) inner[v] = elements[element_of_[v]];
    return form_.mean(inner);
}

const std::vector<double>& DesignChain::filtered(const std::vector<double>& x) const {
    if (last_filtered_.empty() || !same_by_blocks(x, last_x_)) {
        if (form_.ties())
            last_filtered_ = form_.mean(filter_.apply(form_.spread(x)));
        else
            filter_.apply(x, last_filtered_);
        if (!links_.empty()) {
            // Links work on elements; tied ones have one value before and after.
            std::vector<double> now = form_.spread(last_filtered_);
            before_.clear();
            for (const auto& link : links_) {
                before_.push_back(now);
                link->apply(before_.back(), now);
            }
            last_filtered_ = form_.mean(now);
        }
        copy_by_blocks(x, last_x_);
    }
    return last_filtered_;
}

// Values of groups as those of all elements; what is kept is solid.
void DesignChain::spread_out(std::vector<double>& groups, std::vector<double>& out) const {
    if (form_.ties()) groups = form_.spread(groups);
    if (all_design()) {
        out.swap(groups);
        return;
    }
    out.assign(is_design_.size(), 1.0);
#pragma omp parallel for schedule(static)
    for (std::size_t v = 0; v < groups.size(); ++v) out[element_of_[v]] = groups[v];
}

void DesignChain::physical(const std::vector<double>& x, double sharpness, std::vector<double>& out,
                           double threshold) const {
    const std::vector<double>& filtered = this->filtered(x);
    if (!form_.ties() && all_design() && after_.empty()) {
        out.resize(filtered.size());
        project_all(filtered, sharpness, out, threshold);
        return;
    }
    project_all(filtered, sharpness, room_, threshold);
    if (after_.empty()) return spread_out(room_, out);
    std::vector<double> now = room_;
    pass(after_, form_, &Link::apply, now);
    spread_out(now, out);
}

void DesignChain::made(const std::vector<double>& x, double sharpness, ThreeDesigns& out) const {
    physical(x, sharpness, out.drawn);
    out.thin.clear();
    out.thick.clear();
    if (!thresholds_.three()) return;
    physical(x, sharpness, out.thin, thresholds_.thin);
    physical(x, sharpness, out.thick, thresholds_.thick);
}

void DesignChain::field(const std::vector<double>& x, std::vector<double>& out) const {
    std::vector<double> now = filtered(x);
    if (!after_.empty()) pass(after_, form_, &Link::apply_sharply, now);
    spread_out(now, out);
}

std::vector<double> DesignChain::field(const std::vector<double>& x) const {
    std::vector<double> out;
    field(x, out);
    return out;
}

std::vector<double> DesignChain::physical(const std::vector<double>& x, double sharpness) const {
    std::vector<double> out;
    physical(x, sharpness, out);
    return out;
}

double DesignChain::weighted(const std::vector<double>& x, double sharpness,
                             const std::vector<double>& weights) const {
    if (!form_.ties() && all_design() && after_.empty())
        return projected_sum(filtered(x), sharpness, weights);
    return weighted_sum(weights, physical(x, sharpness));
}

std::vector<double> DesignChain::pull_back(const std::vector<double>& x, double sharpness,
                                           const std::vector<double>& gradient, double threshold) const {
    if (!form_.ties() && all_design() && links_.empty() && after_.empty()) {
        if (sharpness <= 0.0) return filter_.transpose(gradient);
        multiply_by_slope(filtered(x), sharpness, gradient, room_, threshold);
        return filter_.transpose(room_);
    }
    room_.resize(element_of_.size());
#pragma omp parallel for simd schedule(static)
    for (std::size_t v = 0; v < room_.size(); ++v) room_[v] = gradient[element_of_[v]];
    const std::vector<double>& now = filtered(x);
    if (!after_.empty()) {
        std::vector<std::vector<double>> before(1);
        project_all(now, sharpness, before[0], threshold);
        if (form_.ties()) before[0] = form_.spread(before[0]);
        for (std::size_t i = 0; i + 1 < after_.size(); ++i) {
            before.emplace_back();
            after_[i]->apply(before[i], before[i + 1]);
        }
        if (form_.ties()) room_ = form_.mean_transpose(form_.sum(room_));
        for (std::size_t i = after_.size(); i-- > 0;) {
            std::vector<double> by_in;
            after_[i]->pull_back(before[i], room_, by_in);
            room_.swap(by_in);
        }
    }
    if (form_.ties()) room_ = form_.sum(room_);
    if (sharpness > 0.0) multiply_by_slope(now, sharpness, room_, room_, threshold);
    if (!links_.empty()) {
        std::vector<double> by_out = form_.mean_transpose(room_);
        for (std::size_t i = links_.size(); i-- > 0;) {
            std::vector<double> by_in;
            links_[i]->pull_back(before_[i], by_out, by_in);
            by_out.swap(by_in);
        }
        room_ = form_.sum(by_out);
    }
    return form_.ties() ? form_.sum(filter_.transpose(form_.mean_transpose(room_)))
                        : filter_.transpose(room_);
}

double filter_radius(const Model& model) {
    const double feature =
        model.form.min_feature.value_or(model.run.filter.value_or(usual_cells * model.mesh.size));
    return std::max(feature, model.form.min_slot.value_or(0.0));
}

} // namespace upright
