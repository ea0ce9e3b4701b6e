// Compliance: force times displacement, over the static cases together.
#include "response/measures.hpp"

#include "response/design_state.hpp"
#include "study/response_keys.hpp"

#include <algorithm>

namespace upright {

namespace {

class Compliance final : public Measurement {
  public:
    explicit Compliance(const Binding& to) : response_(to.response) {
        for (const CaseId c : response_.cases)
            parts_.push_back(
                {c, to.model.cases[c].name, response_.in_case.empty() ? to.model.cases[c].weight : 1.0});
    }

    // The sum over its cases (weighted where none is named), or the largest of them.
    std::optional<Reading> read(const State& state, const ColumnAt& /*at*/) const override {
        Reading out;
        out.min = response_.min;
        out.max = response_.max;
        double sum = 0.0;
        double most = 0.0;
        for (const Part& part : parts_) {
            if (!state.has_case(part.in_case)) return {};
            const double value = state.compliance(part.in_case);
            sum += part.weight * value;
            if (response_.worst && value > most) out.where = part.name;
            most = std::max(most, value);
        }
        out.value = response_.worst ? most : sum;
        return out;
    }

    std::vector<Pending> smooth(const DesignState& state, const ColumnAt& at,
                                const SmoothWish& wish) override {
        const auto fresh = [&] {
            Pending one;
            one.smooth.column = at.column;
            one.smooth.min = response_.min;
            one.smooth.max = response_.max;
            if (wish.gradients) one.smooth.gradient.assign(state.density()->size(), 0.0);
            return one;
        };
        std::vector<Pending> out;
        if (!response_.worst) out.push_back(fresh());
        for (const Part& part : parts_) {
            const double weight = response_.worst ? 1.0 : part.weight;
            if (weight == 0.0) continue;
            if (response_.worst) out.push_back(fresh());
            Smooth& sum = out.back().smooth;
            sum.value += weight * state.compliance(part.in_case);
            if (wish.gradients) state.add_compliance(part.in_case, weight, sum.gradient);
        }
        return out;
    }

  private:
    struct Part {
        CaseId in_case;
        std::string name;
        double weight;
    };
    const ModelResponse& response_;
    std::vector<Part> parts_;
};

class ComplianceKind final : public MeasureKind {
  public:
    ComplianceKind() {
        word = "compliance";
        called = "a compliance";
        dimension = dimension::moment;
        says = "force times displacement, weighted over all cases where none is named";
        reads = Reads::AllCases;
        std::vector<Key<ResponseCard>> own{
            case_key(false), key("take", Words<bool>{{"sum", false}, {"largest", true}}, &ResponseCard::worst)
                                 .fallback("\"sum\", weighted over the cases")
                                 .example("take = \"largest\"")
                                 .says("\"largest\": of the case where it is largest")};
        keys = std::move(own) + bound_keys(dimension);
        check = check_cases;
        compliance = stiffness = needs_bound = true;
    }

    std::unique_ptr<Measurement> bind(const Binding& to) const override {
        return std::make_unique<Compliance>(to);
    }

    std::string words(const ResponseCard& r) const override {
        return word + (r.worst             ? " of the case where it is largest"
                       : r.in_case.empty() ? " weighted over the cases"
                                           : " of " + r.in_case);
    }

  private:
    static void check_cases(ResponseCard& r, const CardReader& reader) {
        require_cases(r, reader, false, "compliance");
        const std::vector<StaticCase>& cases = reader.context().study.cases;
        const auto fits = [&](const StaticCase& c) { return refers_to(r.in_case, c.name); };
        if (r.worst && !r.in_case.empty() && std::count_if(cases.begin(), cases.end(), fits) < 2)
            throw Error::input(reader.place_of("take"), "of one case there is no largest", "Remove it");
    }
};

} // namespace

MeasureList compliance_measures() {
    return {std::make_shared<ComplianceKind>()};
}

} // namespace upright
