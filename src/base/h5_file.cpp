#include "base/h5_file.hpp"

#include "base/error.hpp"
#include "base/files.hpp"

#include <algorithm>
#include <array>
#include <atomic>
#include <cerrno>
#include <cstring>
#include <fcntl.h>
#include <hdf5.h>
#include <string_view>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

namespace upright {

namespace {

std::vector<hsize_t> extent(std::size_t size, std::size_t columns) {
    if (columns <= 1) return {size};
    return {size / columns, columns};
}

// How texts go: the library converts them in buffers of a megabyte each, zeroed every time, unless told that
// there are few.
class TextTransfer {
  public:
    explicit TextTransfer(std::size_t texts) : id_(H5Pcreate(H5P_DATASET_XFER)) {
        constexpr std::size_t least = 4096, most = std::size_t{1} << 20, of_one = 64;
        H5Pset_buffer(id_, std::clamp(of_one * texts, least, most), nullptr, nullptr);
    }
    ~TextTransfer() { H5Pclose(id_); }
    TextTransfer(const TextTransfer&) = delete;
    TextTransfer& operator=(const TextTransfer&) = delete;
    hid_t id() const { return id_; }

  private:
    hid_t id_;
};

void put_array(hid_t file, const std::string& name, hid_t stored, hid_t given,
               const std::vector<hsize_t>& size, const void* values, hid_t transfer = H5P_DEFAULT) {
    const hid_t space = H5Screate_simple(static_cast<int>(size.size()), size.data(), nullptr);
    const hid_t links = H5Pcreate(H5P_LINK_CREATE);
    H5Pset_create_intermediate_group(links, 1);
    const hid_t manner = H5Pcreate(H5P_DATASET_CREATE);
    H5Pset_obj_track_times(manner, false); // the same numbers are the same file
    const hid_t set = H5Dcreate2(file, name.c_str(), stored, space, links, manner, H5P_DEFAULT);
    const bool empty = size[0] == 0;
    const herr_t done = set < 0 ? -1 : empty ? 0 : H5Dwrite(set, given, H5S_ALL, H5S_ALL, transfer, values);
    if (set >= 0) H5Dclose(set);
    H5Pclose(manner);
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
    void read(hid_t type, void* into, hid_t transfer = H5P_DEFAULT) const {
        if (size_ > 0 && H5Dread(id_, type, H5S_ALL, H5S_ALL, transfer, into) < 0)
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

// Behind what the library counts to the file stand 24 bytes: a word, how many bytes are before them, and a
// sum over these that any one changed word alters. The library crashes on some damaged files, and a number
// with a wrong bit would be a number like others: neither ever gets so far.
constexpr std::string_view seal_word = "upright\n";
constexpr std::size_t seal_size = 24;

// Four sums beside each other, every word multiplied by an odd number into one of them (each step can be
// undone, so that two files that differ in one word never have the same).
std::uint64_t sum_of(const unsigned char* bytes, std::size_t size) {
    constexpr std::uint64_t odd = 0x9e3779b97f4a7c15ULL;
    std::array<std::uint64_t, 4> sums{1, 2, 3, 4};
    const auto add = [&](std::size_t lane, std::uint64_t word) {
        sums[lane] = (sums[lane] ^ word) * odd;
        sums[lane] ^= sums[lane] >> 29U;
    };
    std::size_t at = 0;
    for (; at + 32 <= size; at += 32)
        for (std::size_t lane = 0; lane < 4; ++lane) {
            std::uint64_t word = 0;
            std::memcpy(&word, bytes + at + 8 * lane, 8);
            add(lane, word);
        }
    for (; at < size; ++at) add(at % 4, bytes[at]);
    add(0, size);
    for (std::size_t lane = 1; lane < 4; ++lane) add(0, sums[lane]);
    return sums[0];
}

std::string seal_of(const void* bytes, std::size_t size) {
    std::string out(seal_word);
    for (const std::uint64_t number :
         {static_cast<std::uint64_t>(size), sum_of(static_cast<const unsigned char*>(bytes), size)})
        for (unsigned k = 0; k < 8; ++k) out += static_cast<char>(number >> (8 * k) & 255U);
    return out;
}

Error no_memory(const std::filesystem::path& file) {
    return Error::files(file.string(), "cannot be written", "There may be too little memory");
}

// Throws Error (Input) where a file is not as it was written.
void require_seal(const std::filesystem::path& file) {
    const Place at{file.string()};
    const int in = ::open(file.c_str(), O_RDONLY | O_CLOEXEC);
    if (in < 0) throw Error::input(at, std::string("cannot be read: ") + std::strerror(errno));
    struct ::stat facts {};
    const bool plain = ::fstat(in, &facts) == 0 && S_ISREG(facts.st_mode);
    const auto size = plain ? static_cast<std::size_t>(facts.st_size) : 0;
    const bool wide = size > seal_size;
    void* bytes = wide ? ::mmap(nullptr, size, PROT_READ, MAP_PRIVATE, in, 0) : MAP_FAILED;
    ::close(in);
    std::string wrong;
    if (bytes != MAP_FAILED) {
        ::madvise(bytes, size, MADV_SEQUENTIAL);
        const std::string found(static_cast<const char*>(bytes) + size - seal_size, seal_size);
        if (found.compare(0, seal_word.size(), seal_word) != 0)
            wrong = "it is not whole, or another program wrote it";
        else if (found != seal_of(bytes, size - seal_size))
            wrong = "it is not as it was written";
        ::munmap(bytes, size);
    } else {
        wrong = !plain ? "it is no file" : wide ? std::string(std::strerror(errno)) : "it is not whole";
    }
    if (!wrong.empty()) throw Error::input(at, "cannot be read: " + wrong, "Make it again");
}

} // namespace

H5File H5File::in_memory(const std::filesystem::path& file, const std::function<void(const H5File&)>& fill) {
    H5Eset_auto2(H5E_DEFAULT, nullptr, nullptr);
    const hid_t access = H5Pcreate(H5P_FILE_ACCESS);
    H5Pset_fapl_core(access, std::size_t{1} << 21, 0); // it grows by as much, zeroed
    // The library knows files that are open by their names.
    static std::atomic<int> made_so_far{0};
    const std::string name = file.string() + "-" + std::to_string(++made_so_far);
    const hid_t id = H5Fcreate(name.c_str(), H5F_ACC_TRUNC, H5P_DEFAULT, access);
    H5Pclose(access);
    H5File made(id, file);
    if (id >= 0) fill(made);
    if (id < 0 || H5Fflush(id, H5F_SCOPE_GLOBAL) < 0) throw no_memory(file);
    return made;
}

void H5File::save() const {
    void** bytes = nullptr;
    const ssize_t size = H5Fget_file_image(id_, nullptr, 0); // bytes in use
    const bool good = size > 0 &&
                      H5Fget_vfd_handle(id_, H5P_DEFAULT, reinterpret_cast<void**>(&bytes)) >= 0 &&
                      bytes != nullptr;
    if (!good) throw no_memory(file_);
    const auto count = static_cast<std::size_t>(size);
    const std::string seal = seal_of(*bytes, count);
    write_then_rename(file_, [&](const std::filesystem::path& temporary) {
        write_bytes(temporary, *bytes, count, file_, seal);
    });
}

void H5File::write(const std::filesystem::path& file, const std::function<void(const H5File&)>& fill) {
    in_memory(file, fill).save();
}

H5File H5File::open(const std::filesystem::path& file) {
    require_seal(file);
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

void H5File::put(const std::string& name, const double* values, std::size_t rows, std::size_t columns) const {
    put_array(id_, name, H5T_IEEE_F64LE, H5T_NATIVE_DOUBLE, extent(rows * columns, columns), values);
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
    const TextTransfer transfer(pointers.size());
    put_array(id_, name, type, type, {pointers.size()}, pointers.data(), transfer.id());
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
    const TextTransfer transfer(pointers.size());
    set.read(type, pointers.data(), transfer.id());
    std::vector<std::string> out;
    for (const char* p : pointers) out.emplace_back(p == nullptr ? "" : p);
    set.release(type, pointers.data());
    H5Tclose(type);
    return out;
}

} // namespace upright
