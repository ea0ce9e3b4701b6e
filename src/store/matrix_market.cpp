#include "store/matrix_market.hpp"

#include "base/files.hpp"

#include <fmt/format.h>

namespace upright {

void write_matrix(const std::filesystem::path& file, const SparseMatrix& matrix, bool symmetric,
                  const std::string& comment) {
    fmt::memory_buffer out;
    std::size_t count = 0;
    for (int c = 0; c < matrix.outerSize(); ++c)
        for (SparseMatrix::InnerIterator it(matrix, c); it; ++it)
            if (!symmetric || it.row() >= it.col()) {
                fmt::format_to(std::back_inserter(out), "{} {} {:.17g}\n", it.row() + 1, it.col() + 1,
                               it.value());
                ++count;
            }
    write_text(file, fmt::format("%%MatrixMarket matrix coordinate real {}\n% {}\n{} {} {}\n",
                                 symmetric ? "symmetric" : "general", comment, matrix.rows(), matrix.cols(),
                                 count) +
                         fmt::to_string(out));
}

void write_vector(const std::filesystem::path& file, const Eigen::VectorXd& vector,
                  const std::string& comment) {
    fmt::memory_buffer out;
    for (const double v : vector) fmt::format_to(std::back_inserter(out), "{:.17g}\n", v);
    write_text(file,
               fmt::format("%%MatrixMarket matrix array real general\n% {}\n{} 1\n", comment, vector.size()) +
                   fmt::to_string(out));
}

} // namespace upright
