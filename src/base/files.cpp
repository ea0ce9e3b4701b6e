#include "base/files.hpp"

#include "base/error.hpp"

#include <algorithm>
#include <cerrno>
#include <cstdio>
#include <cstring>
#include <fcntl.h>
#include <fstream>
#include <random>
#include <sstream>
#include <system_error>
#include <unistd.h>

namespace upright {

namespace fs = std::filesystem;

namespace {

// What the system still holds back is on the disk after this, or never will be.
void require_on_disk(const fs::path& temporary, const fs::path& target) {
    const int file = ::open(temporary.c_str(), O_RDONLY | O_CLOEXEC);
    const bool good = file >= 0 && (::fsync(file) == 0 || errno == EINVAL || errno == EROFS);
    const int why = errno;
    if (file >= 0) ::close(file);
    if (!good)
        throw Error::files(target.string(), std::string("cannot be written: ") + std::strerror(why),
                           "Check that the disk is not full");
}

} // namespace

void write_bytes(const fs::path& file, const void* bytes, std::size_t size, const fs::path& target,
                 const std::string& tail) {
    const int out = ::open(file.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_NOFOLLOW | O_CLOEXEC, 0644);
    bool good = out >= 0;
    int why = errno;
    const auto put = [&](const char* at, std::size_t left) {
        while (good && left > 0) {
            const ssize_t done = ::write(out, at, std::min<std::size_t>(left, std::size_t{1} << 30));
            if (done < 0 && errno == EINTR) continue;
            good = done > 0;
            why = errno;
            if (!good) return;
            at += done;
            left -= static_cast<std::size_t>(done);
        }
    };
    put(static_cast<const char*>(bytes), size);
    put(tail.data(), tail.size());
    if (out >= 0 && ::close(out) != 0 && good) {
        good = false;
        why = errno;
    }
    if (!good)
        throw Error::files(target.string(),
                           std::string("cannot be written: ") + std::strerror(why != 0 ? why : EIO),
                           "Check the folder, and that the disk is not full");
}

namespace {

// A file that nobody else has, hidden beside the target and with its extension, by a name that cannot be
// foreseen: no link that stands in its way is followed. Made here, so that every writer gives the same answer
// where nothing can be.
fs::path new_file(const fs::path& folder, const fs::path& target) {
    std::random_device dice;
    const std::string stem = target.stem().string().substr(0, 100);
    int why = EIO;
    for (int tries = 0; tries < 100; ++tries) {
        char word[24];
        std::snprintf(word, sizeof word, ".%08x%08x", dice(), dice());
        const fs::path out = folder / ("." + stem + word + ".part" + target.extension().string());
        const int file = ::open(out.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0644);
        if (file >= 0) {
            ::close(file);
            return out;
        }
        why = errno;
        if (why != EEXIST) break;
    }
    throw Error::files(target.string(), std::string("cannot be written: ") + std::strerror(why),
                       "Choose another place with --out");
}

} // namespace

void write_then_rename(const fs::path& target, const std::function<void(const fs::path&)>& write) {
    const fs::path folder = target.has_parent_path() ? target.parent_path() : fs::path(".");
    const fs::path temporary = new_file(folder, target);
    std::error_code failed;
    try {
        write(temporary);
        require_on_disk(temporary, target);
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
    // Of an empty file nothing comes, which the stream calls a failure.
    if (in && in.peek() != std::ifstream::traits_type::eof())
        text << in.rdbuf();
    else if (in.eof())
        in.clear();
    if (!in || !text)
        throw Error::input({path.string()},
                           std::string("cannot be read: ") + std::strerror(errno ? errno : ENOENT));
    return text.str();
}

bool is_whole_png(const fs::path& path) {
    std::ifstream in(path, std::ios::binary);
    const std::string head = "\x89PNG\r\n\x1a\n";
    const std::string tail = std::string("IEND") + "\xae\x42\x60\x82";
    std::string first(head.size(), ' ');
    std::string last(tail.size(), ' ');
    in.read(first.data(), static_cast<std::streamsize>(first.size()));
    in.seekg(-static_cast<std::streamoff>(last.size()), std::ios::end);
    in.read(last.data(), static_cast<std::streamsize>(last.size()));
    return in && first == head && last == tail;
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
