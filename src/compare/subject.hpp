// One of the things that are compared: a run, a kept iteration of it, an analysis, or a part that was
// verified.
#pragma once

#include <filesystem>
#include <optional>
#include <string>
#include <vector>

namespace upright {

// A number (or words) that is known of it. Those of one name in one group are compared.
struct KnownValue {
    std::string group; // "responses", "masses", "largest", "frequencies", "run"
    std::string name;  // "budget", "start-up/1: stress"
    std::string unit;
    std::optional<double> value, min, max;
    bool broken = false; // a bound
    std::string words;   // instead of a number
};

struct Subject {
    enum class Kind { Run, Analysis, Part };
    Kind kind = Kind::Run;
    std::string label;            // as short as tells them apart: "a", "a@1"
    std::filesystem::path folder; // of the run or analysis
    int iteration = -1;           // of a run; -1: its result
    std::string title;
    std::string study; // as it was run; empty where it is not kept
    std::vector<KnownValue> values;
    std::string goal; // the name of the response; empty: none
    bool maximize = false;

    const KnownValue* find(const std::string& group, const std::string& name) const;
};

// `asked`: a folder of a run or an analysis, RUN/verify of a part, or RUN@7, RUN@first, RUN@last. Reads small
// files alone (run.json, history.csv, part.json). Throws Error (Input) where there is nothing of the kind, or
// the iteration was not kept (the kept ones in the message).
Subject read_subject(const std::string& asked);

// Labels of several: the last parts of their paths that tell them apart.
void shorten_labels(std::vector<Subject>& subjects);

} // namespace upright
