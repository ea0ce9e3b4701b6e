#include "solve/lanczos.hpp"

#include "base/dense.hpp"
#include "base/error.hpp"
#include "base/reduction.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <random>

namespace upright {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr Index block_width = 6;
constexpr int most_steps = 3000;
constexpr Index least_columns = 30; // before a basis may tell that there is nothing

class Lanczos {
  public:
    // Eigenvalues of the operator above `floor` are wanted; `lambda` makes the problem's own of them.
    Lanczos(const SymmetricOperator& op, const EigenWish& wish, double floor,
            std::function<double(double)> lambda)
        : op_(op), wish_(wish), n_(op.length), floor_(floor), lambda_of_(std::move(lambda)) {}

    EigenPairs run() {
        const Index room = wish_.most_columns > 0 ? wish_.most_columns : 3 * wish_.count + 120;
        start();
        for (int step = 1;; ++step) {
            const bool exhausted = !extend();
            solve_small();
            const Index good = converged();
            const bool enough = wish_.up_to > 0.0 ? covers(good) : good >= wish_.count;
            if (enough || exhausted || nothing_above(good)) return result(good, step);
            if (step == most_steps)
                throw Error::numerics("the modes did not converge: " + std::to_string(good) + " of " +
                                          std::to_string(wish_.count) + " found",
                                      "Look for material data of absurd size, or ask for fewer modes");
            if (used_ > room + (wish_.up_to > 0.0 ? 2 * good : 0)) restart(good);
        }
    }

  private:
    // A random block, taken through the operator once so that it has nothing without mass.
    void start() {
        std::mt19937 random(7);
        std::normal_distribution<double> normal;
        next_.resize(n_, std::min(block_width, n_));
        for (Index c = 0; c < next_.cols(); ++c)
            for (Index r = 0; r < n_; ++r) next_(r, c) = normal(random);
        SymmetricOperator::Block first = op_.apply(next_, image_of(next_, next_));
        next_ = std::move(first.value);
        next_mass_ = std::move(first.image);
        orthonormalise(sizes(next_, next_mass_));
    }

    // B v anew, or what was carried along.
    MatrixXd image_of(const MatrixXd& v, const MatrixXd& carried) const {
        return op_.metric ? op_.metric(v) : carried;
    }

    // The lengths of columns in the metric.
    VectorXd sizes(const MatrixXd& v, const MatrixXd& mv) const {
        VectorXd out(v.cols());
        for (Index c = 0; c < v.cols(); ++c)
            out[c] = std::sqrt(std::max(
                0.0, inner_product(static_cast<std::size_t>(n_), v.col(c).data(), mv.col(c).data())));
        return out;
    }

    // Columns of next_ of unit mass and at right angles to the basis; those with nothing new go. `before`:
    // their lengths before anything was taken off, against which what is left may be rounding.
    void orthonormalise(const VectorXd& before) {
        for (int pass = 0; pass < 2 && used_ > 0; ++pass) {
            const MatrixXd part = MV_.leftCols(used_).transpose() * next_;
            next_.noalias() -= V_.leftCols(used_) * part;
            if (!op_.metric) next_mass_.noalias() -= MV_.leftCols(used_) * part;
        }
        next_mass_ = image_of(next_, next_mass_);
        Index kept = 0;
        for (Index c = 0; c < next_.cols(); ++c) {
            VectorXd v = next_.col(c);
            double size = 0.0;
            VectorXd mv = next_mass_.col(c);
            for (int pass = 0; pass < 2; ++pass) {
                if (kept > 0) {
                    const VectorXd part = next_mass_.leftCols(kept).transpose() * v;
                    v -= next_.leftCols(kept) * part;
                    mv -= next_mass_.leftCols(kept) * part;
                }
                mv = image_of(v, mv);
                size = std::sqrt(
                    std::max(0.0, inner_product(static_cast<std::size_t>(n_), v.data(), mv.data())));
            }
            if (!(size > 1e-11 * before[c]) || size == 0.0) continue;
            next_.col(kept) = v / size;
            next_mass_.col(kept) = mv / size;
            ++kept;
        }
        next_.conservativeResize(n_, kept);
        next_mass_.conservativeResize(n_, kept);
    }

    // Takes the block into the basis and makes the next one. False when nothing new is left.
    bool extend() {
        const Index b = next_.cols();
        if (b == 0) return false;
        const Index old = used_;
        if (used_ + b > V_.cols()) {
            const Index room = std::max<Index>(64, 3 * (used_ + b) / 2);
            V_.conservativeResize(n_, room);
            MV_.conservativeResize(n_, room);
        }
        V_.middleCols(used_, b) = next_;
        MV_.middleCols(used_, b) = next_mass_;
        used_ += b;
        auto [W, W_image] = op_.apply(next_, next_mass_);
        const VectorXd before = sizes(W, W_image);
        const MatrixXd H = MV_.leftCols(used_).transpose() * W;
        W.noalias() -= V_.leftCols(used_) * H;
        if (!op_.metric) W_image.noalias() -= MV_.leftCols(used_) * H;
        W_image = image_of(W, W_image);
        MatrixXd G = MatrixXd::Zero(old + b, old + b);
        G.topLeftCorner(old, old) = small_;
        G.rightCols(b) = H;
        G.bottomRows(b) = H.transpose();
        small_ = 0.5 * (G + G.transpose());
        // What the basis lacks: W in the mass norm, as coefficients of the last block.
        const MatrixXd gram = W.transpose() * W_image;
        const SymmetricEigen root = symmetric_eigen(0.5 * (gram + gram.transpose()));
        // Rounding takes values of nothing below it, whose roots would pass for residuals of nothing.
        residual_ =
            root.vectors * root.values.cwiseMax(0.0).cwiseSqrt().asDiagonal() * root.vectors.transpose();
        last_ = b;
        next_ = std::move(W);
        next_mass_ = std::move(W_image);
        if (used_ >= n_) {
            next_.resize(n_, 0);
            next_mass_.resize(n_, 0);
        }
        if (next_.cols() > 0) orthonormalise(before);
        return next_.cols() > 0;
    }

    void solve_small() {
        const SymmetricEigen small = symmetric_eigen(small_);
        theta_ = small.values.reverse(); // the lowest modes first
        weights_ = small.vectors.rowwise().reverse();
    }

    // The leading pairs that have converged.
    Index converged() const {
        Index good = 0;
        for (; good < theta_.size() && theta_[good] > floor_; ++good)
            if (!(residual(good) <= wish_.tolerance * theta_[good])) break;
        return good;
    }

    double residual(Index i) const { return (residual_ * weights_.col(i).tail(last_)).norm(); }
    double lambda(Index i) const { return lambda_of_(theta_[i]); }

    // Whether no other eigenvalue than the converged ones can lie above the floor, as far as the basis tells.
    bool nothing_above(Index good) const {
        if (floor_ <= 0.0 || used_ < least_columns) return false;
        return good >= theta_.size() || theta_[good] + residual(good) <= floor_;
    }

    bool covers(Index good) const {
        return good >= wish_.count && good > 0 && lambda(good - 1) > wish_.up_to;
    }

    void restart(Index good) {
        const Index keep = std::min(std::max<Index>(good, wish_.count) + 2 * block_width, theta_.size() - 1);
        const MatrixXd S = weights_.leftCols(keep);
        V_.leftCols(keep) = (V_.leftCols(used_) * S).eval();
        MV_.leftCols(keep) = (MV_.leftCols(used_) * S).eval();
        small_ = theta_.head(keep).asDiagonal();
        used_ = keep;
    }

    EigenPairs result(Index good, int steps) const {
        EigenPairs out;
        Index count = good;
        if (wish_.up_to > 0.0) {
            count = 0;
            while (count < good && (lambda(count) <= wish_.up_to)) ++count;
        } else {
            count = std::min<Index>(good, wish_.count);
        }
        out.steps = steps;
        out.values.resize(count);
        for (Index i = 0; i < count; ++i) out.values[i] = lambda(i);
        out.vectors = V_.leftCols(used_) * weights_.leftCols(count);
        return out;
    }

    const SymmetricOperator& op_;
    const EigenWish& wish_;
    Index n_;
    double floor_;
    std::function<double(double)> lambda_of_;
    MatrixXd V_, MV_, next_, next_mass_;
    MatrixXd small_, residual_, weights_;
    VectorXd theta_;
    Index used_ = 0, last_ = 0; // columns of the basis, and of its last block
};

} // namespace

EigenPairs lowest_modes(const EigenProblem& problem, const EigenWish& wish) {
    SymmetricOperator op;
    op.length = problem.mass.rows();
    op.metric = [&](const MatrixXd& v) -> MatrixXd { return problem.mass * v; };
    op.apply = [&](const MatrixXd& /*v*/, const MatrixXd& image) {
        SymmetricOperator::Block out{problem.inverse(image), {}};
        out.image = problem.mass * out.value;
        return out;
    };
    return Lanczos(op, wish, 0.0, [&](double theta) { return 1.0 / theta - problem.shift; }).run();
}

EigenPairs largest_eigenvalues(const SymmetricOperator& op, const EigenWish& wish, double floor) {
    EigenWish by_count = wish;
    by_count.up_to = 0.0;
    return Lanczos(op, by_count, floor, [](double theta) { return theta; }).run();
}

} // namespace upright
