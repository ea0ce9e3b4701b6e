#include "compare/comparison.hpp"

#include "base/error.hpp"
#include "base/files.hpp"
#include "base/text.hpp"
#include "quantity/units.hpp"
#include "store/json_inside.hpp"

#include <algorithm>
#include <fmt/format.h>

namespace upright {

namespace {

// What a value in one unit is in another; nothing where they have none in common.
std::optional<double> worth(const std::string& from, const std::string& to) {
    if (from == to) return 1.0;
    const auto plain = [](std::string unit) {
        for (auto at = unit.find("·"); at != std::string::npos; at = unit.find("·"))
            unit.replace(at, std::string("·").size(), "*");
        return unit;
    };
    try {
        const Unit a = parse_unit(plain(from), {});
        const Unit b = parse_unit(plain(to), {});
        if (a.dimension == b.dimension) return a.si / b.si;
    } catch (const Error&) { // no unit that one could convert
    }
    return {};
}

std::optional<double> common(const std::vector<std::optional<double>>& all) {
    std::optional<double> out;
    for (const auto& one : all) {
        if (!one) continue;
        if (out && *out != *one) return {};
        out = one;
    }
    return out;
}

} // namespace

bool ComparedRow::is_words() const {
    return std::any_of(words.begin(), words.end(), [](const auto& w) { return !w.empty(); });
}
std::optional<double> ComparedRow::common_min() const {
    return common(mins);
}
std::optional<double> ComparedRow::common_max() const {
    return common(maxs);
}

Comparison::Comparison(std::vector<Subject> subjects, const std::vector<std::string>& labels)
    : subjects_(std::move(subjects)) {
    shorten_labels(subjects_);
    if (labels.size() == subjects_.size())
        for (std::size_t s = 0; s < labels.size(); ++s) subjects_[s].label = labels[s];
    std::vector<std::string> studies;
    for (const Subject& s : subjects_) studies.push_back(s.study);
    differences_ = study_differences(studies);
    const std::size_t n = subjects_.size();
    for (std::size_t s = 0; s < n; ++s) {
        std::size_t behind = 0; // where the row before of the same subject stands
        for (const KnownValue& v : subjects_[s].values) {
            const auto found = std::find_if(rows_.begin(), rows_.end(), [&](const ComparedRow& r) {
                return r.group == v.group && r.name == v.name && worth(v.unit, r.unit).has_value();
            });
            auto at = static_cast<std::size_t>(found - rows_.begin());
            if (found == rows_.end()) {
                ComparedRow row;
                row.group = v.group;
                row.name = v.name;
                row.unit = v.unit;
                row.words.resize(n);
                row.values.resize(n);
                row.mins.resize(n);
                row.maxs.resize(n);
                row.broken.resize(n, false);
                at = std::min(behind, rows_.size());
                rows_.insert(rows_.begin() + static_cast<std::ptrdiff_t>(at), std::move(row));
            }
            behind = at + 1;
            ComparedRow& row = rows_[at];
            const double by = *worth(v.unit, row.unit);
            const auto in = [&](const std::optional<double>& x) {
                return x ? std::optional<double>(by * *x) : std::nullopt;
            };
            row.words[s] = v.words;
            row.values[s] = in(v.value);
            row.mins[s] = in(v.min);
            row.maxs[s] = in(v.max);
            row.broken[s] = v.broken;
        }
    }
    // Groups together, in the order of the work.
    static const std::vector<std::string> groups{"responses",   "masses", "largest", "cases",
                                                 "frequencies", "part",   "run"};
    std::stable_sort(rows_.begin(), rows_.end(), [](const ComparedRow& a, const ComparedRow& b) {
        return std::find(groups.begin(), groups.end(), a.group) <
               std::find(groups.begin(), groups.end(), b.group);
    });
    // The goal comes first.
    std::stable_partition(rows_.begin(), rows_.end(), [&](const ComparedRow& r) {
        return r.group == "responses" &&
               std::any_of(subjects_.begin(), subjects_.end(), [&](const Subject& s) {
                   return !s.goal.empty() &&
                          (r.name == s.goal || r.name.compare(0, s.goal.size() + 1, s.goal + "@") == 0);
               });
    });
}

const ComparedRow* Comparison::row(const std::string& group, const std::string& name) const {
    for (const ComparedRow& r : rows_)
        if (r.group == group && r.name == name) return &r;
    return nullptr;
}

void Comparison::write_csv(const std::filesystem::path& file) const {
    std::string out = "group,name,unit";
    for (const Subject& s : subjects_) out += "," + csv_cell(s.label);
    out += "\n";
    for (const StudyDifference& d : differences_) {
        out += "study," + csv_cell(d.path) + ",";
        for (const std::string& v : d.values) out += "," + csv_cell(v);
        out += "\n";
    }
    for (const ComparedRow& r : rows_) {
        out += csv_cell(r.group) + "," + csv_cell(r.name) + "," + csv_cell(r.unit);
        for (std::size_t s = 0; s < subjects_.size(); ++s)
            out += "," + (r.values[s] ? fmt::format("{:.10g}", *r.values[s]) : csv_cell(r.words[s]));
        out += "\n";
    }
    write_text(file, out);
}

void Comparison::write_json(const std::filesystem::path& file) const {
    Json out;
    Json compared = Json::array();
    for (const Subject& s : subjects_) {
        Json one{{"label", s.label}, {"folder", s.folder.string()}, {"title", s.title}};
        one["kind"] = s.kind == Subject::Kind::Run    ? "run"
                      : s.kind == Subject::Kind::Part ? "part"
                                                      : "analysis";
        one["iteration"] = s.iteration > 0 ? Json(s.iteration) : Json(nullptr);
        one["goal"] = s.goal.empty() ? Json(nullptr) : Json(s.goal);
        compared.push_back(one);
    }
    out["compared"] = compared;
    Json studies = Json::array();
    for (const StudyDifference& d : differences_) studies.push_back({{"path", d.path}, {"values", d.values}});
    out["differences"] = studies;
    Json rows = Json::array();
    for (const ComparedRow& r : rows_) {
        Json one{{"group", r.group}, {"name", r.name}, {"unit", r.unit}};
        Json values = Json::array();
        Json mins = Json::array();
        Json maxs = Json::array();
        Json holds = Json::array();
        for (std::size_t s = 0; s < subjects_.size(); ++s) {
            values.push_back(r.values[s]          ? Json(*r.values[s])
                             : r.words[s].empty() ? Json(nullptr)
                                                  : Json(r.words[s]));
            mins.push_back(json_or_null(r.mins[s]));
            maxs.push_back(json_or_null(r.maxs[s]));
            holds.push_back(r.mins[s] || r.maxs[s] ? Json(!r.broken[s]) : Json(nullptr));
        }
        one["values"] = values;
        one["min"] = mins;
        one["max"] = maxs;
        one["holds"] = holds;
        rows.push_back(one);
    }
    out["rows"] = rows;
    write_text(file, json_text(out));
}

} // namespace upright
