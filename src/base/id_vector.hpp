// A list whose members are found by an identifier of their own type, so that a case never stands where a
// support belongs.
#pragma once

#include "base/vectors.hpp"

#include <cstddef>
#include <utility>
#include <vector>

namespace upright {

// The identifiers 0, 1, … of a list, for loops.
template <class Id> class IdRange {
  public:
    class Iterator {
      public:
        explicit Iterator(std::size_t at) : at_(at) {}
        Id operator*() const { return static_cast<Id>(at_); }
        Iterator& operator++() {
            ++at_;
            return *this;
        }
        bool operator!=(const Iterator& other) const { return at_ != other.at_; }

      private:
        std::size_t at_;
    };
    explicit IdRange(std::size_t size) : size_(size) {}
    Iterator begin() const { return Iterator(0); }
    Iterator end() const { return Iterator(size_); }

  private:
    std::size_t size_;
};

template <class Id, class T> class IdVector {
  public:
    using value_type = T;

    IdVector() = default;
    IdVector(std::vector<T> items)
        : items_(std::move(items)) {} // NOLINT: a list becomes one with identifiers

    T& operator[](Id id) { return items_[index(id)]; }
    const T& operator[](Id id) const { return items_[index(id)]; }
    // By number; throws std::out_of_range.
    T& at(std::size_t number) { return items_.at(number); }
    const T& at(std::size_t number) const { return items_.at(number); }

    std::size_t size() const { return items_.size(); }
    bool empty() const { return items_.empty(); }
    IdRange<Id> ids() const { return IdRange<Id>(items_.size()); }
    auto begin() { return items_.begin(); }
    auto end() { return items_.end(); }
    auto begin() const { return items_.begin(); }
    auto end() const { return items_.end(); }
    T& front() { return items_.front(); }
    const T& front() const { return items_.front(); }
    T& back() { return items_.back(); }
    const T& back() const { return items_.back(); }
    void push_back(T item) { items_.push_back(std::move(item)); }
    void clear() { items_.clear(); }
    void resize(std::size_t size) { items_.resize(size); }
    std::vector<T>& all() { return items_; }
    const std::vector<T>& all() const { return items_; }

  private:
    std::vector<T> items_;
};

} // namespace upright
