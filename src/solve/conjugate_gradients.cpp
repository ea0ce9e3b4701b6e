#include "solve/conjugate_gradients.hpp"

#include <algorithm>
#include <array>
#include <cmath>

namespace upright {

namespace {

constexpr std::size_t block = 8192;

// Sums by blocks in a fixed order: the same whatever the threads do.
template <class Body> std::array<double, 2> sums(std::size_t n, int threads, Body&& body) {
    const std::size_t blocks = (n + block - 1) / block;
    static thread_local std::vector<std::array<double, 2>> parts;
    parts.assign(blocks, {0.0, 0.0});
    auto& all = parts;
#pragma omp parallel for num_threads(threads) schedule(static)
    for (std::size_t k = 0; k < blocks; ++k) all[k] = body(k * block, std::min(n, (k + 1) * block));
    std::array<double, 2> out{0.0, 0.0};
    for (const auto& p : all) {
        out[0] += p[0];
        out[1] += p[1];
    }
    return out;
}

double dot(std::size_t n, int threads, const double* a, const double* b) {
    return sums(n, threads, [&](std::size_t from, std::size_t to) {
        double s = 0.0;
#pragma omp simd reduction(+ : s)
        for (std::size_t i = from; i < to; ++i) s += a[i] * b[i];
        return std::array<double, 2>{s, 0.0};
    })[0];
}

struct Column {
    double* b = nullptr; // the residual
    double* x = nullptr;
    Strip<double> p, Ap, z;
    double load_norm = 0.0; // |b|
    double work = 0.0;      // b'x, for the load as it came
    double rz = 0.0;
    double step = 0.0; // the last alpha
    bool done = false;
};

} // namespace

IterationCount conjugate_gradients(IterativeSystem& system, const std::vector<double*>& b,
                                   const std::vector<double*>& x, bool warm, const SolveWish& wish) {
    const std::size_t n = system.length();
    const int threads = system.threads();
    IterationCount out;
    std::vector<Column> columns(b.size());
    for (std::size_t c = 0; c < columns.size(); ++c) {
        Column& column = columns[c];
        column.b = b[c];
        column.x = x[c];
        column.load_norm = std::sqrt(dot(n, threads, b[c], b[c]));
        if (!(column.load_norm > 0.0) || !std::isfinite(column.load_norm)) {
            column.done = true;
            std::fill_n(column.x, n, 0.0);
            if (!std::isfinite(column.load_norm)) out.converged = false;
            continue;
        }
        column.p = Strip<double>(n);
        column.Ap = Strip<double>(n);
        column.z = Strip<double>(n);
        if (!warm) continue;
        // The start, scaled so that the error has the least energy.
        const double work = dot(n, threads, b[c], x[c]);
        std::copy_n(x[c], n, column.p.data());
        const double energy = system.multiply(column.p.data(), column.Ap.data());
        const double scale = energy > 0.0 ? work / energy : 0.0;
        const double* Ap = column.Ap.data();
#pragma omp parallel for simd num_threads(threads)
        for (std::size_t i = 0; i < n; ++i) {
            x[c][i] *= scale;
            b[c][i] -= scale * Ap[i];
        }
        column.work = scale * work;
    }
    // b'x grows by the energy that each step adds: alpha^2 p'Ap.
    for (int step = 0;; ++step) {
        std::vector<const double*> from;
        std::vector<double*> to;
        std::vector<Column*> active;
        for (Column& c : columns)
            if (!c.done) active.push_back(&c);
        if (active.empty()) break;
        if (step == most_iterations) {
            out.converged = false;
            break;
        }
        for (std::size_t first = 0; first < active.size(); first += 4) {
            from.clear();
            to.clear();
            for (std::size_t c = first; c < std::min(active.size(), first + 4); ++c) {
                from.push_back(active[c]->b);
                to.push_back(active[c]->z.data());
            }
            system.precondition(from.data(), to.data(), static_cast<int>(from.size()));
        }
        for (Column* column : active) {
            double* r = column->b;
            double* z = column->z.data();
            double* p = column->p.data();
            double* Ap = column->Ap.data();
            const bool begun = step > 0;
            const auto both = sums(n, threads, [&](std::size_t lo, std::size_t hi) {
                double zr = 0.0;
                double za = 0.0;
                if (begun) {
#pragma omp simd reduction(+ : zr, za)
                    for (std::size_t i = lo; i < hi; ++i) {
                        zr += z[i] * r[i];
                        za += z[i] * Ap[i];
                    }
                } else {
#pragma omp simd reduction(+ : zr)
                    for (std::size_t i = lo; i < hi; ++i) zr += z[i] * r[i];
                }
                return std::array<double, 2>{zr, za};
            });
            const double rz = both[0];
            if (!std::isfinite(rz)) {
                out.converged = false;
                column->done = true;
                continue;
            }
            if (step > 0 || column->work > 0.0) {
                // Rounding: a residual of nothing.
                if (wish.residual <= 0.0 && rz <= wish.energy * column->work) {
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
            const double beta = begun ? -column->step * both[1] / column->rz : 0.0;
            column->rz = rz;
#pragma omp parallel for simd num_threads(threads)
            for (std::size_t i = 0; i < n; ++i) p[i] = z[i] + beta * p[i];
            const double energy = system.multiply(p, Ap);
            if (!(energy > 0.0) || !std::isfinite(energy)) {
                out.converged = false;
                column->done = true;
                continue;
            }
            // The last step left the residual at right angles to its direction: r'p = r'z.
            const double alpha = rz / energy;
            column->step = alpha;
            const auto norm = sums(n, threads, [&](std::size_t lo, std::size_t hi) {
                double s = 0.0;
                double* xs = column->x;
#pragma omp simd reduction(+ : s)
                for (std::size_t i = lo; i < hi; ++i) {
                    xs[i] += alpha * p[i];
                    r[i] -= alpha * Ap[i];
                    s += r[i] * r[i];
                }
                return std::array<double, 2>{s, 0.0};
            });
            column->work += alpha * alpha * energy;
            if (wish.residual > 0.0 && std::sqrt(norm[0]) <= wish.residual * column->load_norm)
                column->done = true;
            out.most = std::max(out.most, step + 1);
        }
    }
    return out;
}

} // namespace upright
