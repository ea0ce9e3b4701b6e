// Files are written to a temporary name first and then renamed: never half-written.
#pragma once

#include <filesystem>
#include <functional>
#include <string>

namespace upright {

// Calls `write` with a temporary path beside `target` and renames it to `target` when it returns.
// The temporary keeps the extension of `target`. Throws Error (Files) when the folder cannot be written.
void write_then_rename(const std::filesystem::path& target,
                       const std::function<void(const std::filesystem::path&)>& write);

// The same for a text that is at hand.
void write_text(const std::filesystem::path& target, const std::string& text);

// All of these bytes and then `tail` into a file, or Error (Files) that names `target`, whose temporary it is.
void write_bytes(const std::filesystem::path& file, const void* bytes, std::size_t size,
                 const std::filesystem::path& target, const std::string& tail = {});

// The whole of a file. Throws Error (Input at `place`, or at the file itself) when it cannot be read.
std::string read_text(const std::filesystem::path& path);

// Whether a file is a PNG that was written to its end.
bool is_whole_png(const std::filesystem::path& path);

// Makes the folder and its parents. Throws Error (Files).
void make_folder(const std::filesystem::path& path);

} // namespace upright
