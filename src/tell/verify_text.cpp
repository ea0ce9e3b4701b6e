#include "tell/verify_text.hpp"

#include "base/text.hpp"
#include "tell/bound_text.hpp"
#include "tell/lines.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

std::string number(const std::optional<double>& value) {
    return value ? fmt::format("{:.5g}", *value) : std::string("-");
}

std::string wide(const std::string& text, std::size_t columns) {
    const std::size_t have = text_columns(text);
    return have >= columns ? text : text + std::string(columns - have, ' ');
}

} // namespace

std::string verify_table(const std::vector<VerifyRow>& rows, bool black_and_white) {
    std::size_t name = 8;
    std::size_t measure = 8;
    for (const VerifyRow& r : rows) {
        name = std::max(name, text_columns(r.name));
        measure = std::max(measure, text_columns(r.measure + (r.unit.empty() ? "" : ", " + r.unit)));
    }
    Lines out;
    out.add(fmt::format("  {}  {}  {:>12}  {:>12}  {:>12}  {:>8}", std::string(name, ' '),
                        std::string(measure, ' '), "full space",
                        black_and_white ? "black, white" : "densities", "part", "change"));
    for (const VerifyRow& r : rows) {
        const bool both = r.design && r.part && std::abs(*r.design) > 0.0;
        std::string line =
            fmt::format("  {}  {}  {:>12}  {:>12}  {:>12}  {:>8}", wide(r.name, name),
                        wide(r.measure + (r.unit.empty() ? "" : ", " + r.unit), measure), number(r.whole),
                        number(r.design), number(r.part),
                        both ? fmt::format("{:+.1f} %", 100.0 * (*r.part / *r.design - 1.0)) : "");
        if (r.bounded() && r.holds && r.excess > bound_tolerance)
            line += fmt::format("  {}: at the bound (+{:.2g} %; {:g} % are allowed)",
                                limits_text(r.min, r.max, ""), 100.0 * r.excess, 100.0 * r.tolerance);
        else if (r.bounded())
            line += fmt::format("  {}: {}{}", limits_text(r.min, r.max, ""), standing_text(r.excess),
                                r.holds ? "" : ", FAILS");
        if (!r.where.empty()) line += "  at " + r.where;
        while (!line.empty() && line.back() == ' ') line.pop_back();
        out.add(line);
    }
    return out.take();
}

} // namespace upright
