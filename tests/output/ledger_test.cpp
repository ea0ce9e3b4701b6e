#include "output/ledger.hpp"

#include "support/studies.hpp"

#include <gtest/gtest.h>

using namespace upright;
using test::block_study;
using test::study_from;

namespace {

Ledger ledger_of(const std::string& extra, const std::vector<std::string>& settings = {}) {
    const Study study = study_from(block_study(extra), settings);
    return make_ledger(study, build_model(study));
}

bool says(const Ledger& ledger, Standing standing, const std::string& words) {
    for (const LedgerSection& s : ledger.sections)
        for (const LedgerLine& l : s.lines)
            for (const std::string& r : l.remarks)
                if (l.standing == standing && r.find(words) != std::string::npos) return true;
    return false;
}

const char* pad =
    "[[region]]\nname = \"pad\"\nrole = \"keep\"\nmaterial = \"steel\"\nbox = [[5, 0, 0], [8, 4, 4]]\n";

} // namespace

TEST(Ledger, ACleanStudyIsReady) {
    const Ledger ledger = ledger_of(pad);
    EXPECT_EQ(ledger.count(Standing::Missing), 0U);
    EXPECT_EQ(ledger.count(Standing::Doubt), 0U) << render(ledger, 100, false);
}

TEST(Ledger, SaysWhichMotionIsFree) {
    const Ledger ledger = ledger_of(pad, {"support.clamp.hold=[\"x\", \"z\"]"});
    EXPECT_TRUE(says(ledger, Standing::Missing, "translation along y"));
    EXPECT_EQ(ledger.count(Standing::Missing), 1U);
}

TEST(Ledger, DoubtsAreTheUsualMistakes) {
    EXPECT_TRUE(says(ledger_of(""), Standing::Doubt, "design cells"));
    EXPECT_TRUE(says(ledger_of(pad, {"run.filter=1.2"}), Standing::Doubt, "below 2.5 cells"));
    EXPECT_TRUE(says(ledger_of(std::string(pad) + "[[load]]\nname = \"suck\"\non = \"tip\"\npressure = -1\n"),
                     Standing::Doubt, "outward"));
    EXPECT_TRUE(
        says(ledger_of(std::string(pad) + "[[load]]\nname = \"idle\"\non = \"tip\"\nforce = [1, 0, 0]\n"),
             Standing::Doubt, "no case uses it"));
    EXPECT_TRUE(says(ledger_of(std::string(pad) +
                               "[[case]]\nname = \"silly\"\nsupports = \"clamp\"\nloads = { at-root = "
                               "1 }\n[[load]]\nname = \"at-root\"\non = \"root\"\nforce = [5, 0, 0]\n"),
                     Standing::Doubt, "straight into the support"));
    EXPECT_TRUE(
        says(ledger_of(std::string(pad) +
                       "[[region]]\nname = \"miss\"\nrole = \"void\"\nbox = [[20, 0, 0], [30, 4, 4]]\n"),
             Standing::Doubt, "takes nothing away"));
    EXPECT_TRUE(says(
        ledger_of(std::string(pad) + "[symmetry]\nplanes = [\"y = 2\"]\n", {"load.pull.force=[0, 5, -9]"}),
        Standing::Doubt, "across the symmetry plane"));
    EXPECT_TRUE(says(ledger_of(std::string(pad) + "[[surface]]\nname = \"idle\"\nof = \"block\"\n"),
                     Standing::Doubt, "nothing refers to it"));
}

TEST(Ledger, RendersWithinTheWidth) {
    const std::string text = render(ledger_of(pad), 80, false);
    std::size_t from = 0;
    while (from < text.size()) {
        const std::size_t end = std::min(text.find('\n', from), text.size());
        int columns = 0;
        for (std::size_t i = from; i < end; ++i)
            if ((static_cast<unsigned char>(text[i]) & 0xC0U) != 0x80U) ++columns;
        EXPECT_LE(columns, 84) << text.substr(from, end - from);
        from = end + 1;
    }
    EXPECT_EQ(text.find('\033'), std::string::npos);
}
