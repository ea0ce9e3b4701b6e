#include "cli/console.hpp"

#include <algorithm>
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

std::string time_text(double seconds) {
    const long whole = std::lround(seconds);
    if (whole >= 3600) return fmt::format("{} h {:02d}", whole / 3600, whole % 3600 / 60);
    return fmt::format("{}:{:02d}", whole / 60, whole % 60);
}

Progress::Progress(Console& console, const Study& study) : console_(console), study_(study) {
    for (std::size_t r = 0; r < study.responses.size(); ++r)
        if (study.goal && study.responses[r].name == study.goal->response) goal_ = r;
}

std::string Progress::line(const OptimizerState& state) const {
    const IterationRow& row = state.history.back();
    const auto unit = [&](std::size_t r) {
        const std::string u = study_.units.text(dimension_of(study_.responses[r].measure));
        return u.empty() ? "" : " " + u;
    };
    std::string out = fmt::format("{:>4}/{}  {} {:<8.5g}{}", row.iteration, study_.run.iterations,
                                  study_.responses[goal_].name, row.goal, unit(goal_));
    for (std::size_t r = 0; r < study_.responses.size(); ++r)
        if (study_.responses[r].max && r != goal_)
            out += fmt::format("  {} {:<7.4g} {} {:.4g}{}", study_.responses[r].name, row.responses[r],
                               holds(study_.responses[r], row.responses[r]) ? "≤" : ">",
                               *study_.responses[r].max, unit(r));
    double recent = 0.0;
    int counted = 0;
    for (auto it = state.history.rbegin(); it != state.history.rend() && counted < 10; ++it, ++counted)
        recent += it->seconds;
    const double each = recent / std::max(1, counted);
    out += fmt::format("  change {:.3f}  gray {:.3f}  {:.2f} s/it  at most {} to go", row.change,
                       row.grayness, row.seconds, time_text(each * (study_.run.iterations - row.iteration)));
    return out;
}

void Progress::iteration(const OptimizerState& state) {
    const std::string text = line(state);
    // One line for each tenth stays; between them a terminal shows a line that is rewritten.
    const int tenth = 10 * state.iteration / study_.run.iterations;
    if (tenth != tenth_ || state.iteration == 1) {
        tenth_ = tenth;
        console_.remark(text);
        return;
    }
    if (console_.terminal()) console_.live(text);
    console_.log_only(text);
}

} // namespace upright::cli
