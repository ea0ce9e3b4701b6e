// Sizes of members. The least one is the radius of the filter (optimize/problem.hpp).
#include "design/making_rule.hpp"

#include <algorithm>
#include <fmt/format.h>

namespace upright {

namespace {

class LeastFeature final : public RuleKind {
  public:
    LeastFeature() {
        word = "min_feature";
        keys = {key("min_feature", value::quantity(dimension::length).above(0), &FormCard::min_feature)
                    .example("min_feature = \"16 mm\"")
                    .says("thickness of the thinnest members, as inscribed spheres measure it: the filter's "
                          "radius, "
                          "instead of `filter` of [run]; `carve` measures")};
    }
    bool asked(const FormCard& form) const override { return form.min_feature.has_value(); }
    std::string words(const FormCard& form, const UnitSystem& units) const override {
        return fmt::format("members no thinner than {:.6g} {}: the filter's radius", *form.min_feature,
                           units.text(dimension::length));
    }
    std::string doubt(const Model& model, const FormCard& form) const override {
        if (*form.min_feature >= 2.499 * model.mesh.size) return {};
        return fmt::format("below 2.5 cells the mesh cannot show it; cells of {:.6g} {} can",
                           *form.min_feature / 2.5, model.units.text(dimension::length));
    }
};

constexpr const char* largest_word = "max_feature";

struct LargestWish {
    double size = 0.0;
    Place place;
};

const LargestWish& largest_wish(const FormCard& form) {
    return std::any_cast<const LargestWish&>(form.own.at(largest_word));
}

// A bound on the bulk of the design (response/measures/bulk.cpp).
class LargestFeature final : public RuleKind {
  public:
    LargestFeature() {
        word = largest_word;
        keys = {
            key<FormCard>(largest_word, {value::quantity(dimension::length).above(0)},
                          [](FormCard& form, const Given& g) {
                              form.own[largest_word] = LargestWish{g.number(), g.node.place};
                          })
                .example("max_feature = \"40 mm\"")
                .says("thickness of the thickest members, as inscribed spheres measure it: a bound on the "
                      "bulk of the design, and a response of that name; `carve` measures")};
    }
    bool asked(const FormCard& form) const override { return form.own.count(largest_word) > 0; }
    void add_bounds(Study& study,
                    const std::vector<std::shared_ptr<const MeasureWord>>& measures) const override {
        if (!asked(study.form)) return;
        const LargestWish& wish = largest_wish(study.form);
        for (const ResponseCard& r : study.responses)
            if (r.name == largest_word)
                throw Error::input(r.place, "the response of max_feature in [form] has the name max_feature",
                                   "Give this response another name");
        const auto bulk = std::find_if(measures.begin(), measures.end(),
                                       [](const auto& m) { return m->word == bulk_word; });
        if (bulk == measures.end()) return;
        ResponseCard card;
        card.name = largest_word;
        card.place = wish.place;
        card.measure = *bulk;
        card.max = 1.0;
        card.own = wish.size;
        study.responses.push_back(card);
    }
    std::pair<std::string, std::string> unfit(const Model& model, const FormCard& form) const override {
        const double size = largest_wish(form).size;
        const std::string unit = model.units.text(dimension::length);
        if (size < 3.0 * model.mesh.size)
            return {
                fmt::format("max_feature {:.6g} {} is below three cells, which cannot show it", size, unit),
                fmt::format("Write cells of {:.4g} {}, or a larger one", size / 3.0, unit)};
        if (form.min_feature && size < *form.min_feature)
            return {fmt::format("max_feature {:.6g} {} is below min_feature", size, unit),
                    "Write a larger one: twice min_feature leaves room"};
        return {};
    }
    std::string doubt(const Model& model, const FormCard& form) const override {
        const double least = form.min_feature.value_or(model.run.filter.value_or(2.5 * model.mesh.size));
        if (largest_wish(form).size >= 2.0 * least) return {};
        return fmt::format("below twice the smallest feature ({:.6g} {}) little room is left between them",
                           least, model.units.text(dimension::length));
    }
    std::string words(const FormCard& form, const UnitSystem& units) const override {
        return fmt::format("{:.6g} {} at most: a bound on bulk", largest_wish(form).size,
                           units.text(dimension::length));
    }
};

} // namespace

std::optional<double> largest_feature(const FormCard& form) {
    if (form.own.count(largest_word) == 0) return {};
    return largest_wish(form).size;
}

RuleList feature_rules() {
    return {std::make_shared<LeastFeature>(), std::make_shared<LargestFeature>()};
}

} // namespace upright
