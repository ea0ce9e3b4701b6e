#include "response/response.hpp"

#include "response/measure.hpp"

#include <algorithm>
#include <cmath>

namespace upright {

std::vector<double> linear_weights(const Model& model, const ModelResponse& response) {
    return kind_of(response).weights(model, response);
}

const MeasureKind& kind_of(const ResponseCard& r) {
    // Languages are made of measure kinds alone (measures.hpp).
    return dynamic_cast<const MeasureKind&>(*r.measure);
}

double corrected(const ColumnAt& at, const std::string& key, double wanted, bool adapt, double share) {
    if (at.memory == nullptr) return wanted;
    const auto [known, fresh] = at.memory->corrections.emplace(key, wanted);
    double& value = known->second;
    if (adapt && !fresh) value = share == 1.0 ? wanted : value + share * (wanted - value);
    return value;
}

std::string in_cases(const ResponseCard& r) {
    return r.in_case.empty() ? " in every case that fits" : " in " + r.in_case;
}

std::vector<Column> columns(const Model& model) {
    using Reads = MeasureWord::Reads;
    std::vector<Column> out;
    for (std::size_t r = 0; r < model.responses.size(); ++r) {
        const ModelResponse& card = model.responses[r];
        const MeasureKind& kind = kind_of(card);
        if (kind.reads == Reads::Design || kind.reads == Reads::AllCases) {
            out.push_back({r, CaseId::None, ModalCaseId::None, card.name});
            continue;
        }
        const std::size_t first = out.size();
        if (kind.reads == Reads::EachModalCase)
            for (const ModalCaseId c : card.modal_cases)
                out.push_back({r, CaseId::None, c, card.name + "@" + model.modal_cases[c].name});
        else
            for (const CaseId c : card.cases)
                if (kind.fits(card, model.cases[c]))
                    out.push_back({r, c, ModalCaseId::None, card.name + "@" + model.cases[c].name});
        if (out.size() == first + 1) out.back().name = card.name;
    }
    return out;
}

void judge(Reading& reading) {
    reading.excess = -1e300;
    const auto take = [&](double over, double bound) {
        reading.excess = std::max(reading.excess, over / std::max(std::abs(bound), 1e-300));
    };
    if (reading.max) take(reading.value - *reading.max, *reading.max);
    if (reading.min) take(*reading.min - reading.value, *reading.min);
    // A bound of zero knows no share: whatever exceeds it breaks it.
    reading.holds = reading.excess <= bound_tolerance;
}

std::optional<double> upper_bound(const Model& model, const ModelResponse& response) {
    if (!response.max_share) return response.max;
    std::optional<double> out;
    for (std::size_t r = 0; r < model.regions.size(); ++r) {
        const ModelRegion& region = model.regions[r];
        if (region.role == Role::Void || region.material == MaterialId::None ||
            (!response.of.empty() && !response.names(static_cast<RegionId>(r))))
            continue;
        const Material& m = model.materials[region.material];
        const std::optional<double>& own = response.max_share->ultimate ? m.ultimate : m.yield;
        if (!own) continue;
        const double limit = response.max_share->share * *own;
        if (!out || limit < *out) out = limit;
    }
    return out;
}

} // namespace upright
