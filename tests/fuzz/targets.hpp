// What reads other people's files, one target for each kind of file: whatever bytes it is given, a target
// ends with a result or an error of ours. Anything else gets out of take() and is a find.
#pragma once

#include <functional>
#include <string>
#include <vector>

namespace upright::fuzz {

struct Target {
    std::string name;
    // Whole files, to begin with.
    std::function<std::vector<std::string>()> seeds;
    std::function<void(const std::string& bytes)> take;
};

const std::vector<Target>& targets();
const Target& target(const std::string& name); // ends the program where there is none

} // namespace upright::fuzz
