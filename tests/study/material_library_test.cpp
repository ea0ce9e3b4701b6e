#include "study/material_library.hpp"

#include "support/studies.hpp"

#include <gtest/gtest.h>
#include <set>

using namespace upright;

TEST(MaterialLibrary, IsLargeNamedOnceAndSourced) {
    std::set<std::string> names;
    for (const LibraryMaterial& m : material_library()) {
        EXPECT_TRUE(names.insert(m.name).second) << m.name;
        EXPECT_GT(std::string(m.source).size(), 8U) << m.name;
        EXPECT_GT(m.E_GPa, 0.5) << m.name;
        EXPECT_GT(m.nu, 0.2) << m.name;
        EXPECT_LT(m.nu, 0.45) << m.name;
        EXPECT_GT(m.density_kg_m3, 900) << m.name;
        EXPECT_LT(m.density_kg_m3, 9000) << m.name;
        EXPECT_GE(m.ultimate_MPa, m.yield_MPa) << m.name;
        EXPECT_GT(m.expansion_um_mK, 5) << m.name;
    }
    EXPECT_GE(names.size(), 25U);
}

TEST(MaterialLibrary, FindsByNameOrGradeInAnyCase) {
    ASSERT_NE(find_library_material("Ductile Iron"), nullptr);
    EXPECT_EQ(find_library_material("en-gjs-450-10"), find_library_material("ductile iron"));
    // By any of their names, where one material alone bears it.
    for (const auto& [word, name] : {std::pair{"S355", "structural steel S355"},
                                     {"1.0577", "structural steel S355"},
                                     {"6061-T6", "aluminium 6061-T6"},
                                     {"42crmo4", "heat-treated steel 42CrMo4"},
                                     {"1.0503", "carbon steel C45"},
                                     {"EN AW-7075", "aluminium 7075-T6"}}) {
        const LibraryMaterial* found = find_library_material(word);
        ASSERT_NE(found, nullptr) << word;
        EXPECT_STREQ(found->name, name);
    }
    EXPECT_EQ(find_library_material("steel"), nullptr); // which?
    EXPECT_NE(test::error_of(test::block_study(), {"region.block.material=S356"}).find("S355"),
              std::string::npos);
    EXPECT_EQ(find_library_material("unobtainium"), nullptr);
}
