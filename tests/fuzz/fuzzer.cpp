// The program that a fuzzer drives: UPRIGHT_TARGET names what it tries.
//     UPRIGHT_TARGET=vtu fuzzers -max_total_time=60 CORPUS        (scripts/fuzz does it all)
//     UPRIGHT_TARGET=vtu fuzzers FILE                             one file again
//     UPRIGHT_TARGET=? fuzzers                                    the names
#include "fuzz/targets.hpp"

#include <cstdint>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <fstream>

namespace {

const upright::fuzz::Target& wanted() {
    const char* name = std::getenv("UPRIGHT_TARGET");
    static const upright::fuzz::Target& target = upright::fuzz::target(name == nullptr ? "" : name);
    return target;
}

} // namespace

// Writes the whole files into a folder and ends, where UPRIGHT_SEEDS names one; lists the targets where that is asked.
extern "C" int LLVMFuzzerInitialize(int* /*count*/, char*** /*words*/) {
    if (const char* name = std::getenv("UPRIGHT_TARGET"); name != nullptr && std::string(name) == "?") {
        for (const upright::fuzz::Target& one : upright::fuzz::targets()) std::puts(one.name.c_str());
        std::exit(0);
    }
    const char* folder = std::getenv("UPRIGHT_SEEDS");
    if (folder == nullptr) return 0;
    std::filesystem::create_directories(folder);
    int number = 0;
    for (const std::string& seed : wanted().seeds())
        std::ofstream(std::filesystem::path(folder) / ("seed-" + std::to_string(number++)), std::ios::binary)
            << seed;
    std::exit(0);
}

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    wanted().take(std::string(reinterpret_cast<const char*>(data), size));
    return 0;
}
