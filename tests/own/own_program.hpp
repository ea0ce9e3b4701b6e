// The parts of a program of the tests' own.
#pragma once

#include "cli/program.hpp"

namespace upright::test {

cli::Command tally();

} // namespace upright::test
