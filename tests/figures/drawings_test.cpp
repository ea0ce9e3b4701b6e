#include "figures/chart.hpp"
#include "figures/drawings.hpp"
#include "figures/result_drawings.hpp"
#include "figures/side_by_side.hpp"

#include "base/files.hpp"
#include "support/studies.hpp"

#include <gtest/gtest.h>

using namespace upright;
using test::block_study;
using test::study_from;

namespace {

int number_at(const std::string& bytes, std::size_t at) {
    int out = 0;
    for (std::size_t i = 0; i < 4; ++i) out = out * 256 + static_cast<unsigned char>(bytes[at + i]);
    return out;
}

// A picture of the asked size that is not one flat colour.
void expect_picture(const std::filesystem::path& file, int width, int height) {
    const std::string bytes = read_text(file);
    ASSERT_GT(bytes.size(), 3000U) << file;
    EXPECT_EQ(bytes.substr(1, 3), "PNG");
    EXPECT_EQ(number_at(bytes, 16), width);
    EXPECT_EQ(number_at(bytes, 20), height);
}

FigureOptions small(const std::string& from = "corner") {
    FigureOptions out;
    out.width = 640;
    out.height = 400;
    out.from = from;
    return out;
}

} // namespace

TEST(Views, HaveNamesOrNumbers) {
    EXPECT_NEAR((view_direction("top", false) - Vec3(0, 0, 1)).norm(), 0.0, 1e-12);
    EXPECT_NEAR((view_direction("left", false) - Vec3(-1, 0, 0)).norm(), 0.0, 1e-12);
    EXPECT_NEAR((view_direction("0,-2,0", false) - Vec3(0, -1, 0)).norm(), 0.0, 1e-12);
    EXPECT_NEAR((view_direction("corner", true) - Vec3(0, 0, 1)).norm(), 0.0,
                1e-12); // plane models are seen from above
    for (const char* bad : {"tpo", "1,2", "0,0,0", "1,2,3,4", ""})
        EXPECT_THROW(view_direction(bad, false), Error) << bad;
}

namespace {

// The middle of all pixels of a colour, and how many they are.
std::pair<Vec2, int> middle_of(const Picture& picture, const std::array<int, 3>& shade) {
    Vec2 sum = Vec2::Zero();
    int count = 0;
    for (int y = 0; y < picture.height; ++y)
        for (int x = 0; x < picture.width; ++x) {
            const auto at = static_cast<std::size_t>(3 * (y * picture.width + x));
            bool like = true;
            for (std::size_t c = 0; c < 3; ++c) like = like && std::abs(picture.rgb[at + c] - shade[c]) < 60;
            if (!like) continue;
            sum += Vec2(x, y);
            ++count;
        }
    return {sum / std::max(count, 1), count};
}

} // namespace

// The ball is placed by the renderer, the tag by arithmetic of our own.
TEST(Drawings, ATagStandsBesideItsPlaceFromEveryView) {
    for (const char* from : {"corner", "front", "top", "left", "1,2,-0.4"})
        for (const Vec3& place : {Vec3(10, 4, 2), Vec3(90, 28, 48), Vec3(50, 0, 25)}) {
            FigureOptions options;
            options.from = from;
            Figure figure(options, false, "tag", "");
            figure.add_lines({{Vec3(0, 0, 0), Vec3(100, 30, 50)}}, color::faint, 1.0);
            figure.add_ball(place, 1.0, {0.0, 1.0, 0.0});
            figure.add_tag(place, "12.3 MPa", {1.0, 0.0, 1.0});
            const Picture picture = figure.picture();
            const auto [ball, ball_pixels] = middle_of(picture, {0, 220, 0});
            const auto [line, line_pixels] = middle_of(picture, {255, 0, 255});
            ASSERT_GT(ball_pixels, 4) << from;
            ASSERT_GT(line_pixels, 4) << from;
            const double away = (ball - line).norm();
            EXPECT_GT(away, 10.0) << from << " " << place.transpose();
            EXPECT_LT(away, 24.0) << from << " " << place.transpose();
        }
}

TEST(Drawings, ATagIsNotSetBeforeWhatHidesItsPlace) {
    Patch wall;
    wall.points = {Vec3(0, 0, 0), Vec3(10, 0, 0), Vec3(10, 0, 10), Vec3(0, 0, 10)};
    wall.polygons = {{0, 1, 2, 3}};
    for (const auto& [from, place, seen] :
         {std::tuple{"front", Vec3(5, 2, 5), false}, std::tuple{"back", Vec3(5, 2, 5), true},
          std::tuple{"front", Vec3(8, 2, 3), false}, std::tuple{"front", Vec3(11, 2, 5), true},
          std::tuple{"front", Vec3(5, 0, 5), true}, std::tuple{"front", Vec3(5, -2, 5), true}}) {
        FigureOptions options;
        options.from = from;
        Figure figure(options, false, "tag", "");
        figure.add(wall);
        EXPECT_EQ(figure.add_tag(place, "1", color::load), seen) << from << " " << place.transpose();
        wall.opacity = 0.5;
        Figure glass(options, false, "tag", "");
        glass.add(wall);
        EXPECT_TRUE(glass.add_tag(place, "1", color::load));
        wall.opacity = 1.0;
    }
}

TEST(Drawings, RegionsAndCasesFromEverySide) {
    const test::TemporaryFolder folder;
    const Study study =
        study_from(block_study("[symmetry]\nplanes = [\"y = 2\"]\n[[load]]\nname = \"weight\"\ngravity = [0, "
                               "0, -9810]\n[[load]]\nname = \"squeeze\"\non = \"tip\"\n"
                               "pressure = 2\n[[case]]\nname = \"all\"\nsupports = \"clamp\"\nloads = { pull "
                               "= 1, weight = 2, squeeze = -1 }\n"));
    const Model model = build_model(study);
    for (const char* from : {"corner", "front", "top", "1,1,1"}) {
        const auto file = folder.path() / (std::string(from) + ".png");
        draw_regions(model, small(from), file);
        expect_picture(file, 640, 400);
    }
    draw_case(model, model.cases.at(1), small(), folder.path() / "case.png");
    expect_picture(folder.path() / "case.png", 640, 400);
}

TEST(Drawings, FieldsInSpaceAndInThePlane) {
    const test::TemporaryFolder folder;
    for (const bool plane : {false, true}) {
        const Study study = study_from(plane ? test::half_beam(12, 4, false) : block_study());
        const Model model = build_model(study);
        std::vector<double> density(model.mesh.elements());
        std::vector<double> stress(model.mesh.elements());
        std::vector<double> displacement(3 * model.mesh.nodes.size(), 0.0);
        for (std::size_t e = 0; e < density.size(); ++e) {
            density[e] = model.mesh.center(static_cast<ElementId>(e)).y() < 2 ? 1.0 : 0.1;
            stress[e] = static_cast<double>(e);
        }
        for (std::size_t n = 0; n < model.mesh.nodes.size(); ++n)
            displacement[3 * n + 1] = 0.01 * model.mesh.nodes[n].x();
        const auto file = [&](const char* name) {
            return folder.path() / (std::string(plane ? "plane-" : "solid-") + name + ".png");
        };
        draw_density(model, {density, {}, 0.0, 0.5}, 0.5, "iteration 3", small(), file("density"));
        draw_result(model, displacement_figure(model, model.cases.at(0), density, 0.5, displacement), small(),
                    file("displacement"));
        draw_result(model, stress_figure(model, model.cases.at(0), density, 0.5, stress), small(),
                    file("stress"));
        for (const char* name : {"density", "displacement", "stress"}) expect_picture(file(name), 640, 400);
        // Nothing above the threshold is an answer, not an empty picture.
        const std::vector<double> thin(density.size(), 0.01);
        EXPECT_THROW(draw_result(model, stress_figure(model, model.cases.at(0), thin, 0.5, stress), small(),
                                 file("none")),
                     Error);
        EXPECT_FALSE(std::filesystem::exists(file("none")));
    }
}

TEST(Drawings, AStillBodyHasAPictureToo) {
    const test::TemporaryFolder folder;
    const Study study = study_from(block_study());
    const Model model = build_model(study);
    const std::vector<double> full(model.mesh.elements(), 1.0);
    const std::vector<double> still(3 * model.mesh.nodes.size(), 0.0);
    draw_result(model, displacement_figure(model, model.cases.at(0), full, 0.5, still), small(),
                folder.path() / "still.png");
    expect_picture(folder.path() / "still.png", 640, 400);
}

TEST(Chart, DrawsHistoriesWithAwkwardNames) {
    const test::TemporaryFolder folder;
    Model model = build_model(study_from(block_study()));
    model.title = "100 % of \"all\" {x_1^2} & more @ home \\ ~";
    std::vector<IterationRow> rows;
    for (int i = 1; i <= 5; ++i) rows.push_back({i, 10.0 / i, 1.0 / i, 0.5 / i, 0.1, {10.0 / i, 0.4}});
    draw_history(model, rows, small(), folder.path() / "history é.png");
    expect_picture(folder.path() / "history é.png", 640, 400);
    draw_history(model, {rows.front()}, small(), folder.path() / "one.png"); // a single row is a history too
    expect_picture(folder.path() / "one.png", 640, 400);
    EXPECT_THROW(draw_history(model, {}, small(), folder.path() / "none.png"), Error);
}

// Two figures with one scale: what is twice as large in the second has the colour that the first has nowhere,
// the colour bars are the same to the pixel, and bodies of different size are seen at one size.
TEST(Drawings, SideBySideHaveOneScaleAndOneCamera) {
    const test::TemporaryFolder folder;
    const Study study = study_from(block_study());
    const Model model = build_model(study);
    const std::vector<double> full(model.mesh.elements(), 1.0);
    std::vector<double> half(model.mesh.elements(), 1.0);
    for (std::size_t e = 0; e < half.size(); ++e)
        if (model.mesh.center(e).x() > 4) half[e] = 0.0; // half the body is shown
    const std::vector<double> low(model.mesh.elements(), 50.0);
    const std::vector<double> high(model.mesh.elements(), 100.0);
    const auto tiles = [&](bool share) {
        std::vector<std::unique_ptr<Figure>> out;
        for (const auto& [density, stress] : {std::pair{full, low}, std::pair{half, high}}) {
            ResultFigure figure = stress_figure(model, model.cases.at(0), density, 0.5, stress);
            figure.peak_words.clear();
            figure.of_case = nullptr;
            EXPECT_DOUBLE_EQ(result_scale(model, figure).end, stress[0]);
            if (share) figure.scale_end = 100.0;
            FigureOptions options = small();
            options.title = "the same";
            out.push_back(result_figure(model, figure, options));
        }
        return out;
    };
    // Where a colour bar stands, right of the scene.
    const auto bar_of = [](const Picture& p) {
        std::vector<unsigned char> out;
        for (int y = 60; y < p.height; ++y)
            for (int x = 490; x < p.width; ++x)
                for (int c = 0; c < 3; ++c)
                    out.push_back(p.rgb[static_cast<std::size_t>(3 * (y * p.width + x) + c)]);
        return out;
    };
    const auto colored = [](const Picture& p) { // pixels of the body
        std::size_t out = 0;
        for (int y = 60; y < p.height; ++y)
            for (int x = 70; x < 480; ++x) {
                const auto* rgb = &p.rgb[static_cast<std::size_t>(3 * (y * p.width + x))];
                out += rgb[0] + rgb[1] + rgb[2] < 640 ? 1 : 0;
            }
        return out;
    };
    const auto apart = tiles(false);
    EXPECT_NE(bar_of(apart[0]->picture()), bar_of(apart[1]->picture()));
    const auto shared = tiles(true);
    Bounds room;
    for (const auto& figure : shared) room.include(figure->room());
    for (const auto& figure : shared) figure->make_room(room);
    const Picture first = shared[0]->picture();
    const Picture second = shared[1]->picture();
    EXPECT_EQ(bar_of(first), bar_of(second));
    // Half the body covers about half as much: one camera.
    EXPECT_NEAR(static_cast<double>(colored(second)), 0.55 * static_cast<double>(colored(first)),
                0.2 * static_cast<double>(colored(first)));
    write_side_by_side(tiles(true), folder.path() / "both.png");
    expect_picture(folder.path() / "both.png", 1280, 400);
    EXPECT_EQ(tiles_across(1), 1);
    EXPECT_EQ(tiles_across(3), 2);
    EXPECT_EQ(tiles_across(9), 3);
}
