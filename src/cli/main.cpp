// The start program: sets what has to be set before libraries are loaded, then loads the commands and hands
// the command line over. It answers --version by itself, since the libraries add some 50 ms.
#include "base/error.hpp"
#include "base/module_file.hpp"
#include "base/version.hpp"
#include "cli/print_error.hpp"

#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <cxxabi.h>
#include <exception>
#include <filesystem>
#include <iostream>
#include <malloc.h>
#include <new>
#include <string>
#include <system_error>
#include <typeinfo>

namespace {

using upright::Error;
using RunProgram = int (*)(int, char**, const char*);

// Libraries that find no memory or no thread may end the program by themselves, with a code of theirs.
bool ended = false;
void end_of_libraries() {
    if (ended) return;
    std::_Exit(upright::cli::print_error(upright::cli::no_memory_or_thread()));
}

// Memory that runs out on a thread of its own can be caught by nobody there. Files are whole at any moment,
// and a run goes on from its checkpoint.
[[noreturn]] void end_of_threads() {
    // Without memory nothing can be thrown again to see what it was.
    const std::type_info* what = abi::__cxa_current_exception_type();
    if (what != nullptr && (*what == typeid(std::bad_alloc) || *what == typeid(std::bad_array_new_length) ||
                            *what == typeid(std::system_error))) {
        std::fprintf(stderr, "upright: %s. %s.\n", upright::cli::no_room, upright::cli::more_room);
        std::_Exit(static_cast<int>(upright::ExitCode::Numerics));
    }
    std::abort();
}

// The commands stand beside the program when it was built here, in ../lib/upright when it was installed.
int load_and_run(int argc, char** argv) {
    // Threads of the linear algebra must not wait actively: next to other load that costs a factor of ten.
    // These are read when the libraries are loaded, so they cannot be set later.
    ::setenv("OMP_WAIT_POLICY", "passive", 0);
    ::setenv("OPENBLAS_THREAD_TIMEOUT", "10", 0);
    // Its threads are made where they are asked for (BlasThreads): each takes 128 MB of address space.
    ::setenv("OPENBLAS_NUM_THREADS", "1", 0);
    // Arrays of a few megabytes come and go every iteration: their pages are kept, not fetched anew each
    // time.
    ::mallopt(M_MMAP_THRESHOLD, 32 << 20);
    ::mallopt(M_TRIM_THRESHOLD, 256 << 20);
    std::error_code ignored;
    const std::string program = std::filesystem::read_symlink("/proc/self/exe", ignored).string();
    const std::filesystem::path here = std::filesystem::path(program).parent_path();
    void* run = upright::symbol_of_module(
        {here / "upright-commands.so", here / "../lib/upright/upright-commands.so"}, "upright_run_program");
    return reinterpret_cast<RunProgram>(run)(argc, argv, program.c_str());
}

} // namespace

int main(int argc, char** argv) {
    // Writing fails instead, and what fails is told; who reads no further wants to hear no more.
    std::signal(SIGPIPE, SIG_IGN);
    std::signal(SIGXFSZ, SIG_IGN);
    if (argc == 2 && std::string(argv[1]) == "--version") {
        std::cout << "upright " << upright::version << "\n";
        return upright::cli::once_told(0);
    }
    std::atexit(end_of_libraries);
    std::set_terminate(end_of_threads);
    int code = 0;
    try {
        code = upright::cli::once_told(load_and_run(argc, argv));
    } catch (const Error& bad) {
        code = upright::cli::print_error(bad);
    } catch (const std::exception& bad) {
        std::cerr << "upright: " << bad.what() << "\n";
        code = static_cast<int>(upright::ExitCode::Files);
    }
    ended = true;
    return code;
}
