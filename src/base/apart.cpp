#include "base/apart.hpp"

#include "base/process.hpp"

#include <algorithm>
#include <cerrno>
#include <cmath>
#include <csignal>
#include <cstdio>
#include <cstring>
#include <fcntl.h>
#include <fstream>
#include <new>
#include <stdexcept>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#if defined(__has_feature)
#if __has_feature(address_sanitizer)
#define UPRIGHT_ADDRESS_SANITIZER
#endif
#elif defined(__SANITIZE_ADDRESS__)
#define UPRIGHT_ADDRESS_SANITIZER
#endif

namespace upright {

namespace {

enum class Answer : char { Made, Said, NoMemory };

constexpr std::size_t buffered = std::size_t{1} << 16;

void limit(int resource, double soft) {
    rlimit now{};
    if (::getrlimit(resource, &now) != 0) return;
    const auto wanted = static_cast<rlim_t>(soft);
    if (now.rlim_max != RLIM_INFINITY && wanted > now.rlim_max) return;
    if (now.rlim_cur != RLIM_INFINITY && wanted > now.rlim_cur) return;
    now.rlim_cur = wanted;
    ::setrlimit(resource, &now);
}

// Of processor time by this process, which a limit counts as well.
double used_seconds() {
    rusage used{};
    ::getrusage(RUSAGE_SELF, &used);
    return static_cast<double>(used.ru_utime.tv_sec + used.ru_stime.tv_sec);
}

#ifndef UPRIGHT_ADDRESS_SANITIZER
double own_memory() {
    std::ifstream statm("/proc/self/statm");
    double pages = 0.0;
    return statm >> pages ? pages * static_cast<double>(::sysconf(_SC_PAGESIZE)) : 0.0;
}
#endif

[[noreturn]] void make_and_end(const ApartLimits& limits, const std::function<void()>& make,
                               const std::function<void(Handover&)>& walk, int pipe) {
    ::prctl(PR_SET_PDEATHSIG, SIGKILL);
    for (const int s : {SIGINT, SIGTERM, SIGHUP, SIGPIPE, SIGXCPU, SIGSEGV, SIGABRT, SIGFPE, SIGBUS})
        std::signal(s, SIG_DFL);
    // What a library says while it reads is of no use to anybody.
    if (const int nowhere = ::open("/dev/null", O_WRONLY | O_CLOEXEC); nowhere >= 0) {
        ::dup2(nowhere, STDOUT_FILENO);
        ::dup2(nowhere, STDERR_FILENO);
    }
    limit(RLIMIT_CORE, 0.0);
    limit(RLIMIT_CPU, std::ceil(limits.seconds) + used_seconds());
#ifndef UPRIGHT_ADDRESS_SANITIZER
    if (limits.memory > 0.0) limit(RLIMIT_AS, own_memory() + limits.memory);
#endif
    int ending = 0;
    try {
        Handover to(pipe, false);
        Answer answer = Answer::Made;
        std::string words;
        try {
            make();
        } catch (const std::bad_alloc&) {
            answer = Answer::NoMemory;
        } catch (const std::exception& bad) {
            answer = Answer::Said;
            words = bad.what();
        }
        to.one(answer);
        if (answer == Answer::Made) walk(to);
        if (answer == Answer::Said) to.text(words);
        to.flush();
    } catch (...) { // no room for the answer
        ending = 1;
    }
    ::_exit(ending);
}

std::string too_much(const ApartLimits& limits) {
    char words[80];
    std::snprintf(words, sizeof words, "reading it takes more than %.2g GB of memory", limits.memory / 1e9);
    return words;
}

// Waits for a process and says what became of it where it did not end by itself; else nothing.
std::string ending_of(pid_t child, const ApartLimits& limits, const std::string& library) {
    int status = 0;
    while (::waitpid(child, &status, 0) < 0)
        if (errno != EINTR) return "the process that reads it is lost";
    if (!WIFSIGNALED(status)) return "";
    switch (WTERMSIG(status)) {
    case SIGXCPU:
        return "reading it takes more than " + std::to_string(static_cast<long>(std::ceil(limits.seconds))) +
               " s";
    case SIGKILL: // by the system, as a rule for want of memory
        return too_much(limits);
    case SIGINT:
    case SIGTERM:
    case SIGHUP:
        return "reading it was broken off";
    default:
        return library + " breaks down on it (signal " + std::to_string(WTERMSIG(status)) +
               "): the file is damaged";
    }
}

} // namespace

Handover::Handover(int pipe, bool reading) : pipe_(pipe), reading_(reading) {
    buffer_.reserve(buffered);
}

void Handover::bytes(void* data, std::size_t size) {
    char* to = static_cast<char*>(data);
    while (size > 0) {
        if (!reading_) {
            if (buffer_.size() == buffered) flush();
            const std::size_t now = std::min(size, buffered - buffer_.size());
            buffer_.insert(buffer_.end(), to, to + now);
            to += now;
            size -= now;
            continue;
        }
        if (at_ < buffer_.size()) {
            const std::size_t now = std::min(size, buffer_.size() - at_);
            std::memcpy(to, buffer_.data() + at_, now);
            at_ += now;
            to += now;
            size -= now;
            continue;
        }
        buffer_.resize(buffered);
        ssize_t got = 0;
        while ((got = ::read(pipe_, buffer_.data(), buffered)) < 0 && errno == EINTR) {
        }
        buffer_.resize(static_cast<std::size_t>(std::max<ssize_t>(got, 0)));
        at_ = 0;
        if (got <= 0) throw std::runtime_error("what was read of it could not be handed over");
    }
}

void Handover::text(std::string& value) {
    std::uint64_t count = value.size();
    one(count);
    if (reading_) value.resize(count);
    if (count > 0) bytes(value.data(), count);
}

void Handover::flush() {
    for (std::size_t at = 0; at < buffer_.size();) {
        const ssize_t done = ::write(pipe_, buffer_.data() + at, buffer_.size() - at);
        if (done < 0 && errno == EINTR) continue;
        if (done <= 0) throw std::runtime_error("what was read of it could not be handed over");
        at += static_cast<std::size_t>(done);
    }
    buffer_.clear();
}

void run_apart(const std::filesystem::path& file, const ApartLimits& asked, const std::string& library,
               const std::function<void()>& make, const std::function<void(Handover&)>& walk) {
    ApartLimits limits = asked;
    std::error_code failed;
    const auto size = static_cast<double>(std::filesystem::file_size(file, failed));
    if (!(limits.seconds > 0.0)) limits.seconds = 12.0 + (failed ? 0.0 : 1e-5 * size);
    if (!(limits.memory > 0.0)) {
        const double free = free_memory();
        limits.memory = 1e9 + (failed ? 0.0 : 300.0 * size);
        if (free > 0.0) limits.memory = std::min(limits.memory, free);
    }
    int ends[2] = {-1, -1};
    if (::pipe2(ends, O_CLOEXEC) != 0)
        throw std::runtime_error(std::string("no process can be started to read it: ") +
                                 std::strerror(errno));
    const pid_t child = ::fork();
    if (child == 0) {
        ::close(ends[0]);
        make_and_end(limits, make, walk, ends[1]);
    }
    const int why = errno;
    ::close(ends[1]);
    if (child < 0) {
        ::close(ends[0]);
        throw std::runtime_error(std::string("no process can be started to read it: ") + std::strerror(why));
    }
    std::string wrong;
    bool no_memory = false;
    try {
        Handover from(ends[0], true);
        Answer answer = Answer::Made;
        from.one(answer);
        if (answer == Answer::Made) walk(from);
        if (answer == Answer::Said) from.text(wrong);
        no_memory = answer == Answer::NoMemory;
    } catch (const std::runtime_error& bad) {
        wrong = bad.what();
    } catch (const std::bad_alloc&) {
        no_memory = true;
    }
    ::close(ends[0]); // a process that still writes ends here
    const std::string ending = ending_of(child, limits, library);
    if (no_memory) throw std::runtime_error(too_much(limits));
    if (!ending.empty() && !wrong.empty()) throw std::runtime_error(ending);
    if (!wrong.empty()) throw std::runtime_error(wrong);
}

} // namespace upright
