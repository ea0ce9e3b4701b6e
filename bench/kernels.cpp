// The inner loops against what memory and arithmetic allow (Google Benchmark). Bytes are those that must come
// from memory and go there once; arithmetic counts multiplications and additions of the formulas.
#include "blocks.hpp"
#include "solve/grid/multigrid.hpp"
#include "solve/grid_solver.hpp"

#include <benchmark/benchmark.h>

using namespace upright;

namespace {

constexpr int threads = 2;

const bench::Block& block() {
    static const bench::Block b = bench::make_block(64, "random", false);
    return b;
}

GridOperator& system_of_block() {
    static auto* op = [] {
        grid::MultigridOptions options;
        options.threads = threads;
        auto* out = new GridOperator(block().system, options);
        out->update(bench::scales(block().density, 3.0));
        return out;
    }();
    return *op;
}

void finish(benchmark::State& state, double bytes, double nodes) {
    state.SetBytesProcessed(static_cast<std::int64_t>(bytes * static_cast<double>(state.iterations())));
    state.counters["ns_a_node"] = benchmark::Counter(
        nodes * 1e-9, benchmark::Counter::kIsIterationInvariantRate | benchmark::Counter::kInvert);
}

// a = b + s c on arrays far larger than any cache.
void triad(benchmark::State& state) {
    const std::size_t n = 40000000;
    Strip<double> a(n);
    Strip<double> b(n);
    Strip<double> c(n);
    for (std::size_t i = 0; i < n; ++i) b[i] = c[i] = static_cast<double>(i);
    for (auto _ : state) {
        double* x = a.data();
        const double* y = b.data();
        const double* z = c.data();
#pragma omp parallel for simd num_threads(threads) schedule(static)
        for (std::size_t i = 0; i < n; ++i) x[i] = y[i] + 3.0 * z[i];
        benchmark::ClobberMemory();
    }
    finish(state, 24.0 * static_cast<double>(n), static_cast<double>(n));
}

void product_in_double(benchmark::State& state) {
    GridOperator& op = system_of_block();
    Strip<float> v(op.length());
    Strip<double> out(op.length());
    for (std::size_t i = 0; i < op.length(); ++i) v[i] = 1.0F;
    for (auto _ : state) benchmark::DoNotOptimize(op.multiply(v.data(), out.data()));
    // A node: three components in, three out (read for ownership as well), a scale.
    finish(state, (12.0 + 48.0 + 4.0) * static_cast<double>(block().system.lattice_nodes()),
           static_cast<double>(block().system.lattice_nodes()));
}

void sweep_in_single(benchmark::State& state) {
    const auto level = static_cast<std::size_t>(state.range(0));
    GridOperator& op = system_of_block();
    const grid::Multigrid& m = op.multigrid();
    const std::size_t nodes = m.nodes_of_level(level);
    Strip<float> x(m.length_of_level(level));
    Strip<float> b(m.length_of_level(level));
    Strip<float> z(m.length_of_level(level));
    for (auto _ : state) m.sweep_for_bench(level, x.data(), b.data(), z.data());
    // Levels of cells: x and b in, z out (read for ownership as well), the diagonal, a scale. Those with
    // stencils: 468 bytes of half-precision blocks, 72 of single-precision ones and a scale.
    const double bytes = level < 2 ? 12.0 * 5 + 4.0 : 12.0 * 4 + 468.0 + 72.0 + 4.0;
    finish(state, bytes * static_cast<double>(nodes), static_cast<double>(nodes));
}

void cycle(benchmark::State& state) {
    GridOperator& op = system_of_block();
    const int count = static_cast<int>(state.range(0));
    std::vector<Strip<float>> in;
    std::vector<Strip<float>> out;
    std::vector<float*> from;
    std::vector<float*> to;
    Strip<double> load(op.length());
    op.spread_loads(block().load.data(), load.data());
    for (int i = 0; i < count; ++i) {
        in.emplace_back(op.length());
        out.emplace_back(op.length());
        for (std::size_t n = 0; n < op.length(); ++n) in.back()[n] = static_cast<float>(load[n]);
    }
    for (int i = 0; i < count; ++i) {
        from.push_back(in[static_cast<std::size_t>(i)].data());
        to.push_back(out[static_cast<std::size_t>(i)].data());
    }
    for (auto _ : state) op.precondition(from.data(), to.data(), count);
    finish(state, 0.0, static_cast<double>(block().system.lattice_nodes()));
}

void build_levels(benchmark::State& state) {
    GridOperator& op = system_of_block();
    const std::vector<double> scale = bench::scales(block().density, 3.0);
    for (auto _ : state) op.update(scale);
    finish(state, 0.0, static_cast<double>(block().system.lattice_nodes()));
}

} // namespace

BENCHMARK(triad)->Unit(benchmark::kMillisecond)->UseRealTime();
BENCHMARK(product_in_double)->Unit(benchmark::kMillisecond)->UseRealTime();
BENCHMARK(sweep_in_single)->Arg(0)->Arg(1)->Arg(2)->Unit(benchmark::kMillisecond)->UseRealTime();
BENCHMARK(cycle)->Arg(1)->Arg(3)->Unit(benchmark::kMillisecond)->UseRealTime();
BENCHMARK(build_levels)->Unit(benchmark::kMillisecond)->UseRealTime();
BENCHMARK_MAIN();
