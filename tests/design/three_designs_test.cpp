#include "design/three_designs.hpp"

#include "design/chain.hpp"
#include "design/projection.hpp"
#include "support/studies.hpp"

#include <cmath>
#include <gtest/gtest.h>

namespace upright {
namespace {

using test::block_study;
using test::study_from;

// A second implementation: walls of variables on a fine line, filtered by sums.
struct Line {
    static constexpr int count = 4001;
    static constexpr double step = 0.01;
    std::vector<double> x = std::vector<double>(count, 0.0);

    explicit Line(double thick, double full = 1.0, double empty = 0.0) {
        for (int i = 0; i < count; ++i)
            x[static_cast<std::size_t>(i)] = std::abs(step * (i - count / 2)) < 0.5 * thick ? full : empty;
    }
    std::vector<double> filtered(double radius) const {
        const int reach = static_cast<int>(radius / step);
        std::vector<double> out(x.size(), 0.0);
        for (int i = reach; i < count - reach; ++i) {
            double sum = 0.0;
            double all = 0.0;
            for (int k = -reach; k <= reach; ++k) {
                const double w = radius - step * std::abs(k);
                sum += w * x[static_cast<std::size_t>(i + k)];
                all += w;
            }
            out[static_cast<std::size_t>(i)] = sum / all;
        }
        return out;
    }
};

double thickness_above(const std::vector<double>& field, double level) {
    double out = 0.0;
    for (const double f : field) out += f > level ? Line::step : 0.0;
    return out;
}

TEST(ThreeDesigns, TheThresholdIsThatAtWhichAWallOfTheSizeVanishes) {
    EXPECT_NEAR(threshold_for(5.0, 5.0), 0.75, 1e-9); // Qian & Sigmund 2013
    const double radius = 4.0;
    for (const double size : {1.5, 2.5, 3.2, 4.0}) {
        const double threshold = threshold_for(size, radius);
        EXPECT_GT(threshold, 0.5);
        EXPECT_LE(threshold, 0.75 + 1e-9);
        // The thickest wall of variables whose thin design has nothing left.
        double low = 0.0;
        double high = 8.0;
        for (int i = 0; i < 30; ++i) {
            const double mid = 0.5 * (low + high);
            (thickness_above(Line(mid).filtered(radius), threshold) > 0.0 ? high : low) = mid;
        }
        EXPECT_NEAR(thickness_above(Line(low).filtered(radius), 0.5), size, 0.06) << size;
        // A slot is a wall of nothing.
        const double slot = 1.0 - threshold;
        const std::vector<double> field = Line(low, 0.0, 1.0).filtered(radius);
        double open = 0.0;
        for (int i = 1000; i < 3000; ++i) open += field[static_cast<std::size_t>(i)] < 0.5 ? Line::step : 0.0;
        EXPECT_NEAR(open, size, 0.06) << size;
        for (int i = 1000; i < 3000; ++i) EXPECT_GE(field[static_cast<std::size_t>(i)], slot - 0.01);
    }
}

TEST(ThreeDesigns, FlatFacesMoveAsFarAsIsSaid) {
    const double radius = 4.0;
    const std::vector<double> field = Line(16.0).filtered(radius);
    for (const double threshold : {0.6, 0.75, 0.25, 0.4}) {
        const double shift = 0.5 * (thickness_above(field, 0.5) - thickness_above(field, threshold));
        EXPECT_NEAR(std::abs(shift), face_shift(threshold, radius), 0.02) << threshold;
    }
}

TEST(ThreeDesigns, WhatFormAsks) {
    FormCard form;
    EXPECT_FALSE(thresholds_of(form, 5.0).three());
    form.min_feature = 5.0;
    EXPECT_FALSE(thresholds_of(form, 5.0).three());
    form.strict = true;
    EXPECT_NEAR(thresholds_of(form, 5.0).thin, 0.75, 1e-9);
    EXPECT_NEAR(thresholds_of(form, 5.0).thick, 0.25, 1e-9);
    form.min_slot = 3.0;
    EXPECT_NEAR(thresholds_of(form, 5.0).thin, 0.75, 1e-9);
    EXPECT_NEAR(thresholds_of(form, 5.0).thick, 1.0 - threshold_for(3.0, 5.0), 1e-9);
    form.strict = false;
    EXPECT_EQ(thresholds_of(form, 5.0).thin, 0.5);
    EXPECT_LT(thresholds_of(form, 5.0).thick, 0.5);
}

TEST(ThreeDesigns, TheirProjectionsPullBackExactly) {
    for (const double threshold : {0.3, 0.5, 0.75})
        for (const double sharpness : {1.0, 8.0, 64.0}) {
            EXPECT_NEAR(project(0.0, sharpness, threshold), 0.0, 1e-14);
            EXPECT_NEAR(project(1.0, sharpness, threshold), 1.0, 1e-14);
            for (const double x : {0.1, 0.45, 0.7, 0.76}) {
                const double h = 1e-6;
                const double difference =
                    (project(x + h, sharpness, threshold) - project(x - h, sharpness, threshold)) / (2 * h);
                EXPECT_NEAR(project_slope(x, sharpness, threshold), difference, 1e-6 * sharpness);
            }
        }
    const Model model = build_model(study_from(block_study("[form]\nmirror = \"y = 2\"\n")));
    const DesignChain chain(model, 2.2, form_rules(model.form));
    std::vector<double> x(chain.variables());
    std::vector<double> along(chain.variables());
    for (std::size_t i = 0; i < x.size(); ++i) {
        x[i] = 0.5 + 0.4 * std::sin(1.7 * static_cast<double>(i));
        along[i] = std::cos(0.9 * static_cast<double>(i));
    }
    std::vector<double> gradient(model.mesh.elements());
    for (std::size_t e = 0; e < gradient.size(); ++e)
        gradient[e] = std::sin(0.3 * static_cast<double>(e) + 1.0);
    for (const double threshold : {0.3, 0.75}) {
        const auto value = [&](double h) {
            std::vector<double> at = x;
            for (std::size_t i = 0; i < at.size(); ++i) at[i] += h * along[i];
            std::vector<double> density;
            chain.physical(at, 6.0, density, threshold);
            double out = 0.0;
            for (std::size_t e = 0; e < density.size(); ++e) out += gradient[e] * density[e];
            return out;
        };
        const std::vector<double> pulled = chain.pull_back(x, 6.0, gradient, threshold);
        double slope = 0.0;
        for (std::size_t i = 0; i < x.size(); ++i) slope += pulled[i] * along[i];
        const double difference = (value(1e-6) - value(-1e-6)) / 2e-6;
        EXPECT_NEAR(slope, difference, 1e-7 * std::abs(difference)) << threshold;
    }
}

} // namespace
} // namespace upright
