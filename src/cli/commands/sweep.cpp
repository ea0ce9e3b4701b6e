// upright sweep: one run for each of several values, then all of them compared.
#include "base/blas_threads.hpp"
#include "base/files.hpp"
#include "base/nearest.hpp"
#include "base/process.hpp"
#include "base/text.hpp"
#include "check/estimate.hpp"
#include "cli/commands/commands.hpp"
#include "cli/commands/compare_figures.hpp"
#include "compare/comparison.hpp"
#include "compare/sweep_points.hpp"
#include "figures/charts_compared.hpp"
#include "optimize/problem.hpp"
#include "store/json_inside.hpp"
#include "study/document.hpp"
#include "tell/compare_text.hpp"

#include <algorithm>
#include <atomic>
#include <chrono>
#include <fmt/format.h>
#include <fstream>
#include <memory>
#include <mutex>
#include <thread>

namespace upright::cli {

namespace {

namespace fs = std::filesystem;

constexpr double memory_share = 0.7; // of what is free
constexpr std::size_t most_drawn = 9;
constexpr std::size_t longest_label = 26; // columns; else runs are called by their numbers

struct SweepWish : StudyWish {
    std::vector<std::string> vary;
    std::string mesh, out, submit, scatter;
    bool together = false, chain = false, resume = false, force = false, collect = false, no_figures = false;
    int jobs = 0;
};

enum class State { Waiting, Running, Ended, Failed };

struct Point {
    SweepPoint asked;
    fs::path folder;
    State state = State::Waiting;
    int code = -1;
    std::string trouble; // the first line of its errors
    RunOutcome outcome;
    bool told = false;
    bool ended() const { return outcome.status == "converged" || outcome.status == "iteration-limit"; }
};

std::string first_line(const fs::path& file) {
    std::ifstream in(file);
    std::string line;
    std::getline(in, line);
    return line;
}

class Sweep {
  public:
    Sweep(const SweepWish& in, Session& session) : in_(in), session_(session), console_(session.console) {}

    int operator()() {
        read_wishes();
        prepare_folder();
        if (!in_.submit.empty()) return submit();
        if (!in_.collect) run_all();
        if (InterruptGuard::requested()) {
            console_.result("interrupted; the same command with --resume goes on");
            return static_cast<int>(ExitCode::Interrupted);
        }
        return conclude();
    }

  private:
    void read_wishes() {
        std::vector<Varied> varied;
        for (const std::string& words : in_.vary) varied.push_back(read_varied(words));
        if (!in_.mesh.empty()) varied.push_back(read_varied("mesh.size=" + in_.mesh));
        if (in_.chain && in_.jobs > 1)
            throw Error::usage("--chain runs one after the other", "Leave --jobs out");
        if (in_.jobs < 0 || in_.jobs > 256)
            throw Error::usage(fmt::format("--jobs {} is out of range", in_.jobs), "Write 1 to 256");
        if (!in_.submit.empty() && (in_.chain || in_.collect))
            throw Error::usage("--submit excludes --chain and --collect", "Leave those out");
        if (!in_.submit.empty() && in_.submit.find("{}") == std::string::npos)
            throw Error::usage("--submit \"" + in_.submit + "\" has no {} for the job's script",
                               "Write --submit 'COMMAND {}'");
        if (in_.resume && in_.force) throw Error::usage("--resume and --force exclude each other");
        for (const SweepPoint& p : sweep_points(varied, in_.together)) {
            Point one;
            one.asked = p;
            points_.push_back(one);
        }
        varied_ = varied;
        const Study base = load_study(in_.target, in_.settings, session_.kinds.language);
        resolved_ = base.resolved;
        threads_ = base.run.threads;
        require_values();
        // Every study is read before the first run begins.
        for (const Point& p : points_) load_study(in_.target, settings_of(p), session_.kinds.language);
    }

    // Those of the command line, and its own behind them.
    std::vector<std::string> settings_of(const Point& p) const {
        std::vector<std::string> out = in_.settings;
        out.insert(out.end(), p.asked.settings.begin(), p.asked.settings.end());
        return out;
    }

    // A named value that the study does not have would be varied without any effect.
    void require_values() const {
        const Node document = parse_document(resolved_, in_.target);
        const Node* values = document.find("values");
        for (const Varied& v : varied_) {
            if (v.path.compare(0, 7, "values.") != 0) continue;
            const std::string name = v.path.substr(7);
            std::vector<std::string> known;
            if (values != nullptr && values->table() != nullptr)
                for (const Entry& entry : *values->table()) known.push_back(entry.key);
            if (std::find(known.begin(), known.end(), name) == known.end())
                throw Error::usage("--vary " + v.path + ": the study has no value \"" + name + "\"",
                                   suggestion(name, known));
        }
    }

    Json wishes() const {
        Json varied = Json::array();
        for (const Varied& v : varied_) varied.push_back({{"path", v.path}, {"values", v.values}});
        return {{"study", fs::absolute(in_.target).lexically_normal().string()},
                {"settings", in_.settings},
                {"resolved", resolved_},
                {"vary", varied},
                {"together", in_.together},
                {"chain", in_.chain}};
    }

    void prepare_folder() {
        const fs::path study(in_.target);
        folder_ =
            in_.out.empty() ? study.parent_path() / (study.stem().string() + ".sweep") : fs::path(in_.out);
        const fs::path file = folder_ / "sweep.json";
        std::error_code ignored;
        const bool there = fs::exists(file, ignored);
        const bool going_on = in_.resume || in_.collect || !in_.submit.empty();
        if (there && !going_on && !in_.force)
            throw Error::files(folder_.string(), "there is a sweep already",
                               "Go on with it by --resume, or write --force to begin afresh");
        if (!there && (in_.resume || in_.collect))
            throw Error::input({folder_.string()}, "there is no sweep to go on with", "Leave --resume out");
        if (!there && fs::exists(folder_, ignored) && !fs::is_empty(folder_, ignored))
            throw Error::files(folder_.string(), "this folder holds something else",
                               "Choose another with --out");
        if (there && going_on && !in_.force) {
            Json before;
            try {
                before = Json::parse(read_text(file));
            } catch (const Json::exception&) {
                throw Error::input({file.string()}, "this file is damaged", "Begin afresh with --force");
            }
            if (before["asked"] != wishes())
                throw Error::input({folder_.string()},
                                   "the study or what is varied has changed since this sweep began",
                                   "Begin afresh with --force, or undo the changes");
        }
        make_folder(folder_);
        const int digits = points_.size() > 99 ? 3 : 2;
        for (std::size_t k = 0; k < points_.size(); ++k) {
            points_[k].folder = folder_ / fmt::format("{:0{}}.run", k + 1, digits);
            take_outcome(points_[k]);
            if (in_.force) points_[k].state = State::Waiting;
        }
        write_state();
    }

    // What stands in its folder.
    void take_outcome(Point& p) const {
        std::error_code ignored;
        if (!fs::exists(p.folder / "study.toml", ignored)) return;
        p.outcome = RunFolder::open(p.folder, Access::Reading).outcome();
        if (p.ended()) p.state = State::Ended;
    }

    void write_state() const {
        Json points = Json::array();
        for (const Point& p : points_)
            points.push_back({{"folder", p.folder.filename().string()},
                              {"label", p.asked.label},
                              {"settings", p.asked.settings},
                              {"status", p.state == State::Failed   ? "failed"
                                         : p.outcome.status.empty() ? "waiting"
                                                                    : p.outcome.status},
                              {"feasible", p.outcome.feasible},
                              {"trouble", p.trouble}});
        write_text(folder_ / "sweep.json", json_text(Json{{"asked", wishes()}, {"points", points}}));
    }

    std::vector<std::string> words_of(const Point& p, int threads, const std::string& existing) const {
        std::vector<std::string> words{fs::read_symlink("/proc/self/exe").string(),
                                       "optimize",
                                       in_.target,
                                       "--quiet",
                                       "--out",
                                       p.folder.string()};
        for (const std::string& s : settings_of(p)) words.insert(words.end(), {"--set", s});
        if (threads > 0) words.insert(words.end(), {"--set", fmt::format("run.threads={}", threads)});
        if (!existing.empty()) words.push_back(existing); // what becomes of a run that is there
        return words;
    }

    // Whether another process runs in its folder.
    static bool going_on(const Point& p) {
        std::error_code ignored;
        if (!fs::exists(p.folder / ".lock", ignored)) return false;
        try {
            RunFolder::open(p.folder, Access::Running);
            return false;
        } catch (const Error&) {
            return true;
        }
    }

    // Runs one point, or goes on with it, and reads what it came to.
    void start_one(Point& p, std::size_t k, int threads) {
        std::error_code ignored;
        const bool there = fs::exists(p.folder / "study.toml", ignored);
        const bool resume = there && !in_.force && fs::exists(p.folder / "steps/checkpoint.h5", ignored);
        // A folder that is there is one of this sweep: a run in it that cannot go on gives way.
        std::vector<std::string> words = words_of(p, threads, resume ? "--resume" : "--force");
        if (in_.chain && k > 0 && !resume && points_[k - 1].ended())
            words.insert(words.end(),
                         {"--set", "run.start=\"" + fs::absolute(points_[k - 1].folder).string() + "\"",
                          "--set", "run.coarse_first=false"});
        const fs::path log = folder_ / (p.folder.stem().string() + ".log");
        p.code = run_program(words, "", "/dev/null", log, InterruptGuard::requested);
        p.trouble = first_line(log);
        if (fs::exists(log, ignored) && fs::file_size(log, ignored) == 0) fs::remove(log, ignored);
        if (fs::exists(p.folder / "study.toml", ignored))
            p.outcome = RunFolder::open(p.folder, Access::Reading).outcome();
    }

    void run(std::size_t k, int threads) {
        Point& p = points_[k];
        Point fresh = p;
        // Of a sweep that was killed runs may go on by themselves, and one of them may have taken the folder
        // after it was looked at: then it is waited for.
        do {
            while (going_on(p) && !InterruptGuard::requested())
                std::this_thread::sleep_for(std::chrono::milliseconds(300));
            fresh = p;
            if (!in_.force) take_outcome(fresh);
            if (!fresh.ended() || in_.force) start_one(fresh, k, threads);
        } while (fresh.code == static_cast<int>(ExitCode::Files) && going_on(p) &&
                 !InterruptGuard::requested());
        if (fresh.code != 0) take_outcome(fresh); // one that was waited for may just have ended
        const std::lock_guard<std::mutex> lock(guard_);
        p.code = fresh.code;
        p.trouble = fresh.ended() ? ""
                    : fresh.outcome.status == "interrupted"
                        ? fmt::format("interrupted after {} iterations", fresh.outcome.iterations)
                        : fresh.trouble;
        p.outcome = fresh.outcome;
        p.state = fresh.ended() ? State::Ended : State::Failed;
    }

    // What the larger of the first and last study takes.
    RunEstimate estimate_of_one() const {
        RunEstimate out;
        for (const Point* p : {&points_.front(), &points_.back()}) {
            try {
                const RunEstimate one = estimate_run(
                    build_model(load_study(in_.target, settings_of(*p), session_.kinds.language)));
                out.bytes = std::max(out.bytes, one.bytes);
                out.seconds = std::max(out.seconds, one.seconds);
            } catch (const Error&) { // its run will tell
            }
        }
        return out;
    }

    void run_all() {
        const int allowed = threads_ > 0 ? threads_ : usable_threads();
        std::vector<std::size_t> open;
        for (std::size_t k = 0; k < points_.size(); ++k)
            if (points_[k].state != State::Ended) open.push_back(k);
        int jobs = in_.jobs;
        if (in_.chain) jobs = 1;
        const RunEstimate one = estimate_of_one();
        if (jobs == 0) {
            const double fit = one.bytes > 0.0 ? memory_share * free_memory() / one.bytes : 1e6;
            jobs = std::clamp(std::min(allowed, static_cast<int>(std::min(fit, 1e6))), 1,
                              std::max(1, static_cast<int>(open.size())));
        }
        jobs = std::min(jobs, std::max(1, static_cast<int>(open.size())));
        const int threads = std::max(1, allowed / jobs);
        console_.remark(
            fmt::format("{} runs, {} of them done, {} at a time with {} thread{} each; about {} for "
                        "the rest",
                        points_.size(), points_.size() - open.size(), jobs, threads, threads == 1 ? "" : "s",
                        duration_text(one.seconds * static_cast<double>(open.size()))));
        const InterruptGuard interrupts;
        std::atomic<std::size_t> next{0};
        std::atomic<int> working{jobs};
        std::vector<std::thread> workers;
        for (int w = 0; w < jobs; ++w)
            workers.emplace_back([&] {
                for (std::size_t i = next++; i < open.size() && !InterruptGuard::requested(); i = next++) {
                    {
                        const std::lock_guard<std::mutex> lock(guard_);
                        points_[open[i]].state = State::Running;
                    }
                    try {
                        run(open[i], threads);
                    } catch (const std::exception& bad) {
                        const std::lock_guard<std::mutex> lock(guard_);
                        points_[open[i]].state = State::Failed;
                        points_[open[i]].trouble = bad.what();
                    }
                }
                --working;
            });
        while (working > 0) {
            std::this_thread::sleep_for(std::chrono::milliseconds(100));
            tell_progress();
        }
        for (std::thread& worker : workers) worker.join();
        tell_progress();
        console_.clear_live();
        write_state();
    }

    static int iteration_of(const Point& p) {
        std::ifstream in(p.folder / "history.csv");
        int rows = -1;
        for (std::string line; std::getline(in, line);) ++rows;
        return std::max(rows, 0);
    }

    void tell_progress() {
        const std::lock_guard<std::mutex> lock(guard_);
        bool news = false;
        std::vector<std::string> running;
        std::size_t done = 0;
        for (Point& p : points_) {
            const bool over = p.state == State::Ended || p.state == State::Failed;
            done += over ? 1 : 0;
            if (p.state == State::Running)
                running.push_back(
                    fmt::format("{} at iteration {}", p.folder.stem().string(), iteration_of(p)));
            if (!over || p.told) continue;
            p.told = true;
            news = true;
            console_.clear_live();
            if (p.state == State::Failed)
                console_.remark(fmt::format("  {}  {}: did not end: {}", p.folder.stem().string(),
                                            p.asked.label,
                                            p.trouble.empty() ? "it tells nothing" : p.trouble));
            else
                console_.remark(fmt::format("  {}  {}: {:.6g}, {} iterations, {}, bounds {}",
                                            p.folder.stem().string(), p.asked.label, p.outcome.deciding_goal,
                                            p.outcome.iterations, p.outcome.status,
                                            p.outcome.feasible ? "hold" : "BROKEN"));
        }
        if (news) write_state();
        if (console_.terminal())
            console_.live(fmt::format("{} of {} done; {}", done, points_.size(), joined(running)));
    }

    // Hands each run to a batch system: a script for each, and the command with its path for {}.
    int submit() {
        std::size_t handed = 0;
        for (Point& p : points_) {
            if (p.state == State::Ended || going_on(p)) continue;
            std::error_code ignored;
            const bool there = fs::exists(p.folder / "study.toml", ignored);
            const bool resume = there && fs::exists(p.folder / "steps/checkpoint.h5", ignored);
            const fs::path script = fs::absolute(folder_ / (p.folder.stem().string() + ".sh"));
            std::vector<std::string> words = words_of(p, 0, resume ? "--resume" : there ? "--force" : "");
            std::string text = "#!/bin/sh\n# One run of a sweep: " + one_line(p.asked.label) + "\ncd " +
                               shell_word(fs::current_path().string()) + "\nexec";
            for (const std::string& w : words) text += " " + shell_word(w);
            write_text(script, text + "\n");
            fs::permissions(script, fs::perms::owner_all, fs::perm_options::add);
            std::string command = in_.submit;
            for (auto at = command.find("{}"); at != std::string::npos; at = command.find("{}", at)) {
                const std::string word = shell_word(script.string());
                command.replace(at, 2, word);
                at += word.size();
            }
            const fs::path log = folder_ / (p.folder.stem().string() + ".log");
            const int code = run_program({"sh", "-c", command}, "", "/dev/null", log);
            if (code != 0)
                throw Error::files(
                    script.string(),
                    fmt::format("\"{}\" gave the exit code {}: {}", command, code, first_line(log)),
                    "Check the command of --submit");
            fs::remove(log, ignored);
            ++handed;
            console_.remark(fmt::format("  {}  {}: handed over", p.folder.stem().string(), p.asked.label));
        }
        console_.result(
            fmt::format("{} of {} runs were handed over; \"upright sweep\" with the same words and --collect "
                        "instead of --submit compares those that have ended",
                        handed, points_.size()));
        return 0;
    }

    static std::string one_line(std::string text) {
        std::replace_if(
            text.begin(), text.end(), [](unsigned char c) { return c < 0x20; }, ' ');
        return text;
    }
    static std::string shell_word(const std::string& word) {
        std::string out = "'";
        for (const char c : word) out += c == '\'' ? std::string("'\\''") : std::string(1, c);
        return out + "'";
    }

    int conclude() {
        std::vector<Subject> subjects;
        int code = 0;
        for (Point& p : points_) {
            if (!p.ended()) {
                if (in_.collect) {
                    console_.result(fmt::format("{}  {}: {}", p.folder.stem().string(), p.asked.label,
                                                going_on(p)                ? "goes on still"
                                                : p.outcome.status.empty() ? "has not begun"
                                                                           : p.outcome.status));
                    continue;
                }
                if (code == 0 || code == static_cast<int>(ExitCode::BoundBroken))
                    code = p.code > 0 ? p.code : static_cast<int>(ExitCode::Numerics);
                continue;
            }
            if (!p.outcome.feasible && code == 0) code = static_cast<int>(ExitCode::BoundBroken);
            subjects.push_back(read_subject(p.folder.string()));
            labels_.push_back(p.asked.label);
        }
        for (const Point& p : points_)
            if (p.state == State::Failed)
                console_.result(
                    fmt::format("{}  {}: FAILED: {}", p.folder.stem().string(), p.asked.label, p.trouble));
        if (subjects.empty()) {
            console_.result("no run has ended");
            return code == 0 ? static_cast<int>(ExitCode::Numerics) : code;
        }
        const bool short_ones = std::all_of(labels_.begin(), labels_.end(),
                                            [](const auto& l) { return text_columns(l) <= longest_label; });
        const Comparison comparison(std::move(subjects), short_ones ? labels_ : std::vector<std::string>{});
        console_.result("\n" + comparison_text(comparison));
        comparison.write_csv(folder_ / "compare.csv");
        comparison.write_json(folder_ / "compare.json");
        console_.result(fmt::format("\ntables: {}\n        {}", (folder_ / "compare.csv").string(),
                                    (folder_ / "compare.json").string()));
        if (!in_.mesh.empty()) tell_mesh(comparison);
        if (comparison.subjects().size() > 1) scatter(comparison);
        if (!in_.no_figures && comparison.subjects().size() <= most_drawn) {
            CompareFiguresWish wish;
            wish.options.width = 960;
            wish.options.height = 600;
            beside_result(console_, [&] {
                for (const fs::path& file : draw_comparison(comparison, wish, session_, folder_))
                    console_.result("figure: " + file.string());
            });
        }
        console_.result("sweep: " + folder_.string());
        return code;
    }

    // How the goal and the responses move from each size to the next.
    void tell_mesh(const Comparison& comparison) const {
        const std::size_t n = comparison.subjects().size();
        if (n < 2) return;
        std::string text =
            "\nfrom each run to the next one (the last change tells how far the mesh can be trusted):\n";
        for (const ComparedRow& row : comparison.rows()) {
            if (row.group != "responses") continue;
            std::vector<std::string> changes;
            for (std::size_t s = 1; s < n; ++s)
                changes.push_back(
                    row.values[s] && row.values[s - 1] && *row.values[s - 1] != 0.0
                        ? fmt::format("{:+.2f} %", 100.0 * (*row.values[s] / *row.values[s - 1] - 1.0))
                        : "-");
            text += fmt::format("  {}: {}\n", row.name, joined(changes));
        }
        console_.result(text);
    }

    static const ComparedRow* row_named(const Comparison& comparison, const std::string& name) {
        const ComparedRow* out = nullptr;
        std::vector<std::string> names;
        for (const ComparedRow& row : comparison.rows()) {
            if (row.is_words()) continue;
            names.push_back(row.name);
            if (row.name == name && out == nullptr) out = &row;
        }
        if (out == nullptr)
            throw Error::usage("--scatter: the table has no row \"" + name + "\"", "Rows: " + joined(names));
        return out;
    }

    void scatter(const Comparison& comparison) const {
        const ComparedRow* x = nullptr;
        const ComparedRow* y = nullptr;
        if (!in_.scatter.empty()) {
            const auto comma = in_.scatter.find(',');
            if (comma == std::string::npos)
                throw Error::usage("--scatter \"" + in_.scatter + "\" names one row of the table",
                                   "Write two with a comma between them");
            x = row_named(comparison, in_.scatter.substr(0, comma));
            y = row_named(comparison, in_.scatter.substr(comma + 1));
        } else {
            // The goal over the mass, or over what is bounded where the goal is the mass.
            const std::string goal = comparison.subjects().front().goal;
            for (const ComparedRow& row : comparison.rows()) {
                if (row.is_words()) continue;
                if (y == nullptr && row.group == "responses" &&
                    (row.name == goal || row.name.compare(0, goal.size() + 1, goal + "@") == 0))
                    y = &row;
                if (x == nullptr && row.group == "masses") x = &row;
            }
            const bool goal_is_mass = x != nullptr && y != nullptr && x->unit == y->unit;
            if (goal_is_mass) {
                x = y;
                y = nullptr;
                for (const ComparedRow& row : comparison.rows())
                    if (y == nullptr && !row.is_words() && row.group == "responses" && &row != x) y = &row;
            }
        }
        if (x == nullptr || y == nullptr) return;
        std::vector<ScatterPoint> points;
        for (std::size_t s = 0; s < comparison.subjects().size(); ++s) {
            if (!x->values[s] || !y->values[s]) continue;
            bool feasible = true;
            for (const ComparedRow& row : comparison.rows()) feasible = feasible && !row.broken[s];
            points.push_back({labels_[s], *x->values[s], *y->values[s], feasible, false});
        }
        const auto low_is_good = [&](const ComparedRow* row) {
            const Subject& first = comparison.subjects().front();
            if (row->name == first.goal) return !first.maximize;
            return !(row->common_min() && !row->common_max());
        };
        mark_front(points, low_is_good(x), low_is_good(y));
        const auto axis = [](const ComparedRow* row) {
            return row->name + (row->unit.empty() ? "" : ", " + row->unit);
        };
        const std::string title = comparison.subjects().front().title + ": " + y->name + " over " + x->name;
        for (const char* name : {"scatter.png", "scatter.svg"}) {
            beside_result(console_, [&] {
                draw_scatter(title, axis(x), axis(y), points, {}, folder_ / name);
                console_.result("figure: " + (folder_ / name).string());
            });
        }
        std::string csv = "label," + x->name + "," + y->name + ",feasible,front\n";
        for (const ScatterPoint& p : points)
            csv += fmt::format("\"{}\",{:.10g},{:.10g},{},{}\n", p.label, p.x, p.y, p.feasible ? 1 : 0,
                               p.front ? 1 : 0);
        write_text(folder_ / "scatter.csv", csv);
    }

    const SweepWish& in_;
    Session& session_;
    Console& console_;
    std::vector<Varied> varied_;
    std::vector<Point> points_;
    std::vector<std::string> labels_; // of those that are compared
    std::string resolved_;            // the study without what is varied
    int threads_ = 0;
    fs::path folder_;
    std::mutex guard_;
};

} // namespace

Command sweep_command() {
    return {"sweep", "One run for each of several values, then all compared", [](Options& options) {
                auto in = std::make_shared<SweepWish>();
                add_study(options, *in);
                options.several(
                    "--vary", "PATH=VALUES", in->vary,
                    "What to vary: response.budget.max=0.4,0.3,0.2 or \"values.lift=1 kN..2 kN in 5\" "
                    "(may be given several times: all combinations)");
                options.value("--mesh", "SIZES", in->mesh, "Vary the mesh's size, as \"10 mm,8 mm,6 mm\"");
                options.flag("--together", in->together,
                             "The first values of all, then the second, and so on");
                options.flag("--chain", in->chain, "Each run starts from the design of the one before");
                options.value("--jobs", "N", in->jobs, "Runs at a time (default: as cores and memory allow)");
                options.value("--out", "DIR", in->out,
                              "Folder of the sweep (default: <study>.sweep beside the study)");
                options.flag("--resume", in->resume, "Go on with a sweep that was interrupted or killed");
                options.flag("--force", in->force, "Begin an earlier sweep afresh");
                options.value("--submit", "COMMAND", in->submit,
                              "Hand each run to a batch system: COMMAND with {} for the job's script");
                options.flag("--collect", in->collect, "Run nothing: compare the runs that have ended");
                options.value("--scatter", "X,Y", in->scatter,
                              "Two rows of the table for the scatter (default: the goal over the mass)");
                options.flag("--no-figures", in->no_figures, "No figures side by side");
                return [in](Session& session) { return Sweep(*in, session)(); };
            }};
}

} // namespace upright::cli
