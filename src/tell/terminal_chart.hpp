// Small charts of characters, for a terminal.
#pragma once

#include <optional>
#include <string>
#include <vector>

namespace upright {

// `rows` lines of `columns` braille characters, two by four dots each, from the first value at the left to
// the last at the right; a bound is a line of single dots. What falls or rises by more than thirty times (and
// has one sign) is drawn by its logarithm. Empty values: blank lines.
struct TerminalChart {
    std::vector<std::string> lines;
    double low = 0.0, high = 0.0; // of the lowest and highest dot
};
TerminalChart terminal_chart(const std::vector<double>& values, const std::optional<double>& bound,
                             std::size_t columns, std::size_t rows);

} // namespace upright
