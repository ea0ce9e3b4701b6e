// The arrays of a HDF5 file by name, to be changed and written again with a good seal: files that are whole,
// but whose numbers are wrong.
#pragma once

#include "base/h5_file.hpp"

#include <hdf5.h>
#include <map>
#include <string>
#include <variant>
#include <vector>

namespace upright::test {

using H5Array = std::variant<std::vector<double>, std::vector<std::int64_t>, std::vector<std::string>>;

inline std::map<std::string, H5Array> arrays_of(const std::filesystem::path& path) {
    std::vector<std::pair<std::string, H5T_class_t>> found;
    const hid_t id = H5Fopen(path.c_str(), H5F_ACC_RDONLY, H5P_DEFAULT);
    H5Ovisit(
        id, H5_INDEX_NAME, H5_ITER_NATIVE,
        [](hid_t from, const char* name, const H5O_info_t* about, void* to) -> herr_t {
            if (about->type != H5O_TYPE_DATASET) return 0;
            const hid_t set = H5Dopen2(from, name, H5P_DEFAULT);
            const hid_t type = H5Dget_type(set);
            static_cast<decltype(found)*>(to)->emplace_back(name, H5Tget_class(type));
            H5Tclose(type);
            H5Dclose(set);
            return 0;
        },
        &found);
    H5Fclose(id);
    std::map<std::string, H5Array> out;
    const H5File file = H5File::open(path);
    for (const auto& [name, kind] : found)
        if (kind == H5T_FLOAT)
            out[name] = file.numbers(name);
        else if (kind == H5T_INTEGER)
            out[name] = file.integers(name);
        else
            out[name] = file.texts(name);
    return out;
}

inline void write_arrays(const std::filesystem::path& path, const std::map<std::string, H5Array>& arrays) {
    H5File::write(path, [&](const H5File& file) {
        for (const auto& [name, array] : arrays)
            std::visit([&, n = name](const auto& values) { file.put(n, values); }, array);
    });
}

} // namespace upright::test
