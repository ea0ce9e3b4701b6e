#include "geometry/cad_module.hpp"

#include "base/error.hpp"

#include <dlfcn.h>

namespace upright::cad {

namespace {

const Module* load() {
    namespace fs = std::filesystem;
    Dl_info here{};
    fs::path folder;
    if (::dladdr(reinterpret_cast<const void*>(&module), &here) != 0 && here.dli_fname != nullptr)
        folder = fs::path(here.dli_fname).parent_path();
    std::string tried;
    for (const fs::path& file : {folder / "upright-cad.so", folder / "../lib/upright/upright-cad.so",
                                 fs::path(UPRIGHT_BUILD_MODULES) / "upright-cad.so"}) {
        void* handle = ::dlopen(file.c_str(), RTLD_NOW | RTLD_LOCAL);
        if (handle == nullptr) {
            tried = ::dlerror();
            continue;
        }
        if (const auto get = reinterpret_cast<GetModule>(::dlsym(handle, get_module_symbol))) return get();
    }
    throw Error::files("upright-cad.so", "the CAD module cannot be loaded: " + tried,
                       "Install the packages of scripts/install-packages");
}

} // namespace

const Module& module() {
    static const Module* loaded = load();
    return *loaded;
}

} // namespace upright::cad
