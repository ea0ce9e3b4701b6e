#include "base/blas_threads.hpp"
#include "base/error.hpp"
#include "base/termination.hpp"
#include "solve/linear_solver.hpp"
#include "solve/stopwatch.hpp"

#include <algorithm>
#include <cholmod.h>
#include <cstring>
#include <fmt/format.h>
#include <thread>

namespace upright {

namespace {

constexpr std::uint32_t nowhere = static_cast<std::uint32_t>(-1);

class DirectSolver : public LinearSolver {
  public:
    explicit DirectSolver(const SolverOptions& options) : options_(options) {
        cholmod_l_start(&common_);
        common_.print = 0;
        common_.supernodal = CHOLMOD_SUPERNODAL;
        common_.final_ll = 1;
        common_.nmethods = 1;
        common_.method[0].ordering = CHOLMOD_METIS;
        common_.postorder = 1;
    }

    ~DirectSolver() override {
        if (solution_ != nullptr) cholmod_l_free_dense(&solution_, &common_);
        if (work_y_ != nullptr) cholmod_l_free_dense(&work_y_, &common_);
        if (work_e_ != nullptr) cholmod_l_free_dense(&work_e_, &common_);
        if (factor_ != nullptr) cholmod_l_free_factor(&factor_, &common_);
        if (matrix_ != nullptr) cholmod_l_free_sparse(&matrix_, &common_);
        cholmod_l_finish(&common_);
    }

    DirectSolver(const DirectSolver&) = delete;
    DirectSolver& operator=(const DirectSolver&) = delete;

    void prepare(const ElementSystem& system) {
        const auto start = Clock::now();
        system_ = system;
        cost_.method = "sparse Cholesky";
        cost_.unknowns = system.unknowns;
        if (!options_.once) analyse(nullptr);
        cost_.prepare_seconds = seconds_since(start);
    }

    void update(const std::vector<double>& scale) override {
        const auto start = Clock::now();
        if (options_.once)
            analyse(&scale);
        else
            assemble(scale);
        const BlasThreads blas(threads_of(options_));
        cholmod_l_factorize(matrix_, factor_, &common_);
        if (common_.status == CHOLMOD_NOT_POSDEF ||
            (common_.status == CHOLMOD_OK && factor_->minor < factor_->n))
            throw Error::numerics("the structure is not held: its stiffness is singular",
                                  "\"upright check\" names the motion that the supports leave free");
        if (common_.status < CHOLMOD_OK) throw memory_error();
        if (options_.once) {
            system_ = {};
            cholmod_l_free_sparse(&matrix_, &common_);
        }
        cost_.factor_seconds = seconds_since(start);
    }

    void solve(const Loads& loads, const SolveWish& /*exact*/, Eigen::MatrixXd& answers) override {
        const auto start = Clock::now();
        const BlasThreads blas(blas_threads());
        Eigen::MatrixXd rhs = loads.matrix();
        if (!old_of_.empty()) rhs = turned(rhs, false);
        cholmod_dense b{};
        b.nrow = static_cast<std::size_t>(rhs.rows());
        b.ncol = static_cast<std::size_t>(rhs.cols());
        b.nzmax = b.nrow * b.ncol;
        b.d = b.nrow;
        b.x = rhs.data();
        b.xtype = CHOLMOD_REAL;
        b.dtype = CHOLMOD_DOUBLE;
        const int fine = cholmod_l_solve2(CHOLMOD_A, factor_, &b, nullptr, &solution_, nullptr, &work_y_,
                                          &work_e_, &common_);
        if (fine == 0 || solution_ == nullptr) throw memory_error();
        answers = Eigen::Map<const Eigen::MatrixXd>(static_cast<const double*>(solution_->x), rhs.rows(),
                                                    rhs.cols());
        if (!old_of_.empty()) answers = turned(answers, true);
        if (!answers.allFinite())
            throw Error::numerics("the solution is not finite",
                                  "Look for loads or material data of absurd size");
        cost_.solve_seconds = seconds_since(start);
    }

    SolverCost cost() const override { return cost_; }

  private:
    // Pattern (values too, where `scale` is given) and symbolic analysis.
    void analyse(const std::vector<double>* scale) {
        if (system_.order.size() == system_.unknowns && system_.unknowns > 0) {
            // Unknowns are numbered as they are eliminated: the matrix needs no second copy in that order.
            renumber(system_.order);
            build_pattern(nullptr, false);
            renumber(postorder());
            cholmod_l_free_sparse(&matrix_, &common_);
            common_.method[0].ordering = CHOLMOD_NATURAL;
            common_.postorder = 0;
        }
        build_pattern(scale, true);
        {
            const TerminationHeld held;
            factor_ = cholmod_l_analyze(matrix_, &common_);
        }
        if (factor_ == nullptr || common_.status < CHOLMOD_OK) throw memory_error();
        cost_.factor_bytes =
            8.0 *
            static_cast<double>(factor_->is_super ? factor_->xsize : static_cast<std::size_t>(common_.lnz));
        cost_.factor_flops = common_.fl;
        cost_.bytes = cost_.factor_bytes;
        if (cost_.factor_bytes > options_.memory)
            throw Error::numerics(
                fmt::format(
                    "the factorisation of {} unknowns needs {:.1f} GB and [run] memory allows {:.1f} GB",
                    system_.unknowns, cost_.factor_bytes / 1e9, options_.memory / 1e9),
                "Write a larger cell size, use a symmetry plane, or raise memory if the machine has it");
    }

    // New numbers for the unknowns: order[new] = old.
    template <class Order> void renumber(const Order& order) {
        std::vector<std::int32_t> old_of(order.size());
        std::vector<std::int32_t> new_of(order.size());
        for (std::size_t n = 0; n < order.size(); ++n) {
            const auto old = static_cast<std::size_t>(order[n]);
            new_of[old] = static_cast<std::int32_t>(n);
            old_of[n] = old_of_.empty() ? static_cast<std::int32_t>(old) : old_of_[old];
        }
        old_of_ = std::move(old_of);
        for (std::int32_t& u : system_.dofs)
            if (u >= 0) u = new_of[static_cast<std::size_t>(u)];
    }

    // Children before parents in the elimination tree, subtree by subtree.
    std::vector<SuiteSparse_long> postorder() {
        std::vector<SuiteSparse_long> parent(system_.unknowns);
        std::vector<SuiteSparse_long> out(system_.unknowns);
        // The tree is found from the upper triangle.
        cholmod_sparse* upper = cholmod_l_transpose(matrix_, 0, &common_);
        const bool fine = upper != nullptr && cholmod_l_etree(upper, parent.data(), &common_) != 0 &&
                          cholmod_l_postorder(parent.data(), system_.unknowns, nullptr, out.data(),
                                              &common_) == static_cast<SuiteSparse_long>(system_.unknowns);
        if (upper != nullptr) cholmod_l_free_sparse(&upper, &common_);
        if (!fine) throw memory_error();
        return out;
    }

    // Rows in the order of elimination, or `back` in that of the system.
    Eigen::MatrixXd turned(const Eigen::MatrixXd& in, bool back) const {
        Eigen::MatrixXd out(in.rows(), in.cols());
        for (Eigen::Index c = 0; c < in.cols(); ++c)
            for (Eigen::Index r = 0; r < in.rows(); ++r) {
                const Eigen::Index old = old_of_[static_cast<std::size_t>(r)];
                if (back)
                    out(old, c) = in(r, c);
                else
                    out(r, c) = in(old, c);
            }
        return out;
    }

    // A second thread gains nothing on small factorisations, and its active waiting costs dearly next to
    // other load.
    int blas_threads() const {
        constexpr double worth_threads = 2e10; // floating-point operations
        return cost_.factor_flops < worth_threads ? 1 : threads_of(options_);
    }

    // Where an unknown stands: its element, and which of its freedoms.
    struct Seat {
        std::uint32_t element = 0;
        std::uint32_t place = 0;
    };

    // The lower triangle's pattern by columns: with values where `scale` is given, else, where `targets` are
    // wanted, with where each entry of each element's lower triangle goes.
    void build_pattern(const std::vector<double>* scale, bool targets) {
        const std::size_t n = system_.unknowns;
        // The elements of each unknown.
        std::vector<std::size_t> begins(n + 1, 0);
        for (const std::int32_t u : system_.dofs)
            if (u >= 0) ++begins[static_cast<std::size_t>(u) + 1];
        for (std::size_t u = 0; u < n; ++u) begins[u + 1] += begins[u];
        std::vector<Seat> seats(begins[n]);
        std::vector<std::size_t> next(begins.begin(), begins.end() - 1);
        std::vector<std::size_t> triangle(system_.elements() + 1, 0); // where each element's entries begin
        for (std::size_t e = 0; e < system_.elements(); ++e) {
            const std::size_t width = system_.width(e);
            triangle[e + 1] = triangle[e] + width * (width + 1) / 2;
            for (std::size_t i = 0; i < width; ++i)
                if (const std::int32_t u = system_.dofs[system_.starts[e] + i]; u >= 0)
                    seats[next[static_cast<std::size_t>(u)]++] = {static_cast<std::uint32_t>(e),
                                                                  static_cast<std::uint32_t>(i)};
        }
        targets = targets && scale == nullptr;
        if (targets) target_.assign(triangle.back(), nowhere);
        std::vector<double> values;
        if (scale != nullptr) values.reserve(40 * n);
        std::vector<SuiteSparse_long> starts(n + 1, 0);
        std::vector<std::int32_t> indices;
        indices.reserve(40 * n);
        std::vector<std::int32_t> rows;
        std::vector<SuiteSparse_long> place_of(n, -1); // of a row in the column at hand
        std::vector<double> made;
        std::vector<double> entries;
        for (std::size_t c = 0; c < n; ++c) {
            const auto column = static_cast<std::int32_t>(c);
            rows.clear();
            const auto each = [&](auto&& call) {
                for (std::size_t s = begins[c]; s < begins[c + 1]; ++s) {
                    const Seat& seat = seats[s];
                    const std::int32_t* dofs = system_.dofs.data() + system_.starts[seat.element];
                    const std::size_t width = system_.width(seat.element);
                    for (std::size_t i = 0; i < width; ++i)
                        if (dofs[i] >= column) call(seat, i, width, static_cast<std::size_t>(dofs[i]));
                }
            };
            each([&](const Seat& /*seat*/, std::size_t /*i*/, std::size_t /*width*/, std::size_t row) {
                if (place_of[row] >= 0) return;
                place_of[row] = 0;
                rows.push_back(static_cast<std::int32_t>(row));
            });
            std::sort(rows.begin(), rows.end());
            const auto from = static_cast<SuiteSparse_long>(indices.size());
            for (std::size_t r = 0; r < rows.size(); ++r)
                place_of[static_cast<std::size_t>(rows[r])] = from + static_cast<SuiteSparse_long>(r);
            if (scale != nullptr) {
                values.resize(values.size() + rows.size(), 0.0);
                const Seat* of = nullptr; // whose column of its matrix is at hand
                each([&](const Seat& seat, std::size_t i, std::size_t width, std::size_t row) {
                    if (of != &seat) matrix_column(seat, width, made, entries);
                    of = &seat;
                    values[static_cast<std::size_t>(place_of[row])] += (*scale)[seat.element] * entries[i];
                });
            }
            if (targets)
                each([&](const Seat& seat, std::size_t i, std::size_t width, std::size_t row) {
                    // Columns of the element's lower triangle one after the other.
                    const std::size_t low = std::min<std::size_t>(seat.place, i);
                    const std::size_t high = std::max<std::size_t>(seat.place, i);
                    target_[triangle[seat.element] + low * width - low * (low + 1) / 2 + high] =
                        static_cast<std::uint32_t>(place_of[row]);
                });
            for (const std::int32_t row : rows) place_of[static_cast<std::size_t>(row)] = -1;
            indices.insert(indices.end(), rows.begin(), rows.end());
            starts[c + 1] = static_cast<SuiteSparse_long>(indices.size());
            if (indices.size() >= nowhere)
                throw Error::numerics(
                    fmt::format("{} unknowns are more than can be factorised", system_.unknowns),
                    "Write a larger cell size or use a symmetry plane");
        }
        keep_pattern(starts, indices, scale != nullptr ? &values : nullptr);
    }

    // The column of an element's matrix that belongs to one of its unknowns.
    void matrix_column(const Seat& seat, std::size_t width, std::vector<double>& made,
                       std::vector<double>& out) const {
        out.resize(width);
        if (const Eigen::MatrixXd* kept = system_.matrix_of[seat.element]; kept != nullptr) {
            std::copy_n(kept->data() + seat.place * width, width, out.begin());
            return;
        }
        made.resize(3 * width);
        system_.made->make_rows(system_.number_of[seat.element], seat.place / 3, made.data());
        for (std::size_t i = 0; i < width; ++i) out[i] = made[3 * i + seat.place % 3];
    }

    // Without values they are nothing.
    void keep_pattern(const std::vector<SuiteSparse_long>& starts, const std::vector<std::int32_t>& indices,
                      const std::vector<double>* values) {
        const std::size_t n = system_.unknowns;
        matrix_ = cholmod_l_allocate_sparse(n, n, indices.size(), 1, 1, -1, CHOLMOD_REAL, &common_);
        if (matrix_ == nullptr) throw memory_error();
        std::copy(starts.begin(), starts.end(), static_cast<SuiteSparse_long*>(matrix_->p));
        std::copy(indices.begin(), indices.end(), static_cast<SuiteSparse_long*>(matrix_->i));
        if (values != nullptr)
            std::copy(values->begin(), values->end(), static_cast<double*>(matrix_->x));
        else
            std::memset(matrix_->x, 0, indices.size() * sizeof(double));
    }

    void assemble(const std::vector<double>& scale) {
        auto* values = static_cast<double*>(matrix_->x);
        std::memset(values, 0, matrix_->nzmax * sizeof(double));
        const std::uint32_t* target = target_.data();
        Eigen::MatrixXd room;
        for (std::size_t e = 0; e < system_.elements(); ++e) {
            const Eigen::MatrixXd& K = system_.matrix(e, room);
            const Eigen::Index width = K.rows();
            for (Eigen::Index c = 0; c < width; ++c) {
                const double* column = &K(0, c);
                for (Eigen::Index r = c; r < width; ++r, ++target)
                    if (*target != nowhere) values[*target] += scale[e] * column[r];
            }
        }
    }

    Error memory_error() const {
        if (common_.status == CHOLMOD_OUT_OF_MEMORY || common_.status == CHOLMOD_TOO_LARGE)
            return Error::numerics(
                fmt::format("there is not enough memory to factorise {} unknowns", system_.unknowns),
                "Write a larger cell size or use a symmetry plane");
        return Error::numerics(fmt::format("the factorisation failed (status {})", common_.status));
    }

    SolverOptions options_;
    ElementSystem system_;
    std::vector<std::uint32_t> target_;
    std::vector<std::int32_t> old_of_; // where unknowns have new numbers: the system's own
    cholmod_common common_{};
    cholmod_sparse* matrix_ = nullptr;
    cholmod_factor* factor_ = nullptr;
    cholmod_dense* solution_ = nullptr;
    cholmod_dense* work_y_ = nullptr;
    cholmod_dense* work_e_ = nullptr;
    SolverCost cost_;
};

} // namespace

int threads_of(const SolverOptions& options) {
    const int usual = usable_threads();
    const int cores = static_cast<int>(std::max(1U, std::thread::hardware_concurrency()));
    return options.threads > 0 ? std::min(options.threads, 4 * cores) : usual;
}

std::unique_ptr<LinearSolver> make_direct_solver(const ElementSystem& system, const SolverOptions& options) {
    auto out = std::make_unique<DirectSolver>(options);
    out->prepare(system);
    return out;
}

} // namespace upright
