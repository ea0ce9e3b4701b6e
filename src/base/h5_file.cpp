#include "base/h5_file.hpp"

#include "base/error.hpp"
#include "base/files.hpp"

#include <hdf5.h>

namespace upright {

namespace {

std::vector<hsize_t> extent(std::size_t size, std::size_t columns) {
    if (columns <= 1) return {size};
    return {size / columns, columns};
}

void put_array(hid_t file, const std::string& name, hid_t stored, hid_t given,
               const std::vector<hsize_t>& size, const void* values) {
    const hid_t space = H5Screate_simple(static_cast<int>(size.size()), size.data(), nullptr);
    const hid_t links = H5Pcreate(H5P_LINK_CREATE);
    H5Pset_create_intermediate_group(links, 1);
    const hid_t set = H5Dcreate2(file, name.c_str(), stored, space, links, H5P_DEFAULT, H5P_DEFAULT);
    const bool empty = size[0] == 0;
    const herr_t done = set < 0 ? -1
                        : empty ? 0
                                : H5Dwrite(set, given, H5S_ALL, H5S_ALL, H5P_DEFAULT, values);
    if (set >= 0) H5Dclose(set);
    H5Pclose(links);
    H5Sclose(space);
    if (done < 0) throw Error::files(name, "cannot be written", "There may be too little memory");
}

// The array of a name, opened, with the number of its values.
class Set {
  public:
    Set(hid_t file, const std::string& name, const std::filesystem::path& path) : file_(path) {
        id_ = H5Dopen2(file, name.c_str(), H5P_DEFAULT);
        if (id_ < 0) throw Error::input({path.string()}, "this file lacks \"" + name + "\"");
        space_ = H5Dget_space(id_);
        size_ = static_cast<std::size_t>(H5Sget_simple_extent_npoints(space_));
    }
    ~Set() {
        H5Sclose(space_);
        H5Dclose(id_);
    }
    Set(const Set&) = delete;
    Set& operator=(const Set&) = delete;
    std::size_t size() const { return size_; }
    void read(hid_t type, void* into) const {
        if (size_ > 0 && H5Dread(id_, type, H5S_ALL, H5S_ALL, H5P_DEFAULT, into) < 0)
            throw Error::input({file_.string()}, "this file is damaged");
    }
    void release(hid_t type, void* values) const { H5Dvlen_reclaim(type, space_, H5P_DEFAULT, values); }

  private:
    const std::filesystem::path& file_;
    hid_t id_ = -1, space_ = -1;
    std::size_t size_ = 0;
};

hid_t text_type() {
    const hid_t type = H5Tcopy(H5T_C_S1);
    H5Tset_size(type, H5T_VARIABLE);
    H5Tset_cset(type, H5T_CSET_UTF8);
    return type;
}

} // namespace

void H5File::write(const std::filesystem::path& file, const std::function<void(const H5File&)>& fill) {
    write_then_rename(file, [&](const std::filesystem::path& temporary) {
        H5Eset_auto2(H5E_DEFAULT, nullptr, nullptr);
        const hid_t access = H5Pcreate(H5P_FILE_ACCESS);
        H5Pset_fapl_core(access, std::size_t{1} << 24, 0);
        const hid_t id = H5Fcreate(temporary.c_str(), H5F_ACC_TRUNC, H5P_DEFAULT, access);
        const H5File made(id, file);
        void** bytes = nullptr;
        ssize_t size = 0; // bytes in use
        if (id >= 0) fill(made);
        const bool good = id >= 0 && H5Fflush(id, H5F_SCOPE_GLOBAL) >= 0 &&
                          (size = H5Fget_file_image(id, nullptr, 0)) > 0 &&
                          H5Fget_vfd_handle(id, H5P_DEFAULT, reinterpret_cast<void**>(&bytes)) >= 0 &&
                          bytes != nullptr;
        H5Pclose(access);
        if (!good) throw Error::files(file.string(), "cannot be written", "There may be too little memory");
        write_bytes(temporary, *bytes, static_cast<std::size_t>(size), file);
    });
}

H5File H5File::open(const std::filesystem::path& file) {
    H5Eset_auto2(H5E_DEFAULT, nullptr, nullptr);
    const hid_t id = H5Fopen(file.c_str(), H5F_ACC_RDONLY, H5P_DEFAULT);
    if (id < 0) throw Error::input({file.string()}, "cannot be read, or is no HDF5 file");
    return {id, file};
}

H5File::H5File(H5File&& other) noexcept : id_(other.id_), file_(std::move(other.file_)) {
    other.id_ = -1;
}

H5File::~H5File() {
    if (id_ >= 0) H5Fclose(id_);
}

void H5File::put(const std::string& name, const std::vector<double>& values, std::size_t columns) const {
    put_array(id_, name, H5T_IEEE_F64LE, H5T_NATIVE_DOUBLE, extent(values.size(), columns), values.data());
}

void H5File::put(const std::string& name, const std::vector<std::int64_t>& values,
                 std::size_t columns) const {
    put_array(id_, name, H5T_STD_I64LE, H5T_NATIVE_INT64, extent(values.size(), columns), values.data());
}

void H5File::put(const std::string& name, const std::vector<std::string>& values) const {
    std::vector<const char*> pointers;
    for (const std::string& v : values) pointers.push_back(v.c_str());
    const hid_t type = text_type();
    put_array(id_, name, type, type, {pointers.size()}, pointers.data());
    H5Tclose(type);
}

bool H5File::has(const std::string& name) const {
    // Every group on the way must be there.
    for (std::size_t at = name.find('/'); at != std::string::npos; at = name.find('/', at + 1))
        if (H5Lexists(id_, name.substr(0, at).c_str(), H5P_DEFAULT) <= 0) return false;
    return H5Lexists(id_, name.c_str(), H5P_DEFAULT) > 0;
}

std::vector<double> H5File::numbers(const std::string& name) const {
    const Set set(id_, name, file_);
    std::vector<double> out(set.size());
    set.read(H5T_NATIVE_DOUBLE, out.data());
    return out;
}

std::vector<std::int64_t> H5File::integers(const std::string& name) const {
    const Set set(id_, name, file_);
    std::vector<std::int64_t> out(set.size());
    set.read(H5T_NATIVE_INT64, out.data());
    return out;
}

std::vector<std::string> H5File::texts(const std::string& name) const {
    const Set set(id_, name, file_);
    std::vector<char*> pointers(set.size(), nullptr);
    const hid_t type = text_type();
    set.read(type, pointers.data());
    std::vector<std::string> out;
    for (const char* p : pointers) out.emplace_back(p == nullptr ? "" : p);
    set.release(type, pointers.data());
    H5Tclose(type);
    return out;
}

} // namespace upright
