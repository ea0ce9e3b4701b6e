// An observer that hears everything and says nothing.
#pragma once

#include "optimize/run.hpp"

#include <string>

namespace upright::test {

class Silent final : public OptimizeObserver {
  public:
    void iteration(OptimizerState& /*state*/) override {}
    void note(const std::string& /*sentence*/) override {}
    bool stop_requested() const override { return false; }
};

} // namespace upright::test
