// The method of moving asymptotes: any goal under any bounds.
#include "optimize/run/stepper.hpp"

#include "base/reduction.hpp"
#include "optimize/moving_asymptotes.hpp"

#include <algorithm>
#include <cmath>
#include <map>

namespace upright {

namespace {

constexpr int most_trials = 4; // of the globally convergent form, each iteration
constexpr double goal_size = 100.0;
// While a run for stress sharpens, steps are short: asymptotes as near or far as that many moves, or
// variables that swing would never come to rest.
constexpr double nearest_moves = 0.1, farthest_moves = 5.0;
// Of a bound that is broken, a unit of its logarithm: it grows where bounds stay broken for so many steps.
constexpr double first_price = 1000.0, price_growth = 3.0, highest_price = 1e7;
constexpr int patience = 3;

// A function of the optimiser: value and factor on the gradient of the smooth one that it is made of.
struct Scaled {
    double value = 0.0;
    double slope = 0.0;
};

// A bound as a logarithm: zero where value and limit agree, above it where the bound is broken. Ratios would
// grow without limit; where the ratio is small or of the wrong sign a straight line goes on.
Scaled as_bound(double value, double limit, bool upper, double size) {
    if (limit == 0.0) {
        const double sign = upper ? 1.0 : -1.0;
        return {sign * value / size, sign / size};
    }
    constexpr double straight_below = 0.3;
    const double ratio = value / limit;
    const double g = ratio > straight_below
                         ? std::log(ratio)
                         : std::log(straight_below) + (ratio - straight_below) / straight_below;
    const double slope = (ratio > straight_below ? 1.0 / ratio : 1.0 / straight_below) / limit;
    // "at most" a positive limit and "at least" a negative one both keep the ratio below one.
    const double sign = upper == (limit > 0.0) ? 1.0 : -1.0;
    return {sign * g, sign * slope};
}

class Asymptotes final : public Stepper {
  public:
    explicit Asymptotes(const StepTools& tools) : tools_(tools) {
        const Problem& problem = tools.problem;
        for (const Column& column : tools.measures.columns()) {
            const std::size_t r = column.response;
            goal_column_.push_back(r == problem.goal);
            wanted_.push_back(r == problem.goal || std::find(problem.bounds.begin(), problem.bounds.end(),
                                                             r) != problem.bounds.end());
        }
    }

    const std::vector<bool>& wanted() const override { return wanted_; }

    StepReport advance(const Schedule& now) override {
        OptimizerState& state = tools_.state;
        StepReport report;
        const Functions f = make_functions(tools_.measures.smooth(wanted_, wish()), now, true);
        tools_.gradients_done();
        MmaSettings settings;
        settings.a = f.share;
        settings.c = price_of(f);
        if (tools_.problem.has_stress && now.sharpness > 0.0) {
            settings.nearest = std::min(settings.nearest, nearest_moves * now.move);
            settings.farthest = farthest_moves * now.move;
        }
        const std::vector<double> none; // of its limits: 0 and 1
        const MmaPoint here{state.x, none, none, now.move, f.values};
        watch_for_oscillation(f, now);
        if (mma_.extra.size() != f.values.constraint.size() + 1) mma_.extra.clear();
        if (!conservative_)
            mma_.extra.clear();
        else if (mma_.extra.empty())
            mma_start_conservative(f.values, mma_);
        else
            for (double& e : mma_.extra) e = std::max(0.1 * e, 1e-6);
        MmaStep step = mma_step(here, settings, mma_);
        SmoothWish values_alone;
        values_alone.mixtures = true; // as many as with gradients
        for (int trial = 0; conservative_ && trial < most_trials; ++trial) {
            tools_.chain.made(step.x, now.sharpness, room_);
            tools_.measures.analyse(room_, now.penalty, tools_.accuracy(now.move));
            const Functions found = make_functions(tools_.measures.smooth(wanted_, values_alone), now, false);
            std::vector<double> values{found.values.goal};
            values.insert(values.end(), found.values.constraint.begin(), found.values.constraint.end());
            if (values.size() != step.expected.size() || !mma_raise(step, values, 1e-3, mma_)) break;
            ++report.trials;
            step = mma_again(here, settings, mma_);
        }
        report.optimality = residual(state.x, f, step);
        raise_price(f, step);
        report.costs = costs(f, step);
        report.goal_scale = goal_size / goal_scale_;
        state.step = largest_difference(state.x, step.x);
        state.x = step.x;
        return report;
    }

    void walk(const Walk& w) override {
        w("goal scale", goal_scale_);
        w("last penalty", last_penalty_);
        w("last sharpness", last_sharpness_);
        w("conservative", conservative_);
        w("price", price_);
        w("paid", paid_);
        w("merits", merits_);
        w("sizes", sizes_);
        const Walk mma = w.part("asymptotes");
        mma("steps", mma_.steps);
        mma("low", mma_.low);
        mma("high", mma_.high);
        mma("before", mma_.before);
        mma("before2", mma_.before2);
        mma("extra", mma_.extra);
        mma("multiplier", mma_.multiplier);
    }

  private:
    // The functions of the optimiser from the smooth ones: goal first, then those that the worst of a goal
    // of several columns is made of, then bounds.
    struct Functions {
        MmaValues values;
        std::vector<double> share;   // of z in each constraint
        std::vector<double> of_goal; // those of the goal
        double by_log = 0.0;         // slope of the worst of them by the logarithm of its value
        // Of each constraint that is a bound; and of bounds that raise the goal, by the logarithm of the
        // limit.
        std::vector<BoundCost> bounds, raising;
        double most_broken = 0.0; // of the bounds
    };

    // Every element has its own bound on stress, as part of the goal. A gray run has one aggregate, corrected
    // towards the largest.
    SmoothWish wish() const {
        SmoothWish out;
        out.gradients = out.adapt = out.mixtures = true;
        out.each_element = tools_.problem.has_stress && tools_.model.run.sharpen;
        return out;
    }

    // A ratio as it is up to a few times the goal's size, its logarithm beyond: designs that have come apart
    // have goals of any size, and slopes as large.
    static Scaled tamed(double ratio, double slope) {
        constexpr double straight_to = 10.0;
        if (ratio <= straight_to) return {goal_size * ratio, goal_size * slope};
        return {goal_size * straight_to * (1.0 + std::log(ratio / straight_to)),
                goal_size * slope * straight_to / ratio};
    }

    Scaled as_goal(const Smooth& s, const ModelResponse& card) const {
        const bool raise = tools_.problem.maximize != s.inverse;
        const double size = goal_scale_;
        if (!raise) return tamed(s.value / size, 1.0 / size);
        if (card.measure->vibration) {
            const double ratio = size / std::max(s.value, 1e-300);
            return tamed(ratio * ratio, -2.0 * ratio * ratio / std::max(s.value, 1e-300));
        }
        return {2.0 * goal_size - goal_size * s.value / size, -goal_size / size};
    }

    Functions make_functions(const std::vector<Smooth>& smooth, const Schedule& now, bool gradients) {
        Functions out;
        const auto pulled = [&](const Smooth& s, double factor) {
            std::vector<double> g;
            if (!gradients) return g;
            g = pulled_back(tools_.chain, tools_.state.x, now.sharpness, s);
            for (double& one : g) one *= factor;
            return g;
        };
        std::vector<const Smooth*> goals;
        for (const Smooth& s : smooth)
            if (goal_column_[s.column]) goals.push_back(&s);
        if (goal_scale_ <= 0.0) goal_scale_ = size_of_goal(goals);
        const ModelResponse& goal_card = tools_.model.responses[tools_.problem.goal];
        for (const Smooth* s : goals) {
            const Scaled f = as_goal(*s, goal_card);
            if (out.of_goal.empty() || f.value > *std::max_element(out.of_goal.begin(), out.of_goal.end()))
                out.by_log = f.slope * s->value;
            out.of_goal.push_back(f.value);
            if (goals.size() == 1) {
                out.values.goal = f.value;
                out.values.goal_gradient = pulled(*s, f.slope);
            } else {
                out.values.constraint.push_back(f.value);
                out.values.gradient.push_back(pulled(*s, f.slope));
                out.share.push_back(1.0);
            }
        }
        if (goals.size() > 1 && gradients) out.values.goal_gradient.assign(tools_.state.x.size(), 0.0);
        const auto bound = [&](const Smooth& s, double limit, bool upper) {
            const double aim = s.inverse ? 1.0 / tools_.aim[s.column] : tools_.aim[s.column];
            const Scaled g = as_bound(aim * s.value, limit, upper, size_of(s));
            out.values.constraint.push_back(g.value);
            out.values.gradient.push_back(pulled(s, aim * g.slope));
            out.share.push_back(0.0);
            out.bounds.push_back({s.column, upper != s.inverse, 0.0});
            out.most_broken = std::max(out.most_broken, g.value);
        };
        for (const Smooth& s : smooth) {
            if (!s.of_goal) continue;
            const Scaled f = tamed(s.value, 1.0);
            out.values.goal += f.value;
            out.raising.push_back({s.column, !s.inverse, f.slope * s.by_limit});
            const std::vector<double> g = pulled(s, f.slope);
            for (std::size_t j = 0; j < g.size(); ++j) out.values.goal_gradient[j] += g[j];
        }
        for (const Smooth& s : smooth) {
            if (s.of_goal) continue;
            if (s.max) bound(s, *s.max, true);
            if (s.min) bound(s, *s.min, false);
        }
        return out;
    }

    // That of the worst of its columns: which is the lowest of what is to be raised.
    double size_of_goal(const std::vector<const Smooth*>& goals) const {
        double out = 0.0;
        for (const Smooth* s : goals) {
            const double size = std::abs(s->value);
            const bool raise = tools_.problem.maximize != s->inverse;
            if (out <= 0.0 || (raise ? size < out : size > out)) out = size;
        }
        return out > 0.0 ? out : 1.0;
    }

    // Of a broken bound now: a goal that has grown, by a penalty that rises, is worth as much more.
    double price_of(const Functions& f) const {
        if (tools_.problem.has_stress) return price_;
        double most = goal_size;
        for (const double goal : f.of_goal) most = std::max(most, goal);
        return price_ * most / goal_size;
    }

    // A bound that stays broken although the step pays its full price: the price was too low against the
    // goal. It grows until bounds win (an exact penalty: Nocedal & Wright 2006, section 17.2).
    void raise_price(const Functions& f, const MmaStep& step) {
        bool paid = false;
        for (std::size_t i = f.of_goal.size() > 1 ? f.of_goal.size() : 0; i < step.multiplier.size(); ++i)
            paid =
                paid || (f.values.constraint[i] > bound_tolerance && step.multiplier[i] > 0.9 * price_of(f));
        // The aggregate of a gray run may stay broken for long; the Lagrangian of a sharp one is no
        // constraint.
        const bool by_aggregate = tools_.problem.has_stress && !wish().each_element;
        paid_ = paid && !by_aggregate ? paid_ + 1 : 0;
        if (paid_ < patience || price_ >= highest_price) return;
        price_ *= price_growth;
        paid_ = 0;
    }

    // By logarithms: what the goal gains where a limit is looser.
    static std::vector<BoundCost> costs(const Functions& f, const MmaStep& step) {
        std::vector<BoundCost> out;
        if (f.by_log == 0.0) return out;
        const auto add = [&](const BoundCost& bound, double multiplier) {
            const double rate = -multiplier / f.by_log;
            for (BoundCost& one : out)
                if (one.column == bound.column && one.upper == bound.upper) {
                    one.rate += rate;
                    return;
                }
            out.push_back({bound.column, bound.upper, rate});
        };
        const std::size_t first = f.values.constraint.size() - f.bounds.size();
        for (std::size_t i = 0; i < f.bounds.size(); ++i) add(f.bounds[i], step.multiplier[first + i]);
        for (const BoundCost& bound : f.raising) add(bound, bound.rate);
        return out;
    }

    // What a value with a bound of zero is measured by: its size when first seen.
    double size_of(const Smooth& s) {
        double& size = sizes_[std::to_string(s.column)];
        if (size <= 0.0) size = std::max(std::abs(s.value), 1e-300);
        return size;
    }

    // How far the Lagrangian's gradient is from zero in directions that are free, against that of the goal.
    static double residual(const std::vector<double>& x, const Functions& f, const MmaStep& step) {
        const auto sums = sums_of_blocks<2>(x.size(), [&](std::size_t from, std::size_t to) {
            std::array<double, 2> part{};
            for (std::size_t j = from; j < to; ++j) {
                double goal = f.values.goal_gradient[j];
                double sum = goal;
                for (std::size_t i = 0; i < f.share.size(); ++i) {
                    const double one = step.multiplier[i] * f.values.gradient[i][j];
                    sum += one;
                    if (f.share[i] > 0.0) goal += one;
                }
                part[1] += std::abs(goal);
                const bool pinned = (x[j] <= 1e-6 && sum > 0.0) || (x[j] >= 1.0 - 1e-6 && sum < 0.0);
                if (!pinned) part[0] += std::abs(sum);
            }
            return part;
        });
        return sums[1] > 0.0 ? sums[0] / sums[1] : 0.0;
    }

    // At one and the same schedule goal and broken bounds together should fall; where they go up and down
    // instead, steps are checked from then on.
    void watch_for_oscillation(const Functions& f, const Schedule& now) {
        double merit = f.of_goal.empty() ? 0.0 : *std::max_element(f.of_goal.begin(), f.of_goal.end());
        merit += 10.0 * goal_size * f.most_broken;
        // Early on steps are meant to be bold.
        const bool late = now.final && now.resting > (tools_.model.run.sharpen ? 8 : 40);
        if (!late || last_penalty_ != now.penalty || last_sharpness_ != now.sharpness) {
            merits_.clear();
            conservative_ = false;
        }
        last_penalty_ = now.penalty;
        last_sharpness_ = now.sharpness;
        merits_.push_back(merit);
        if (merits_.size() > 8) merits_.erase(merits_.begin());
        if (merits_.size() < 8 || conservative_) return;
        int turns = 0;
        double up = 0.0;
        for (std::size_t i = 1; i + 1 < merits_.size(); ++i) {
            const double a = merits_[i] - merits_[i - 1];
            const double b = merits_[i + 1] - merits_[i];
            if (a * b < 0.0) ++turns;
            up = std::max({up, a, b});
        }
        conservative_ = turns >= 5 && up > 0.01 * std::abs(merits_.back());
        if (conservative_)
            tools_.observer.note("the steps swing to and fro: from here on each is checked first");
    }

    StepTools tools_;
    std::vector<bool> goal_column_, wanted_;
    MmaState mma_;
    ThreeDesigns room_;
    double goal_scale_ = 0.0; // the goal's size when first seen
    std::map<std::string, double> sizes_;
    std::vector<double> merits_;
    double last_penalty_ = 0.0, last_sharpness_ = -1.0;
    bool conservative_ = false;
    double price_ = first_price;
    int paid_ = 0; // steps in which a broken bound cost its full price
};

} // namespace

StepperKind asymptotes_stepper() {
    return {"moving asymptotes", [](const Model&, const Problem&) { return true; },
            [](const StepTools& tools) -> std::unique_ptr<Stepper> {
                return std::make_unique<Asymptotes>(tools);
            }};
}

} // namespace upright
