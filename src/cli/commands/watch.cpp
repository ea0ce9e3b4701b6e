// upright watch: goal and bounds of a run that is going on, as small charts in the terminal.
#include "base/files.hpp"
#include "base/text.hpp"
#include "cli/commands/commands.hpp"
#include "cli/commands/restarts.hpp"
#include "figures/drawings.hpp"
#include "optimize/problem.hpp"
#include "optimize/run/stages.hpp"
#include "part/extract.hpp"
#include "store/analysis_folder.hpp"
#include "tell/bound_text.hpp"
#include "tell/run_text.hpp"
#include "tell/terminal_chart.hpp"

#include <algorithm>
#include <chrono>
#include <fmt/format.h>
#include <memory>
#include <thread>

namespace upright::cli {

namespace {

namespace fs = std::filesystem;

struct WatchWish {
    std::string target;
    std::optional<int> restart;
    double every = 1.0;
    bool once = false, no_figures = false;
};

class Watch {
  public:
    Watch(const WatchWish& in, Session& session)
        : in_(in), session_(session), console_(session.console),
          folder_(RunFolder::open(restart_of(find_run(in.target, console_), in.restart), Access::Reading)),
          job_(load_run(session, folder_)), columns_(columns(job_.model)) {}

    int operator()() {
        const InterruptGuard guard;
        bool first = true;
        for (;;) {
            const bool over = !folder_.goes_on();
            read();
            const bool last = over || in_.once;
            if (last) refresh_picture(); // it is told with the rest
            show(over, first);
            first = false;
            if (last) break;
            refresh_picture();
            const auto end = std::chrono::steady_clock::now() + std::chrono::duration<double>(in_.every);
            while (std::chrono::steady_clock::now() < end && !InterruptGuard::requested())
                std::this_thread::sleep_for(std::chrono::milliseconds(50));
            if (InterruptGuard::requested()) {
                console_.clear_live();
                console_.remark("the run itself goes on");
                break;
            }
        }
        return 0;
    }

  private:
    void read() {
        std::error_code ignored;
        if (fs::exists(folder_.history_file(), ignored)) rows_ = folder_.read_history();
    }

    // The last kept design, when it is new.
    void refresh_picture() {
        if (in_.no_figures) return;
        const std::vector<int> kept = folder_.kept_iterations();
        if (kept.empty() || kept.back() == drawn_) return;
        drawn_ = kept.back();
        try {
            const std::optional<int> which =
                folder_.status().empty() ? std::optional<int>(drawn_) : std::nullopt;
            draw_density(job_.model, design_values(folder_, job_.model, which),
                         threshold(std::nullopt, folder_, which), state_text(folder_, which), {},
                         folder_.figure("density"));
            news_ =
                "picture: " + folder_.figure("density").string() + fmt::format(", of iteration {}", drawn_);
        } catch (const Error& bad) { // nothing dense enough yet
            news_ = std::string("no picture of iteration ") + std::to_string(drawn_) + ": " + bad.what();
        }
    }

    std::string head(bool over) const {
        std::string status = folder_.status();
        if (status.empty() || !over) status = over ? "not finished" : "goes on";
        const int done = rows_.empty() ? 0 : rows_.back().iteration;
        return fmt::format("{}: iteration {} of at most {}, {}{}", job_.model.title, done,
                           job_.model.run.iterations, status,
                           rows_.empty() ? "" : ", " + time_text(seconds()));
    }

    double seconds() const {
        double out = 0.0;
        for (const IterationRow& row : rows_) out += row.seconds;
        return out;
    }

    struct Line {
        std::string name, now, bound;
        std::vector<double> values;
        std::optional<double> limit;
    };

    std::vector<Line> lines() const {
        std::vector<Line> out;
        for (const bool goal : {true, false})
            for (std::size_t c = 0; c < columns_.size(); ++c) {
                const ModelResponse& card = job_.model.responses[columns_[c].response];
                if (card.goal != goal) continue;
                Line line;
                const std::string unit = job_.model.units.text(card.measure->dimension);
                line.name = columns_[c].name + (goal ? " (goal)" : "");
                const std::optional<double> most = upper_bound(job_.model, card);
                line.limit = most ? most : card.min;
                line.bound = limits_text(card.min, most, unit);
                for (const IterationRow& row : rows_)
                    if (c < row.responses.size()) line.values.push_back(row.responses[c]);
                if (!line.values.empty())
                    line.now = fmt::format("{:.5g}{}{}", line.values.back(), unit.empty() ? "" : " ", unit);
                out.push_back(line);
            }
        const std::optional<double> gray_end = gray_enough(job_.model.run, make_problem(job_.model));
        for (const bool gray : {false, true}) {
            Line line;
            line.name = gray ? "grayness" : "change";
            for (const IterationRow& row : rows_)
                line.values.push_back(std::max(gray ? row.grayness : row.change, 1e-6));
            line.limit = gray ? gray_end : job_.model.run.stop_when;
            if (!line.values.empty()) line.now = fmt::format("{:.3g}", line.values.back());
            if (line.limit) line.bound = fmt::format("{} below {:g}", gray ? "or" : "stops", *line.limit);
            out.push_back(line);
        }
        return out;
    }

    void show(bool over, bool first) {
        if (!console_.terminal()) return plain(over, first);
        // In place: as many lines up as were written the last time.
        std::string text = height_ > 0 ? fmt::format("\033[{}A\r\033[J", height_) : std::string();
        std::string body = head(over) + "\n\n";
        const auto width = static_cast<std::size_t>(console_.width());
        std::size_t words = 0;
        const std::vector<Line> all = lines();
        for (const Line& l : all)
            words = std::max({words, text_columns(l.name), text_columns(l.now), text_columns(l.bound)});
        words = std::min(words, width / 2);
        const std::size_t wide = std::clamp<std::size_t>(width - words - 18, 10, 90);
        const std::size_t rows = all.size() > 7 ? 2 : 3;
        for (const Line& l : all) {
            const TerminalChart chart = terminal_chart(l.values, l.limit, wide, rows);
            for (std::size_t r = 0; r < rows; ++r) {
                const std::string& left = r == 0 ? l.name : r == 1 ? l.now : l.bound;
                const double edge = r == 0 ? chart.high : chart.low;
                body += fmt::format(
                    "{}{}  {}  {}\n", left, std::string(words - std::min(words, text_columns(left)), ' '),
                    chart.lines[r],
                    !l.values.empty() && (r == 0 || r + 1 == rows) ? fmt::format("{:.4g}", edge) : "");
            }
            if (rows == 2 && !l.bound.empty()) body.insert(body.size() - 1, "  " + l.bound);
            body += "\n";
        }
        if (!news_.empty()) body += news_ + "\n";
        height_ = static_cast<int>(std::count(body.begin(), body.end(), '\n'));
        if (!body.empty() && body.back() == '\n') body.pop_back();
        console_.result(text + body);
    }

    // Piped: a line when something has happened.
    void plain(bool over, bool first) {
        const int done = rows_.empty() ? 0 : rows_.back().iteration;
        if (!first && done == told_ && !over) return;
        told_ = done;
        std::vector<std::string> parts;
        for (const Line& l : lines())
            parts.push_back(l.name + " " + (l.now.empty() ? "-" : l.now) +
                            (l.bound.empty() ? "" : " (" + l.bound + ")"));
        console_.result(head(over) + ": " + joined(parts));
    }

    const WatchWish& in_;
    Session& session_;
    Console& console_;
    const RunFolder folder_;
    const Job job_;
    const std::vector<Column> columns_;
    std::vector<IterationRow> rows_;
    std::string news_;
    int drawn_ = 0, height_ = 0, told_ = -1;
};

} // namespace

Command watch_command() {
    return {"watch", "Goal and bounds of a run that is going on, as small charts", [](Options& options) {
                auto in = std::make_shared<WatchWish>();
                options.word("RUN", in->target, "The folder of the run", true);
                options.value("--restart", "N", in->restart, "Run N of optimize --restarts (default: 1)");
                options.value("--every", "S", in->every, "Look every S seconds (default: 1)");
                options.flag("--once", in->once, "Look once");
                options.flag("--no-figures", in->no_figures,
                             "Do not draw the last kept design into the run's figures");
                return [in](Session& session) {
                    if (!(in->every >= 0.1 && in->every <= 3600.0))
                        throw Error::usage(fmt::format("--every {:g} is out of range", in->every),
                                           "Write 0.1 to 3600 seconds");
                    if (AnalysisFolder::is_one(in->target))
                        throw Error::usage(in->target + " is an analysis, and nothing goes on in it",
                                           "Name the folder of a run");
                    return Watch(*in, session)();
                };
            }};
}

} // namespace upright::cli
