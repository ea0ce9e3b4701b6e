// What a sweep varies, and the points that come of it.
#pragma once

#include <string>
#include <vector>

namespace upright {

struct Varied {
    std::string path; // "response.budget.max", as --set has it
    std::vector<std::string> values;
};

// "response.budget.max=0.4,0.3,0.2" (commas within brackets or quotes part nothing) or
// "values.lift=1 kN..2 kN in 5": five in even steps, both ends included. Throws Error (Usage).
Varied read_varied(const std::string& words);

// One of a sweep.
struct SweepPoint {
    std::vector<std::string> settings; // "response.budget.max=0.4"
    std::string label;                 // "budget.max=0.4, lift=1 kN"
};

// All combinations, the last varied fastest; `together`: the first values of all, then the second, …. Throws
// Error (Usage) where those are not as many, for more than `most`, or where a path is varied twice.
std::vector<SweepPoint> sweep_points(const std::vector<Varied>& varied, bool together,
                                     std::size_t most = 999);

} // namespace upright
