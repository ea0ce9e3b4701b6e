// Kinds of the tests' own, each in one file, to show that a table takes them and nothing else has to change.
#pragma once

#include "kinds/kinds.hpp"

#include <memory>

namespace upright::test {

std::shared_ptr<const MeasureKind> restlessness();
std::shared_ptr<const RuleKind> leaning();
PartFormat corners_format();

} // namespace upright::test
