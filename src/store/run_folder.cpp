#include "store/run_folder.hpp"

#include "base/files.hpp"
#include "base/h5_file.hpp"
#include "base/text.hpp"

#include "base/json.hpp"
#include <algorithm>
#include <cerrno>
#include <cmath>
#include <cstring>
#include <fcntl.h>
#include <fmt/format.h>
#include <functional>
#include <regex>
#include <sstream>
#include <sys/file.h>
#include <unistd.h>

namespace upright {

namespace fs = std::filesystem;

namespace {

bool matches(const std::string& name, const char* pattern) {
    return std::regex_match(name, std::regex(pattern));
}

bool is_temporary(const std::string& name) {
    return matches(name, R"(\..*\.part(\..*)?)");
}

// Files of a folder by their names, and those that were being written when their writer was killed.
void remove_files(const fs::path& folder, const std::function<bool(const std::string&)>& own = nullptr) {
    std::error_code ignored;
    std::vector<fs::path> gone;
    for (const auto& entry : fs::directory_iterator(folder, ignored)) {
        const std::string name = entry.path().filename().string();
        if (!entry.is_directory(ignored) && (is_temporary(name) || (own && own(name))))
            gone.push_back(entry.path());
    }
    for (const fs::path& file : gone) fs::remove(file, ignored);
}

// What a run, its figures and its carving leave behind: only that is ever removed.
void remove_own(const fs::path& folder) {
    std::error_code ignored;
    // The cases of the run that was there.
    std::vector<std::string> cases;
    try {
        const auto report = nlohmann::json::parse(read_text(folder / "run.json"));
        for (const auto& one : report.at("cases"))
            cases.push_back(file_name(one.at("name").get<std::string>()) + ".vtu");
    } catch (const std::exception&) { // it never came to write any
    }
    remove_files(folder / "steps",
                 [](const std::string& n) { return matches(n, R"((\d+|checkpoint)\.h5)"); });
    remove_files(folder / "cases", [&](const std::string& n) {
        return std::find(cases.begin(), cases.end(), n) != cases.end();
    });
    remove_files(folder / "figures", [](const std::string& n) {
        return matches(n, R"((density|displacement|stress|mode|history|part)([-.].*)?\.(png|gif))");
    });
    remove_files(folder, [](const std::string& n) {
        return matches(
            n, R"(run\.json|history\.csv|study\.toml|design\.vtu|model\.h5|log\.txt|part\.(stl|json))");
    });
    for (const char* inner : {"steps", "cases", "figures"}) fs::remove(folder / inner, ignored); // if empty
    // Runs from other starts.
    std::vector<fs::path> restarts;
    for (const auto& entry : fs::directory_iterator(folder / "restarts", ignored))
        if (matches(entry.path().filename().string(), R"(\d+)") &&
            fs::exists(entry.path() / ".lock", ignored))
            restarts.push_back(entry.path());
    for (const fs::path& one : restarts) {
        remove_own(one);
        fs::remove(one / ".lock", ignored);
        fs::remove(one, ignored);
    }
    fs::remove(folder / "restarts", ignored);
}

int take_lock(const fs::path& folder) {
    const fs::path file = folder / ".lock";
    const int lock = ::open(file.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0644);
    if (lock < 0)
        throw Error::files(folder.string(), std::string("cannot be written: ") + std::strerror(errno),
                           "Choose another place with --out");
    // Who asks whether a run goes on holds the lock for a moment.
    bool taken = false;
    for (int again = 0; !(taken = ::flock(lock, LOCK_EX | LOCK_NB) == 0) && again < 5; ++again)
        ::usleep(20000);
    if (!taken) {
        ::close(lock);
        throw Error::files(folder.string(), "a run is going on in this folder",
                           "Wait for it, or choose another folder with --out");
    }
    return lock;
}

std::vector<double> flatten(const std::vector<IterationRow>& rows) {
    std::vector<double> out;
    for (const IterationRow& row : rows) {
        out.insert(out.end(),
                   {static_cast<double>(row.iteration), row.goal, row.change, row.grayness, row.seconds});
        out.insert(out.end(), row.responses.begin(), row.responses.end());
    }
    return out;
}

// The number of an iteration, or of columns.
bool is_count(double value) {
    return value >= 0.0 && value <= 1e9 && value == std::floor(value);
}

// Rows of a width; nothing where one has no number of an iteration.
std::optional<std::vector<IterationRow>> unflatten(const std::vector<double>& values, std::size_t width) {
    std::vector<IterationRow> out;
    for (std::size_t i = 0; i + width <= values.size(); i += width) {
        if (!is_count(values[i])) return {};
        IterationRow row;
        row.iteration = static_cast<int>(values[i]);
        row.goal = values[i + 1];
        row.change = values[i + 2];
        row.grayness = values[i + 3];
        row.seconds = values[i + 4];
        for (std::size_t c = i + 5; c < i + width; ++c) row.responses.push_back(values[c]);
        out.push_back(row);
    }
    return out;
}

} // namespace

RunFolder::RunFolder(RunFolder&& other) noexcept
    : path_(std::move(other.path_)), at_(std::move(other.at_)), made_folder_(other.made_folder_),
      lock_(other.lock_) {
    other.lock_ = -1;
}

RunFolder::~RunFolder() {
    if (lock_ >= 0) ::close(lock_);
}

RunFolder RunFolder::create(const fs::path& path, Existing existing) {
    std::error_code ignored;
    bool replaces = false;
    const bool fresh = !fs::exists(path, ignored);
    if (!fresh) {
        if (!fs::is_directory(path, ignored))
            throw Error::files(path.string(), "a file of that name is there",
                               "Choose another place with --out");
        const bool is_run = fs::exists(path / "study.toml", ignored) && fs::exists(path / ".lock", ignored);
        if (!fs::is_empty(path, ignored) && !is_run)
            throw Error::files(path.string(), "the folder holds something else than a run",
                               "Choose another place with --out");
        replaces = is_run;
        if (is_run && existing == Existing::Refuse)
            throw Error::files(
                path.string(), "a run is there already",
                "Go on with --resume, overwrite it with --force, or choose another folder with --out");
    }
    make_folder(path);
    RunFolder out(path, take_lock(path));
    out.made_folder_ = fresh;
    if (replaces) {
        out.at_ = path / ".next";
        fs::remove_all(out.at_, ignored); // of a run that was killed before its first iteration
    }
    for (const char* inner : {"cases", "steps", "figures"}) make_folder(out.at_ / inner);
    return out;
}

void RunFolder::publish() {
    if (published()) return;
    remove_own(path_);
    for (const char* inner : {"steps", "cases", "figures"}) {
        make_folder(path_ / inner);
        for (const auto& entry : fs::directory_iterator(at_ / inner))
            fs::rename(entry.path(), path_ / inner / entry.path().filename());
        fs::remove(at_ / inner);
    }
    for (const auto& entry : fs::directory_iterator(at_))
        fs::rename(entry.path(), path_ / entry.path().filename());
    fs::remove(at_);
    at_ = path_;
}

void RunFolder::discard() {
    std::error_code ignored;
    if (!published()) {
        fs::remove_all(at_, ignored);
        return;
    }
    remove_own(path_);
    if (!made_folder_) return;
    fs::remove(path_ / ".lock", ignored);
    fs::remove(path_, ignored); // if nothing else came to lie there
}

RunFolder RunFolder::open(const fs::path& path, Access access) {
    std::error_code ignored;
    if (!fs::exists(path, ignored))
        throw Error::input({path.string()}, "there is no such run", "\"upright optimize STUDY\" makes one");
    if (!fs::exists(path / "study.toml", ignored))
        throw Error::input({path.string()}, "this is not the folder of a run (it has no study.toml)",
                           "\"upright optimize STUDY\" makes one");
    RunFolder out(path, access == Access::Running ? take_lock(path) : -1);
    if (access == Access::Running) {
        // Of a run that was killed while it wrote.
        remove_files(path);
        for (const char* inner : {"steps", "cases", "figures"}) remove_files(path / inner);
    }
    return out;
}

bool RunFolder::goes_on() const {
    const int lock = ::open((path_ / ".lock").c_str(), O_RDONLY | O_CLOEXEC);
    if (lock < 0) return false;
    const bool held = ::flock(lock, LOCK_SH | LOCK_NB) != 0 && errno == EWOULDBLOCK;
    ::close(lock);
    return held;
}

fs::path RunFolder::case_file(const std::string& name) const {
    return at_ / "cases" / (file_name(name) + ".vtu");
}

void RunFolder::write_history(const Model& model, const std::vector<IterationRow>& rows) const {
    std::string out = "iteration,goal,change,grayness,seconds";
    for (const Column& column : columns(model)) out += "," + csv_cell(column.name);
    out += "\n";
    for (const IterationRow& row : rows) {
        out += fmt::format("{},{:.12g},{:.6g},{:.6g},{:.3f}", row.iteration, row.goal, row.change,
                           row.grayness, row.seconds);
        for (const double value : row.responses) out += fmt::format(",{:.12g}", value);
        out += "\n";
    }
    write_text(history_file(), out);
}

HistoryTable read_history_table(const fs::path& file) {
    std::istringstream in(read_text(file));
    HistoryTable out;
    int number = 0;
    for (std::string line; std::getline(in, line);) {
        ++number;
        const auto damaged = [&](const std::string& what) {
            return Error::input({file.string(), number, 1}, what, "Run the study again, or mend the table");
        };
        std::istringstream cells(line);
        std::vector<std::string> row;
        for (std::string cell; std::getline(cells, cell, ',');) row.push_back(cell);
        if (number == 1) {
            if (row.size() < 5 || row[0] != "iteration") throw damaged("this is not the head of a history");
            out.names = row;
            continue;
        }
        if (row.size() != out.names.size()) throw damaged("this row is not complete");
        std::vector<double>& values = out.rows.emplace_back();
        for (const std::string& cell : row) {
            char* end = nullptr;
            values.push_back(std::strtod(cell.c_str(), &end));
            if (cell.empty() || *end != '\0') throw damaged("\"" + cell.substr(0, 40) + "\" is no number");
        }
        if (!is_count(values[0])) throw damaged("\"" + row[0].substr(0, 40) + "\" is no iteration");
    }
    if (out.names.empty())
        throw Error::input({file.string()}, "this history is empty", "Run the study again");
    return out;
}

std::vector<IterationRow> RunFolder::read_history() const {
    const HistoryTable table = read_history_table(history_file());
    std::vector<double> all;
    for (const std::vector<double>& row : table.rows) all.insert(all.end(), row.begin(), row.end());
    return *unflatten(all, table.names.size());
}

void RunFolder::write_step(int iteration, const KeptDesign& design) const {
    step_file(iteration, design.density, design.filtered, design.penalty, design.sharpness).save();
}

H5File RunFolder::step_file(int iteration, const std::vector<double>& density,
                            const std::vector<double>& filtered, double penalty, double sharpness) const {
    return H5File::in_memory(at_ / "steps" / fmt::format("{:04d}.h5", iteration), [&](const H5File& file) {
        file.put("density", density);
        file.put("filtered", filtered);
        file.put("set", std::vector<double>{penalty, sharpness});
    });
}

std::vector<H5File> RunFolder::kept_files(OptimizerState& state) const {
    std::vector<H5File> out;
    // What was killed after its last iteration goes on from the checkpoint before, to the same end.
    if (!state.ended) out.push_back(checkpoint_file(state, std::move(state.kept)));
    out.push_back(step_file(state.iteration, state.density, state.filtered, state.penalty, state.sharpness));
    return out;
}

namespace {

// Names hold signs that paths in the file cannot, so values bear numbers and the names stand beside; types
// too. Each is let go of once it is put in: there is no room for all of them twice.
void put(const H5File& file, Checkpoint kept) {
    std::vector<std::string> names;
    std::vector<std::string> types;
    for (auto& [name, value] : kept.values) {
        const std::string at = "kept/" + std::to_string(names.size());
        names.push_back(name);
        if (const auto* whole = std::get_if<std::int64_t>(&value)) {
            types.emplace_back("whole");
            file.put(at, std::vector<std::int64_t>{*whole});
        } else if (const auto* number = std::get_if<double>(&value)) {
            types.emplace_back("number");
            file.put(at, std::vector<double>{*number});
        } else if (const auto* list = std::get_if<std::vector<double>>(&value)) {
            types.emplace_back(list->empty() ? "nothing" : "list");
            if (!list->empty()) file.put(at, *list);
        } else {
            const auto& matrix = std::get<Eigen::MatrixXd>(value);
            types.emplace_back(matrix.size() == 0 ? "nothing" : "columns");
            // A row of the file is a column.
            if (matrix.size() > 0)
                file.put(at, matrix.data(), static_cast<std::size_t>(matrix.cols()),
                         static_cast<std::size_t>(matrix.rows()));
            file.put(at + "-size", std::vector<std::int64_t>{matrix.rows(), matrix.cols()});
        }
        value = std::int64_t{0};
    }
    file.put("kept/names", names);
    file.put("kept/types", types);
}

Checkpoint kept_in(const H5File& file, const fs::path& from) {
    Checkpoint out;
    if (!file.has("kept/names")) return out;
    const std::vector<std::string> names = file.texts("kept/names");
    const std::vector<std::string> types = file.texts("kept/types");
    const auto damaged = [&] {
        return Error::input({from.string()}, "the checkpoint is damaged", "Start afresh with --force");
    };
    if (types.size() != names.size()) throw damaged();
    for (std::size_t i = 0; i < names.size(); ++i) {
        const std::string at = "kept/" + std::to_string(i);
        if (types[i] == "nothing") continue;
        if (types[i] == "whole") {
            const std::vector<std::int64_t> value = file.integers(at);
            if (value.size() != 1) throw damaged();
            out.values[names[i]] = value.front();
        } else if (types[i] == "number") {
            const std::vector<double> value = file.numbers(at);
            if (value.size() != 1) throw damaged();
            out.values[names[i]] = value.front();
        } else if (types[i] == "list") {
            out.values[names[i]] = file.numbers(at);
        } else if (types[i] == "columns") {
            const std::vector<double> value = file.numbers(at);
            const std::vector<std::int64_t> size = file.integers(at + "-size");
            if (size.size() != 2 || size[0] <= 0 || size[1] <= 0 ||
                static_cast<std::size_t>(size[0]) > value.size() ||
                static_cast<std::size_t>(size[0]) * static_cast<std::size_t>(size[1]) != value.size())
                throw damaged();
            out.values[names[i]] =
                Eigen::MatrixXd(Eigen::Map<const Eigen::MatrixXd>(value.data(), size[0], size[1]));
        } else {
            throw damaged();
        }
    }
    return out;
}

} // namespace

void RunFolder::write_checkpoint(const OptimizerState& state) const {
    checkpoint_file(state, state.kept).save();
}

H5File RunFolder::checkpoint_file(const OptimizerState& state, Checkpoint kept) const {
    return H5File::in_memory(at_ / "steps" / "checkpoint.h5", [&](const H5File& file) {
        const double width =
            state.history.empty() ? 5.0 : 5.0 + static_cast<double>(state.history.front().responses.size());
        file.put("state", std::vector<double>{static_cast<double>(state.iteration), state.multiplier, width,
                                              state.step, state.aim});
        file.put("x", state.x);
        file.put("density", state.density);
        file.put("history", flatten(state.history));
        put(file, std::move(kept));
    });
}

bool RunFolder::has_checkpoint() const {
    return fs::exists(path_ / "steps" / "checkpoint.h5");
}

OptimizerState RunFolder::read_checkpoint() const {
    const fs::path name = path_ / "steps" / "checkpoint.h5";
    const H5File file = H5File::open(name);
    OptimizerState out;
    const Error damaged =
        Error::input({name.string()}, "the checkpoint is damaged", "Start afresh with --force");
    const std::vector<double> state = file.numbers("state");
    const std::vector<double> history = file.numbers("history");
    if (state.size() != 5 ||
        !std::all_of(state.begin(), state.end(), [](double v) { return std::isfinite(v); }) ||
        !is_count(state[0]) || !is_count(state[2]) || state[2] < 5.0 ||
        history.size() % static_cast<std::size_t>(state[2]) != 0)
        throw damaged;
    out.iteration = static_cast<int>(state[0]);
    out.multiplier = state[1];
    out.step = state[3];
    out.aim = state[4];
    out.x = file.numbers("x");
    out.density = file.numbers("density");
    const auto rows = unflatten(history, static_cast<std::size_t>(state[2]));
    if (!rows) throw damaged;
    out.history = *rows;
    out.kept = kept_in(file, name);
    return out;
}

RunOutcome RunFolder::outcome() const {
    RunOutcome out;
    try {
        const auto report = nlohmann::json::parse(read_text(path_ / "run.json"));
        out.status = report.value("status", std::string());
        out.feasible = report.value("feasible", false);
        out.iterations = report.value("iterations", 0);
        out.goal = out.deciding_goal = report.at("goal").at("value").get<double>();
        if (report.at("decided_by") == "black-and-white")
            out.deciding_goal = report.at("black_and_white").at("goal").get<double>();
    } catch (const std::exception&) { // killed before it ended, or failed before it had a goal
    }
    return out;
}

std::string RunFolder::status() const {
    try {
        return nlohmann::json::parse(read_text(path_ / "run.json")).value("status", std::string());
    } catch (const std::exception&) {
        return {}; // killed before it ended
    }
}

std::vector<double> RunFolder::frequencies(const std::string& in_case) const {
    std::vector<double> out;
    try {
        const auto report = nlohmann::json::parse(read_text(path_ / "run.json"));
        for (const auto& one : report.at("cases"))
            if (one.at("name") == in_case && one.contains("frequencies"))
                out = one["frequencies"].get<std::vector<double>>();
    } catch (const std::exception&) { // not ended, or of an older version
    }
    return out;
}

std::vector<int> RunFolder::kept_iterations() const {
    std::vector<int> out;
    std::error_code ignored;
    for (const auto& entry : fs::directory_iterator(path_ / "steps", ignored)) {
        const std::string stem = entry.path().stem().string();
        if (entry.path().extension() == ".h5" && !stem.empty() && stem.size() < 10 &&
            stem.find_first_not_of("0123456789") == std::string::npos)
            out.push_back(std::stoi(stem));
    }
    std::sort(out.begin(), out.end());
    return out;
}

int RunFolder::result_iteration() const {
    const std::vector<int> kept = kept_iterations();
    try {
        const auto report = nlohmann::json::parse(read_text(path_ / "run.json"));
        const int named = report.value("design_of_iteration", 0);
        if (report.value("status", std::string()) != "failed" &&
            std::find(kept.begin(), kept.end(), named) != kept.end())
            return named;
    } catch (const std::exception&) { // not ended
    }
    return kept.empty() ? 0 : kept.back();
}

std::optional<double> RunFolder::threshold() const {
    try {
        const auto report = nlohmann::json::parse(read_text(path_ / "run.json"));
        const double out = report.at("black_and_white").at("threshold").get<double>();
        if (report.at("decided_by") == "black-and-white" && out > 0.0 && out < 1.0) return out;
    } catch (const std::exception&) { // not ended, or of an older version
    }
    return std::nullopt;
}

std::vector<double> RunFolder::read_density(int iteration) const {
    return read_step(iteration).density;
}

KeptDesign RunFolder::read_step(int iteration) const {
    const std::vector<int> kept = kept_iterations();
    if (kept.empty())
        throw Error::input({path_.string()}, "this run has kept no design yet",
                           "Let it go on: optimize --resume");
    const int wanted = iteration < 0 ? result_iteration() : iteration;
    if (std::find(kept.begin(), kept.end(), wanted) == kept.end()) {
        std::string list;
        for (const int i : kept) list += (list.empty() ? "" : ", ") + std::to_string(i);
        throw Error::input({path_.string()}, fmt::format("iteration {} was not kept", wanted),
                           "Kept: " + list);
    }
    const fs::path file = path_ / "steps" / fmt::format("{:04d}.h5", wanted);
    const H5File step = H5File::open(file);
    KeptDesign out;
    out.density = step.numbers("density");
    if (!step.has("filtered")) return out;
    out.filtered = step.numbers("filtered");
    const std::vector<double> set = step.numbers("set");
    if (set.size() != 2 || out.filtered.size() != out.density.size())
        throw Error::input({file.string()}, "this step is damaged", "Start the run afresh with --force");
    out.penalty = set[0];
    out.sharpness = set[1];
    return out;
}

fs::path default_run_folder(const fs::path& study) {
    return study.parent_path() / (study.stem().string() + ".run");
}

} // namespace upright
