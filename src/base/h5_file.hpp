// A HDF5 file of named arrays and texts; paths such as "mesh/nodes" make the groups they need.
#pragma once

#include <cstdint>
#include <filesystem>
#include <functional>
#include <string>
#include <vector>

namespace upright {

class H5File {
  public:
    // Writes a file: `fill` gives the arrays to one in memory, which goes to the disk whole when it returns
    // (through a temporary name, see base/files.hpp). The library itself never writes to the disk, since it
    // cannot be closed in good order once that is full. Throws Error (Files).
    static void write(const std::filesystem::path& file, const std::function<void(const H5File&)>& fill);
    // The one in memory alone, for save() when there is time; nothing may be put any more.
    static H5File in_memory(const std::filesystem::path& file,
                            const std::function<void(const H5File&)>& fill);
    // Throws Error (Files).
    void save() const;
    // Throws Error (Input) when it cannot be read, or is not what write() wrote to the last bit: a seal of 24
    // bytes behind what the library reads tells.
    static H5File open(const std::filesystem::path& file);
    ~H5File();
    H5File(H5File&& other) noexcept;
    H5File(const H5File&) = delete;
    H5File& operator=(const H5File&) = delete;
    H5File& operator=(H5File&&) = delete;

    // `columns` above 1 makes a matrix with that many columns, row by row.
    void put(const std::string& name, const std::vector<double>& values, std::size_t columns = 1) const;
    void put(const std::string& name, const std::vector<std::int64_t>& values, std::size_t columns = 1) const;
    // `rows` rows of `columns` numbers.
    void put(const std::string& name, const double* values, std::size_t rows, std::size_t columns) const;
    void put(const std::string& name, const std::vector<std::string>& values) const;

    bool has(const std::string& name) const;
    // Flat, row by row. Throw Error (Input) when the file lacks the array or is damaged.
    std::vector<double> numbers(const std::string& name) const;
    std::vector<std::int64_t> integers(const std::string& name) const;
    std::vector<std::string> texts(const std::string& name) const;

  private:
    H5File(std::int64_t id, std::filesystem::path file) : id_(id), file_(std::move(file)) {}
    std::int64_t id_ = -1;
    std::filesystem::path file_;
};

} // namespace upright
