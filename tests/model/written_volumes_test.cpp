// Volumes of regions as written, against closed forms.
#include "model/written_volumes.hpp"
#include "support/studies.hpp"

#include "base/angles.hpp"

using namespace upright;

namespace {

std::vector<double> volumes(const std::string& regions, const std::string& more = {}) {
    const Model model = build_model(
        test::study_from(test::StudyText().steel().add(regions).add(more).mesh("size = 2").str()));
    const auto out = written_volumes(model);
    EXPECT_TRUE(out.has_value());
    return out.value_or(std::vector<double>{});
}

std::string region(const std::string& name, const std::string& role, const std::string& shape) {
    return "[[region]]\nname = \"" + name + "\"\nrole = \"" + role + "\"\n" +
           (role == "void" ? "" : "material = \"steel\"\n") + shape + "\n";
}

} // namespace

TEST(WrittenVolumes, OfSimpleSolids) {
    struct Row {
        const char* shape;
        double volume;
    };
    for (const Row& row :
         {Row{"box = [[0, 0, 0], [21, 13, 9]]", 21.0 * 13 * 9},
          Row{"cylinder = { from = [0, 0, 0], to = [0, 0, 25], radius = 7.5 }", pi * 7.5 * 7.5 * 25},
          Row{"sphere = { center = [1, 2, 3], radius = 9 }", 4.0 / 3.0 * pi * 729},
          Row{"cone = { from = [0, 0, 0], to = [20, 0, 0], radii = [10, 4] }",
              pi * 20 / 3.0 * (100 + 40 + 16)},
          Row{"prism = { from = [0, 0, 0], to = [0, 0, 10], polygon = [[0, 0], [20, 0], [0, 12]] }",
              0.5 * 20 * 12 * 10}})
        EXPECT_NEAR(volumes(region("a", "design", row.shape)).at(0), row.volume, 0.012 * row.volume)
            << row.shape;
}

TEST(WrittenVolumes, TheLaterRegionHasWhatIsShared) {
    const std::vector<double> out = volumes(region("block", "design", "box = [[0, 0, 0], [30, 20, 10]]") +
                                            region("pad", "keep", "box = [[20, 0, 0], [30, 20, 10]]") +
                                            region("bore", "void",
                                                   "cylinder = { from = [25, 10, 0], to = [25, 10, 10], "
                                                   "radius = 4 }"));
    const double bore = pi * 16 * 10;
    EXPECT_NEAR(out.at(0), 4000.0, 40.0);
    EXPECT_NEAR(out.at(1), 2000.0 - bore, 0.015 * 2000);
    EXPECT_DOUBLE_EQ(out.at(2), 0.0);
}

TEST(WrittenVolumes, AreThoseOfTheModelledHalf) {
    const std::string block = region("block", "design", "box = [[-10, 0, 0], [10, 20, 10]]");
    EXPECT_NEAR(volumes(block).at(0), 4000.0, 1.0);
    EXPECT_NEAR(volumes(block, "[symmetry]\nplanes = [\"x = 0\"]\n").at(0), 2000.0, 1.0);
}

TEST(WrittenVolumes, DoNotChangeWithTheMesh) {
    const auto of = [](const char* size) {
        return (*written_volumes(build_model(test::study_from(
                    test::StudyText()
                        .steel()
                        .add(region("block", "design", "box = [[0, 0, 0], [30, 20, 10]]") +
                             region("hole", "void", "sphere = { center = [15, 10, 5], radius = 4.2 }"))
                        .mesh(std::string("size = ") + size)
                        .str()))))
            .at(0);
    };
    const double exact = 6000.0 - 4.0 / 3.0 * pi * std::pow(4.2, 3);
    for (const char* size : {"1", "2.5", "5"}) EXPECT_NEAR(of(size), exact, 0.01 * exact) << size;
}
