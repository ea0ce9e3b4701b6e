// The design repeats around an axis.
#include "design/making_rule.hpp"

#include "study/names.hpp"

#include <fmt/format.h>

namespace upright {

namespace {

using Card = FormCard::Sectors;

const Schema<Card>& sectors_schema() {
    static const Schema<Card> out = schema<Card>(
        "sectors", "a design that repeats around an axis",
        {key<Card>("frame", {value::name("frame")},
                   [](Card& s, const Given& g) {
                       s.frame = g.text();
                       require_known({s.frame}, names_of(g.context().study.frames), "frame", g.node.place);
                   })
             .must("frame = \"bore\", about whose axis the sectors repeat")
             .says("about its axis"),
         key("count", value::whole(2, 1000), &Card::count).must("count = 6").says("how many"),
         key("mirrored", value::flag(), &Card::mirrored)
             .fallback("false")
             .says("each sector is the same on both sides of its middle, and of the plane through the axis "
                   "and the frame's first direction")});
    return out;
}

class Sectors final : public RuleKind {
  public:
    Sectors() {
        word = "sectors";
        ties = true;
        keys = {table_key("sectors", sectors_schema, &FormCard::sectors, facts_of<Card, sectors_schema>)
                    .example("sectors = { frame = \"bore\", count = 6 }")
                    .says("repeats around the frame's axis; a polar mesh is divided to fit")};
    }
    bool asked(const FormCard& form) const override { return form.sectors.has_value(); }
    void tie(const ModelForm& form, FormRules& rules) const override {
        rules.sectors = FormRules::Sectors{*form.sectors_about, form.sectors->count, form.sectors->mirrored};
    }
    std::string words(const FormCard& form, const UnitSystem& /*units*/) const override {
        return fmt::format("{} sectors around {}{}", form.sectors->count, form.sectors->frame,
                           form.sectors->mirrored ? ", each mirrored in itself" : "");
    }
};

} // namespace

RuleList sectors_rules() {
    return {std::make_shared<Sectors>()};
}

} // namespace upright
