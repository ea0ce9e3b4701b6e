#include "figures/side_by_side.hpp"

#include "figures/figure_inside.hpp"

#include <vtkImageData.h>
#include <vtkNew.h>

#include <algorithm>
#include <cmath>

namespace upright {

int tiles_across(std::size_t count) {
    return std::max(1, static_cast<int>(std::ceil(std::sqrt(static_cast<double>(count)))));
}

void write_side_by_side(const std::vector<std::unique_ptr<Figure>>& figures,
                        const std::filesystem::path& png) {
    Bounds room;
    for (const auto& figure : figures) room.include(figure->room());
    std::vector<Picture> tiles;
    for (const auto& figure : figures) {
        figure->make_room(room);
        tiles.push_back(figure->picture());
    }
    const int across = tiles_across(tiles.size());
    const int down = (static_cast<int>(tiles.size()) + across - 1) / across;
    const int wide = tiles.front().width;
    const int high = tiles.front().height;
    vtkNew<vtkImageData> sheet;
    sheet->SetDimensions(across * wide, down * high, 1);
    sheet->AllocateScalars(VTK_UNSIGNED_CHAR, 3);
    auto* all = static_cast<unsigned char*>(sheet->GetScalarPointer());
    const auto row = static_cast<std::size_t>(3 * across * wide);
    std::fill(all, all + row * static_cast<std::size_t>(down * high), static_cast<unsigned char>(255));
    for (std::size_t t = 0; t < tiles.size(); ++t) {
        const int x = static_cast<int>(t) % across * wide;
        const int top = static_cast<int>(t) / across * high;
        for (int y = 0; y < high; ++y) {
            const auto* from =
                tiles[t].rgb.data() + static_cast<std::size_t>(3 * wide) * static_cast<std::size_t>(y);
            // The sheet's rows run from the bottom.
            auto* to = all + row * static_cast<std::size_t>(down * high - 1 - top - y) + 3 * x;
            std::copy(from, from + 3 * wide, to);
        }
    }
    write_png(sheet, png);
}

} // namespace upright
