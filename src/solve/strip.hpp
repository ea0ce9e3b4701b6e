// An aligned array that vector loads may overrun a little at both ends.
#pragma once

#include <cstddef>
#include <cstdint>
#include <cstdlib>
#include <memory>
#include <new>
#include <sys/mman.h>

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
        ask_for_large_pages(memory_.get(), bytes + 64);
        const auto address = reinterpret_cast<std::uintptr_t>(memory_.get());
        data_ = reinterpret_cast<T*>(memory_.get() + (64 - address % 64) % 64) + 16;
    }
    T* data() { return data_; }
    const T* data() const { return data_; }
    std::size_t size() const { return count_; }
    T& operator[](std::size_t i) { return data_[i]; }
    const T& operator[](std::size_t i) const { return data_[i]; }

  private:
    // Long arrays come and go with the solves of large models: pages of 4 kB would cost a fault each.
    static void ask_for_large_pages(char* memory, std::size_t bytes) {
        constexpr std::uintptr_t page = std::uintptr_t{1} << 21U;
        const std::uintptr_t from = (reinterpret_cast<std::uintptr_t>(memory) + page - 1) / page * page;
        const std::uintptr_t to = (reinterpret_cast<std::uintptr_t>(memory) + bytes) / page * page;
        if (to > from + 3 * page) ::madvise(reinterpret_cast<void*>(from), to - from, MADV_HUGEPAGE);
    }
    struct Free {
        void operator()(char* p) const { std::free(p); }
    };
    std::size_t count_ = 0;
    std::unique_ptr<char, Free> memory_;
    T* data_ = nullptr;
};

} // namespace upright
