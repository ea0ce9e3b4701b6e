// Von Mises stress, and safety: yield over stress. Both are local: what is reported is the worst sample, what
// an optimiser gets an aggregate corrected towards it.
#include "response/measures.hpp"

#include "base/reduction.hpp"
#include "design/chain.hpp"
#include "response/design_state.hpp"
#include "response/motions.hpp"
#include "response/stress_lagrangian.hpp"
#include "response/stress_share.hpp"
#include "study/names.hpp"
#include "study/response_keys.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <fmt/ranges.h>

namespace upright {

namespace {

constexpr double norm_power = 8.0;  // of the aggregate
constexpr double softness = 1e-3;   // of stress_share: the share of stiffness from which on a cell counts
constexpr double adapt_share = 0.5; // of what a correction misses, made good each time

class Strength final : public Measurement {
  public:
    Strength(const Binding& to, bool safety)
        : model_(to.model), response_(to.response), nodes_(to.nodes), safety_(safety),
          relative_(safety || to.response.max_share.has_value()) {
        const std::vector<bool> out_of = left_out(model_, response_.except);
        if (nodes_ == nullptr)
            for (std::size_t e = 0; e < out_of.size(); ++e) {
                if (!out_of[e]) add(e, model_.mesh.region[e]);
            }
        else {
            const std::vector<bool> counted = counted_nodes(model_, *nodes_, out_of);
            for (std::size_t i = 0; i < counted.size(); ++i)
                if (counted[i]) add(i, nodes_->region[i]);
        }
        if (samples_.empty())
            throw Error::input(response_.place,
                               relative_ ? "no material of \"" + response_.name +
                                               "\" has the strength that it is measured by"
                                         : "nothing is left for \"" + response_.name + "\" to measure",
                               relative_ ? "Write yield (or ultimate) in the [[material]]"
                                         : "Except less, or name other regions");
    }

    std::optional<Reading> read(const State& state, const ColumnAt& at) const override {
        const CaseId c = at.in_case;
        if (!state.has_case(c)) return {};
        const std::vector<double>& stress = state.von_mises(c);
        const std::vector<double>* density = nodes_ == nullptr ? state.analysed() : nullptr;
        // What partly dense cells carry counts by their share (stress_share.hpp).
        const auto share = [&](std::size_t s) {
            return density != nullptr ? stress_share((*density)[s]) : 1.0;
        };
        double worst = -1.0;
        std::size_t found = 0;
        for (std::size_t i = 0; i < samples_.size(); ++i) {
            const std::size_t s = samples_[i];
            const double use = share(s) * stress[s] / limits_[i];
            if (use <= worst) continue;
            worst = use;
            found = i;
        }
        Reading out;
        out.min = response_.min;
        out.max = response_.max;
        const std::size_t s = samples_[found];
        out.value = safety_ ? (worst > 0.0 ? 1.0 / worst : 1e300) : share(s) * stress[s];
        if (response_.max_share) out.max = response_.max_share->share * limits_[found];
        out.at = nodes_ == nullptr ? model_.mesh.center(s) : model_.mesh.nodes[index(nodes_->node[s])];
        out.where = place_text(*out.at, model_.mesh.dimension() == 2);
        return out;
    }

    std::vector<Pending> smooth(const DesignState& state, const ColumnAt& at,
                                const SmoothWish& wish) override {
        const CaseId c = at.in_case;
        const std::vector<double> sizes = stresses(state, c);
        if (wish.each_element && at.memory != nullptr && upper_limit() > 0.0)
            return {each_element(state, at, wish, sizes)};
        const std::vector<double> use = uses(state, sizes);
        const double most =
            std::max(largest_over(use.size(), 0.0, [&](std::size_t i) { return use[i]; }), 1e-300);
        Pending p;
        p.in_case = at.in_case;
        p.smooth.column = at.column;
        p.load = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(model_.freedoms()));
        if (wish.gradients) p.smooth.gradient.assign(state.density()->size(), 0.0);
        const double sum =
            sum_over(use.size(), [&](std::size_t i) { return std::pow(use[i] / most, norm_power); });
        const double norm = most * std::pow(sum, 1.0 / norm_power);
        // What is reported.
        const Reading reading = *read(state, at);
        double found = reading.value;
        if (safety_) found = 1.0 / reading.value;
        if (response_.max_share) found = reading.value / (*reading.max / response_.max_share->share);
        const double factor = corrected(at, at.name, found / norm, wish.adapt, adapt_share);
        p.smooth.value = factor * norm;
        if (wish.gradients) add_norm(state, c, sizes, use, factor, norm, p);
        if (safety_) {
            p.smooth.inverse = true;
            if (response_.min) p.smooth.max = 1.0 / *response_.min;
            if (response_.max) p.smooth.min = 1.0 / *response_.max;
        } else {
            p.smooth.max =
                response_.max_share ? std::optional<double>(response_.max_share->share) : response_.max;
            p.smooth.min = response_.min;
        }
        return {std::move(p)};
    }

    void before_made(const DesignState& state, const ColumnAt& at) override {
        before_made_[at.column] = stresses(state, at.in_case);
    }

    void after_made(const DesignState& state, const ColumnAt& at) override {
        const std::vector<double> before = std::move(before_made_[at.column]);
        if (upper_limit() > 0.0)
            lagrangian(state).follow(before, stresses(state, at.in_case), *state.analysed(), *at.memory,
                                     at.name);
    }

  private:
    void add(std::size_t sample, RegionId r) {
        const ModelRegion& region = model_.regions[index(r)];
        if (!response_.of.empty() && !response_.names(r)) return;
        double limit = 1.0;
        if (relative_) {
            const Material& m = model_.materials[region.material];
            const bool ultimate = response_.max_share && response_.max_share->ultimate;
            const std::optional<double>& own = ultimate ? m.ultimate : m.yield;
            if (!own) return;
            limit = *own;
        }
        samples_.push_back(sample);
        limits_.push_back(limit);
    }

    std::size_t layers(const DesignState& state) const {
        return static_cast<std::size_t>(state.statics().stress_layers());
    }

    // Von Mises stress in the solid material, of every sample and layer.
    std::vector<double> stresses(const DesignState& state, CaseId c) const {
        const std::size_t n = samples_.size();
        const std::size_t many = layers(state);
        const Eigen::VectorXd& u = state.displacement(c);
        const double rise = state.statics().rise(model_.cases[c]);
        const std::vector<double>& stress = state.von_mises(c);
        std::vector<double> out(n * many);
#pragma omp parallel for schedule(static)
        for (std::size_t i = 0; i < n; ++i) {
            const std::size_t e = samples_[i];
            if (many == 1) {
                out[i] = stress[e];
                continue;
            }
            const auto both = state.statics().von_mises_at(static_cast<ElementId>(e), u, rise, nullptr);
            for (std::size_t l = 0; l < 2; ++l) out[2 * i + l] = both[l];
        }
        return out;
    }

    // The same as use of the strength (or as stress), with soft cells counting less.
    std::vector<double> uses(const DesignState& state, const std::vector<double>& sizes) const {
        const std::vector<double>& density = *state.analysed();
        const std::size_t many = layers(state);
        std::vector<double> out(sizes.size());
        for (std::size_t k = 0; k < out.size(); ++k)
            out[k] = stress_share(density[samples_[k / many]]) / limits_[k / many] * sizes[k];
        return out;
    }

    // d(norm) = sum (use / norm)^(p - 1) d(use)
    void add_norm(const DesignState& state, CaseId c, const std::vector<double>& sizes,
                  const std::vector<double>& use, double factor, double norm, Pending& p) const {
        const std::vector<double>& density = *state.analysed();
        const std::size_t many = layers(state);
        std::vector<double> weight(use.size());
        for (std::size_t k = 0; k < use.size(); ++k) {
            const std::size_t i = k / many;
            const double of_use = factor * std::pow(use[k] / norm, norm_power - 1.0) / limits_[i];
            weight[k] = of_use * stress_share(density[samples_[i]]);
            p.smooth.gradient[samples_[i]] += of_use * stress_share_slope(density[samples_[i]]) * sizes[k];
        }
        add_load(state, c, weight, p);
    }

    // What a stress of one in this response's own unit may be; zero where it has no such bound.
    double upper_limit() const {
        if (safety_) return response_.min ? 1.0 / *response_.min : 0.0;
        if (response_.max_share) return response_.max_share->share;
        return response_.max.value_or(0.0);
    }

    StressLagrangian lagrangian(const DesignState& state) const {
        const std::size_t many = layers(state);
        std::vector<std::size_t> element;
        std::vector<double> strength;
        for (std::size_t i = 0; i < samples_.size(); ++i) {
            element.insert(element.end(), many, samples_[i]);
            strength.insert(strength.end(), many, limits_[i]);
        }
        const double cells = filter_radius(model_) / (usual_cells * model_.mesh.size);
        const int dimension = model_.mesh.shell() ? 2 : model_.mesh.dimension();
        return {model_.mesh, std::move(element), std::move(strength), upper_limit(),
                std::pow(std::max(1.0, cells), dimension)};
    }

    // Every element its own bound (stress_lagrangian.hpp).
    Pending each_element(const DesignState& state, const ColumnAt& at, const SmoothWish& wish,
                         const std::vector<double>& sizes) const {
        const std::size_t many = layers(state);
        const StressLagrangian::Terms terms =
            lagrangian(state).terms(sizes, state.stiffness(), *at.memory, at.name, wish.adapt);
        Pending p;
        p.in_case = at.in_case;
        p.smooth.column = at.column;
        p.smooth.of_goal = true;
        p.smooth.value = terms.value;
        p.smooth.inverse = safety_;
        p.smooth.by_limit = terms.by_limit;
        if (!wish.gradients) return p;
        p.load = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(model_.freedoms()));
        p.smooth.gradient.assign(state.density()->size(), 0.0);
        for (std::size_t k = 0; k < sizes.size(); ++k) {
            const std::size_t e = samples_[k / many];
            p.smooth.gradient[e] += terms.by_stiffness[k] * state.slope()[e];
        }
        add_load(state, at.in_case, terms.by_stress, p);
        return p;
    }

    // Sum of weight times the slope of each stress by the displacements.
    void add_load(const DesignState& state, CaseId c, const std::vector<double>& weight, Pending& p) const {
        const std::size_t n = samples_.size();
        const std::size_t many = layers(state);
        const int per = model_.mesh.freedoms();
        const Eigen::VectorXd& u = state.displacement(c);
        const double rise = state.statics().rise(model_.cases[c]);
        constexpr std::size_t chunk = 4096;
        std::vector<Eigen::VectorXd> parts(chunk);
        for (std::size_t from = 0; from < n; from += chunk) {
            const std::size_t to = std::min(n, from + chunk);
#pragma omp parallel for schedule(static)
            for (std::size_t i = from; i < to; ++i) {
                Eigen::MatrixXd slopes;
                state.statics().von_mises_at(static_cast<ElementId>(samples_[i]), u, rise, &slopes);
                Eigen::VectorXd& mine = parts[i - from];
                mine = Eigen::VectorXd::Zero(slopes.rows());
                for (std::size_t l = 0; l < many; ++l)
                    mine += weight[i * many + l] * slopes.col(static_cast<Eigen::Index>(l));
            }
            for (std::size_t i = from; i < to; ++i) {
                const NodeRange ids = model_.mesh.nodes_of(static_cast<ElementId>(samples_[i]));
                for (std::size_t k = 0; k < ids.size(); ++k)
                    p.load.segment(static_cast<Eigen::Index>(model_.freedom(ids[k], 0)), per) +=
                        parts[i - from].segment(static_cast<Eigen::Index>(k) * per, per);
            }
        }
    }

    const Model& model_;
    const ModelResponse& response_;
    const RegionNodes* nodes_;         // samples are these, else elements
    bool safety_, relative_;           // relative: measured by a strength
    std::vector<std::size_t> samples_; // that count
    std::vector<double> limits_;       // of each: strength, or 1
    std::map<std::size_t, std::vector<double>>
        before_made_; // of a column, while its black and white is looked at
};

class StrengthKind final : public MeasureKind {
  public:
    explicit StrengthKind(bool safety) : safety_(safety) {
        word = safety ? "safety" : "stress";
        called = "a " + word;
        dimension = safety ? dimension::none : dimension::stress;
        says = safety
                   ? "yield over stress"
                   : "von Mises: `analyze` averages it at the nodes within a region, a run takes it at the "
                     "middle of each element, of partly dense ones by their share";
        std::vector<Key<ResponseCard>> own{case_key(false), of_key("all regions"), except_key()};
        keys = std::move(own) + (safety ? bound_keys(dimension) : stress_bound_keys());
        check = [name = word](ResponseCard& r, const CardReader& reader) {
            require_cases(r, reader, false, name);
        };
        strength = true;
    }

    std::unique_ptr<Measurement> bind(const Binding& to) const override {
        return std::make_unique<Strength>(to, safety_);
    }

    std::string words(const ResponseCard& r) const override {
        return word + " of " +
               (r.of.empty() ? std::string("everything") : fmt::format("{}", fmt::join(r.of, ", "))) +
               (r.except.empty() ? std::string() : fmt::format(" except {}", fmt::join(r.except, ", "))) +
               in_cases(r);
    }

    std::string smooth_remark(const ResponseCard& r, const State& /*state*/, const ColumnAt& /*at*/,
                              double /*value*/) const override {
        return safety_ || r.max_share ? "of the use of strength, as an aggregate"
                                      : "of the aggregate that stands for it";
    }

  private:
    bool safety_;
};

} // namespace

double stress_share(double density) {
    if (density <= 0.0) return 0.0;
    const double cube = density * density * density;
    return (1.0 + softness) * cube * std::sqrt(density) / (cube + softness);
}

double stress_share_slope(double density) {
    if (density <= 0.0) return 0.0;
    const double cube = density * density * density;
    const double top = cube * std::sqrt(density);
    const double below = cube + softness;
    return (1.0 + softness) * (3.5 * top / density / below - top * 3.0 * density * density / (below * below));
}

MeasureList strength_measures() {
    return {std::make_shared<StrengthKind>(false), std::make_shared<StrengthKind>(true)};
}

} // namespace upright
