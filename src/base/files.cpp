#include "base/files.hpp"

#include "base/error.hpp"

#include <cerrno>
#include <cstring>
#include <fstream>
#include <sstream>
#include <system_error>
#include <unistd.h>

namespace upright {

namespace fs = std::filesystem;

void write_then_rename(const fs::path& target, const std::function<void(const fs::path&)>& write) {
    const fs::path folder = target.has_parent_path() ? target.parent_path() : fs::path(".");
    const fs::path temporary = folder / ("." + target.stem().string() + "." + std::to_string(::getpid()) +
                                         ".part" + target.extension().string());
    // Tried here, so that every writer gives the same answer where nothing can be written.
    errno = 0;
    if (!std::ofstream(temporary, std::ios::binary))
        throw Error::files(target.string(),
                           std::string("cannot be written: ") + std::strerror(errno ? errno : EIO),
                           "Choose another place with --out");
    std::error_code failed;
    try {
        write(temporary);
        fs::rename(temporary, target, failed);
    } catch (...) {
        fs::remove(temporary, failed);
        throw;
    }
    if (failed) {
        std::error_code ignored;
        fs::remove(temporary, ignored);
        throw Error::files(
            target.string(), "cannot be written: " + failed.message(),
            "Check that the folder exists, that you may write to it and that the disk is not full");
    }
}

void write_text(const fs::path& target, const std::string& text) {
    write_then_rename(target, [&](const fs::path& temporary) {
        errno = 0;
        std::ofstream out(temporary, std::ios::binary);
        out << text;
        out.close();
        if (!out)
            throw Error::files(target.string(),
                               std::string("cannot be written: ") + std::strerror(errno ? errno : EIO),
                               "Choose another folder with --out");
    });
}

std::string read_text(const fs::path& path) {
    std::error_code ignored;
    if (fs::is_directory(path, ignored))
        throw Error::input({path.string()}, "this is a folder where a file is expected");
    errno = 0;
    std::ifstream in(path, std::ios::binary);
    std::ostringstream text;
    if (in) text << in.rdbuf();
    if (!in || !text)
        throw Error::input({path.string()},
                           std::string("cannot be read: ") + std::strerror(errno ? errno : ENOENT));
    return text.str();
}

void make_folder(const fs::path& path) {
    std::error_code failed;
    fs::create_directories(path, failed);
    if (failed || !fs::is_directory(path))
        throw Error::files(path.string(),
                           "the folder cannot be made: " +
                               (failed ? failed.message() : "a file of that name is there"),
                           "Choose another place with --out");
}

} // namespace upright
