// What hangs together, found by joining two at a time.
#pragma once

#include <algorithm>
#include <cstddef>
#include <numeric>
#include <vector>

namespace upright {

class Groups {
  public:
    explicit Groups(std::size_t n) : parent_(n) { std::iota(parent_.begin(), parent_.end(), 0); }
    // The one that stands for all of a group.
    std::size_t root(std::size_t v) {
        while (parent_[v] != v) v = parent_[v] = parent_[parent_[v]];
        return v;
    }
    // The lower one stands for both.
    void join(std::size_t a, std::size_t b) {
        a = root(a);
        b = root(b);
        parent_[std::max(a, b)] = std::min(a, b);
    }

  private:
    std::vector<std::size_t> parent_;
};

} // namespace upright
