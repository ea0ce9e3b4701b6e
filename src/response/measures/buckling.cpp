// The least factor of a case's loads at which its structure buckles.
#include "response/buckling.hpp"

#include "response/design_state.hpp"
#include "response/measures.hpp"
#include "study/response_keys.hpp"

#include <algorithm>
#include <fmt/format.h>

namespace upright {

namespace {

constexpr int factors_together = 3; // they may swap, or be equal

class Buckling final : public Measurement {
  public:
    explicit Buckling(const Binding& to) : response_(to.response), raised_(to.response.raised) {}

    std::optional<Reading> read(const State& state, const ColumnAt& at) const override {
        if (!state.has_case(at.in_case)) return {};
        const std::vector<BucklingMode>& modes = state.buckling(at.in_case).modes;
        Reading out;
        out.min = response_.min;
        out.max = response_.max;
        out.value = modes.empty() ? most_buckling_factor : modes.front().factor;
        if (modes.empty()) out.where = "none found below";
        return out;
    }

    // The use that the load makes of what the shape can bear, one over the factor: it falls with stiffness as
    // compliance does.
    std::vector<Pending> smooth(const DesignState& state, const ColumnAt& at,
                                const SmoothWish& wish) override {
        const std::vector<BucklingMode>& modes = state.buckling(at.in_case).modes;
        std::vector<Pending> out;
        const std::size_t last = response_.min || raised_ ? modes.size() : std::size_t{1};
        for (std::size_t m = 0; m < std::min(last, modes.size()); ++m) {
            Pending p = fresh(at, m);
            p.smooth.value = 1.0 / modes[m].factor;
            if (wish.gradients) {
                // Of the eigenvalue -v' G v with v' K v = 1; G depends on densities openly and by the stress.
                const Eigen::VectorXd& v = modes[m].shape;
                const GeometricStiffness& G = state.geometric(at.in_case);
                const std::vector<double> elastic = state.statics().unit_energy(v);
                const std::vector<double> geometric = G.unit_work(v);
                p.smooth.gradient.resize(elastic.size());
                for (std::size_t e = 0; e < elastic.size(); ++e)
                    p.smooth.gradient[e] = -state.stress_slope()[e] * geometric[e] -
                                           p.smooth.value * state.slope()[e] * elastic[e];
                p.load = -G.by_displacement(v);
            }
            out.push_back(std::move(p));
        }
        if (out.empty()) {
            out.push_back(fresh(at, 0));
            out.back().smooth.value = 1.0 / most_buckling_factor;
            if (wish.gradients) out.back().smooth.gradient.assign(state.density()->size(), 0.0);
        }
        return out;
    }

  private:
    Pending fresh(const ColumnAt& at, std::size_t mode) const {
        Pending p;
        p.in_case = at.in_case;
        p.smooth.column = at.column;
        p.smooth.inverse = true;
        if (response_.min) p.smooth.max = 1.0 / *response_.min;
        if (response_.max && mode == 0) p.smooth.min = 1.0 / *response_.max;
        return p;
    }

    const ModelResponse& response_;
    bool raised_;
};

class BucklingKind final : public MeasureKind {
  public:
    BucklingKind() {
        word = "buckling";
        called = "a load factor";
        dimension = dimension::none;
        says = fmt::format("the least factor of a case's loads, heat and enforced motions at which its shape "
                           "buckles, by linear theory; looked for up to {:g}",
                           most_buckling_factor);
        std::vector<Key<ResponseCard>> own{
            case_key(false),
            key<ResponseCard>("modes", {value::whole(1)},
                              [](ResponseCard& r, const Given& g) { r.own = static_cast<int>(g.number()); })
                .fallback(std::to_string(factors_together))
                .example("modes = 5")
                .says("how many factors are found and shown; a bound, or a goal, holds for "
                      "each of them, since they may swap")};
        keys = std::move(own) + bound_keys(dimension);
        check = check_bound;
        buckles = true;
        needs_bound = true;
    }

    std::unique_ptr<Measurement> bind(const Binding& to) const override {
        return std::make_unique<Buckling>(to);
    }
    std::string words(const ResponseCard& r) const override { return "load factor of " + word + in_cases(r); }
    std::string smooth_name(const ResponseCard& /*r*/, int number) const override {
        return fmt::format(" (one over factor {})", number + 1);
    }
    std::string smooth_remark(const ResponseCard& /*r*/, const State& state, const ColumnAt& at,
                              double value) const override {
        for (const BucklingMode& m : state.buckling(at.in_case).modes) {
            const double apart = std::abs(m.factor * value - 1.0);
            if (apart > 1e-9 && apart < 1e-3)
                return "another factor lies within 0.1 %: the slope of one alone says little";
        }
        return {};
    }

  private:
    static void check_bound(ResponseCard& r, const CardReader& reader) {
        require_cases(r, reader, false, "buckling");
        const auto require = [&](const char* key_word, const std::optional<double>& bound) {
            if (bound && !(*bound > 0.0 && *bound < most_buckling_factor))
                throw Error::input(reader.place_of(key_word),
                                   fmt::format("a load factor is above zero, and looked for up to {:g}",
                                               most_buckling_factor),
                                   "Write min = 2 for twice the load of the case");
        };
        require("min", r.min);
        require("max", r.max);
    }
};

} // namespace

int buckling_factors(const ResponseCard& r) {
    return r.own.has_value() ? std::any_cast<int>(r.own) : factors_together;
}

std::vector<int> buckling_wanted(const Model& model) {
    std::vector<int> out(model.cases.size(), 0);
    for (const Column& c : columns(model)) {
        const ModelResponse& r = model.responses[c.response];
        if (r.measure->buckles && c.in_case != CaseId::None)
            out[index(c.in_case)] = std::max(out[index(c.in_case)], buckling_factors(r));
    }
    return out;
}

MeasureList buckling_measures() {
    return {std::make_shared<BucklingKind>()};
}

} // namespace upright
