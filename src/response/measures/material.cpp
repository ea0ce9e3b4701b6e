// Mass, volume and their fractions: sums over the elements of weight times density.
#include "response/measures.hpp"

#include "base/reduction.hpp"
#include "response/design_state.hpp"
#include "study/response_keys.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

namespace upright {

namespace {

class Amount final : public Measurement {
  public:
    Amount(const Binding& to, std::vector<double> weights)
        : response_(to.response), weights_(std::move(weights)) {}

    std::optional<Reading> read(const State& state, const ColumnAt& /*at*/) const override {
        Reading out;
        out.value = value(state);
        out.min = response_.min;
        out.max = response_.max;
        return out;
    }

    std::vector<Pending> smooth(const DesignState& state, const ColumnAt& at,
                                const SmoothWish& wish) override {
        Pending out;
        out.smooth.column = at.column;
        out.smooth.value = value(state);
        out.smooth.min = response_.min;
        out.smooth.max = response_.max;
        if (wish.gradients) out.smooth.gradient = weights_;
        out.smooth.by = Made::Drawn;
        if (state.thick() != nullptr) {
            // What is bounded is what the design weighs as drawn; the way to less of it is that of the thick
            // one, or gaps would close in it for nothing (Wang, Lazarov & Sigmund 2011, section 4).
            const double thick = weighted_sum(weights_, *state.thick());
            const double share =
                thick > 0.0 ? corrected(at, at.name + " thick", out.smooth.value / thick, wish.adapt, 1.0)
                            : 1.0;
            out.smooth.value = share * thick;
            for (double& weight : out.smooth.gradient) weight *= share;
            out.smooth.by = Made::Thick;
        }
        return {std::move(out)};
    }

  private:
    double value(const State& state) const {
        if (state.density() != nullptr) return weighted_sum(weights_, *state.density());
        return sum_of(weights_);
    }

    const ModelResponse& response_;
    std::vector<double> weights_;
};

class MaterialKind final : public MeasureKind {
  public:
    MaterialKind(const char* name, bool mass, bool fraction) : mass_(mass), fraction_(fraction) {
        word = name;
        called = std::string("a ") + name;
        dimension = fraction ? dimension::none : mass ? dimension::mass : dimension::volume;
        says = fraction ? std::string(mass ? "mass" : "volume") +
                              " of regions as a share of all that they could have"
                        : "of regions";
        reads = Reads::Design;
        keys = std::vector<Key<ResponseCard>>{of_key("the design regions")} + bound_keys(dimension, fraction);
        linear = true;
        needs_bound = true;
    }

    std::unique_ptr<Measurement> bind(const Binding& to) const override {
        return std::make_unique<Amount>(to, weights(to.model, to.response));
    }

    std::vector<double> weights(const Model& model, const ModelResponse& r) const override {
        std::vector<double> out(model.mesh.elements(), 0.0);
        double total = 0.0;
        std::vector<bool> counted;
        for (std::size_t region = 0; region < model.regions.size(); ++region)
            counted.push_back(r.of.empty() ? model.regions[region].role == Role::Design
                                           : r.names(static_cast<RegionId>(region)));
        for (std::size_t e = 0; e < out.size(); ++e) {
            const auto id = static_cast<ElementId>(e);
            if (!counted[index(model.mesh.region[e])]) continue;
            out[e] = model.mesh.volume(id) * (mass_ ? model.material(id).density : 1.0);
            total += out[e];
        }
        if (fraction_ && total > 0.0)
            for (double& weight : out) weight /= total;
        return out;
    }

    std::string words(const ResponseCard& r) const override {
        return word + " of " +
               (r.of.empty() ? std::string("the design regions") : fmt::format("{}", fmt::join(r.of, ", ")));
    }

  private:
    bool mass_, fraction_;
};

} // namespace

MeasureList material_measures() {
    return {std::make_shared<MaterialKind>("mass", true, false),
            std::make_shared<MaterialKind>("volume", false, false),
            std::make_shared<MaterialKind>("mass-fraction", true, true),
            std::make_shared<MaterialKind>("volume-fraction", false, true)};
}

} // namespace upright
