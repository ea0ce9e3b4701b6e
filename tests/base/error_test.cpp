#include "base/error.hpp"

#include <gtest/gtest.h>

using namespace upright;

TEST(Error, HasPlaceAndBothSentences) {
    const Error error = Error::input({"a.toml", 3, 7}, "this is wrong", "Write that");
    EXPECT_STREQ(error.what(), "a.toml:3:7: this is wrong. Write that.");
    EXPECT_EQ(error.code(), ExitCode::Input);
}

TEST(Error, LeavesOutWhatIsUnknown) {
    EXPECT_STREQ(Error::usage("no such thing", "Did you mean \"x\"?").what(),
                 "no such thing. Did you mean \"x\"?");
    EXPECT_STREQ(Error::files("/tmp/x", "cannot be written").what(), "/tmp/x: cannot be written.");
}
