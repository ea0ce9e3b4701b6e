// The making rules of a study, frames resolved: what ties elements together, and links of the chain.
#pragma once

#include "study/study.hpp"

#include <memory>
#include <optional>
#include <vector>

namespace upright {

class RuleKind;

struct FormRules {
    std::vector<SymmetryPlane> mirror;
    std::vector<FormCard::AnyPlane> oblique;
    struct Sectors {
        Frame frame;
        int count = 2;
        bool mirrored = false;
    };
    std::optional<Sectors> sectors;
    std::optional<FormCard::Repeat> repeat;
    std::optional<int> extrude; // axis
    // The rules asked for, in the order of the table, and what they read.
    std::vector<std::shared_ptr<const RuleKind>> asked;
    FormCard card;

    // Whether elements are tied together.
    bool any() const { return !mirror.empty() || !oblique.empty() || sectors || extrude || repeat; }
};

} // namespace upright
