#include "design/chain.hpp"

#include "design/grid_filter.hpp"
#include "design/interpolation.hpp"
#include "support/studies.hpp"

#include <algorithm>
#include <cmath>
#include <gtest/gtest.h>
#include <numeric>
#include <random>

using namespace upright;
using test::block_study;
using test::study_from;

namespace {

std::vector<double> wavy(std::size_t n, double shift) {
    std::vector<double> out(n);
    for (std::size_t i = 0; i < n; ++i) out[i] = 0.5 + 0.45 * std::sin(1.7 * static_cast<double>(i) + shift);
    return out;
}

double dot(const std::vector<double>& a, const std::vector<double>& b) {
    double out = 0.0;
    for (std::size_t i = 0; i < a.size(); ++i) out += a[i] * b[i];
    return out;
}

const char* pad =
    "[[region]]\nname = \"pad\"\nrole = \"keep\"\nmaterial = \"steel\"\nbox = [[6, 0, 0], [8, 4, 4]]\n";

} // namespace

TEST(DesignChain, KeepsConstantsAndKeptRegions) {
    const Model model = build_model(study_from(block_study(pad)));
    const DesignChain chain(model, 2.5);
    EXPECT_EQ(chain.variables(), 6U * 16U);
    const std::vector<double> density = chain.physical(std::vector<double>(chain.variables(), 0.3), 0.0);
    for (std::size_t e = 0; e < density.size(); ++e)
        EXPECT_NEAR(density[e], chain.is_design()[e] ? 0.3 : 1.0, 1e-14);
}

TEST(DesignChain, PullBackIsTheTransposeOfTheDerivative) {
    const Model model = build_model(study_from(block_study(pad)));
    const DesignChain chain(model, 2.2);
    const std::vector<double> x = wavy(chain.variables(), 0.3);
    const std::vector<double> gradient = wavy(model.mesh.elements(), 1.0);
    for (const double sharpness : {0.0, 3.0, 16.0}) {
        const std::vector<double> pulled = chain.pull_back(x, sharpness, gradient);
        const std::vector<double> direction = wavy(chain.variables(), 2.0);
        const double h = 1e-6;
        std::vector<double> up = x;
        std::vector<double> down = x;
        for (std::size_t i = 0; i < x.size(); ++i) {
            up[i] += h * direction[i];
            down[i] -= h * direction[i];
        }
        const double difference =
            (dot(chain.physical(up, sharpness), gradient) - dot(chain.physical(down, sharpness), gradient)) /
            (2 * h);
        EXPECT_NEAR(dot(pulled, direction), difference, 1e-7 * std::abs(difference)) << sharpness;
    }
}

TEST(DensityFilter, HatWeightsOfTheLiterature) {
    const Model model = build_model(study_from(test::half_beam(9, 1, false)));
    const DesignChain chain(model, 2.0);
    std::vector<double> x(9, 0.0);
    x[4] = 1.0;
    const std::vector<double> density = chain.physical(x, 0.0);
    EXPECT_NEAR(density[4], 2.0 / 4.0, 1e-14);
    EXPECT_NEAR(density[3], 1.0 / 4.0, 1e-14);
    EXPECT_NEAR(density[2], 0.0, 1e-14);
}

// Rows of many lengths, cells of different edges, keep-outs and images beyond a symmetry plane.
TEST(DensityFilter, OnAGridIsTheHatAboutEveryCell) {
    for (const int length : {5, 15, 16, 17, 40}) {
        std::string text =
            block_study("[[region]]\nname = \"hole\"\nrole = \"void\"\nbox = [[1, 1, 1], [2.4, 3, 2]]\n"
                        "[symmetry]\nplanes = [\"y = 2\"]\n");
        const std::string box = "[[0, 0, 0], [8, 4, 4]]";
        text.replace(text.find(box), box.size(),
                     "[[0, 0, 0], [" + std::to_string(length * 0.75) + ", 4, 4]]");
        const Model model = build_model(study_from(text));
        const double radius = 2.3;
        const DesignChain chain(model, radius);
        std::vector<double> x(chain.variables());
        for (std::size_t v = 0; v < x.size(); ++v) x[v] = 0.5 + 0.4 * std::sin(1.7 * static_cast<double>(v));
        const std::vector<double> density = chain.physical(x, 0.0);
        for (std::size_t v = 0; v < x.size(); ++v) {
            const Vec3 p = model.mesh.center(chain.elements()[v]);
            double sum = 0.0;
            double weights = 0.0;
            for (std::size_t o = 0; o < x.size(); ++o)
                for (const bool image : {false, true}) {
                    Vec3 q = model.mesh.center(chain.elements()[o]);
                    if (image) q.y() = 4.0 - q.y();
                    const double weight = std::max(0.0, radius - (p - q).norm());
                    sum += weight * x[o];
                    weights += weight;
                }
            ASSERT_NEAR(density[chain.elements()[v]], sum / weights, 1e-13) << length << " " << v;
        }
        // What is asked for by itself is the same.
        const std::vector<double> by(density.size(), 3.0);
        EXPECT_NEAR(chain.weighted(x, 0.0, by), 3.0 * std::accumulate(density.begin(), density.end(), 0.0),
                    1e-9);
    }
}

// Variables that count otherwise than the cells of the lattice.
TEST(DensityFilter, DoesNotDependOnTheOrderOfVariables) {
    const Model model = build_model(study_from(
        block_study("[[region]]\nname = \"hole\"\nrole = \"void\"\nbox = [[1, 1, 1], [2.4, 3, 2]]\n")));
    const std::size_t n = model.mesh.elements();
    std::vector<std::int32_t> plain(n);
    std::iota(plain.begin(), plain.end(), 0);
    std::vector<std::int32_t> mixed = plain;
    std::shuffle(mixed.begin(), mixed.end(), std::mt19937(5));
    const GridFilter a(model, plain, 1.9);
    const GridFilter b(model, mixed, 1.9);
    std::vector<double> x(n);
    std::vector<double> y(n);
    for (std::size_t e = 0; e < n; ++e)
        y[static_cast<std::size_t>(mixed[e])] = x[e] = std::cos(2.1 * static_cast<double>(e));
    std::vector<double> of_x;
    std::vector<double> of_y;
    for (const auto apply : {&GridFilter::apply, &GridFilter::transpose}) {
        (a.*apply)(x, of_x);
        (b.*apply)(y, of_y);
        for (std::size_t e = 0; e < n; ++e) EXPECT_EQ(of_x[e], of_y[static_cast<std::size_t>(mixed[e])]) << e;
    }
}

TEST(DensityFilter, AHalfModelFiltersLikeTheWhole) {
    const Model whole = build_model(study_from(block_study()));
    const Model half = build_model(study_from(block_study("[symmetry]\nplanes = [\"y = 2\"]\n")));
    const DesignChain a(whole, 2.7);
    const DesignChain b(half, 2.7);
    // The same field on both: a function of the distance to the plane.
    const auto field = [](const Vec3& p) {
        return 0.5 + 0.4 * std::sin(p.x() + std::abs(p.y() - 2.0) * 1.3 + 0.2 * p.z());
    };
    std::vector<double> xa;
    std::vector<double> xb;
    for (std::size_t e = 0; e < whole.mesh.elements(); ++e)
        xa.push_back(field(whole.mesh.center(static_cast<ElementId>(e))));
    for (std::size_t e = 0; e < half.mesh.elements(); ++e)
        xb.push_back(field(half.mesh.center(static_cast<ElementId>(e))));
    const auto da = a.physical(xa, 0.0);
    const auto db = b.physical(xb, 0.0);
    for (std::size_t e = 0; e < half.mesh.elements(); ++e) {
        const auto ijk = half.mesh.grid.indices(half.mesh.cell_of[e]);
        const auto same =
            static_cast<std::size_t>(whole.mesh.element_of[whole.mesh.grid.at(ijk[0], ijk[1], ijk[2])]);
        EXPECT_NEAR(db[e], da[same], 1e-14);
    }
}

TEST(Projection, IsSmoothAndKeepsEnds) {
    for (const double beta : {0.0, 1.0, 8.0, 32.0}) {
        EXPECT_NEAR(project(0.0, beta), 0.0, 1e-14);
        EXPECT_NEAR(project(1.0, beta), 1.0, 1e-14);
        EXPECT_NEAR(project(0.5, beta), 0.5, 1e-14);
        const double h = 1e-6;
        EXPECT_NEAR(project_slope(0.4, beta), (project(0.4 + h, beta) - project(0.4 - h, beta)) / (2 * h),
                    1e-7);
    }
}

TEST(Projection, OfManyIsThatOfEach) {
    for (const double beta : {0.0, 1e-3, 1.0, 16.0, 64.0, 1e4}) {
        std::vector<double> x;
        for (int i = 0; i <= 5000; ++i) x.push_back(i / 5000.0);
        std::vector<double> all;
        project_all(x, beta, all);
        // Roots of densities are taken: not a hair below nothing.
        for (const double threshold : {0.3, 0.5, 0.7}) {
            std::vector<double> some;
            project_all({0.0, 1e-300, 1.0}, beta, some, threshold);
            for (const double d : some) ASSERT_TRUE(d >= 0.0 && d <= 1.0) << beta << " " << threshold;
        }
        EXPECT_NEAR(projected_sum(x, beta, std::vector<double>(x.size(), 2.0)),
                    2.0 * std::accumulate(all.begin(), all.end(), 0.0), 1e-9);
        std::vector<double> slopes(x.size(), 2.0);
        multiply_by_slope(x, beta, slopes, slopes);
        // Above a sharpness of 350 the step is as good as sharp.
        const double within = beta > 350.0 ? 1.0 : 1e-11;
        for (std::size_t i = 0; i < x.size(); ++i) {
            ASSERT_NEAR(all[i], project(x[i], beta), within) << beta << " " << x[i];
            if (beta <= 600.0) {
                ASSERT_NEAR(slopes[i], 2.0 * project_slope(x[i], beta), 1e-11 * std::max(1.0, beta));
            }
        }
    }
}

TEST(Interpolation, SimpAndGrayness) {
    EXPECT_NEAR(stiffness_share({0.5}, 3.0)[0], 0.125 + 1e-9 * (1 - 0.125), 1e-16);
    const std::vector<double> density{0.0, 1e-7, 0.01, 0.25, 0.5, 0.8, 1.0};
    for (const double penalty : {1.0, 1.37, 2.0, 2.999, 3.0, 10.0}) {
        std::vector<double> share;
        std::vector<double> slope;
        interpolate_stiffness(density, penalty, share, slope);
        for (std::size_t e = 0; e < density.size(); ++e) {
            const double rest = 1.0 - least_stiffness;
            const double right = least_stiffness + rest * std::pow(density[e], penalty);
            EXPECT_NEAR(share[e], right, 1e-14 * right) << penalty << " " << density[e];
            const double right_slope = rest * penalty * std::pow(density[e], penalty - 1.0);
            EXPECT_NEAR(slope[e], right_slope, 2e-14 * right_slope + 1e-100) << penalty << " " << density[e];
        }
    }
    EXPECT_DOUBLE_EQ(grayness({0.5, 0.5, 1.0}, {true, true, false}), 1.0);
    EXPECT_DOUBLE_EQ(grayness({0.0, 1.0, 0.5}, {true, true, false}), 0.0);
}

TEST(HelmholtzFilter, KeepsConstantsAndHasItsTranspose) {
    const Model model =
        build_model(test::study_from(std::string("units = [\"mm\", \"N\", \"s\"]\n") + test::steel +
                                     "[[region]]\nname = \"b\"\nrole = \"design\"\nmaterial = \"steel\"\nbox "
                                     "= [[0, 0, 0], [12, 8, 6]]\n[mesh]\nkind = \"fitted\"\nsize = 3\n"));
    std::vector<std::int32_t> variable_of(model.mesh.elements());
    for (std::size_t e = 0; e < variable_of.size(); ++e) variable_of[e] = static_cast<std::int32_t>(e);
    const HelmholtzFilter filter(model, variable_of, 6.0, {});
    for (const double y : filter.apply(std::vector<double>(variable_of.size(), 0.37)))
        EXPECT_NEAR(y, 0.37, 1e-12);
    std::vector<double> x;
    std::vector<double> g;
    for (std::size_t i = 0; i < variable_of.size(); ++i) {
        x.push_back(0.5 + 0.5 * std::sin(static_cast<double>(3 * i)));
        g.push_back(std::cos(static_cast<double>(5 * i)));
    }
    const std::vector<double> y = filter.apply(x);
    const std::vector<double> t = filter.transpose(g);
    double a = 0.0;
    double b = 0.0;
    double before = 0.0;
    double after = 0.0;
    for (std::size_t i = 0; i < x.size(); ++i) {
        a += y[i] * g[i];
        b += x[i] * t[i];
        before += x[i] * model.mesh.volume(i);
        after += y[i] * model.mesh.volume(i);
        EXPECT_GT(y[i], -1e-3);
        EXPECT_LT(y[i], 1.001);
    }
    EXPECT_NEAR(a, b, 1e-12 * std::abs(a) + 1e-12);
    EXPECT_NEAR(before, after, 1e-9 * before); // it moves material, and makes none
}

// It takes the solver, the memory and the threads of the run.
TEST(HelmholtzFilter, IsSolvedAsTheRunSays) {
    const Model model = build_model(test::study_from(test::block_study()));
    std::vector<std::int32_t> variable_of;
    std::vector<double> x;
    for (std::size_t e = 0; e < model.mesh.elements(); ++e) {
        variable_of.push_back(static_cast<std::int32_t>(e));
        x.push_back(0.5 + 0.5 * std::sin(static_cast<double>(e)));
    }
    const std::vector<double> direct = HelmholtzFilter(model, variable_of, 6.0, {}).apply(x);
    SolverOptions multigrid;
    multigrid.kind = SolverKind::GridMultigrid;
    SolverOptions little;
    little.memory = 10.0; // bytes: no factorisation fits
    for (const SolverOptions& options : {multigrid, little}) {
        const std::vector<double> other = HelmholtzFilter(model, variable_of, 6.0, options).apply(x);
        for (std::size_t e = 0; e < x.size(); ++e) EXPECT_NEAR(other[e], direct[e], 1e-7);
    }
    little.kind = SolverKind::Direct;
    EXPECT_THROW(HelmholtzFilter(model, variable_of, 6.0, little), Error);
}
