#include "mesh/vtu_file.hpp"

#include "base/apart.hpp"

#include <vtkCellArray.h>
#include <vtkCellData.h>
#include <vtkDataArray.h>
#include <vtkNew.h>
#include <vtkPointData.h>
#include <vtkUnsignedCharArray.h>
#include <vtkUnstructuredGrid.h>
#include <vtkXMLUnstructuredGridReader.h>

#include <algorithm>
#include <cstdlib>
#include <fmt/format.h>
#include <fstream>
#include <stdexcept>
#include <string_view>

namespace upright {

namespace {

std::map<std::string, VtuArray> arrays_in(vtkDataSetAttributes* data,
                                          const std::function<bool(const std::string&, int)>& wanted) {
    std::map<std::string, VtuArray> out;
    for (int i = 0; i < data->GetNumberOfArrays(); ++i) {
        vtkDataArray* array = data->GetArray(i);
        if (array == nullptr || array->GetName() == nullptr) continue;
        VtuArray& to = out[array->GetName()];
        to.components = array->GetNumberOfComponents();
        to.values.clear();
        if (!wanted(array->GetName(), to.components)) continue;
        to.values.reserve(static_cast<std::size_t>(array->GetNumberOfTuples() * to.components));
        for (vtkIdType t = 0; t < array->GetNumberOfTuples(); ++t)
            for (int c = 0; c < to.components; ++c) to.values.push_back(array->GetComponent(t, c));
    }
    return out;
}

// The library makes room for as many components as are named before it looks for their numbers.
void require_sane_components(const std::filesystem::path& file) {
    constexpr std::size_t piece = 1 << 20;
    constexpr std::string_view word = "NumberOfComponents";
    constexpr std::size_t most_behind = 40; // signs of what follows the word
    constexpr long long most_components = 10000;
    std::ifstream in(file, std::ios::binary);
    std::string text;
    std::size_t from = 0;
    while (in) {
        const std::size_t had = text.size();
        text.resize(had + piece);
        in.read(text.data() + had, static_cast<std::streamsize>(piece));
        text.resize(had + static_cast<std::size_t>(in.gcount()));
        const bool last = !in;
        const std::size_t data = text.find("<AppendedData", from);
        while ((from = text.find(word, from)) < data) {
            if (!last && from + word.size() + most_behind > text.size()) break; // the rest comes
            from += word.size();
            const std::size_t number = text.find_first_not_of(" \t\n\r=\"'", from);
            if (number == std::string::npos || number > from + most_behind) continue;
            const long long components = std::strtoll(text.c_str() + number, nullptr, 10);
            if (components > most_components)
                throw std::runtime_error(fmt::format("says that an array has {} components; {} are read",
                                                     components, most_components));
        }
        if (data != std::string::npos || last) return;
        // What may be the beginning of a word goes on.
        const std::size_t kept = std::min(text.size(), word.size() + most_behind);
        from = 0;
        text.erase(0, text.size() - kept);
    }
}

// Takes it all out of the library's reader.
VtuFile taken(const std::filesystem::path& file, const std::function<bool(const std::string&, int)>& wanted) {
    require_sane_components(file);
    vtkNew<vtkXMLUnstructuredGridReader> reader;
    if (reader->CanReadFile(file.c_str()) == 0) throw std::runtime_error("is no VTU file");
    reader->SetFileName(file.c_str());
    reader->Update();
    vtkUnstructuredGrid* grid = reader->GetOutput();
    if (grid == nullptr || reader->GetErrorCode() != 0) throw std::runtime_error("is a broken VTU file");
    VtuFile out;
    out.points.resize(static_cast<std::size_t>(grid->GetNumberOfPoints()));
    for (std::size_t i = 0; i < out.points.size(); ++i)
        grid->GetPoint(static_cast<vtkIdType>(i), out.points[i].data());
    const vtkIdType cells = grid->GetNumberOfCells();
    vtkCellArray* connections = grid->GetCells();
    vtkUnsignedCharArray* types = grid->GetCellTypesArray();
    if (cells > 0 && (connections == nullptr || types == nullptr || types->GetNumberOfTuples() != cells ||
                      connections->GetNumberOfCells() != cells))
        throw std::runtime_error("has not as many types as cells");
    vtkNew<vtkIdList> ids;
    out.starts.push_back(0);
    for (vtkIdType c = 0; c < cells; ++c) {
        const vtkIdType size = connections->GetCellSize(c);
        if (size < 0 || size > connections->GetNumberOfConnectivityIds())
            throw std::runtime_error(fmt::format("has offsets of cells that do not ascend, at cell {}", c));
        connections->GetCellAtId(c, ids);
        out.connectivity.insert(out.connectivity.end(), ids->begin(), ids->end());
        out.starts.push_back(static_cast<std::int64_t>(out.connectivity.size()));
        out.types.push_back(types->GetValue(c));
    }
    out.at_points = arrays_in(grid->GetPointData(), wanted);
    out.at_cells = arrays_in(grid->GetCellData(), wanted);
    return out;
}

void require_rows(const std::map<std::string, VtuArray>& arrays, std::size_t count, const char* of) {
    for (const auto& [name, array] : arrays) {
        const std::size_t values = array.values.size();
        if (values > 0 && values != count * static_cast<std::size_t>(std::max(1, array.components)))
            throw std::runtime_error(
                fmt::format("has {} values in \"{}\" for {} {}", values, name, count, of));
    }
}

} // namespace

VtuFile read_vtu_file(const std::filesystem::path& file,
                      const std::function<bool(const std::string&, int)>& wanted) {
    VtuFile out;
    run_apart(
        file, {}, "the library for VTU files", [&] { out = taken(file, wanted); },
        [&](Handover& over) {
            over.many(out.points);
            over.many(out.starts);
            over.many(out.connectivity);
            over.many(out.types);
            for (auto* arrays : {&out.at_points, &out.at_cells})
                over.each(*arrays, [&](VtuArray& array) {
                    over.one(array.components);
                    over.many(array.values);
                });
        });
    for (std::size_t i = 0; i < out.connectivity.size(); ++i)
        if (out.connectivity[i] < 0 || out.connectivity[i] >= static_cast<std::int64_t>(out.points.size()))
            throw std::runtime_error(
                fmt::format("has a cell at point {}, but {} points", out.connectivity[i], out.points.size()));
    require_rows(out.at_points, out.points.size(), "points");
    require_rows(out.at_cells, out.cells(), "cells");
    return out;
}

} // namespace upright
