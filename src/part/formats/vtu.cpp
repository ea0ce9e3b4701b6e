// VTU: the tetrahedra of the whole part, with 0 or 1 for each region (of cells) and each surface (of points):
// a mesh file that a study can name.
#include "base/error.hpp"
#include "base/files.hpp"
#include "model/model.hpp"
#include "part/formats/formats.hpp"
#include "part/part.hpp"

#include <vtkCellData.h>
#include <vtkIntArray.h>
#include <vtkNew.h>
#include <vtkPointData.h>
#include <vtkPoints.h>
#include <vtkUnstructuredGrid.h>
#include <vtkXMLUnstructuredGridWriter.h>

namespace upright {

namespace {

void write_vtu_part(const PartToWrite& part, const std::filesystem::path& file) {
    if (part.part == nullptr || part.model == nullptr || !part.part->solid)
        throw Error::usage("VTU takes the tetrahedra of a solid model, which this part has none of",
                           "Write a surface: .stl, .obj or .ply");
    const WholeTets whole = whole_tets(*part.model, *part.part->solid);
    vtkNew<vtkPoints> points;
    points->SetDataTypeToDouble();
    for (const Vec3& p : whole.points) points->InsertNextPoint(p.data());
    vtkNew<vtkUnstructuredGrid> grid;
    grid->SetPoints(points);
    grid->Allocate(static_cast<vtkIdType>(whole.tets.size()));
    for (const auto& t : whole.tets) {
        const std::array<vtkIdType, 4> ids{t[0], t[1], t[2], t[3]};
        grid->InsertNextCell(VTK_TETRA, 4, ids.data());
    }
    const auto add = [](vtkFieldData* data, const std::string& name, const std::vector<int>& values) {
        vtkNew<vtkIntArray> array;
        array->SetName(name.c_str());
        for (const int v : values) array->InsertNextValue(v);
        data->AddArray(array);
    };
    for (std::size_t r = 0; r < part.model->regions.size(); ++r) {
        std::vector<int> in;
        bool any = false;
        for (const RegionId one : whole.region) {
            in.push_back(index(one) == r ? 1 : 0);
            any = any || index(one) == r;
        }
        if (any) add(grid->GetCellData(), part.model->regions[r].name, in);
    }
    for (const auto& [name, of_it] : part.surfaces) {
        std::vector<int> on(whole.points.size(), 0);
        for (std::size_t n = 0; n < on.size(); ++n) on[n] = of_it[whole.image_of[n]] ? 1 : 0;
        add(grid->GetPointData(), name, on);
    }
    write_then_rename(file, [&](const std::filesystem::path& to) {
        vtkNew<vtkXMLUnstructuredGridWriter> writer;
        writer->SetFileName(to.c_str());
        writer->SetInputData(grid);
        writer->SetCompressorTypeToLZ4();
        if (writer->Write() == 0)
            throw Error::files(file.string(), "cannot be written", "Choose another place with --out");
    });
}

} // namespace

PartFormat vtu_format() {
    return {".vtu", "VTU, the tetrahedra", write_vtu_part};
}

} // namespace upright
