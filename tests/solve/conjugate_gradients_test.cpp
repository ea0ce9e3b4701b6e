#include "solve/conjugate_gradients.hpp"

#include <Eigen/Dense>
#include <gtest/gtest.h>

using namespace upright;

namespace {

// A dense system; preconditioned by its diagonal, or by nothing at all.
class DenseSystem : public IterativeSystem {
  public:
    DenseSystem(Eigen::MatrixXd a, bool diagonal) : a_(std::move(a)), diagonal_(diagonal) {}
    std::size_t length() const override { return static_cast<std::size_t>(a_.rows()); }
    double multiply(double* v, double* out) override {
        ++products;
        const Eigen::Map<Eigen::VectorXd> x(v, a_.rows());
        Eigen::Map<Eigen::VectorXd>(out, a_.rows()) = a_ * x;
        return x.dot(a_ * x);
    }
    double multiply(float* v, double* out) override {
        Eigen::VectorXd wide = Eigen::Map<Eigen::VectorXf>(v, a_.rows()).cast<double>();
        return multiply(wide.data(), out);
    }
    void precondition(float* const* r, float* const* z, int count) override {
        for (int c = 0; c < count; ++c)
            for (Eigen::Index i = 0; i < a_.rows(); ++i)
                z[c][i] = diagonal_ ? r[c][i] / static_cast<float>(a_(i, i)) : r[c][i];
    }
    int threads() const override { return 1; }
    int products = 0;

  private:
    Eigen::MatrixXd a_;
    bool diagonal_;
};

Eigen::MatrixXd graded(int n, double spread) {
    Eigen::MatrixXd a = Eigen::MatrixXd::Zero(n, n);
    for (int i = 0; i < n; ++i) {
        a(i, i) = 2.5 * std::pow(spread, static_cast<double>(i) / (n - 1));
        if (i > 0) a(i, i - 1) = a(i - 1, i) = -0.9 * std::sqrt(a(i - 1, i - 1) * a(i, i)) / 2.5;
    }
    return a;
}

struct Solved {
    Eigen::MatrixXd x;
    IterationCount count;
};
Solved solved(DenseSystem& system, Eigen::MatrixXd b, const Eigen::MatrixXd* start, const SolveWish& wish) {
    Solved out;
    out.x = start != nullptr ? *start : Eigen::MatrixXd::Zero(b.rows(), b.cols());
    std::vector<double*> left, right;
    for (Eigen::Index c = 0; c < b.cols(); ++c) {
        right.push_back(b.col(c).data());
        left.push_back(out.x.col(c).data());
    }
    out.count = conjugate_gradients(system, right, left, start != nullptr, wish);
    return out;
}

} // namespace

TEST(ConjugateGradients, SolveSeveralRightSidesBesideEachOther) {
    const Eigen::MatrixXd a = graded(60, 1e4);
    DenseSystem system(a, true);
    Eigen::MatrixXd b = Eigen::MatrixXd::Zero(60, 6); // more than are preconditioned at once
    for (int c = 0; c < 6; ++c) b(c * 9, c) = std::pow(10.0, 3 * c - 6);
    b.col(3).setOnes();
    const Solved out = solved(system, b, nullptr, {});
    EXPECT_TRUE(out.count.converged);
    const Eigen::MatrixXd exact = a.ldlt().solve(b);
    for (int c = 0; c < 6; ++c) {
        const Eigen::VectorXd off = out.x.col(c) - exact.col(c);
        // The wish is for the energy of the error.
        EXPECT_LT(off.dot(a * off), 1e-15 * exact.col(c).dot(b.col(c))) << c;
    }
}

TEST(ConjugateGradients, ASideOfNothingIsNothing) {
    DenseSystem system(graded(20, 10), true);
    Eigen::MatrixXd b = Eigen::MatrixXd::Zero(20, 2);
    b(3, 1) = 1.0;
    const Solved out = solved(system, b, nullptr, {});
    EXPECT_TRUE(out.count.converged);
    EXPECT_EQ(out.x.col(0).norm(), 0.0);
    EXPECT_GT(out.x.col(1).norm(), 0.0);
}

TEST(ConjugateGradients, StopWhereTheResidualIsAskedFor) {
    const Eigen::MatrixXd a = graded(80, 1e3);
    const Eigen::MatrixXd b = Eigen::MatrixXd::Ones(80, 1);
    SolveWish rough, fine;
    rough.residual = 1e-2;
    fine.residual = 1e-9;
    DenseSystem system(a, true);
    const Solved low = solved(system, b, nullptr, rough);
    const Solved high = solved(system, b, nullptr, fine);
    EXPECT_LT((a * low.x - b).norm(), 1e-2 * b.norm() * 1.01);
    EXPECT_LT((a * high.x - b).norm(), 1e-9 * b.norm() * 1.01);
    EXPECT_LT(low.count.most, high.count.most);
}

TEST(ConjugateGradients, AStartThatIsRightUpToAFactorCostsNothing) {
    const Eigen::MatrixXd a = graded(80, 1e3);
    const Eigen::MatrixXd b = Eigen::MatrixXd::Ones(80, 1);
    const Eigen::MatrixXd start = 7.0 * a.ldlt().solve(b);
    DenseSystem system(a, true);
    const Solved out = solved(system, b, &start, {});
    EXPECT_LE(out.count.most, 2);
    EXPECT_LT((a * out.x - b).norm(), 1e-7 * b.norm());
}

TEST(ConjugateGradients, SayWhenTheyGiveUp) {
    // Without preconditioner and far too graded for the steps allowed.
    DenseSystem system(graded(600, 1e14), false);
    Eigen::MatrixXd b = Eigen::MatrixXd::Ones(600, 1);
    bool said = false;
    try {
        said = !solved(system, b, nullptr, {}).count.converged;
    } catch (const NoConvergence& refused) {
        said = true;
    }
    EXPECT_TRUE(said);
}

namespace {

// Preconditioned by a polynomial of Jacobi steps that is positive below 2 / weight alone, as a smoother whose
// bound of the spectrum is too low.
class BoldSystem : public DenseSystem {
  public:
    BoldSystem(const Eigen::MatrixXd& a, double weight, bool can_be_steadied)
        : DenseSystem(a, false), a_(a), weight_(weight), can_(can_be_steadied) {}
    void precondition(float* const* r, float* const* z, int count) override {
        for (int c = 0; c < count; ++c) {
            const Eigen::VectorXd b = Eigen::Map<Eigen::VectorXf>(r[c], a_.rows()).cast<double>();
            const Eigen::VectorXd once = weight_ * b;
            const Eigen::VectorXd twice = once + weight_ * (b - a_ * once);
            for (Eigen::Index i = 0; i < a_.rows(); ++i) z[c][i] = static_cast<float>(twice[i]);
        }
    }
    bool steady() override {
        ++asked;
        if (can_) weight_ /= 1.5;
        return can_;
    }
    int asked = 0;

  private:
    Eigen::MatrixXd a_;
    double weight_;
    bool can_;
};

} // namespace

// A residual that its preconditioner turns round is no residual of nothing.
TEST(ConjugateGradients, DoNotTakeALostDefinitenessForTheEnd) {
    const int n = 40;
    Eigen::MatrixXd a = Eigen::MatrixXd::Zero(n, n);
    for (int i = 0; i < n; ++i) a(i, i) = 1.0 + i % 3;
    a(7, 7) = 9.5; // one that a bound of 4 has not seen
    Eigen::VectorXd b = Eigen::VectorXd::Constant(n, 1e-3);
    b[7] = 1.0;
    const Eigen::VectorXd exact = a.ldlt().solve(b);
    for (const bool by_residual : {false, true})
        for (const bool can : {true, false}) {
            BoldSystem system(a, 0.5, can);
            SolveWish wish;
            if (by_residual) wish.residual = 1e-9;
            Eigen::VectorXd left = b;
            Eigen::VectorXd x = Eigen::VectorXd::Zero(n);
            const IterationCount count = conjugate_gradients(system, {left.data()}, {x.data()}, false, wish);
            EXPECT_GT(system.asked, 0);
            EXPECT_EQ(count.converged, can);
            if (can) EXPECT_LT((x - exact).norm(), 1e-6 * exact.norm());
        }
}
