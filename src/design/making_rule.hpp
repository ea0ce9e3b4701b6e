// A making rule: how a part will be made, as what it does to a design. Each in one file of design/rules. It
// ties elements into groups that share a density, or it is a link of the chain, linear or not, or both.
#pragma once

#include "design/form_rules.hpp"
#include "model/model.hpp"
#include "study/rule_word.hpp"

#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace upright {

// A link of the chain from variables to densities: a function of the densities of the design elements, and
// the transpose of its derivative.
class Link {
  public:
    virtual ~Link() = default;
    virtual void apply(const std::vector<double>& in, std::vector<double>& out) const = 0;
    // The gradient by `in`, from that by `out`, at the same `in`.
    virtual void pull_back(const std::vector<double>& in, const std::vector<double>& gradient,
                           std::vector<double>& out) const = 0;
    // What it makes of a design whose values are compared with a threshold alone: for links that soften
    // what is sharp. The same as apply() for others.
    virtual void apply_sharply(const std::vector<double>& in, std::vector<double>& out) const {
        apply(in, out);
    }
    // Whether it stands behind the projection.
    virtual bool after_projection() const { return false; }
};

class RuleKind : public RuleWord {
  public:
    bool ties = false;  // elements into groups
    bool links = false; // has a link, so that material is no linear function of the variables

    // Whether it is asked for.
    virtual bool asked(const FormCard& form) const = 0;
    // Adds what it ties.
    virtual void tie(const ModelForm& /*form*/, FormRules& /*rules*/) const {}
    // Why this mesh and the other rules cannot have it, and what to write instead; empty: they can.
    virtual std::pair<std::string, std::string> unfit(const Model& /*model*/,
                                                      const FormCard& /*form*/) const {
        return {};
    }
    // Its link, behind the filter; nullptr where it only ties. `elements`: those of the
    // design, beside the values that the link gets.
    virtual std::unique_ptr<Link> link(const Model& /*model*/, const std::vector<std::size_t>& /*elements*/,
                                       const FormCard& /*form*/) const {
        return nullptr;
    }
    // What is doubtful about it on this mesh; empty: nothing.
    virtual std::string doubt(const Model& /*model*/, const FormCard& /*form*/) const { return {}; }
    // For people: "mirrored at y = 100".
    virtual std::string words(const FormCard& form, const UnitSystem& units) const = 0;
};

using RuleList = std::vector<std::shared_ptr<const RuleKind>>;

// The table: those that the program ships, and `more` behind them. A new one is a file in design/rules and a
// line in making_rules.cpp.
RuleList making_rules(const RuleList& more = {});

RuleList mirror_rules();
RuleList sectors_rules();
RuleList extrude_rules();
RuleList feature_rules();
RuleList repeat_rules();
RuleList draw_rules();
RuleList overhang_rules();

// What members may be thick at most, by max_feature.
std::optional<double> largest_feature(const FormCard& form);

// Where the parting plane of two dies lies along the draw; the middle where they part along a surface of
// their own.
double draw_parting(const Model& model, const FormCard& form);

// What the words of [form] are in the design.
FormRules form_rules(const ModelForm& form);

} // namespace upright
