// run.json and the VTU files of a finished run.
#pragma once

#include "optimize/run.hpp"
#include "output/run_folder.hpp"

#include <string>

namespace upright {

// Writes run.json. `failure` is the message when the run failed.
void write_run_json(const RunFolder& folder, const Study& study, const Model& model,
                    const OptimizeResult& result, const SolverCost& cost, double seconds,
                    const std::string& failure = {});

// design.vtu and cases/NAME.vtu.
void write_fields(const RunFolder& folder, const StaticAnalysis& analysis, const OptimizeResult& result);

} // namespace upright
