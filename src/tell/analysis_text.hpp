// The tables of an analysis as text.
#pragma once

#include "response/case_report.hpp"

#include <string>
#include <vector>

namespace upright {

// A block for each case: displacement, stress, safety, reactions, estimated error; frequencies and effective
// masses. Named points and probes are read in every static case.
std::string static_table(const Model& model, const AnalysisReport& report, const StaticReport& result,
                         const std::vector<Vec3>& probes);
std::string modal_table(const Model& model, const std::string& name, const ModalResult& result, bool lumped);
std::string response_table(const Model& model, const std::vector<Outcome>& outcomes);

// Every result of two meshes beside each other, and the change from the first to the second.
struct Analysed {
    const Model& model;
    const AnalysisReport& report;
    const std::vector<Outcome>& outcomes;
};
std::string refinement_table(const Analysed& coarse, const Analysed& fine);

} // namespace upright
