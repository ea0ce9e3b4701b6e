#include "tell/compare_text.hpp"

#include "base/text.hpp"
#include "tell/bound_text.hpp"
#include "tell/lines.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

constexpr std::size_t widest_value = 26; // columns of a value of a study; longer ones are cut

std::string filled(const std::string& text, std::size_t columns, bool right) {
    const std::size_t have = text_columns(text);
    if (have >= columns) return text;
    const std::string room(columns - have, ' ');
    return right ? room + text : text + room;
}

std::string cut(const std::string& text) {
    if (text_columns(text) <= widest_value) return text;
    std::string out;
    for (const char c : text) {
        // Never within a sign of several bytes.
        if ((static_cast<unsigned char>(c) & 0xc0U) != 0x80U && text_columns(out) + 3 >= widest_value) break;
        out += c;
    }
    return out + "...";
}

using Table = std::vector<std::vector<std::string>>;

// Columns as wide as what stands in them, the first to the left.
void add_table(const Table& table, Lines& out) {
    if (table.empty()) return;
    std::vector<std::size_t> wide(table.front().size(), 0);
    for (const auto& row : table)
        for (std::size_t c = 0; c < row.size(); ++c) wide[c] = std::max(wide[c], text_columns(row[c]));
    for (const auto& row : table) {
        std::string line = " ";
        for (std::size_t c = 0; c < row.size(); ++c)
            line += (c == 0 ? " " : "  ") + filled(row[c], wide[c], c > 0);
        line.erase(line.find_last_not_of(' ') + 1);
        out.add(line);
    }
}

std::string head_of(const ComparedRow& row) {
    std::string out = row.name + (row.unit.empty() ? "" : ", " + row.unit);
    const auto min = row.common_min();
    const auto max = row.common_max();
    if (min || max) out += " (" + limits_text(min, max, "") + ")";
    return out;
}

std::string cell_of(const ComparedRow& row, std::size_t s) {
    if (!row.words[s].empty()) return row.words[s];
    if (!row.values[s]) return "-";
    std::string out = fmt::format("{:.5g}", *row.values[s]);
    const bool own = (row.mins[s] && !row.common_min()) || (row.maxs[s] && !row.common_max());
    if (own) out += " (" + limits_text(row.mins[s], row.maxs[s], "") + ")";
    return out + (row.broken[s] ? " !" : "");
}

} // namespace

std::string comparison_text(const Comparison& comparison) {
    Lines out;
    const auto& subjects = comparison.subjects();
    std::vector<std::string> labels;
    for (const Subject& s : subjects) labels.push_back(s.label);
    const bool known = std::count_if(subjects.begin(), subjects.end(),
                                     [](const Subject& s) { return !s.study.empty(); }) > 1;
    if (!comparison.differences().empty()) {
        Table table{{"the studies differ in"}};
        table[0].insert(table[0].end(), labels.begin(), labels.end());
        for (const StudyDifference& d : comparison.differences()) {
            table.push_back({d.path});
            for (const std::string& v : d.values) table.back().push_back(v.empty() ? "-" : cut(v));
        }
        add_table(table, out);
        out.add("");
    } else if (known) {
        out.add("  the studies are the same");
        out.add("");
    }
    const bool pair = subjects.size() == 2;
    Table table{{""}};
    table[0].insert(table[0].end(), labels.begin(), labels.end());
    if (pair) table[0].emplace_back("change");
    bool any_broken = false;
    std::string group;
    for (const ComparedRow& row : comparison.rows()) {
        if (!group.empty() && group != row.group) table.emplace_back(table[0].size(), "");
        group = row.group;
        table.push_back({head_of(row)});
        for (std::size_t s = 0; s < subjects.size(); ++s) {
            table.back().push_back(cell_of(row, s));
            any_broken = any_broken || row.broken[s];
        }
        if (pair) {
            const bool both = row.values[0] && row.values[1] && std::abs(*row.values[0]) > 0.0;
            const double change = both ? 100.0 * (*row.values[1] / *row.values[0] - 1.0) : 0.0;
            table.back().push_back(!both                      ? ""
                                   : std::abs(change) < 0.005 ? "0 %"
                                   : std::abs(change) < 1000.0
                                       ? fmt::format("{:+.3g} %", change)
                                       : fmt::format("x {:.3g}", *row.values[1] / *row.values[0]));
        }
    }
    add_table(table, out);
    if (any_broken) out.add("\n  ! the bound does not hold");
    return out.take();
}

} // namespace upright
