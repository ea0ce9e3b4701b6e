#include "compare/subject.hpp"

#include "base/error.hpp"
#include "base/files.hpp"
#include "store/analysis_folder.hpp"
#include "store/json_inside.hpp"
#include "store/run_folder.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <sstream>

namespace upright {

namespace fs = std::filesystem;

namespace {

bool there(const fs::path& file) {
    std::error_code ignored;
    return fs::exists(file, ignored);
}

class Taker {
  public:
    explicit Taker(Subject& to) : to_(to) {}

    KnownValue& add(const std::string& group, const std::string& name, const std::string& unit,
                    const std::optional<double>& value) {
        to_.values.push_back({group, name, unit, value, {}, {}, false, {}});
        return to_.values.back();
    }
    void say(const std::string& group, const std::string& name, const std::string& words) {
        if (!words.empty()) add(group, name, "", {}).words = words;
    }

    // Of run.json or analysis.json, with the names of the history's columns.
    void responses(const Json& all, bool made) {
        std::map<std::string, int> columns;
        for (const Json& r : all) ++columns[json_word(r, "name")];
        for (const Json& r : all) {
            std::string name = json_word(r, "name");
            if (columns[name] > 1 && !json_word(r, "case").empty()) name += "@" + json_word(r, "case");
            const bool in_black = made && r.contains("black_and_white");
            const Json& from = in_black ? r["black_and_white"] : r;
            KnownValue& v = add("responses", name, json_word(r, "unit"), json_number(from, "value"));
            v.min = json_number(r, "min");
            v.max = json_number(r, "max");
            v.broken = from.contains("holds") && from["holds"].is_boolean() && !from["holds"].get<bool>();
        }
    }

    // Cases of run.json or analysis.json.
    void cases(const Json& all, const std::string& length, const std::string& stress) {
        for (const Json& c : all) {
            const std::string name = json_word(c, "name");
            if (c.contains("largest_displacement"))
                add("largest", name + ": displacement", length,
                    json_number(c["largest_displacement"], "value"));
            if (c.contains("largest_stress"))
                add("largest", name + ": stress", stress, json_number(c["largest_stress"], "value"));
            if (c.contains("frequencies"))
                for (std::size_t k = 0; k < std::min<std::size_t>(c["frequencies"].size(), 6); ++k)
                    if (c["frequencies"][k].is_number())
                        add("frequencies", fmt::format("{}: mode {}", name, k + 1), "Hz",
                            c["frequencies"][k].get<double>());
        }
    }

  private:
    Subject& to_;
};

// "mm", "MPa" of a study's units, as all files name them.
std::pair<std::string, std::string> units_of(const Json& run) {
    UnitSystem units;
    if (run.contains("study") && run["study"].contains("units") && run["study"]["units"].size() == 3) {
        const Json& u = run["study"]["units"];
        units =
            make_unit_system(u[0].get<std::string>(), u[1].get<std::string>(), u[2].get<std::string>(), {});
    }
    return {units.text(dimension::length), units.text(dimension::stress)};
}

void take_part(const fs::path& run, const std::string& length, Taker& to) {
    if (there(run / "part.json")) {
        const Json part = read_json(run / "part.json");
        to.add("masses", "mass of the carved part", json_word(part, "mass_unit"), json_number(part, "mass"));
        if (part.contains("one_piece") && part["one_piece"].is_boolean())
            to.say("part", "one piece", part["one_piece"].get<bool>() ? "yes" : "NO");
        if (part.contains("thickness")) {
            const Json& t = part["thickness"];
            if (t.contains("thinnest"))
                to.add("part", "thinnest", length, json_number(t["thinnest"], "across"));
            if (t.contains("thickest"))
                to.add("part", "thickest", length, json_number(t["thickest"], "across"));
        }
        if (part.contains("making") && !part["making"].empty()) {
            int broken = 0;
            for (const Json& rule : part["making"]) broken += rule.value("holds", true) ? 0 : 1;
            to.say("part", "making rules", broken == 0 ? "kept" : fmt::format("{} NOT kept", broken));
        }
    }
    if (there(run / "verify" / "verify.json")) {
        const Json verify = read_json(run / "verify" / "verify.json");
        to.say("part", "verified", verify.value("verified", false) ? "yes" : "NO");
    }
}

// The row of an iteration, and the header.
std::pair<std::vector<std::string>, std::vector<double>> history_row(const fs::path& file, int iteration) {
    HistoryTable table = read_history_table(file);
    for (std::vector<double>& row : table.rows)
        if (static_cast<int>(row[0]) == iteration) return {std::move(table.names), std::move(row)};
    throw Error::input({file.string()}, fmt::format("it has no iteration {}", iteration),
                       "Write one of its iterations");
}

void take_iteration(Subject& out, const RunFolder& folder, const Json& run, Taker& to) {
    const auto [names, row] = history_row(folder.history_file(), out.iteration);
    Subject whole;
    Taker all(whole);
    if (run.contains("responses")) all.responses(run["responses"], false);
    for (std::size_t c = 5; c < names.size(); ++c) {
        const KnownValue* card = whole.find("responses", names[c]);
        KnownValue& v = to.add("responses", names[c], card != nullptr ? card->unit : "", row[c]);
        if (card == nullptr) continue;
        v.min = card->min;
        v.max = card->max;
        v.broken = (v.max && row[c] > *v.max + 1e-3 * std::abs(*v.max)) ||
                   (v.min && row[c] < *v.min - 1e-3 * std::abs(*v.min));
    }
    to.add("run", "grayness", "", row[3]);
    to.add("run", "iteration", "", row[0]);
    to.say("run", "values of", "the densities");
}

Subject read_run(const fs::path& path, const std::string& which) {
    Subject out;
    const RunFolder folder = RunFolder::open(path, Access::Reading);
    out.folder = path;
    out.study = there(folder.study_file()) ? read_text(folder.study_file()) : "";
    const bool ended = there(folder.report_file());
    const Json run = ended ? read_json(folder.report_file()) : Json::object();
    Taker to(out);
    const auto [length, stress] = units_of(run);
    if (run.contains("study")) out.title = json_word(run["study"], "title");
    if (run.contains("goal")) {
        out.goal = json_word(run["goal"], "name");
        out.maximize = json_word(run["goal"], "sense") == "maximize";
    }
    if (!which.empty() && which != "last") {
        const std::vector<int> kept = folder.kept_iterations();
        out.iteration = which == "first" ? (kept.empty() ? 1 : kept.front()) : std::atoi(which.c_str());
        if (std::find(kept.begin(), kept.end(), out.iteration) == kept.end()) {
            std::string list;
            for (const int k : kept) list += (list.empty() ? "" : ", ") + std::to_string(k);
            throw Error::input({path.string()}, fmt::format("iteration {} was not kept", out.iteration),
                               "Kept: " + list);
        }
        take_iteration(out, folder, run, to);
        return out;
    }
    if (!ended)
        throw Error::input({path.string()}, "this run has not come to its end yet",
                           "Let it end, or name an iteration: " + path.string() + "@first");
    const bool made = json_word(run, "decided_by") == "black-and-white";
    if (run.contains("responses")) to.responses(run["responses"], made);
    if (run.contains("mass")) {
        const bool half = run.contains("model") && run["model"].value("symmetry_copies", 1) > 1;
        const std::string of = half ? " (whole body)" : "";
        to.add("masses", "mass of the design" + of, json_word(run["mass"], "unit"),
               json_number(run["mass"], "design"));
        to.add("masses", "mass of all" + of, json_word(run["mass"], "unit"), json_number(run["mass"], "all"));
    }
    if (run.contains("cases")) to.cases(run["cases"], length, stress);
    take_part(path, length, to);
    to.say("run", "bounds", run.value("feasible", false) ? "hold" : "BROKEN");
    to.say("run", "decided by", json_word(run, "decided_by"));
    to.add("run", "grayness", "", json_number(run, "grayness"));
    to.add("run", "iterations", "", json_number(run, "iterations"));
    if (run.contains("cost")) to.add("run", "time", "s", json_number(run["cost"], "seconds"));
    to.say("run", "ended", json_word(run, "status"));
    return out;
}

Subject read_analysis(const fs::path& path) {
    Subject out;
    out.kind = Subject::Kind::Analysis;
    out.folder = path;
    if (there(path / "study.toml")) out.study = read_text(path / "study.toml");
    const Json all = read_json(path / "analysis.json");
    Taker to(out);
    const auto [length, stress] = units_of(all);
    if (all.contains("study")) out.title = json_word(all["study"], "title");
    if (all.contains("responses")) to.responses(all["responses"], false);
    if (all.contains("cases")) to.cases(all["cases"], length, stress);
    to.say("run", "is", "an analysis of full material");
    return out;
}

// Rows of verify.json bear the name of a response or of a case.
bool is_case(const Json& rows, const std::string& name) {
    return std::any_of(rows.begin(), rows.end(), [&](const Json& row) {
        return json_word(row, "name") == name && json_word(row, "measure") == "largest displacement";
    });
}

Subject read_part(const fs::path& path) {
    Subject out;
    out.kind = Subject::Kind::Part;
    out.folder = path;
    const fs::path run = path.parent_path();
    if (there(run / "study.toml")) out.study = read_text(run / "study.toml");
    const Json verify = read_json(path / "verify.json");
    Taker to(out);
    for (const Json& row : verify.contains("rows") ? verify["rows"] : Json::array()) {
        const std::string measure = json_word(row, "measure");
        std::string name = json_word(row, "name");
        std::string group = "responses";
        if (name == "all" && measure == "mass") {
            group = "masses";
            name = "mass of the carved part";
        } else if (measure.compare(0, 8, "largest ") == 0) {
            group = "largest";
            name += ": " + measure.substr(8);
        } else if (measure == "least safety") {
            group = "largest";
            name += ": least safety";
        } else if (measure == "compliance" && row.contains("name") && row["min"].is_null() &&
                   row["max"].is_null() && is_case(verify["rows"], name)) {
            group = "cases";
            name += ": compliance";
        } else {
            const auto at = name.find(" @ ");
            if (at != std::string::npos) name = name.substr(0, at) + "@" + name.substr(at + 3);
        }
        KnownValue& v = to.add(group, name, json_word(row, "unit"), json_number(row, "part"));
        v.min = json_number(row, "min");
        v.max = json_number(row, "max");
        v.broken = row.contains("holds") && row["holds"].is_boolean() && !row["holds"].get<bool>();
    }
    to.say("part", "verified", verify.value("verified", false) ? "yes" : "NO");
    to.say("run", "is", "a carved part, analysed");
    return out;
}

} // namespace

const KnownValue* Subject::find(const std::string& group, const std::string& name) const {
    for (const KnownValue& v : values)
        if (v.group == group && v.name == name) return &v;
    return nullptr;
}

Subject read_subject(const std::string& asked) {
    fs::path path(asked);
    std::string which;
    const auto at = asked.rfind('@');
    if (at != std::string::npos && !there(path)) {
        which = asked.substr(at + 1);
        path = asked.substr(0, at);
        const bool digits =
            !which.empty() && which.size() < 8 &&
            std::all_of(which.begin(), which.end(), [](unsigned char c) { return std::isdigit(c); });
        if (!digits && which != "first" && which != "last")
            throw Error::usage("\"" + which + "\" is no iteration", "Write RUN@7, RUN@first or RUN@last");
    }
    while (path.has_relative_path() && path.filename().empty()) path = path.parent_path();
    Subject out;
    if (there(path / "verify.json")) {
        if (!which.empty()) throw Error::usage(asked + ": a part has no iterations");
        out = reading_json(path, [&] { return read_part(path); });
    } else if (AnalysisFolder::is_one(path)) {
        if (!which.empty()) throw Error::usage(asked + ": an analysis has no iterations");
        out = reading_json(path, [&] { return read_analysis(path); });
    } else {
        out = reading_json(path, [&] { return read_run(path, which); });
    }
    out.label = path.string() + (which.empty() || which == "last" ? "" : "@" + which);
    return out;
}

void shorten_labels(std::vector<Subject>& subjects) {
    std::vector<std::vector<std::string>> parts;
    for (const Subject& s : subjects) {
        std::vector<std::string> one;
        for (const auto& p : fs::path(s.label)) one.push_back(p.string());
        parts.push_back(one);
    }
    const auto tail = [](const std::vector<std::string>& p, std::size_t count) {
        std::string out;
        for (std::size_t k = p.size() - std::min(count, p.size()); k < p.size(); ++k)
            out += (out.empty() ? "" : "/") + p[k];
        return out;
    };
    for (std::size_t i = 0; i < subjects.size(); ++i)
        for (std::size_t count = subjects[i].kind == Subject::Kind::Part ? 2 : 1; count <= parts[i].size();
             ++count) {
            const std::string mine = tail(parts[i], count);
            int alike = 0;
            for (const auto& other : parts) alike += tail(other, count) == mine ? 1 : 0;
            subjects[i].label = mine;
            if (alike == 1) break;
        }
    for (Subject& s : subjects)
        if (const auto at = s.label.find(".run"); at != std::string::npos) s.label.erase(at, 4);
}

} // namespace upright
