#include "geometry/cad_module.hpp"

#include "base/module_file.hpp"

namespace upright::cad {

const Module& module() {
    static const Module* loaded = [] {
        const std::filesystem::path here = folder_of(reinterpret_cast<const void*>(&module));
        // Beside the commands; where programs of tests and measurements were built, beside the program.
        const std::vector<std::filesystem::path> files{here / "upright-cad.so",
                                                       here / "../bin/upright-cad.so"};
        return reinterpret_cast<GetModule>(symbol_of_module(files, get_module_symbol))();
    }();
    return *loaded;
}

} // namespace upright::cad
