// Sizes of members and gaps. The least one is the radius of the filter (optimize/problem.hpp), and where it
// is strict what three thresholds leave (design/three_designs.hpp).
#include "design/making_rule.hpp"
#include "design/three_designs.hpp"

#include <algorithm>
#include <fmt/format.h>

namespace upright {

namespace {

struct LeastWish {
    double size = 0.0;
    bool strict = false;
};

const Schema<LeastWish>& least_schema() {
    static const Schema<LeastWish> out = schema<LeastWish>(
        "least feature", "Thickness of the thinnest members.",
        {key("size", value::quantity(dimension::length).above(0), &LeastWish::size)
             .must("size = \"16 mm\"")
             .says("as inscribed spheres measure it"),
         key("strict", value::flag(), &LeastWish::strict)
             .fallback("false")
             .says("the design is made three times, a little too thin, as drawn and a little "
                   "too thick: goal and bounds hold for the thin one, and members and gaps "
                   "are as wide as `size` (gaps as min_slot, where that is written)")});
    return out;
}

// What the mesh cannot show of a size.
std::string below_cells(double size, const Model& model) {
    if (size >= 2.499 * model.mesh.size) return {};
    return fmt::format("below 2.5 cells the mesh cannot show it; cells of {:.6g} {} can", size / 2.5,
                       model.units.text(dimension::length));
}

std::pair<std::string, std::string> unfit_three(const char* word, double size, const Model& model) {
    const std::string unit = model.units.text(dimension::length);
    if (!model.run.sharpen)
        return {std::string(word) +
                    " makes designs in black and white, and sharpen = false in [run] keeps them gray",
                "Remove sharpen, or " + std::string(word)};
    if (size < 1.999 * model.mesh.size)
        return {fmt::format("{} of {:.6g} {} is below two cells, which cannot hold it", word, size, unit),
                fmt::format("Write cells of {:.4g} {}, or a larger size", 0.5 * size, unit)};
    return {};
}

class LeastFeature final : public RuleKind {
  public:
    LeastFeature() {
        word = "min_feature";
        keys = {
            key<FormCard>("min_feature",
                          {value::quantity(dimension::length).above(0),
                           value::table(facts_of<LeastWish, least_schema>)},
                          [](FormCard& form, const Given& g) {
                              if (g.node.table() == nullptr) {
                                  form.min_feature = g.number();
                                  return;
                              }
                              const LeastWish wish = read_table(least_schema(), g.inner());
                              form.min_feature = wish.size;
                              form.strict = wish.strict;
                          })
                .example("min_feature = \"16 mm\"")
                .says("thickness of the thinnest members, as inscribed spheres measure it: the filter's "
                      "radius, instead of `filter` of [run]; `carve` measures. With { size, strict = true } "
                      "it holds when made a little too thin or too thick as well")};
    }
    bool asked(const FormCard& form) const override { return form.min_feature.has_value(); }
    std::pair<std::string, std::string> unfit(const Model& model, const FormCard& form) const override {
        if (!form.strict) return {};
        return unfit_three("min_feature, strict,", *form.min_feature, model);
    }
    std::string words(const FormCard& form, const UnitSystem& units) const override {
        const std::string size = fmt::format("{:.6g} {}", *form.min_feature, units.text(dimension::length));
        if (!form.strict) return "members no thinner than " + size + ": the filter's radius";
        return fmt::format(
            "members and gaps no thinner than {}, also made {:.3g} {} thinner or thicker on each "
            "face: three designs, the thin one analysed, three more analyses at the end",
            size, shift_of(form), units.text(dimension::length));
    }
    std::string doubt(const Model& model, const FormCard& form) const override {
        return below_cells(*form.min_feature, model);
    }

  private:
    static double shift_of(const FormCard& form) {
        const double radius = std::max(*form.min_feature, form.min_slot.value_or(0.0));
        return face_shift(thresholds_of(form, radius).thin, radius);
    }
};

class LeastSlot final : public RuleKind {
  public:
    LeastSlot() {
        word = "min_slot";
        keys = {
            key("min_slot", value::quantity(dimension::length).above(0), &FormCard::min_slot)
                .example("min_slot = \"12 mm\"")
                .says("width of the narrowest gaps and holes, as inscribed spheres measure it: smaller ones "
                      "weigh as if they were filled; the filter's radius, where that is smaller without it")};
    }
    bool asked(const FormCard& form) const override { return form.min_slot.has_value(); }
    std::pair<std::string, std::string> unfit(const Model& model, const FormCard& form) const override {
        return unfit_three("min_slot", *form.min_slot, model);
    }
    std::string words(const FormCard& form, const UnitSystem& units) const override {
        return fmt::format("gaps no narrower than {:.6g} {}: what it weighs made thicker leads the way",
                           *form.min_slot, units.text(dimension::length));
    }
    std::string doubt(const Model& model, const FormCard& form) const override {
        return below_cells(*form.min_slot, model);
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
    return {std::make_shared<LeastFeature>(), std::make_shared<LeastSlot>(),
            std::make_shared<LargestFeature>()};
}

} // namespace upright
