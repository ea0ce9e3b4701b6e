// The design is the same all along an axis.
#include "design/making_rule.hpp"

#include "study/cards/cards.hpp"

namespace upright {

namespace {

class Extrude final : public RuleKind {
  public:
    Extrude() {
        word = "extrude";
        ties = true;
        keys = {key<FormCard>("extrude", {value::word({"x", "y", "z"})},
                              [](FormCard& f, const Given& g) { f.extrude = g.word().front() - 'x'; })
                    .where(in_space, "a plane model or a flat shell is extruded already", "Remove it")
                    .example("extrude = \"z\"")
                    .says("the same all along an axis")};
    }
    bool asked(const FormCard& form) const override { return form.extrude.has_value(); }
    void tie(const ModelForm& form, FormRules& rules) const override { rules.extrude = form.extrude; }
    std::string words(const FormCard& form, const UnitSystem& /*units*/) const override {
        return std::string("the same along ") + "xyz"[*form.extrude];
    }
};

} // namespace

RuleList extrude_rules() {
    return {std::make_shared<Extrude>()};
}

} // namespace upright
