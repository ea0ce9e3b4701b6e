// The force of a support.
#include "response/measures.hpp"

#include "response/design_state.hpp"
#include "response/motions.hpp"
#include "study/names.hpp"
#include "study/response_keys.hpp"

#include <algorithm>

namespace upright {

namespace {

class SupportForce final : public Measurement {
  public:
    explicit SupportForce(const Binding& to) : response_(to.response) {
        if (!to.with_reactions) return;
        const MeasureKind& kind = kind_of(response_);
        for (const CaseId c : response_.cases)
            if (kind.fits(response_, to.model.cases[c]))
                fields_[c] = reaction_fields(to.model, to.model.cases[c], response_);
    }

    std::optional<Reading> read(const State& state, const ColumnAt& at) const override {
        if (!state.has_case(at.in_case)) return {};
        Reading out;
        out.min = response_.min;
        out.max = response_.max;
        out.value = component_of(response_, force(state, at), Vec3::Zero());
        return out;
    }

    std::vector<Pending> smooth(const DesignState& state, const ColumnAt& at,
                                const SmoothWish& /*wish*/) override {
        const Vec3 found = force(state, at);
        const std::optional<Vec3> along = direction(response_, Vec3::Zero());
        const double size = along ? along->dot(found) : found.norm();
        const Vec3 by_force = along ? *along : size > 0.0 ? Vec3(found / size) : Vec3::Zero();
        const auto& fields = fields_.at(at.in_case);
        Eigen::VectorXd w = Eigen::VectorXd::Zero(fields[0].size());
        for (int a = 0; a < 3; ++a) w += by_force[a] * fields[static_cast<std::size_t>(a)];
        Pending p;
        p.in_case = at.in_case;
        p.smooth.column = at.column;
        p.smooth.value = size;
        p.smooth.min = response_.min;
        p.smooth.max = response_.max;
        // R = w'(K u - f): dR = w'(dK u - df) + (K w)' du.
        p.load = state.statics().stiffness_times(w, state.stiffness());
        p.minus = std::move(w);
        return {std::move(p)};
    }

  private:
    Vec3 force(const State& state, const ColumnAt& at) const {
        static const std::array<Eigen::VectorXd, 3> none;
        const CaseId c = at.in_case;
        const auto known = fields_.find(c);
        return state.support_force(c, response_.at, known == fields_.end() ? none : known->second);
    }

    const ModelResponse& response_;
    std::map<CaseId, std::array<Eigen::VectorXd, 3>> fields_; // by case
};

class ReactionKind final : public MeasureKind {
  public:
    ReactionKind() {
        word = "reaction";
        called = "a reaction";
        dimension = dimension::force;
        says = "the force of a support";
        std::vector<Key<ResponseCard>> own{case_key(false), at_key(true)};
        keys = std::move(own) + component_keys() + bound_keys(dimension);
        check = check_support;
        needs_bound = true;
    }

    std::unique_ptr<Measurement> bind(const Binding& to) const override {
        return std::make_unique<SupportForce>(to);
    }

    bool fits(const ModelResponse& r, const ModelCase& c) const override {
        return std::any_of(c.supports.begin(), c.supports.end(), [&](SupportId s) {
            return std::find(r.supports.begin(), r.supports.end(), s) != r.supports.end();
        });
    }

    std::string words(const ResponseCard& r) const override { return word + component_words(r); }

  private:
    // It is measured in the cases that have its support.
    static void check_support(ResponseCard& r, const CardReader& reader) {
        require_cases(r, reader, false, "reaction");
        check_component(r, reader);
        const Study& study = reader.context().study;
        const auto fits = [&](const StaticCase& c) {
            return (r.in_case.empty() || refers_to(r.in_case, c.name)) && holds_in(study, c, r.at);
        };
        if (!in_use(reader) || std::any_of(study.cases.begin(), study.cases.end(), fits)) return;
        const std::string in =
            r.in_case.empty() ? "no static case has" : "the case \"" + r.in_case + "\" has not";
        throw Error::input(r.at_place,
                           in + " the support \"" + r.at + "\", so there is no reaction to measure",
                           "Name a support that the case has");
    }
};

} // namespace

MeasureList reaction_measures() {
    return {std::make_shared<ReactionKind>()};
}

} // namespace upright
