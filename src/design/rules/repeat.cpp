// The same pattern in several regions.
#include "design/repeat_boxes.hpp"

#include "study/names.hpp"

#include <fmt/format.h>

namespace upright {

namespace {

using RepeatCard = FormCard::Repeat;

const Schema<RepeatCard>& repeat_schema() {
    static const Schema<RepeatCard> out = schema<RepeatCard>(
        "repeat", "the same pattern in several regions",
        {key<RepeatCard>("regions", {value::names("region")},
                         [](RepeatCard& r, const Given& g) {
                             r.regions = g.names();
                             r.place = g.node.place;
                             require_known(r.regions, names_of(g.context().study.regions), "region",
                                           g.node.place);
                         })
             .must("regions = [\"left-web\", \"right-web\"]")
             .says("design regions whose boxes are as large; the first has the pattern, the others follow"),
         key("mirrored", value::flag(), &RepeatCard::mirrored)
             .fallback("false")
             .says("every other one is the mirror image of the first, across the way between them")});
    return out;
}

class RepeatRule final : public RuleKind {
  public:
    RepeatRule() {
        word = "repeat";
        ties = true;
        keys = {table_key("repeat", repeat_schema, &FormCard::repeat, facts_of<RepeatCard, repeat_schema>)
                    .example("repeat = { regions = [\"left-web\", \"right-web\"] }")
                    .says("the same pattern in several regions")};
    }
    bool asked(const FormCard& form) const override { return form.repeat.has_value(); }
    void tie(const ModelForm& form, FormRules& rules) const override { rules.repeat = form.repeat; }
    std::pair<std::string, std::string> unfit(const Model& model, const FormCard& form) const override {
        const RepeatCard& card = *form.repeat;
        if (card.regions.size() < 2) return {"one region repeats nothing", "Name two at least"};
        for (std::size_t i = 0; i < card.regions.size(); ++i)
            for (std::size_t j = 0; j < i; ++j)
                if (card.regions[i] == card.regions[j])
                    return {"\"" + card.regions[i] + "\" stands twice among the regions", "Name each once"};
        std::vector<Bounds> boxes;
        for (const std::string& name : card.regions) {
            const auto box = design_box(model, name);
            if (!box) return {"\"" + name + "\" is no design region with elements", "Name design regions"};
            boxes.push_back(*box);
        }
        for (std::size_t i = 1; i < boxes.size(); ++i) {
            const Vec3 first = boxes[0].size();
            const Vec3 other = boxes[i].size();
            if ((first - other).cwiseAbs().maxCoeff() < 0.5 * model.mesh.size) continue;
            return {fmt::format("\"{}\" is {:.4g} x {:.4g} x {:.4g}, \"{}\" {:.4g} x {:.4g} x {:.4g}",
                                card.regions[0], first.x(), first.y(), first.z(), card.regions[i], other.x(),
                                other.y(), other.z()),
                    "Repeat a pattern in regions of one size and one way round"};
        }
        return {};
    }
    std::string words(const FormCard& form, const UnitSystem& /*units*/) const override {
        std::string out = "the same in ";
        for (std::size_t i = 0; i < form.repeat->regions.size(); ++i)
            out += (i == 0 ? "" : " and ") + form.repeat->regions[i];
        return out + (form.repeat->mirrored ? ", mirrored" : "");
    }
};

} // namespace

RuleList repeat_rules() {
    return {std::make_shared<RepeatRule>()};
}

} // namespace upright
