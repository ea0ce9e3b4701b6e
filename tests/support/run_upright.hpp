// Runs the built program the way a user does.
#pragma once

#include <array>
#include <csignal>
#include <cstdio>
#include <filesystem>
#include <fstream>
#include <functional>
#include <sstream>
#include <string>
#include <sys/wait.h>
#include <unistd.h>
#include <vector>

namespace upright::test {

struct Outcome {
    int code = -1;
    std::string out; // standard output
    std::string err;
};

inline std::string shell_quoted(const std::string& word) {
    std::string out = "'";
    for (const char c : word) out += c == '\'' ? std::string("'\\''") : std::string(1, c);
    return out + "'";
}

inline std::string text_of(const std::filesystem::path& file) {
    std::ifstream in(file, std::ios::binary);
    std::ostringstream text;
    text << in.rdbuf();
    return text.str();
}

// `folder` is where the program runs, and where its outputs are caught.
inline Outcome upright(const std::filesystem::path& folder, const std::vector<std::string>& words,
                       const std::string& before = {}) {
    std::string command =
        "cd " + shell_quoted(folder.string()) + " && " + before + " " + shell_quoted(UPRIGHT_PROGRAM);
    for (const std::string& word : words) command += " " + shell_quoted(word);
    const auto out = folder / ".stdout";
    const auto err = folder / ".stderr";
    command += " >" + shell_quoted(out.string()) + " 2>" + shell_quoted(err.string()) + " </dev/null";
    const int status = std::system(command.c_str());
    Outcome outcome;
    outcome.code = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
    outcome.out = text_of(out);
    outcome.err = text_of(err);
    return outcome;
}

// Starts the program, waits, and sends it, and no other process, a signal. Returns how it ended, as waitpid
// tells.
inline int ended_by_signal(const std::filesystem::path& folder, const std::vector<std::string>& words,
                           const std::function<void()>& wait, int signal) {
    std::string line = "cd " + shell_quoted(folder.string()) + " && exec " + shell_quoted(UPRIGHT_PROGRAM);
    for (const std::string& word : words) line += " " + shell_quoted(word);
    const pid_t child = ::fork();
    if (child == 0) {
        ::execl("/bin/sh", "sh", "-c", (line + " >/dev/null 2>&1").c_str(), nullptr);
        ::_exit(127);
    }
    wait();
    ::kill(child, signal);
    int status = 0;
    ::waitpid(child, &status, 0);
    return status;
}

} // namespace upright::test
