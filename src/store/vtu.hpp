// VTU files (open VTK format, LZ4): meshes with named fields.
#pragma once

#include "model/model.hpp"

#include <Eigen/Core>

#include <filesystem>
#include <string>
#include <vector>

namespace upright {

struct VtuField {
    std::string name;
    int components = 1;
    std::vector<double> values; // components for each node or element
};

// Throws Error (Files).
void write_vtu(const std::filesystem::path& file, const Mesh& mesh, const std::vector<VtuField>& at_nodes,
               const std::vector<VtuField>& at_elements);

// One field of a file that write_vtu wrote. Throws Error (Input) when the file or the field is not there, or
// when its size does not fit the mesh.
VtuField read_vtu(const std::filesystem::path& file, const Mesh& mesh, const std::string& name,
                  bool at_nodes);

// A displacement vector (dimension() for each node) as three components.
VtuField displacement_field(const Mesh& mesh, const Eigen::VectorXd& u);

} // namespace upright
