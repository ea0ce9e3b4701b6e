// Matrices in Matrix Market form (Boisvert, Pozo & Remington 1996).
#pragma once

#include "fem/matrices.hpp"

#include <filesystem>
#include <string>

namespace upright {

// `symmetric`: the lower triangle alone. `comment` stands in the head of the file.
void write_matrix(const std::filesystem::path& file, const SparseMatrix& matrix, bool symmetric,
                  const std::string& comment);
void write_vector(const std::filesystem::path& file, const Eigen::VectorXd& vector,
                  const std::string& comment);

} // namespace upright
