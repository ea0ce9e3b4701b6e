#include "store/vtu.hpp"

#include "base/files.hpp"
#include "mesh/vtu_file.hpp"

#include <algorithm>
#include <vtkCellArray.h>
#include <vtkCellData.h>
#include <vtkCellType.h>
#include <vtkDoubleArray.h>
#include <vtkNew.h>
#include <vtkPointData.h>
#include <vtkPoints.h>
#include <vtkTypeInt32Array.h>
#include <vtkUnsignedCharArray.h>
#include <vtkUnstructuredGrid.h>
#include <vtkXMLUnstructuredGridWriter.h>

namespace upright {

namespace {

static_assert(sizeof(NodeId) == sizeof(vtkTypeInt32) && sizeof(Vec3) == 3 * sizeof(double));

// The library reads values where they are: they have to live until all is written.
template <class Array, class T> void lend(Array* to, const T* values, std::size_t count) {
    to->SetArray(const_cast<T*>(values), static_cast<vtkIdType>(count), 1);
}

void add_field(vtkDataSetAttributes* to, const VtuField& field) {
    vtkNew<vtkDoubleArray> array;
    array->SetName(field.name.c_str());
    array->SetNumberOfComponents(field.components);
    lend(array.Get(), field.values.data(), field.values.size());
    to->AddArray(array);
}

int cell_type(ElementKind kind) {
    switch (kind) {
    case ElementKind::Tri3:
    case ElementKind::ShellTri3:
        return VTK_TRIANGLE;
    case ElementKind::Tri6:
        return VTK_QUADRATIC_TRIANGLE;
    case ElementKind::Quad4:
    case ElementKind::ShellQuad4:
        return VTK_QUAD;
    case ElementKind::Quad8:
        return VTK_QUADRATIC_QUAD;
    case ElementKind::Tet4:
        return VTK_TETRA;
    case ElementKind::Tet10:
        return VTK_QUADRATIC_TETRA;
    case ElementKind::Wedge6:
        return VTK_WEDGE;
    case ElementKind::Hex8:
        return VTK_HEXAHEDRON;
    case ElementKind::Hex20:
        return VTK_QUADRATIC_HEXAHEDRON;
    }
    return VTK_EMPTY_CELL;
}

} // namespace

void write_vtu(const std::filesystem::path& file, const Mesh& mesh, const std::vector<VtuField>& at_nodes,
               const std::vector<VtuField>& at_elements) {
    vtkNew<vtkUnstructuredGrid> grid;
    vtkNew<vtkDoubleArray> places;
    places->SetNumberOfComponents(3);
    if (!mesh.nodes.empty()) lend(places.Get(), mesh.nodes.front().data(), 3 * mesh.nodes.size());
    vtkNew<vtkPoints> points;
    points->SetData(places);
    grid->SetPoints(points);
    // The format has a wedge's rings the other way round.
    std::vector<NodeId> turned;
    if (std::find(mesh.kinds.begin(), mesh.kinds.end(), ElementKind::Wedge6) != mesh.kinds.end()) {
        turned = mesh.connectivity;
        for (std::size_t e = 0; e < mesh.elements(); ++e)
            if (mesh.kinds[e] == ElementKind::Wedge6) {
                std::swap(turned[mesh.start(e) + 1], turned[mesh.start(e) + 2]);
                std::swap(turned[mesh.start(e) + 4], turned[mesh.start(e) + 5]);
            }
    }
    const std::vector<NodeId>& ids = turned.empty() ? mesh.connectivity : turned;
    vtkNew<vtkTypeInt32Array> connections;
    lend(connections.Get(), reinterpret_cast<const vtkTypeInt32*>(ids.data()), ids.size());
    vtkNew<vtkTypeInt32Array> starts;
    vtkNew<vtkUnsignedCharArray> types;
    starts->SetNumberOfValues(static_cast<vtkIdType>(mesh.elements()) + 1);
    types->SetNumberOfValues(static_cast<vtkIdType>(mesh.elements()));
    for (std::size_t e = 0; e <= mesh.elements(); ++e) {
        starts->SetValue(static_cast<vtkIdType>(e), static_cast<vtkTypeInt32>(mesh.start(e)));
        if (e < mesh.elements())
            types->SetValue(static_cast<vtkIdType>(e), static_cast<unsigned char>(cell_type(mesh.kinds[e])));
    }
    vtkNew<vtkCellArray> cells;
    cells->SetData(starts, connections);
    grid->SetCells(types, cells);
    for (const VtuField& field : at_nodes) add_field(grid->GetPointData(), field);
    for (const VtuField& field : at_elements) add_field(grid->GetCellData(), field);
    write_then_rename(file, [&](const std::filesystem::path& temporary) {
        vtkObject::SetGlobalWarningDisplay(0); // our own error says it for users
        vtkNew<vtkXMLUnstructuredGridWriter> writer;
        writer->SetFileName(temporary.c_str());
        writer->SetInputData(grid);
        writer->SetCompressorTypeToLZ4();
        writer->SetDataModeToAppended();
        writer->EncodeAppendedDataOff();
        if (writer->Write() == 0 || writer->GetErrorCode() != 0)
            throw Error::files(file.string(), "cannot be written", "Check that the disk is not full");
    });
}

VtuField read_vtu(const std::filesystem::path& file, const Mesh& mesh, const std::string& name,
                  bool at_nodes) {
    if (!std::filesystem::exists(file))
        throw Error::input({file.string()}, "this file of the run is missing", "Run it again");
    const std::string instead = "Run the study again";
    VtuFile grid;
    try {
        grid = read_vtu_file(file, [&](const std::string& one, int) { return one == name; });
    } catch (const std::runtime_error& bad) {
        throw Error::input({file.string()}, std::string("this file of the run is damaged: ") + bad.what(),
                           instead);
    }
    const auto& arrays = at_nodes ? grid.at_points : grid.at_cells;
    const auto found = arrays.find(name);
    const std::size_t expected = at_nodes ? mesh.nodes.size() : mesh.elements();
    if (found == arrays.end() ||
        found->second.values.size() != expected * static_cast<std::size_t>(found->second.components))
        throw Error::input({file.string()}, "this file does not hold \"" + name + "\" for this mesh",
                           instead);
    return {name, found->second.components, found->second.values};
}

VtuField displacement_field(const Mesh& mesh, const Eigen::VectorXd& u) {
    VtuField out{"displacement", 3, std::vector<double>(3 * mesh.nodes.size(), 0.0)};
    const int per = mesh.freedoms();
    for (std::size_t n = 0; n < mesh.nodes.size(); ++n)
        for (int a = 0; a < std::min(per, 3); ++a)
            out.values[3 * n + static_cast<std::size_t>(a)] = u[static_cast<Eigen::Index>(n) * per + a];
    return out;
}

} // namespace upright
