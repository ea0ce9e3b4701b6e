#include "cli/console.hpp"

#include "tell/run_text.hpp"

#include <algorithm>
#include <chrono>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <fmt/format.h>
#include <sys/ioctl.h>
#include <unistd.h>

namespace upright::cli {

namespace {

volatile std::sig_atomic_t interrupts = 0;

void on_interrupt(int /*signal*/) {
    interrupts = interrupts + 1;
    if (interrupts > 1) ::_exit(130);
    const char words[] = "\nstopping after this iteration; Ctrl-C again ends at once\n";
    const auto written = ::write(STDERR_FILENO, words, sizeof words - 1);
    static_cast<void>(written);
}

// At most `width` columns, counting UTF-8 characters.
std::string cut(const std::string& text, int width) {
    int columns = 0;
    for (std::size_t i = 0; i < text.size(); ++i) {
        if ((static_cast<unsigned char>(text[i]) & 0xC0U) == 0x80U) continue;
        if (columns == width) return text.substr(0, i);
        ++columns;
    }
    return text;
}

} // namespace

bool Console::terminal() const {
    return ::isatty(STDOUT_FILENO) == 1;
}

bool Console::colored() const {
    return terminal() && std::getenv("NO_COLOR") == nullptr;
}

int Console::width() const {
    winsize size{};
    if (terminal() && ::ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) == 0 && size.ws_col >= 40)
        return std::min<int>(size.ws_col, 140);
    return 100;
}

void Console::clear_live() {
    if (live_) std::fputs("\r\033[K", stdout);
    live_ = false;
}

void Console::show(const std::string& text) {
    clear_live();
    std::fputs((text + "\n").c_str(), stdout);
    std::fflush(stdout);
}

void Console::result(const std::string& text) {
    log_ += text + "\n";
    show(text);
}

void Console::remark(const std::string& text) {
    log_ += text + "\n";
    if (!quiet_) show(text);
}

void Console::live(const std::string& text) {
    if (quiet_) return;
    std::fputs(("\r" + cut(text, width() - 1) + "\033[K").c_str(), stdout);
    std::fflush(stdout);
    live_ = true;
}

Waiting::Waiting(Console& console, std::string what) : console_(console), what_(std::move(what)) {
    shown_ = std::thread([this] {
        std::unique_lock<std::mutex> lock(guard_);
        for (int seconds = 1; !end_.wait_for(lock, std::chrono::seconds(1), [this] { return done_; });
             ++seconds) {
            if (console_.terminal())
                console_.live(fmt::format("{}: {}", what_, time_text(seconds)));
            else if (seconds == 1)
                console_.remark(what_ + " …");
        }
    });
}

Waiting::~Waiting() {
    {
        const std::lock_guard<std::mutex> lock(guard_);
        done_ = true;
    }
    end_.notify_all();
    shown_.join();
    console_.clear_live();
}

InterruptGuard::InterruptGuard() {
    interrupts = 0;
    std::signal(SIGINT, on_interrupt);
    std::signal(SIGTERM, on_interrupt);
}

InterruptGuard::~InterruptGuard() {
    std::signal(SIGINT, SIG_DFL);
    std::signal(SIGTERM, SIG_DFL);
}

bool InterruptGuard::requested() {
    return interrupts > 0;
}

Progress::Progress(Console& console, const Model& model)
    : console_(console), model_(model), columns_(columns(model)) {}

std::string Progress::line(const OptimizerState& state) const {
    const IterationRow& row = state.history.back();
    const auto unit = [&](std::size_t r) {
        const std::string u = model_.units.text(model_.responses[r].measure->dimension);
        return u.empty() ? "" : " " + u;
    };
    std::size_t goal = 0;
    for (std::size_t r = 0; r < model_.responses.size(); ++r)
        if (model_.responses[r].goal) goal = r;
    std::string out = fmt::format("{:>4}/{}  {} {:<8.5g}{}", row.iteration, model_.run.iterations,
                                  model_.responses[goal].name, row.goal, unit(goal));
    // The bound that is broken most, or nearest to it.
    std::size_t worst = state.readings.size();
    for (std::size_t c = 0; c < state.readings.size(); ++c) {
        const Reading& r = state.readings[c];
        if (!r.min && !r.max) continue;
        if (worst == state.readings.size() || r.excess > state.readings[worst].excess) worst = c;
    }
    if (worst < state.readings.size()) {
        const Reading& r = state.readings[worst];
        const bool above =
            r.max && (!r.min || r.value - *r.max > *r.min - r.value); // the side that is nearer
        const double limit = above ? *r.max : *r.min;
        out += fmt::format("  {} {:.4g} {} {:.4g}{}", columns_[worst].name, r.value,
                           above ? (r.holds ? "≤" : ">") : (r.holds ? "≥" : "<"), limit,
                           unit(columns_[worst].response));
        if (!r.holds && limit != 0.0) out += fmt::format(" ({:+.1f} %)", 100.0 * (r.value / limit - 1.0));
    }
    double recent = 0.0;
    int counted = 0;
    for (auto it = state.history.rbegin(); it != state.history.rend() && counted < 10; ++it, ++counted)
        recent += it->seconds;
    const double each = recent / std::max(1, counted);
    out += fmt::format("  change {:.3f}  gray {:.3f}  {:.2f} s/it  at most {} to go", row.change,
                       row.grayness, row.seconds, time_text(each * (model_.run.iterations - row.iteration)));
    return out;
}

void Progress::iteration(const OptimizerState& state) {
    const std::string text = line(state);
    // One line for each tenth stays; between them a terminal shows a line that is rewritten.
    const int tenth = 10 * state.iteration / model_.run.iterations;
    if (tenth != tenth_ || state.iteration == 1) {
        tenth_ = tenth;
        console_.remark(text);
        return;
    }
    if (console_.terminal()) console_.live(text);
    console_.log_only(text);
}

} // namespace upright::cli
