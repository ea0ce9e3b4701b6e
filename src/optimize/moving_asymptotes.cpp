#include "optimize/moving_asymptotes.hpp"

#include "base/reduction.hpp"
#include "optimize/dual_strip.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <optional>

namespace upright {

namespace {

// Long sums are made of blocks, whatever the number of threads: results do not depend on it.
constexpr std::size_t block = 2048;
constexpr int most_newton = 40; // for each level of the barrier
constexpr int most_halvings = 10;
constexpr double last_barrier = 1e-9; // of the largest weight in the problem
constexpr int most_looks = 200;       // at the dual function: beyond, the interior point method goes on
constexpr double dual_exact = 1e-10;  // constraints at its end, of their size or of one
constexpr double armijo = 1e-4, rounding = 1e-11;
constexpr double least_distance = 1e-20; // of a variable from its limit

// Of what each block found: `width` sums, over all peers.
std::vector<double> sum_of_parts(const std::vector<double>& parts, std::size_t width) {
    std::vector<double> out(width, 0.0);
    for (std::size_t k = 0; k < parts.size(); ++k) out[k % width] += parts[k];
    total(out.data(), width);
    return out;
}

// The separable approximation: f_i = r_i + sum_j p_ij / (U_j - x_j) + q_ij / (x_j - L_j). Row 0 is the goal.
// Its p, q and the limits of the step are made a strip at a time: kept they would be more than all else that
// a step of many variables needs. Refers to what it is made of.
struct Approximation {
    const MmaPoint& at;
    const MmaSettings& settings;
    const std::vector<double>& low; // asymptotes
    const std::vector<double>& high;
    std::size_t n = 0, m = 0;
    std::vector<double> floor; // m + 1: the curvature that every variable has
    std::vector<double> rest;  // r, m + 1

    double slope(std::size_t i, std::size_t j) const {
        return i == 0 ? at.values.goal_gradient[j] : at.values.gradient[i - 1][j];
    }
    // Where variables from `j` on stand.
    StripPoint point(std::size_t j, std::size_t count) const {
        const bool unit = at.low.empty();
        return {count,
                at.x.data() + j,
                low.data() + j,
                high.data() + j,
                unit ? nullptr : at.low.data() + j,
                unit ? nullptr : at.high.data() + j,
                at.move,
                settings.conserve};
    }
    // Their p and q: m + 1 rows of dual_strip.
    void curves(const StripPoint& point, std::size_t j, double* p, double* q) const {
        for (std::size_t i = 0; i <= m; ++i) {
            const std::vector<double>& g = i == 0 ? at.values.goal_gradient : at.values.gradient[i - 1];
            find_curves(point, g.data() + j, floor[i], p + i * dual_strip, q + i * dual_strip);
        }
    }
};

// Calls with the first variable of every strip of a block and how many it has.
template <class Each> void strips_of(std::size_t b, std::size_t n, const Each& each) {
    const std::size_t end = std::min(n, (b + 1) * block);
    for (std::size_t j = b * block; j < end; j += dual_strip) each(j, std::min(dual_strip, end - j));
}

// The sums over the variables of p / (high - x) + q / (x - low), one of each function.
std::vector<double> terms_at(const Approximation& a, const std::vector<double>& x) {
    const std::size_t w = a.m + 1;
    const std::size_t blocks = (a.n + block - 1) / block;
    std::vector<double> parts(blocks * w, 0.0);
#pragma omp parallel for schedule(static) if (blocks > 2)
    for (std::size_t b = 0; b < blocks; ++b) {
        double* part = parts.data() + b * w;
        std::vector<double> room(2 * w * dual_strip);
        double* p = room.data();
        double* q = p + w * dual_strip;
        strips_of(b, a.n, [&](std::size_t j, std::size_t count) {
            a.curves(a.point(j, count), j, p, q);
            for (std::size_t k = 0; k < count; ++k) {
                const double up = 1.0 / (a.high[j + k] - x[j + k]);
                const double down = 1.0 / (x[j + k] - a.low[j + k]);
                for (std::size_t i = 0; i < w; ++i)
                    part[i] += p[i * dual_strip + k] * up + q[i * dual_strip + k] * down;
            }
        });
    }
    return sum_of_parts(parts, w);
}

Approximation approximate(const MmaPoint& at, const MmaSettings& settings, const MmaState& state) {
    const MmaValues& values = at.values;
    Approximation out{at, settings, state.low, state.high, at.x.size(), values.constraint.size(), {}, {}};
    const std::size_t w = out.m + 1;
    const std::int64_t count = total(static_cast<std::int64_t>(out.n));
    // The constant that keeps every variable curved goes with the size of the gradients.
    out.floor.assign(w, 0.0);
    for (std::size_t i = 0; i < w; ++i) {
        const double sum = sum_over(
            out.n, [&](std::size_t j) { return std::abs(out.slope(i, j)) * (at.most(j) - at.least(j)); });
        out.floor[i] = 1e-5 * sum / static_cast<double>(std::max<std::int64_t>(1, count));
        if (!state.extra.empty()) out.floor[i] += state.extra[i];
    }
    const std::vector<double> terms = terms_at(out, at.x);
    out.rest.assign(w, 0.0);
    for (std::size_t i = 0; i < w; ++i)
        out.rest[i] = (i == 0 ? values.goal : values.constraint[i - 1]) - terms[i];
    return out;
}

std::vector<double> approximate_at(const Approximation& a, const std::vector<double>& x) {
    std::vector<double> out = terms_at(a, x);
    for (std::size_t i = 0; i < out.size(); ++i) out[i] += a.rest[i];
    return out;
}

// The subproblem by its dual, which has a variable for each constraint alone: given multipliers every
// variable has its best place in closed form, but for logarithms (dual_strip.hpp). Concave with a continuous
// slope; Newton's steps projected onto what is not negative (Bertsekas 1982) with steps back. Serves problems
// without z.
class DualProblem {
  public:
    DualProblem(const Approximation& a, const MmaSettings& settings)
        : a_(a), m_(a.m), w_(a.m + 1), blocks_((a.n + block - 1) / block), c_(settings.c), d_(settings.d) {}

    // Nothing where it does not come to an end.
    std::optional<MmaStep> run(const std::vector<double>& start) {
        const auto m = static_cast<Eigen::Index>(m_);
        Eigen::VectorXd lambda = Eigen::VectorXd::Ones(m);
        if (start.size() == m_) lambda = Eigen::Map<const Eigen::VectorXd>(start.data(), m);
        Look now = look(lambda);
        while (!(left(lambda, now) <= dual_exact)) {
            if (looks_ > most_looks) return std::nullopt;
            const Eigen::VectorXd way = direction(lambda, now);
            bool better = false;
            for (double length = 1.0; length > 1e-9 && !better; length *= 0.5) {
                const Eigen::VectorXd to = (lambda + length * way).cwiseMax(0.0);
                const Look there = look(to);
                const double asked = now.value + armijo * now.slope.dot(to - lambda);
                if (!(there.value >= asked - rounding * std::abs(now.value))) continue;
                lambda = to;
                now = there;
                better = true;
            }
            if (!better) return std::nullopt;
        }
        MmaStep out;
        out.newton_steps = looks_;
        out.x.resize(a_.n);
#pragma omp parallel for schedule(static) if (blocks_ > 2)
        for (std::size_t b = 0; b < blocks_; ++b)
            strips(b, [&](std::size_t j, const DualStrip& strip) {
                best_places(strip, lambda.data(), out.x.data() + j);
            });
        for (std::size_t i = 0; i < m_; ++i) {
            out.multiplier.push_back(lambda[static_cast<Eigen::Index>(i)]);
            out.y.push_back(std::max(0.0, (out.multiplier[i] - c_) / d_));
        }
        return out;
    }

  private:
    struct Look {
        double value = 0.0;
        Eigen::VectorXd slope; // what is left of each constraint
        Eigen::MatrixXd curve; // minus the second derivatives
    };
    // The strips of a block, with the number of the first variable of each.
    template <class Each> void strips(std::size_t b, const Each& each) const {
        std::vector<double> room(2 * (w_ + 1) * dual_strip);
        double* p = room.data();
        double* q = p + w_ * dual_strip;
        double* lower = q + w_ * dual_strip;
        double* upper = lower + dual_strip;
        strips_of(b, a_.n, [&](std::size_t j, std::size_t count) {
            const StripPoint point = a_.point(j, count);
            a_.curves(point, j, p, q);
            find_limits(point, lower, upper);
            each(j, DualStrip{count, m_, p, q, lower, upper, a_.low.data() + j, a_.high.data() + j});
        });
    }

    Look look(const Eigen::VectorXd& lambda) {
        ++looks_;
        const std::size_t triangle = m_ * (m_ + 1) / 2;
        const std::size_t width = 1 + m_ + triangle;
        std::vector<double> parts(blocks_ * width, 0.0);
#pragma omp parallel for schedule(static) if (blocks_ > 2)
        for (std::size_t b = 0; b < blocks_; ++b) {
            strips(b, [&](std::size_t, const DualStrip& strip) {
                add_dual_sums(strip, lambda.data(), parts.data() + b * width);
            });
        }
        const std::vector<double> sums = sum_of_parts(parts, width);
        const auto m = static_cast<Eigen::Index>(m_);
        Look out{sums[0] + a_.rest[0], Eigen::VectorXd(m), Eigen::MatrixXd::Zero(m, m)};
        const double* row = sums.data() + 1 + m_;
        for (Eigen::Index i = 0; i < m; ++i) {
            for (Eigen::Index k = 0; k <= i; ++k) out.curve(i, k) = out.curve(k, i) = *row++;
            const double rest = a_.rest[static_cast<std::size_t>(i) + 1];
            const double above = std::max(0.0, lambda[i] - c_);
            out.value += lambda[i] * rest - 0.5 * above * above / d_;
            out.slope[i] = sums[1 + static_cast<std::size_t>(i)] + rest - above / d_;
            if (above > 0.0) out.curve(i, i) += 1.0 / d_;
        }
        return out;
    }

    // How far the worst constraint is from what it should be, of its size or of one.
    double left(const Eigen::VectorXd& lambda, const Look& now) const {
        double out = 0.0;
        for (Eigen::Index i = 0; i < lambda.size(); ++i) {
            const double one = lambda[i] > 0.0 ? std::abs(now.slope[i]) : std::max(0.0, now.slope[i]);
            out = std::max(out, one / std::max(1.0, std::abs(a_.rest[static_cast<std::size_t>(i) + 1])));
        }
        return out;
    }

    // Newton's step of those that are not held at zero, where those that it would take below go to zero and
    // no further; none grows more than tenfold, for where most variables are at their limits the curvature
    // says little.
    Eigen::VectorXd direction(const Eigen::VectorXd& lambda, const Look& now) const {
        const Eigen::Index m = lambda.size();
        Eigen::VectorXd out = Eigen::VectorXd::Zero(m);
        std::vector<Eigen::Index> free;
        for (Eigen::Index i = 0; i < m; ++i)
            if (lambda[i] > 0.0 || now.slope[i] > 0.0) free.push_back(i);
        while (!free.empty()) {
            const auto count = static_cast<Eigen::Index>(free.size());
            Eigen::MatrixXd curve(count, count);
            Eigen::VectorXd slope(count);
            const Eigen::VectorXd left = now.slope - now.curve * out; // with what is fixed by now
            for (Eigen::Index i = 0; i < count; ++i) {
                slope[i] = left[free[static_cast<std::size_t>(i)]];
                for (Eigen::Index k = 0; k < count; ++k)
                    curve(i, k) =
                        now.curve(free[static_cast<std::size_t>(i)], free[static_cast<std::size_t>(k)]);
            }
            curve.diagonal().array() += 1e-12 * curve.diagonal().maxCoeff() + 1e-300;
            const Eigen::VectorXd step = curve.ldlt().solve(slope);
            std::vector<Eigen::Index> rest;
            for (Eigen::Index i = 0; i < count; ++i) {
                const Eigen::Index k = free[static_cast<std::size_t>(i)];
                if (lambda[k] + step[i] < 0.0)
                    out[k] = -lambda[k];
                else
                    rest.push_back(k);
            }
            if (rest.size() == free.size()) {
                for (Eigen::Index i = 0; i < count; ++i) out[free[static_cast<std::size_t>(i)]] = step[i];
                break;
            }
            free = rest;
        }
        if (!out.allFinite() || !(out.dot(now.slope) > 0.0))
            for (Eigen::Index i = 0; i < m; ++i)
                out[i] = std::max(now.slope[i], lambda[i] > 0.0 ? -lambda[i] : 0.0);
        double share = 1.0;
        for (Eigen::Index i = 0; i < m; ++i) {
            double most = std::max(1.0, 9.0 * lambda[i]);
            // At the price the curvature jumps: not much beyond.
            if (lambda[i] < c_) most = std::min(most, c_ - lambda[i] + d_ * std::max(0.0, now.slope[i]));
            if (out[i] > share * most) share = most / out[i];
        }
        return share * out;
    }

    const Approximation& a_;
    std::size_t m_, w_, blocks_;
    double c_, d_;
    int looks_ = 0;
};

// The interior point method on the subproblem.
class Subproblem {
  public:
    Subproblem(const Approximation& a, const MmaSettings& settings)
        : a_(a), n_(a.n), m_(a.m), w_(a.m + 1), blocks_((a.n + block - 1) / block), c_(settings.c),
          d_(settings.d) {
        share_ = settings.a;
        share_.resize(m_, 0.0);
        p_.resize(n_ * w_);
        q_.resize(n_ * w_);
        lower_.resize(n_);
        upper_.resize(n_);
        std::vector<double> room(2 * w_ * dual_strip);
        for (std::size_t b = 0; b < blocks_; ++b)
            strips_of(b, n_, [&](std::size_t j, std::size_t count) {
                const StripPoint point = a.point(j, count);
                a.curves(point, j, room.data(), room.data() + w_ * dual_strip);
                find_limits(point, lower_.data() + j, upper_.data() + j);
                for (std::size_t k = 0; k < count; ++k)
                    for (std::size_t i = 0; i < w_; ++i) {
                        p_[(j + k) * w_ + i] = room[i * dual_strip + k];
                        q_[(j + k) * w_ + i] = room[(w_ + i) * dual_strip + k];
                    }
            });
    }

    MmaStep run() {
        x.resize(n_);
        xi.resize(n_);
        eta.resize(n_);
        for (std::size_t j = 0; j < n_; ++j) {
            x[j] = 0.5 * (lower_[j] + upper_[j]);
            const double half = std::max(0.5 * (upper_[j] - lower_[j]), 1e-9);
            xi[j] = std::max(1.0, 1.0 / half);
            eta[j] = xi[j];
        }
        y.assign(m_, 1.0);
        z = 1.0;
        lambda.assign(m_, 1.0);
        mu.assign(m_, std::max(1.0, 0.5 * c_));
        zeta = 1.0;
        s.assign(m_, 1.0);
        dx_.resize(n_);
        dxi_.resize(n_);
        deta_.resize(n_);
        MmaStep out;
        for (double barrier = 1.0; barrier > last_barrier; barrier *= 0.1) {
            Residual now = residual(barrier);
            for (int i = 0; i < most_newton && now.largest > 0.9 * barrier; ++i) {
                ++out.newton_steps;
                now = newton(barrier, now);
                if (!now.moved) break;
            }
        }
        out.x = x;
        for (std::size_t j = 0; j < n_; ++j) out.x[j] = std::clamp(x[j], lower_[j], upper_[j]);
        out.z = z;
        out.y = y;
        out.multiplier = lambda;
        return out;
    }

  private:
    struct Residual {
        double square = 0.0, largest = 0.0;
        bool moved = true;
        void take(double r) {
            square += r * r;
            largest = std::max(largest, std::abs(r));
        }
    };

    // How far a variable is from its limits: of slopes of any size less than numbers tell apart, and not
    // nothing, by which is divided.
    double above_lower(std::size_t j) const { return std::max(x[j] - lower_[j], least_distance); }
    double below_upper(std::size_t j) const { return std::max(upper_[j] - x[j], least_distance); }

    // Sums of lambda-weighted p and q at a variable.
    void weighted(std::size_t j, double& p, double& q) const {
        p = p_[j * w_];
        q = q_[j * w_];
        for (std::size_t i = 0; i < m_; ++i) {
            p += lambda[i] * p_[j * w_ + i + 1];
            q += lambda[i] * q_[j * w_ + i + 1];
        }
    }

    // Also leaves the constraints' values in g_.
    Residual residual(double barrier) {
        std::vector<Residual> parts(blocks_);
        std::vector<double> sums(blocks_ * m_, 0.0);
#pragma omp parallel for schedule(static) if (blocks_ > 2)
        for (std::size_t b = 0; b < blocks_; ++b) {
            Residual& r = parts[b];
            double* g = sums.data() + b * m_;
            for (std::size_t j = b * block; j < std::min(n_, (b + 1) * block); ++j) {
                const double up = 1.0 / (a_.high[j] - x[j]);
                const double down = 1.0 / (x[j] - a_.low[j]);
                double p = 0.0;
                double q = 0.0;
                weighted(j, p, q);
                r.take(p * up * up - q * down * down - xi[j] + eta[j]);
                r.take(xi[j] * (x[j] - lower_[j]) - barrier);
                r.take(eta[j] * (upper_[j] - x[j]) - barrier);
                for (std::size_t i = 0; i < m_; ++i)
                    g[i] += p_[j * w_ + i + 1] * up + q_[j * w_ + i + 1] * down;
            }
        }
        Residual out;
        g_.assign(m_, 0.0);
        for (std::size_t b = 0; b < blocks_; ++b) {
            out.square += parts[b].square;
            out.largest = std::max(out.largest, parts[b].largest);
            for (std::size_t i = 0; i < m_; ++i) g_[i] += sums[b * m_ + i];
        }
        out.square = total(out.square);
        out.largest = largest_of_all(out.largest);
        total(g_.data(), m_);
        double tied = 0.0;
        for (std::size_t i = 0; i < m_; ++i) {
            g_[i] += a_.rest[i + 1];
            tied += share_[i] * lambda[i];
            out.take(c_ + d_ * y[i] - mu[i] - lambda[i]);
            out.take(g_[i] - share_[i] * z - y[i] + s[i]);
            out.take(mu[i] * y[i] - barrier);
            out.take(lambda[i] * s[i] - barrier);
        }
        out.take(1.0 - zeta - tied);
        out.take(zeta * z - barrier);
        return out;
    }

    Residual newton(double barrier, const Residual& before) {
        // What the short vectors' own equations say.
        std::vector<double> dy_slope(m_);
        std::vector<double> dy_curve(m_);
        for (std::size_t i = 0; i < m_; ++i) {
            dy_slope[i] = c_ + d_ * y[i] - lambda[i] - barrier / y[i];
            dy_curve[i] = d_ + mu[i] / y[i];
        }
        const Eigen::VectorXd step = reduced_step(barrier, dy_slope, dy_curve);
        Short change;
        change.z = step[static_cast<Eigen::Index>(m_)];
        // How much of the step keeps everything positive: its inverse.
        double most = 1.0;
        for (std::size_t i = 0; i < m_; ++i) {
            const double dlambda = step[static_cast<Eigen::Index>(i)];
            const double dy = -dy_slope[i] / dy_curve[i] + dlambda / dy_curve[i];
            change.lambda.push_back(dlambda);
            change.y.push_back(dy);
            change.mu.push_back(-mu[i] + barrier / y[i] - mu[i] * dy / y[i]);
            change.s.push_back(-s[i] + barrier / lambda[i] - s[i] * dlambda / lambda[i]);
            most = std::max({most, keep(y[i], dy), keep(lambda[i], dlambda), keep(mu[i], change.mu[i]),
                             keep(s[i], change.s[i])});
        }
        change.zeta = -zeta + barrier / z - zeta * change.z / z;
        most =
            std::max({most, keep(z, change.z), keep(zeta, change.zeta), long_step(barrier, change.lambda)});
        return search(barrier, before, change, 1.0 / most);
    }

    // The change of what is short: one of each constraint, and z.
    struct Short {
        std::vector<double> y, lambda, mu, s;
        double z = 0.0, zeta = 0.0;
    };

    // By how much more than all of it a step would take a value to zero (and a little beyond).
    static double keep(double value, double change) {
        return -1.01 * change / value;
    }

    // The reduced system in lambda and z, solved.
    Eigen::VectorXd reduced_step(double barrier, const std::vector<double>& dy_slope,
                                 const std::vector<double>& dy_curve) const {
        const auto m = static_cast<Eigen::Index>(m_);
        const std::vector<double> sums = normal_sums(barrier);
        Eigen::MatrixXd A = Eigen::MatrixXd::Zero(m + 1, m + 1);
        Eigen::VectorXd rhs = Eigen::VectorXd::Zero(m + 1);
        const double* part = sums.data();
        for (Eigen::Index i = 0; i < m; ++i)
            for (Eigen::Index k = 0; k <= i; ++k) A(i, k) = *part++;
        for (Eigen::Index i = 0; i < m; ++i) rhs[i] = -*part++;
        A = Eigen::MatrixXd(A.selfadjointView<Eigen::Lower>());
        double tied = 0.0;
        for (std::size_t i = 0; i < m_; ++i) {
            const auto k = static_cast<Eigen::Index>(i);
            A(k, k) += s[i] / lambda[i] + 1.0 / dy_curve[i];
            rhs[k] += g_[i] - share_[i] * z - y[i] + barrier / lambda[i] + dy_slope[i] / dy_curve[i];
            A(k, m) = A(m, k) = share_[i];
            tied += share_[i] * lambda[i];
        }
        A(m, m) = -zeta / z;
        rhs[m] = 1.0 - tied - barrier / z;
        return A.partialPivLu().solve(rhs);
    }

    // Over the variables: the lower triangle by rows of the constraints' part of the system, and its
    // right-hand side after it.
    std::vector<double> normal_sums(double barrier) const {
        const std::size_t triangle = m_ * (m_ + 1) / 2;
        std::vector<double> parts(blocks_ * (triangle + m_), 0.0);
#pragma omp parallel for schedule(static) if (blocks_ > 2)
        for (std::size_t b = 0; b < blocks_; ++b) {
            double* A = parts.data() + b * (triangle + m_);
            double* r = A + triangle;
            std::vector<double> room(m_);
            double* G = room.data();
            for (std::size_t j = b * block; j < std::min(n_, (b + 1) * block); ++j) {
                double slope = 0.0;
                double curve = 0.0;
                at(j, barrier, G, slope, curve);
                const double soft = 1.0 / curve;
                double* row = A;
                for (std::size_t i = 0; i < m_; ++i) {
                    const double scaled = soft * G[i];
                    for (std::size_t k = 0; k <= i; ++k) row[k] += scaled * G[k];
                    row += i + 1;
                    r[i] += slope * scaled;
                }
            }
        }
        std::vector<double> out(triangle + m_, 0.0);
        for (std::size_t b = 0; b < blocks_; ++b)
            for (std::size_t i = 0; i < out.size(); ++i) out[i] += parts[b * out.size() + i];
        total(out.data(), out.size());
        return out;
    }

    // The change of the variables and of the multipliers of their limits, and what keeps them positive.
    double long_step(double barrier, const std::vector<double>& dlambda) {
        std::vector<double> most_of(blocks_, 1.0);
#pragma omp parallel for schedule(static) if (blocks_ > 2)
        for (std::size_t b = 0; b < blocks_; ++b) {
            std::vector<double> room(m_);
            double* G = room.data();
            for (std::size_t j = b * block; j < std::min(n_, (b + 1) * block); ++j) {
                double slope = 0.0;
                double curve = 0.0;
                at(j, barrier, G, slope, curve);
                double change = -slope;
                for (std::size_t i = 0; i < m_; ++i) change -= G[i] * dlambda[i];
                change /= curve;
                const double below = above_lower(j);
                const double above = below_upper(j);
                dx_[j] = change;
                dxi_[j] = -xi[j] + barrier / below - xi[j] * change / below;
                deta_[j] = -eta[j] + barrier / above + eta[j] * change / above;
                most_of[b] = std::max({most_of[b], keep(below, change), keep(above, -change),
                                       keep(xi[j], dxi_[j]), keep(eta[j], deta_[j])});
            }
        }
        double most = 1.0;
        for (const double one : most_of) most = std::max(most, one);
        return largest_of_all(most);
    }

    // Steps back until the residual falls.
    Residual search(double barrier, const Residual& before, const Short& change, double length) {
        const Short from{y, lambda, mu, s, z, zeta};
        double taken = 0.0; // of the step, in the long vectors
        Residual now;
        for (int half = 0;; ++half) {
            const double more = length - taken;
#pragma omp parallel for schedule(static) if (blocks_ > 2)
            for (std::size_t j = 0; j < n_; ++j) {
                x[j] += more * dx_[j];
                xi[j] += more * dxi_[j];
                eta[j] += more * deta_[j];
            }
            taken = length;
            for (std::size_t i = 0; i < m_; ++i) {
                y[i] = from.y[i] + length * change.y[i];
                lambda[i] = from.lambda[i] + length * change.lambda[i];
                mu[i] = from.mu[i] + length * change.mu[i];
                s[i] = from.s[i] + length * change.s[i];
            }
            z = from.z + length * change.z;
            zeta = from.zeta + length * change.zeta;
            now = residual(barrier);
            if (now.square < before.square || half == most_halvings) break;
            length *= 0.5;
        }
        now.moved = std::isfinite(now.square) && length > 1e-12;
        return now;
    }

    // The gradients of the constraints at a variable, and slope and curvature of the Lagrangian there.
    void at(std::size_t j, double barrier, double* G, double& slope, double& curve) const {
        const double up = 1.0 / (a_.high[j] - x[j]);
        const double down = 1.0 / (x[j] - a_.low[j]);
        const double up2 = up * up;
        const double down2 = down * down;
        double p = p_[j * w_];
        double q = q_[j * w_];
        const double* pj = p_.data() + j * w_ + 1;
        const double* qj = q_.data() + j * w_ + 1;
        for (std::size_t i = 0; i < m_; ++i) {
            p += lambda[i] * pj[i];
            q += lambda[i] * qj[i];
            G[i] = pj[i] * up2 - qj[i] * down2;
        }
        const double below = above_lower(j);
        const double above = below_upper(j);
        slope = p * up2 - q * down2 - barrier / below + barrier / above;
        curve = 2.0 * (p * up2 * up + q * down2 * down) + xi[j] / below + eta[j] / above;
    }

    const Approximation& a_;
    std::size_t n_, m_, w_, blocks_;
    double c_, d_;
    std::vector<double> share_;
    std::vector<double> p_, q_; // n rows of m + 1
    std::vector<double> lower_, upper_;
    std::vector<double> x, xi, eta, y, lambda, mu, s;
    double z = 1.0, zeta = 1.0;
    std::vector<double> g_, dx_, dxi_, deta_;
};

MmaStep solve(const Approximation& a, const MmaSettings& settings, const std::vector<double>& multiplier) {
    const bool without_z =
        std::all_of(settings.a.begin(), settings.a.end(), [](double v) { return v == 0.0; });
    std::optional<MmaStep> by_dual;
    if (total(static_cast<std::int64_t>(a.n)) >= settings.dual_from && without_z && settings.d > 0.0)
        by_dual = DualProblem(a, settings).run(multiplier);
    MmaStep out = by_dual ? std::move(*by_dual) : Subproblem(a, settings).run();
    out.expected = approximate_at(a, out.x);
    out.distance = sum_over(a.n, [&](std::size_t j) {
        const double step = out.x[j] - a.at.x[j];
        return (a.high[j] - a.low[j]) * step * step /
               ((a.high[j] - out.x[j]) * (out.x[j] - a.low[j]) * a.at.range(j));
    });
    return out;
}

} // namespace

MmaStep mma_step(const MmaPoint& at, const MmaSettings& settings, MmaState& state) {
    const std::vector<double>& x = at.x;
    const std::size_t n = x.size();
    const bool young = state.steps < 2 || state.before2.size() != n;
    state.low.resize(n);
    state.high.resize(n);
#pragma omp parallel for schedule(static) if (n > 2 * block)
    for (std::size_t j = 0; j < n; ++j) {
        const double range = at.range(j);
        if (young) {
            state.low[j] = x[j] - settings.first * range;
            state.high[j] = x[j] + settings.first * range;
            continue;
        }
        const double turn = (x[j] - state.before[j]) * (state.before[j] - state.before2[j]);
        const double factor = turn > 0.0 ? settings.widen : turn < 0.0 ? settings.narrow : 1.0;
        const double below = factor * (state.before[j] - state.low[j]);
        const double above = factor * (state.high[j] - state.before[j]);
        state.low[j] = x[j] - std::clamp(below, settings.nearest * range, settings.farthest * range);
        state.high[j] = x[j] + std::clamp(above, settings.nearest * range, settings.farthest * range);
    }
    state.before2 = state.before;
    state.before = x;
    ++state.steps;
    MmaStep out = mma_again(at, settings, state);
    state.multiplier = out.multiplier;
    return out;
}

MmaStep mma_again(const MmaPoint& at, const MmaSettings& settings, const MmaState& state) {
    return solve(approximate(at, settings, state), settings, state.multiplier);
}

bool mma_raise(const MmaStep& step, const std::vector<double>& found, double tolerance, MmaState& state) {
    bool raised = false;
    for (std::size_t i = 0; i < found.size(); ++i) {
        const double above = found[i] - step.expected[i];
        if (above <= tolerance * std::max(1.0, std::abs(found[i]))) continue;
        const double more = above / std::max(step.distance, 1e-300);
        state.extra[i] = std::min(10.0 * state.extra[i], 1.1 * (state.extra[i] + more));
        raised = true;
    }
    return raised;
}

void mma_start_conservative(const MmaValues& values, MmaState& state) {
    const std::int64_t n = total(static_cast<std::int64_t>(values.goal_gradient.size()));
    state.extra.assign(values.constraint.size() + 1, 0.0);
    for (std::size_t i = 0; i < state.extra.size(); ++i) {
        const std::vector<double>& g = i == 0 ? values.goal_gradient : values.gradient[i - 1];
        const double sum = sum_over(g.size(), [&](std::size_t j) { return std::abs(g[j]); });
        state.extra[i] = std::max(1e-6, 0.1 * sum / static_cast<double>(std::max<std::int64_t>(1, n)));
    }
}

} // namespace upright
