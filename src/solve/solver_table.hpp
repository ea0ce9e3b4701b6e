// The table of linear solvers: what each would take, whether it serves, how it is made; and the choice among
// them. A new one is a file of its own and an entry in solver_table.cpp. Facts are plain numbers: nothing
// here knows a model.
#pragma once

#include "solve/aggregation.hpp"
#include "solve/grid_system.hpp"
#include "solve/linear_solver.hpp"

#include <memory>
#include <string>
#include <vector>

namespace upright {

struct UnknownPlaces; // solve/lattice_solver.hpp

// What is known of a system before anything of it is made.
struct SolverFacts {
    std::size_t unknowns = 0;
    std::size_t right_sides = 1;
    bool solid = true;     // three-dimensional, nodes of three freedoms; else a plane or a shell
    bool polar = false;    // on a lattice with stencils of its own
    std::string no_grid;   // why it is no lattice of cells; empty where it is one
    bool searched = false; // tens of further answers to high accuracy are wanted: buckling
};

struct SolverEstimate {
    double bytes = 0.0;   // about, with all right-hand sides together
    double seconds = 0.0; // about, for one analysis of them, warm where the solver can be
};

// What solvers are made from; each asks for what it needs, and that alone is made.
class SystemSource {
  public:
    virtual ~SystemSource() = default;
    virtual const ElementSystem& elements() = 0;
    virtual NearKernel near_kernel() = 0;
    virtual UnknownPlaces unknown_places() = 0;
    virtual const GridSystem& grid() = 0;
};

struct SolverEntry {
    SolverKind kind;
    const char* word;   // in [run]; empty: not asked for there
    const char* says;   // of that word
    const char* method; // "sparse Cholesky"
    SolverEstimate (*estimate)(const SolverFacts& facts);
    // Why it does not serve; empty: it does.
    std::string (*unfit)(const SolverFacts& facts);
    // Fills `unfit` and returns nothing where only the system itself shows that it does not serve. Throws
    // Error (Numerics) where memory would not do.
    std::unique_ptr<LinearSolver> (*make)(SystemSource& source, const SolverOptions& options,
                                          std::string& unfit);
};
const std::vector<SolverEntry>& solver_table();
const SolverEntry& solver_entry(SolverKind kind);
// Its method, or "auto".
const char* text(SolverKind kind);

// The words of [run] and what they mean, "auto" first.
std::vector<std::pair<std::string, std::string>> solver_words();
// Of a word; Auto for any other.
SolverKind solver_of_word(const std::string& word);

// What a solver would take, before it is made.
struct SolverPlan {
    SolverKind kind = SolverKind::Direct;
    std::string reason; // why this one, in words
    std::size_t unknowns = 0;
    double bytes = 0.0;
    double seconds = 0.0;
    bool fits = true; // into the memory allowed
};

// Chooses by structure, size and memory; what the options ask for is taken where it serves.
SolverPlan choose_solver(const SolverFacts& facts, const SolverOptions& options);
// Which takes over where another does not converge.
SolverKind stand_in(const SolverFacts& facts, double memory);

} // namespace upright
