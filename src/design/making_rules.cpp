#include "design/making_rule.hpp"

namespace upright {

RuleList making_rules(const RuleList& more) {
    RuleList out;
    for (const RuleList& some : {mirror_rules(), sectors_rules(), extrude_rules(), repeat_rules(),
                                 feature_rules(), draw_rules(), overhang_rules(), more})
        out.insert(out.end(), some.begin(), some.end());
    return out;
}

FormRules form_rules(const ModelForm& form) {
    FormRules out;
    out.card = form;
    for (const auto& word : form.rules) {
        const auto kind = std::dynamic_pointer_cast<const RuleKind>(word);
        if (kind == nullptr || !kind->asked(form)) continue;
        kind->tie(form, out);
        out.asked.push_back(kind);
    }
    return out;
}

} // namespace upright
