#include "base/module_file.hpp"

#include "base/error.hpp"
#include "base/termination.hpp"
#include "base/version.hpp"

#include <cstring>
#include <dlfcn.h>
#include <elf.h>
#include <fstream>
#include <string>

namespace upright {

namespace fs = std::filesystem;

namespace {

const char* const instead = "Install the program again, with the packages of scripts/install-packages";

// The loader reads past the end of a file that was cut off, which ends the program: what its header says must
// be there.
bool is_whole(const fs::path& file) {
    std::ifstream in(file, std::ios::binary);
    Elf64_Ehdr head{};
    if (!in.read(reinterpret_cast<char*>(&head), sizeof head)) return false;
    if (std::memcmp(head.e_ident, ELFMAG, SELFMAG) != 0 || head.e_ident[EI_CLASS] != ELFCLASS64) return false;
    std::error_code failed;
    const auto size = fs::file_size(file, failed);
    if (failed || head.e_shoff > size ||
        size - head.e_shoff < std::uintmax_t{head.e_shnum} * head.e_shentsize || head.e_phoff > size)
        return false;
    in.seekg(static_cast<std::streamoff>(head.e_phoff));
    for (int i = 0; i < head.e_phnum; ++i) {
        Elf64_Phdr part{};
        if (!in.read(reinterpret_cast<char*>(&part), sizeof part)) return false;
        if (part.p_type == PT_LOAD && (part.p_offset > size || part.p_filesz > size - part.p_offset))
            return false;
    }
    return true;
}

} // namespace

void* symbol_of_module(const std::vector<fs::path>& files, const char* symbol) {
    std::error_code ignored;
    for (const fs::path& file : files) {
        if (!fs::exists(file, ignored)) continue;
        const std::string name = file.string();
        if (!is_whole(file)) throw Error::files(name, "this module is not whole", instead);
        const TerminationBlocked blocked;
        void* module = ::dlopen(file.c_str(), RTLD_NOW | RTLD_LOCAL);
        if (module == nullptr) {
            const char* why = ::dlerror();
            throw Error::files(
                name, std::string("this module cannot be loaded: ") + (why != nullptr ? why : "?"), instead);
        }
        using Build = const char* (*)();
        const auto its = reinterpret_cast<Build>(::dlsym(module, "upright_module_build"));
        if (its == nullptr || std::strcmp(its(), build) != 0)
            throw Error::files(name,
                               std::string("this module is of another build than the program: ") +
                                   (its == nullptr ? "an older one" : its()) + ", not " + build,
                               instead);
        void* found = ::dlsym(module, symbol);
        if (found == nullptr) throw Error::files(name, "this is another module", instead);
        return found;
    }
    throw Error::files(files.empty() ? "module" : files.front().string(), "this module is missing", instead);
}

fs::path folder_of(const void* function) {
    Dl_info here{};
    std::error_code failed;
    if (::dladdr(function, &here) == 0 || here.dli_fname == nullptr)
        throw Error::files("upright", "the folder of the program is not known", instead);
    const fs::path file = fs::canonical(here.dli_fname, failed);
    // The name of a program that was found in PATH is no path.
    const fs::path self = failed ? fs::read_symlink("/proc/self/exe", failed) : file;
    if (failed) throw Error::files("upright", "the folder of the program is not known", instead);
    return self.parent_path();
}

} // namespace upright
