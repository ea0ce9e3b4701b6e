// The same row from PETSc's algebraic multigrid (GAMG), on as many ranks as mpirun gives: petsc-row N KIND
// followed by PETSc options. Only needed for the benchmark.
#include "blocks.hpp"

#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <petscksp.h>
#include <string>
#include <sys/resource.h>
#include <vector>

using namespace upright;

int main(int argc, char** argv) {
    if (argc < 3) return 2;
    PetscInitialize(&argc, &argv, nullptr, nullptr);
    const int n = std::atoi(argv[1]);
    const std::string kind = argv[2];
    PetscMPIInt rank = 0;
    PetscMPIInt ranks = 1;
    MPI_Comm_rank(PETSC_COMM_WORLD, &rank);
    MPI_Comm_size(PETSC_COMM_WORLD, &ranks);
    const bench::Block block = bench::make_block(n, kind, true);
    const std::vector<double> scale = bench::scales(block.density, 3.0);
    const auto memory = [] {
        rusage usage{};
        getrusage(RUSAGE_SELF, &usage);
        return 1024.0 * static_cast<double>(usage.ru_maxrss);
    };
    const double before = memory();
    const auto unknowns = static_cast<PetscInt>(block.system.unknowns);
    const PetscInt nodes = unknowns / 3;
    const PetscInt own = 3 * (nodes / ranks + (rank < nodes % ranks ? 1 : 0));
    Mat A = nullptr;
    MatCreate(PETSC_COMM_WORLD, &A);
    MatSetSizes(A, own, own, unknowns, unknowns);
    MatSetBlockSize(A, 3);
    MatSetType(A, MATAIJ);
    MatSeqAIJSetPreallocation(A, 81, nullptr);
    MatMPIAIJSetPreallocation(A, 81, nullptr, 81, nullptr);
    PetscInt first = 0;
    PetscInt last = 0;
    MatGetOwnershipRange(A, &first, &last);
    const ElementSystem& e = block.elements;
    std::vector<PetscInt> at(24);
    std::vector<double> values(576);
    using Clock = std::chrono::steady_clock;
    for (std::size_t k = 0; k < e.elements(); ++k) {
        const std::int32_t* dofs = e.dofs.data() + e.starts[k];
        for (std::size_t i = 0; i < 24; ++i) at[i] = dofs[i];
        // Rows of this rank only: every rank goes through all elements.
        std::vector<PetscInt> rows(at);
        bool any = false;
        for (PetscInt& r : rows) {
            if (r < first || r >= last) r = -1;
            any = any || r >= 0;
        }
        if (!any) continue;
        for (std::size_t i = 0; i < 576; ++i) values[i] = scale[k] * e.matrix_of[k]->data()[i];
        MatSetValues(A, 24, rows.data(), 24, at.data(), values.data(), ADD_VALUES);
    }
    MatAssemblyBegin(A, MAT_FINAL_ASSEMBLY);
    MatAssemblyEnd(A, MAT_FINAL_ASSEMBLY);
    Vec b = nullptr;
    Vec x = nullptr;
    MatCreateVecs(A, &x, &b);
    for (PetscInt i = first; i < last; ++i) VecSetValue(b, i, block.load[i], INSERT_VALUES);
    VecAssemblyBegin(b);
    VecAssemblyEnd(b);
    Vec coordinates = nullptr;
    VecDuplicate(b, &coordinates);
    VecSetBlockSize(coordinates, 3);
    for (PetscInt i = first; i < last; ++i)
        VecSetValue(coordinates, i, block.places[static_cast<std::size_t>(i / 3)][i % 3], INSERT_VALUES);
    VecAssemblyBegin(coordinates);
    VecAssemblyEnd(coordinates);
    MatNullSpace rigid = nullptr;
    MatNullSpaceCreateRigidBody(coordinates, &rigid);
    MatSetNearNullSpace(A, rigid);
    KSP solver = nullptr;
    KSPCreate(PETSC_COMM_WORLD, &solver);
    KSPSetOperators(solver, A, A);
    KSPSetType(solver, KSPCG);
    KSPSetNormType(solver, KSP_NORM_UNPRECONDITIONED);
    KSPSetTolerances(solver, 1e-6, PETSC_DEFAULT, PETSC_DEFAULT, 500);
    PC preconditioner = nullptr;
    KSPGetPC(solver, &preconditioner);
    PCSetType(preconditioner, PCGAMG);
    KSPSetFromOptions(solver);
    MPI_Barrier(PETSC_COMM_WORLD);
    auto start = Clock::now();
    KSPSetUp(solver);
    KSPSetUpOnBlocks(solver);
    const double setup = std::chrono::duration<double>(Clock::now() - start).count();
    start = Clock::now();
    KSPSolve(solver, b, x);
    const double solve = std::chrono::duration<double>(Clock::now() - start).count();
    KSPConvergedReason reason = KSP_CONVERGED_ITERATING;
    KSPGetConvergedReason(solver, &reason);
    PetscInt iterations = 0;
    KSPGetIterationNumber(solver, &iterations);
    double work = 0.0;
    VecDot(b, x, &work);
    double used = memory() - before;
    double all = 0.0;
    MPI_Reduce(&used, &all, 1, MPI_DOUBLE, MPI_SUM, 0, PETSC_COMM_WORLD);
    if (rank == 0) {
        if (reason > 0)
            std::printf("gamg,%d,%s,%d,%.3f,%.3f,%d,%.0f,%.9g\n", n, kind.c_str(), static_cast<int>(unknowns),
                        setup, solve, static_cast<int>(iterations), all / static_cast<double>(unknowns),
                        work);
        else
            std::printf("gamg,%d,%s,%d,,,,,no convergence (reason %d after %d iterations)\n", n, kind.c_str(),
                        static_cast<int>(unknowns), static_cast<int>(reason), static_cast<int>(iterations));
    }
    PetscFinalize();
    return 0;
}
