#include "geometry/step_apart.hpp"

#include "base/process.hpp"

#include <cerrno>
#include <cmath>
#include <csignal>
#include <cstdio>
#include <memory>
#include <new>
#include <stdexcept>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

namespace upright {

namespace {

enum Ending { Read = 0, Said = 1, NoMemory = 2, NotWritten = 3 };

using Stream = std::unique_ptr<std::FILE, int (*)(std::FILE*)>;

// The same walk writes and reads.
class Handover {
  public:
    Handover(std::FILE* file, bool reading) : file_(file), reading_(reading) {}
    void bytes(void* at, std::size_t size) {
        const std::size_t done = reading_ ? std::fread(at, 1, size, file_) : std::fwrite(at, 1, size, file_);
        if (done != size) throw std::runtime_error("what was read of it could not be handed over");
    }
    template <class T> void one(T& value) { bytes(&value, sizeof value); }
    template <class T> void many(std::vector<T>& values) {
        std::uint64_t count = values.size();
        one(count);
        if (reading_) values.resize(count);
        if (count > 0) bytes(values.data(), count * sizeof(T));
    }
    void text(std::string& value) {
        std::vector<char> letters(value.begin(), value.end());
        many(letters);
        if (reading_) value.assign(letters.begin(), letters.end());
    }
    void file(cad::File& value) {
        text(value.unit);
        one(value.unit_si);
        std::uint64_t count = value.bodies.size();
        one(count);
        if (reading_) value.bodies.resize(count);
        for (cad::Body& body : value.bodies) {
            text(body.name);
            one(body.volume);
            many(body.mesh.points);
            many(body.mesh.triangles);
            many(body.mesh.face_of);
            many(body.mesh.faces);
        }
    }

  private:
    std::FILE* file_;
    bool reading_;
};

void limit(int resource, double soft) {
    rlimit now{};
    if (::getrlimit(resource, &now) != 0) return;
    const auto wanted = static_cast<rlim_t>(soft);
    if (now.rlim_max != RLIM_INFINITY && wanted > now.rlim_max) return;
    now.rlim_cur = wanted;
    ::setrlimit(resource, &now);
}

// Of processor time by this process, which a limit counts as well.
double used_seconds() {
    rusage used{};
    ::getrusage(RUSAGE_SELF, &used);
    return static_cast<double>(used.ru_utime.tv_sec + used.ru_stime.tv_sec);
}

double own_memory() {
    const Stream statm(std::fopen("/proc/self/statm", "r"), &std::fclose);
    unsigned long pages = 0;
    if (statm == nullptr || std::fscanf(statm.get(), "%lu", &pages) != 1) return 0.0;
    return static_cast<double>(pages) * static_cast<double>(::sysconf(_SC_PAGESIZE));
}

[[noreturn]] void read_and_end(const cad::Module& module, const std::filesystem::path& file, double unit_si,
                               double deflection, const StepLimits& limits, std::FILE* to) {
    for (const int s : {SIGINT, SIGTERM, SIGHUP, SIGSEGV, SIGABRT, SIGFPE, SIGBUS}) std::signal(s, SIG_DFL);
    limit(RLIMIT_CORE, 0.0);
    limit(RLIMIT_CPU, std::ceil(limits.seconds) + used_seconds());
    const double room = limits.memory > 0.0 ? limits.memory : free_memory();
    if (room > 0.0) limit(RLIMIT_AS, own_memory() + room);
    Ending ending = Read;
    try {
        try {
            cad::File found = module.read_step(file, unit_si, deflection);
            Handover(to, false).file(found);
        } catch (const std::bad_alloc&) {
            ending = NoMemory;
        } catch (const std::runtime_error& bad) {
            std::rewind(to);
            std::string words = bad.what();
            Handover(to, false).text(words);
            ending = Said;
        }
        if (std::fflush(to) != 0) ending = NotWritten;
    } catch (...) { // no room for the answer, or something that is no error of ours
        ending = NotWritten;
    }
    ::_exit(ending);
}

} // namespace

cad::File read_step_apart(const std::filesystem::path& file, double unit_si, double deflection,
                          const StepLimits& asked) {
    StepLimits limits = asked;
    std::error_code ignored;
    if (!(limits.seconds > 0.0))
        limits.seconds = 12.0 + 1e-5 * static_cast<double>(std::filesystem::file_size(file, ignored));
    const cad::Module& module = cad::module();
    const Stream between(std::tmpfile(), &std::fclose); // has no name: nothing stays behind
    if (between == nullptr) throw std::runtime_error("no temporary file can be made to read it with");
    std::fflush(nullptr);
    const pid_t child = ::fork();
    if (child < 0) throw std::runtime_error("no process can be started to read it");
    if (child == 0) read_and_end(module, file, unit_si, deflection, limits, between.get());
    int status = 0;
    while (::waitpid(child, &status, 0) < 0)
        if (errno != EINTR) throw std::runtime_error("the process that reads it is lost");
    if (WIFSIGNALED(status)) {
        if (WTERMSIG(status) == SIGXCPU)
            throw std::runtime_error("reading it takes more than " +
                                     std::to_string(static_cast<long>(limits.seconds)) + " s");
        throw std::runtime_error("the CAD library breaks down on it (signal " +
                                 std::to_string(WTERMSIG(status)) + "): the file is damaged");
    }
    std::rewind(between.get());
    switch (WEXITSTATUS(status)) {
    case Read: {
        cad::File out;
        Handover(between.get(), true).file(out);
        return out;
    }
    case Said: {
        std::string words;
        Handover(between.get(), true).text(words);
        throw std::runtime_error(words);
    }
    case NoMemory:
        throw std::runtime_error("reading it takes more memory than there is");
    default:
        throw std::runtime_error("what was read of it could not be handed over; is the disk full?");
    }
}

} // namespace upright
