// run.json and the VTU files of a finished run.
#pragma once

#include "optimize/certificate.hpp"
#include "optimize/run.hpp"
#include "store/run_folder.hpp"

#include <string>

namespace upright {

// Writes run.json. `failure` is the message when the run failed.
void write_run_json(const RunFolder& folder, const StaticAnalysis& analysis, const OptimizeResult& result,
                    const SolverCost& cost, double seconds, const std::string& failure = {},
                    const Certificate* certificate = nullptr);

// The name of the field that holds the shape of a mode in cases/NAME.vtu.
std::string mode_field(int mode);

// design.vtu and cases/NAME.vtu: displacement and stress of static cases, the shapes of modal ones.
void write_fields(const RunFolder& folder, const StaticAnalysis& analysis, const OptimizeResult& result);

} // namespace upright
