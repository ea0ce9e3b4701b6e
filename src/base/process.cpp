#include "base/process.hpp"

#include "base/error.hpp"

#include <cerrno>
#include <chrono>
#include <csignal>
#include <cstring>
#include <fcntl.h>
#include <fstream>
#include <spawn.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <thread>
#include <unistd.h>

extern char** environ; // NOLINT: as POSIX names it

namespace upright {

int run_program(const std::vector<std::string>& arguments, const std::string& input,
                const std::filesystem::path& output, const std::filesystem::path& errors,
                const std::function<bool()>& stop) {
    const int out = ::open(output.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644);
    if (out < 0)
        throw Error::files(output.string(), std::string("cannot be written: ") + std::strerror(errno),
                           "Choose another place with --out");
    // A socket instead of a pipe: writing to one whose reader is gone can be told not to raise a signal.
    int ends[2] = {-1, -1};
    if (::socketpair(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0, ends) != 0) {
        ::close(out);
        throw Error::files(arguments.front(), std::string("cannot be started: ") + std::strerror(errno));
    }
    posix_spawn_file_actions_t actions;
    posix_spawn_file_actions_init(&actions);
    posix_spawn_file_actions_adddup2(&actions, ends[1], STDIN_FILENO);
    posix_spawn_file_actions_adddup2(&actions, out, STDOUT_FILENO);
    posix_spawn_file_actions_addopen(&actions, STDERR_FILENO, errors.c_str(), O_WRONLY | O_CREAT | O_TRUNC,
                                     0644);
    std::vector<char*> words;
    for (const std::string& a : arguments) words.push_back(const_cast<char*>(a.c_str()));
    words.push_back(nullptr);
    pid_t child = -1;
    posix_spawnattr_t manner;
    posix_spawnattr_init(&manner);
    if (stop) posix_spawnattr_setflags(&manner, POSIX_SPAWN_SETPGROUP);
    const int failed = ::posix_spawnp(&child, words.front(), &actions, &manner, words.data(), environ);
    posix_spawnattr_destroy(&manner);
    posix_spawn_file_actions_destroy(&actions);
    ::close(ends[1]);
    ::close(out);
    if (failed != 0) {
        ::close(ends[0]);
        return 127;
    }
    bool whole = true;
    for (std::size_t at = 0; at < input.size();) {
        const ssize_t sent = ::send(ends[0], input.data() + at, input.size() - at, MSG_NOSIGNAL);
        if (sent < 0 && errno == EINTR) continue;
        if (sent <= 0) {
            whole = false;
            break;
        }
        at += static_cast<std::size_t>(sent);
    }
    ::close(ends[0]);
    int status = 0;
    for (bool asked = false;;) {
        const pid_t ended = ::waitpid(child, &status, stop ? WNOHANG : 0);
        if (ended == child || (ended < 0 && errno != EINTR)) break;
        if (!stop) continue;
        if (!asked && stop()) {
            ::kill(child, SIGTERM);
            asked = true;
        }
        std::this_thread::sleep_for(std::chrono::milliseconds(20));
    }
    if (!WIFEXITED(status)) return -1;
    const int code = WEXITSTATUS(status);
    return code == 0 && !whole ? -1 : code;
}

double free_memory() {
    std::ifstream in("/proc/meminfo");
    std::string word;
    while (in >> word) {
        double kilobytes = 0.0;
        if (word == "MemAvailable:" && in >> kilobytes) return 1024.0 * kilobytes;
    }
    return 0.0;
}

} // namespace upright
