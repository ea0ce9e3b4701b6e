#include "solve/conjugate_gradients.hpp"

#include "base/reduction.hpp"

#include <algorithm>
#include <array>
#include <cmath>

namespace upright {

namespace {

// Steps at which a stronger preconditioner is asked for.
constexpr std::array<int, 3> asks{8, 20, 60};
// Before the first step of a close solve from nothing: what a digit may cost.
constexpr double cycles_a_digit = 10.0;
constexpr double many_digits = 5.0;
constexpr double nothing = 1e-14; // of the energy: what rounding leaves of a residual

struct Column {
    double* b = nullptr; // the residual
    double* x = nullptr;
    float* p = nullptr; // direction, preconditioned residual, residual as the preconditioner takes it
    float* z = nullptr;
    float* r = nullptr;
    double* Ap = nullptr;
    double load_norm = 0.0; // |b|; directions are in units of it
    double norm = 0.0;      // that `r` and z are in units of
    double work = 0.0;      // b'x, for the load as it came
    double rz = 0.0;
    double step = 0.0; // the last alpha, which x still has to take
    bool fresh = true; // no direction before the next
    bool done = false;
    // How far it is to the goal and how far it was at first, as logarithms, for a guess at what is left.
    double far = 0.0, far_at_first = 0.0;

    void take_step(std::size_t n, int threads) {
        if (step == 0.0) return;
        const double alpha = step;
        const float* direction = p;
        double* to = x;
#pragma omp parallel for simd num_threads(threads) schedule(static)
        for (std::size_t i = 0; i < n; ++i) to[i] += alpha * static_cast<double>(direction[i]);
        step = 0.0;
    }
};

// The residual in single precision, in units of `norm`.
void take_residual(Column& column, std::size_t n, int threads) {
    const double by = 1.0 / column.norm;
    const double* from = column.b;
    float* to = column.r;
#pragma omp parallel for simd num_threads(threads) schedule(static)
    for (std::size_t i = 0; i < n; ++i) to[i] = static_cast<float>(by * from[i]);
}

} // namespace

IterationCount conjugate_gradients(IterativeSystem& system, const std::vector<double*>& b,
                                   const std::vector<double*>& x, bool warm, const SolveWish& wish) {
    std::vector<GradientRoom> room;
    return conjugate_gradients(system, b, x, warm, wish, room);
}

IterationCount conjugate_gradients(IterativeSystem& system, const std::vector<double*>& b,
                                   const std::vector<double*>& x, bool warm, const SolveWish& wish,
                                   std::vector<GradientRoom>& room) {
    const std::size_t n = system.length();
    const int threads = system.threads();
    IterationCount out;
    std::vector<Column> columns(b.size());
    room.resize(std::max(room.size(), b.size()));
    for (std::size_t c = 0; c < columns.size(); ++c) {
        Column& column = columns[c];
        column.b = b[c];
        column.x = x[c];
        column.load_norm = std::sqrt(inner_product(n, b[c], b[c], threads));
        if (!(column.load_norm > 0.0) || !std::isfinite(column.load_norm)) {
            column.done = true;
            std::fill_n(column.x, n, 0.0);
            if (!std::isfinite(column.load_norm)) out.converged = false;
            continue;
        }
        if (room[c].p.size() != n)
            room[c] = {Strip<float>(n), Strip<float>(n), Strip<float>(n), Strip<double>(n)};
        column.p = room[c].p.data();
        column.z = room[c].z.data();
        column.r = room[c].r.data();
        column.Ap = room[c].Ap.data();
        column.norm = column.load_norm;
        if (!warm) {
            take_residual(column, n, threads);
            continue;
        }
        // The start, scaled so that the error has the least energy.
        const double work = inner_product(n, b[c], x[c], threads);
        const double energy = total(system.multiply(x[c], column.Ap));
        const double scale = energy > 0.0 ? work / energy : 0.0;
        const double* Ap = column.Ap;
#pragma omp parallel for simd num_threads(threads)
        for (std::size_t i = 0; i < n; ++i) {
            x[c][i] *= scale;
            b[c][i] -= scale * Ap[i];
        }
        column.work = scale * work;
        const double left = std::sqrt(inner_product(n, b[c], b[c], threads));
        if (left > 0.0) column.norm = left;
        take_residual(column, n, threads);
    }
    const double digits = -std::log10(wish.residual > 0.0 ? wish.residual : std::sqrt(wish.energy));
    if (!warm && digits > many_digits)
        system.strengthen(cycles_a_digit * digits * static_cast<double>(columns.size()));
    // b'x grows by the energy that each step adds: alpha^2 p'Ap.
    for (int step = 0;; ++step) {
        std::vector<float*> from;
        std::vector<float*> to;
        std::vector<Column*> active;
        for (Column& c : columns)
            if (!c.done) active.push_back(&c);
        if (active.empty()) break;
        if (step == most_iterations) {
            out.converged = false;
            break;
        }
        if (std::find(asks.begin(), asks.end(), step) != asks.end()) {
            double cycles = 0.0;
            for (const Column* c : active)
                cycles += c->far_at_first > c->far ? step * c->far / (c->far_at_first - c->far) : 1e3;
            if (system.strengthen(cycles))
                for (Column* c : active) c->fresh = true;
        }
        for (std::size_t first = 0; first < active.size(); first += 4) {
            from.clear();
            to.clear();
            for (std::size_t c = first; c < std::min(active.size(), first + 4); ++c) {
                from.push_back(active[c]->r);
                to.push_back(active[c]->z);
            }
            system.precondition(from.data(), to.data(), static_cast<int>(from.size()));
        }
        bool unsteady = false;
        for (Column* column : active) {
            double* r = column->b;
            float* residual = column->r;
            const float* z = column->z;
            float* p = column->p;
            double* Ap = column->Ap;
            const bool begun = !column->fresh;
            column->fresh = false;
            const auto of_both = [&](std::size_t lo, std::size_t hi) {
                double zr = 0.0;
                double za = 0.0;
                if (begun) {
#pragma omp simd reduction(+ : zr, za)
                    for (std::size_t i = lo; i < hi; ++i) {
                        zr += static_cast<double>(z[i]) * r[i];
                        za += static_cast<double>(z[i]) * Ap[i];
                    }
                } else {
#pragma omp simd reduction(+ : zr)
                    for (std::size_t i = lo; i < hi; ++i) zr += static_cast<double>(z[i]) * r[i];
                }
                return std::array<double, 2>{zr, za};
            };
            const auto both = sums_of_blocks<2>(n, of_both, threads);
            // z in the units of the directions.
            const double by = column->norm / column->load_norm;
            const double rz = by * both[0];
            if (!std::isfinite(rz)) {
                out.converged = false;
                column->done = true;
                continue;
            }
            if (rz < 0.0 && column->load_norm * -rz > nothing * column->work) {
                unsteady = true;
                continue;
            }
            if (step > 0 || column->work > 0.0) {
                // Rounding: a residual of nothing.
                if (wish.residual <= 0.0 && column->load_norm * rz <= wish.energy * column->work) {
                    // The correction in hand is free: z is nearly the error.
                    if (column->work > 0.0 && rz > 0.0 && step > 0) column->done = true;
                    if (rz <= 0.0) column->done = true;
                    if (column->done) continue;
                }
            }
            if (rz == 0.0) {
                column->done = true;
                continue;
            }
            if (step > 0 && wish.residual <= 0.0 && rz > 0.0) {
                column->far = 0.5 * std::log(column->load_norm * rz / (wish.energy * column->work));
                if (step == 1) column->far_at_first = column->far;
            }
            const double last = column->step;
            const double beta = begun ? -last * by * both[1] / column->rz : 0.0;
            column->rz = rz;
            double* xs = column->x;
            const auto scale = static_cast<float>(by);
            const auto keep = static_cast<float>(beta);
            // What an earlier solve left in the room is no direction.
            if (!begun && step == 0) {
#pragma omp parallel for simd num_threads(threads) schedule(static)
                for (std::size_t i = 0; i < n; ++i) p[i] = scale * z[i];
            } else {
#pragma omp parallel for simd num_threads(threads) schedule(static)
                for (std::size_t i = 0; i < n; ++i) {
                    xs[i] += last * static_cast<double>(p[i]);
                    p[i] = scale * z[i] + keep * p[i];
                }
            }
            column->step = 0.0;
            const double energy = total(system.multiply(p, Ap));
            if (!(energy > 0.0) || !std::isfinite(energy)) {
                out.converged = false;
                column->done = true;
                continue;
            }
            // The last step left the residual at right angles to its direction: r'p = r'z.
            const double alpha = rz / energy;
            column->step = alpha;
            const double unit = 1.0 / column->norm;
            const auto take = [&](std::size_t lo, std::size_t hi) {
                double s = 0.0;
#pragma omp simd reduction(+ : s)
                for (std::size_t i = lo; i < hi; ++i) {
                    const double left = r[i] - alpha * Ap[i];
                    r[i] = left;
                    residual[i] = static_cast<float>(unit * left);
                    s += left * left;
                }
                return s;
            };
            const double square = sum_of_blocks(n, take, threads);
            column->work += alpha * alpha * energy;
            if (wish.residual > 0.0 && square > 0.0) {
                column->far = std::log(std::sqrt(square) / (wish.residual * column->load_norm));
                if (step == 0) column->far_at_first = column->far;
            }
            if (wish.residual > 0.0 && std::sqrt(square) <= wish.residual * column->load_norm)
                column->done = true;
            out.most = std::max(out.most, step + 1);
        }
        if (!unsteady) continue;
        if (!system.steady()) {
            out.converged = false;
            break;
        }
        for (Column* column : active) column->fresh = true;
    }
    for (Column& column : columns) column.take_step(n, threads);
    return out;
}

} // namespace upright
