// An aligned array that vector loads may overrun a little at both ends.
#pragma once

#include <cstddef>
#include <cstdint>
#include <cstdlib>
#include <memory>
#include <new>

namespace upright {

// `count` values with a guard of 16 before and 48 after; zero at first.
template <class T> class Strip {
  public:
    Strip() = default;
    explicit Strip(std::size_t count) : count_(count) {
        const std::size_t bytes = ((count + 64) * sizeof(T) + 63) / 64 * 64;
        // calloc leaves pages untouched until they are used.
        memory_.reset(static_cast<char*>(std::calloc(bytes + 64, 1)));
        if (memory_ == nullptr) throw std::bad_alloc();
        const auto address = reinterpret_cast<std::uintptr_t>(memory_.get());
        data_ = reinterpret_cast<T*>(memory_.get() + (64 - address % 64) % 64) + 16;
    }
    T* data() { return data_; }
    const T* data() const { return data_; }
    std::size_t size() const { return count_; }
    T& operator[](std::size_t i) { return data_[i]; }
    const T& operator[](std::size_t i) const { return data_[i]; }

  private:
    struct Free {
        void operator()(char* p) const { std::free(p); }
    };
    std::size_t count_ = 0;
    std::unique_ptr<char, Free> memory_;
    T* data_ = nullptr;
};

} // namespace upright
