// How long edges should be, over space.
#pragma once

#include "geometry/bounds.hpp"

#include <algorithm>
#include <array>
#include <cstdint>
#include <unordered_map>
#include <unordered_set>
#include <vector>

namespace upright {

// Values on a lattice, linear between; `limit` then spreads small ones with a bounded gradient. Where sizes
// below the lattice's spacing are asked, lattices of half the spacing, a quarter and so on lie over it, each
// in a block about such a place.
class SizeField {
  public:
    SizeField(const Bounds& box, double size, double spacing);
    // Asks for at most `size` at a place.
    void ask(const Vec3& p, double size);
    void limit(double gradient);
    double at(const Vec3& p) const;
    double smallest() const;
    double largest() const { return size_; }
    double spacing() const { return spacing_; }
    // Every place of the first lattice, for sizes that are given as functions of place.
    template <class Visit> void each(const Visit& visit) {
        for (int k = 0; k < count_[2]; ++k)
            for (int j = 0; j < count_[1]; ++j)
                for (int i = 0; i < count_[0]; ++i) {
                    double& v = values_[index(i, j, k)];
                    v = std::min(v, visit(Vec3(low_ + spacing_ * Vec3(i, j, k))));
                }
    }

  private:
    std::size_t index(int i, int j, int k) const {
        return (static_cast<std::size_t>(k) * static_cast<std::size_t>(count_[1]) +
                static_cast<std::size_t>(j)) *
                   static_cast<std::size_t>(count_[0]) +
               static_cast<std::size_t>(i);
    }
    // A lattice of half the spacing of the one before: places by their packed numbers, and the cells that it
    // divides.
    struct Finer {
        std::unordered_map<std::uint64_t, double> values;
        std::unordered_set<std::uint64_t> cells; // of the lattice before that it divides, by their low corner
    };
    using Place = std::array<int, 3>;
    Place cell_of(const Vec3& p, int level) const;
    bool divided(const Place& cell, int level) const;
    double unlimited_at(const Vec3& p) const;
    double& value(const Place& at, int level);
    void divide(const Place& cell, int level);
    bool holds(const Place& cell, int level) const;
    void limit_finer(double gradient);

    Vec3 low_;
    double size_, spacing_;
    std::array<int, 3> count_{};
    std::vector<double> values_;
    std::vector<std::int32_t>
        divided_; // cells of the first lattice: -1, or their block once there are blocks
    std::vector<Finer> finer_;
    // What finer lattices come to once they are limited: the values on each divided cell.
    struct Block {
        std::array<double, 27> value{};
        std::array<std::int32_t, 8> child{-1, -1, -1, -1, -1, -1, -1, -1}; // the blocks of its cells
    };
    std::vector<Block> blocks_;
    void make_blocks();
    std::int32_t make_block(const Place& cell, int level);
};

} // namespace upright
