// The design is the same on both sides of planes.
#include "design/making_rule.hpp"

#include "study/cards/cards.hpp"

#include <fmt/format.h>

namespace upright {

namespace {

class Mirror final : public RuleKind {
  public:
    Mirror() {
        word = "mirror";
        ties = true;
        keys = {key<FormCard>(
                    "mirror",
                    {value::list(value::text("a plane \"y = 100\"")), value::text("a plane \"y = 100\"")},
                    [](FormCard& f, const Given& g) {
                        f.mirror =
                            read_planes(g, "a mirror plane", "two mirror planes stand across the same axis",
                                        "Write one of them");
                    })
                    .example("mirror = [\"y = 100\"]")
                    .says("the design is the same on both sides of planes, at most one across each axis, "
                          "whatever the "
                          "loads")};
    }
    bool asked(const FormCard& form) const override { return !form.mirror.empty(); }
    void tie(const ModelForm& form, FormRules& rules) const override { rules.mirror = form.mirror; }
    std::string words(const FormCard& form, const UnitSystem& /*units*/) const override {
        std::string out;
        for (const SymmetryPlane& p : form.mirror)
            out += fmt::format("{}mirrored at {} = {:.6g}", out.empty() ? "" : ", ", "xyz"[p.axis], p.at);
        return out;
    }
};

} // namespace

RuleList mirror_rules() {
    return {std::make_shared<Mirror>()};
}

} // namespace upright
