// Sizes of members. The least one is the radius of the filter (optimize/problem.hpp).
#include "design/making_rule.hpp"

#include <fmt/format.h>

namespace upright {

namespace {

class LeastFeature final : public RuleKind {
  public:
    LeastFeature() {
        word = "min_feature";
        keys = {key("min_feature", value::quantity(dimension::length).above(0), &FormCard::min_feature)
                    .example("min_feature = \"16 mm\"")
                    .says("the filter's radius, instead of `filter` of [run]")};
    }
    bool asked(const FormCard& form) const override { return form.min_feature.has_value(); }
    std::string words(const FormCard& form, const UnitSystem& units) const override {
        return fmt::format("{:.6g} {}: the filter's radius", *form.min_feature,
                           units.text(dimension::length));
    }
    std::string doubt(const Model& model, const FormCard& form) const override {
        if (*form.min_feature >= 2.499 * model.mesh.size) return {};
        return fmt::format("below 2.5 cells the mesh cannot show it; cells of {:.6g} {} can",
                           *form.min_feature / 2.5, model.units.text(dimension::length));
    }
};

} // namespace

RuleList feature_rules() {
    return {std::make_shared<LeastFeature>()};
}

} // namespace upright
