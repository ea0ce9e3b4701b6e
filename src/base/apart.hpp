// Work done in a process of its own, with limits: libraries that read other people's files crash on some
// damaged ones, and take for ever or all memory on others. All that is then one message.
#pragma once

#include <array>
#include <cstdint>
#include <filesystem>
#include <functional>
#include <map>
#include <string>
#include <type_traits>
#include <vector>

namespace upright {

// Limits of such a process: seconds of processor time, and bytes beyond what the program has.
struct ApartLimits {
    double seconds = 0.0; // 0: 12, and 10 for each megabyte of the file
    double memory = 0.0;  // 0: 1 GB, and 300 bytes for each of the file, but no more than is free
};

// What a process hands over to the one that started it: the same walk over an object writes and reads it.
class Handover {
  public:
    // One end of a pipe; `reading` is the end that takes.
    Handover(int pipe, bool reading);
    // Throws std::runtime_error where the other end is gone before all is handed over.
    void bytes(void* at, std::size_t size);
    template <class T> void one(T& value) {
        static_assert(std::is_trivially_copyable_v<T>);
        bytes(&value, sizeof value);
    }
    // Of values that are copied as they lie: numbers, points, structures of them.
    template <class T> void many(std::vector<T>& values) {
        std::uint64_t count = values.size();
        one(count);
        if (reading_) values.resize(count);
        if (count > 0) bytes(values.data(), count * sizeof(T));
    }
    void text(std::string& value);
    // `walk` is called for each value, which is made where it is read.
    template <class T, class Walk> void each(std::vector<T>& values, const Walk& walk) {
        std::uint64_t count = values.size();
        one(count);
        if (reading_) values.resize(count);
        for (T& value : values) walk(value);
    }
    template <class T, class Walk> void each(std::map<std::string, T>& values, const Walk& walk) {
        std::uint64_t count = values.size();
        one(count);
        auto at = values.begin();
        for (std::uint64_t i = 0; i < count; ++i) {
            std::string key = reading_ ? std::string() : at->first;
            text(key);
            walk(reading_ ? values[key] : (at++)->second);
        }
    }
    // The last bytes, on their way. Called by run_apart.
    void flush();

  private:
    int pipe_;
    bool reading_;
    std::vector<char> buffer_;
    std::size_t at_ = 0;
};

// Calls `make` in a process of its own and then `walk` there, which hands over what it made; here `walk`
// takes it. The limits of `file` hold where none are given. Throws std::runtime_error with a sentence: that
// of `make`, or what became of the process; `library` is named where it broke down ("the CAD library").
void run_apart(const std::filesystem::path& file, const ApartLimits& limits, const std::string& library,
               const std::function<void()>& make, const std::function<void(Handover&)>& walk);

} // namespace upright
