#include "response/design_measures.hpp"

#include <algorithm>

namespace upright {

namespace {

std::vector<bool> modal_wanted(const Model& model) {
    std::vector<bool> out(model.modal_cases.size(), false);
    for (const Column& c : columns(model))
        if (model.responses[c.response].measure->reads == MeasureWord::Reads::EachModalCase)
            out[index(c.in_modal_case)] = true;
    return out;
}

bool any_strength(const Model& model) {
    return std::any_of(model.responses.begin(), model.responses.end(),
                       [](const ModelResponse& r) { return r.measure->strength; });
}

} // namespace

DesignMeasures::DesignMeasures(StaticAnalysis& statics)
    : columns_(upright::columns(statics.model())),
      state_(statics, modal_wanted(statics.model()), any_strength(statics.model())) {
    for (const ModelResponse& r : statics.model().responses)
        measurements_.push_back(kind_of(r).bind({statics.model(), r, nullptr, true}));
}

ColumnAt DesignMeasures::at(std::size_t k) const {
    return {k, columns_[k].in_case, columns_[k].in_modal_case, columns_[k].name, &memory_};
}

std::vector<Reading> DesignMeasures::readings() const {
    std::vector<Reading> out;
    for (std::size_t k = 0; k < columns_.size(); ++k) {
        out.push_back(measurements_[columns_[k].response]->read(state_, at(k)).value());
        judge(out.back());
    }
    return out;
}

std::vector<Smooth> DesignMeasures::smooth(const std::vector<bool>& wanted, const SmoothWish& wish) {
    std::vector<Pending> pending;
    for (std::size_t k = 0; k < columns_.size(); ++k) {
        Measurement& measurement = *measurements_[columns_[k].response];
        if (wish.adapt) measurement.follow(state_, at(k));
        if (!wanted[k]) continue;
        for (Pending& p : measurement.smooth(state_, at(k), wish)) pending.push_back(std::move(p));
    }
    if (wish.gradients) state_.solve_adjoints(pending);
    std::vector<Smooth> out;
    for (Pending& p : pending) out.push_back(std::move(p.smooth));
    return out;
}

void DesignMeasures::before_made() {
    for (std::size_t k = 0; k < columns_.size(); ++k)
        measurements_[columns_[k].response]->before_made(state_, at(k));
}

void DesignMeasures::after_made() {
    for (std::size_t k = 0; k < columns_.size(); ++k)
        measurements_[columns_[k].response]->after_made(state_, at(k));
}

void DesignMeasures::walk(const Walk& w) {
    w("corrections", memory_.corrections);
    w("followed", memory_.followed);
    w("multipliers", memory_.multipliers);
    state_.walk(w);
}

} // namespace upright
