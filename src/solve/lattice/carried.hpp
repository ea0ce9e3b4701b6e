// Nodes at any places as a coarser lattice of nodes carries them: trilinear functions of the cell each lies
// in.
#pragma once

#include "base/vectors.hpp"
#include "solve/lattice/block_rows.hpp"

#include <array>
#include <cstdint>
#include <vector>

namespace upright::lattices {

// The prolongation P from coarse nodes to fine ones, the same for all three directions of a node. Fine nodes
// of one cell stand together (a bucket): they have the same coarse nodes.
struct Carried {
    static constexpr std::int32_t none = -1;
    std::vector<std::int32_t> begins;                 // by bucket: its first fine node, and the end
    std::vector<std::array<std::int32_t, 8>> corners; // by bucket: coarse nodes, or none
    std::vector<std::int32_t> bucket_of;              // by fine node
    std::vector<float> weights;                       // eight a fine node, beside its bucket's corners
    std::vector<std::vector<std::int32_t>> colours;   // buckets that share no coarse node
    // The same by coarse node.
    std::vector<std::size_t> starts{0};
    std::vector<std::int32_t> fine;
    std::vector<float> weight;

    std::size_t fine_nodes() const { return bucket_of.size(); }
    std::size_t coarse_nodes() const { return starts.size() - 1; }
    double bytes() const {
        return 36.0 * static_cast<double>(bucket_of.size()) + 40.0 * static_cast<double>(corners.size()) +
               8.0 * static_cast<double>(starts.size() + fine.size());
    }
    // Gives coarse nodes new numbers and makes what is kept by coarse node.
    void number(const std::vector<std::int32_t>& new_of, std::size_t coarse_nodes);
};

// What carry() makes of nodes.
struct Carrying {
    std::vector<std::int32_t> order; // the node that comes first, second, ...: buckets one after the other
    Carried carried;                 // fine nodes in that order, number() still to be called
    std::vector<Vec3> lattice;       // of coarse nodes: where, in spacings of the coarse lattice
    std::vector<std::uint8_t> beyond;
};

// `at`: places in spacings of the coarse lattice. A node `beyond` the lattice is carried by one of its own.
// Lattice nodes that no node leans on are left out.
Carrying carry(const std::vector<Vec3>& at, const std::vector<std::uint8_t>& beyond);

// P' A P: which blocks it has, and their values, each the same whatever the threads do.
BlockPattern coarse_pattern(const BlockPattern& fine, const Carried& carried, int threads);
void coarse_blocks(const BlockPattern& fine, const double* blocks, const Carried& carried,
                   const BlockPattern& coarse, double* out, int threads);

// coarse = P' fine; fine += P coarse.
void restrict_to(const Carried& carried, const float* fine, float* coarse, int threads);
void prolong_from(const Carried& carried, const float* coarse, float* fine, int threads);

} // namespace upright::lattices
