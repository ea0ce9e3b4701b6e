// Cells of a grid, and how much of a cell lies within a shape.
#include "geometry/painting.hpp"

#include <algorithm>
#include <cmath>

namespace upright {

bool GridCells::on_symmetry(std::size_t c, int side) const {
    return grid_.symmetric[static_cast<std::size_t>(side / 2)][static_cast<std::size_t>(side % 2)] &&
           grid_.neighbour(c, side) < 0;
}

void GridCells::pieces(std::size_t c, std::vector<CellPiece>& out) const {
    const int steps = grid_.plane ? 4 : 2;
    out.clear();
    const Vec3 middle = grid_.center(c);
    CellPiece piece;
    for (int a = 0; a < grid_.axes(); ++a) piece.half(a, a) = 0.5 * grid_.cell[a] / steps;
    piece.volume = 1.0;
    for (int k = 0; k < (grid_.plane ? 1 : steps); ++k)
        for (int j = 0; j < steps; ++j)
            for (int i = 0; i < steps; ++i) {
                const Vec3 share((i + 0.5) / steps - 0.5, (j + 0.5) / steps - 0.5,
                                 grid_.plane ? 0.0 : (k + 0.5) / steps - 0.5);
                piece.at = middle + share.cwiseProduct(grid_.cell);
                out.push_back(piece);
            }
}

namespace {

// The share of a box where value + slopes . s < 0 for s in [-1, 1]^3: the distribution of a sum of uniform
// numbers, its polynomial pieces added up over the box's corners.
double below_plane(double value, Vec3 slopes) {
    slopes = slopes.cwiseAbs();
    const double most = slopes.sum();
    if (value >= most) return 0.0;
    if (value <= -most) return 1.0;
    // Directions that hardly change the value would divide by next to nothing.
    int used = 0;
    std::array<double, 3> a{};
    for (int k = 0; k < 3; ++k)
        if (slopes[k] > 1e-4 * most) a[static_cast<std::size_t>(used++)] = slopes[k];
    double sum = 0.0;
    for (int corner = 0; corner < (1 << used); ++corner) {
        double at = -value;
        double sign = 1.0;
        for (int k = 0; k < used; ++k) {
            const bool high = ((corner >> k) & 1) != 0;
            at += high ? -a[static_cast<std::size_t>(k)] : a[static_cast<std::size_t>(k)];
            if (high) sign = -sign;
        }
        if (at > 0.0) sum += sign * std::pow(at, used);
    }
    double scale = 1.0;
    for (int k = 0; k < used; ++k) scale *= 2.0 * a[static_cast<std::size_t>(k)] * (k + 1);
    return std::clamp(sum / scale, 0.0, 1.0);
}

} // namespace

double share_below(const std::vector<CellPiece>& pieces, const std::function<double(const Vec3&)>& value) {
    double below = 0.0;
    double all = 0.0;
    for (const CellPiece& piece : pieces) {
        all += piece.volume;
        const double middle = value(piece.at);
        // No function here changes faster than a distance does.
        const double reach = piece.half.col(0).norm() + piece.half.col(1).norm() + piece.half.col(2).norm();
        if (middle >= reach) continue;
        if (middle <= -reach) {
            below += piece.volume;
            continue;
        }
        Vec3 slopes = Vec3::Zero();
        for (int k = 0; k < 3; ++k)
            if (!piece.half.col(k).isZero(0.0))
                slopes[k] =
                    value(piece.at + 0.5 * piece.half.col(k)) - value(piece.at - 0.5 * piece.half.col(k));
        below += piece.volume * below_plane(middle, slopes);
    }
    return all > 0.0 ? below / all : 0.0;
}

Vec3 GridCells::face_center(std::size_t c, int side) const {
    return upright::face_center(grid_, {c, side});
}
Vec3 GridCells::face_normal(std::size_t /*c*/, int side) const {
    return upright::face_normal(side);
}
double GridCells::face_area(std::size_t /*c*/, int side) const {
    return upright::face_area(grid_, side);
}

std::vector<Vec3> GridCells::face_corners(std::size_t c, int side) const {
    const Vec3 middle = upright::face_center(grid_, {c, side});
    const int axis = side / 2;
    if (grid_.plane) {
        const Vec3 u = 0.5 * grid_.cell[1 - axis] * Vec3::Unit(1 - axis);
        return {middle - u, middle + u};
    }
    const Vec3 u = 0.5 * grid_.cell[(axis + 1) % 3] * Vec3::Unit((axis + 1) % 3);
    const Vec3 v = 0.5 * grid_.cell[(axis + 2) % 3] * Vec3::Unit((axis + 2) % 3);
    return {middle - u - v, middle + u - v, middle + u + v, middle - u + v};
}

Vec3 face_normal(int side) {
    return Vec3::Unit(side / 2) * (side % 2 == 0 ? -1.0 : 1.0);
}

Vec3 face_center(const CellGrid& grid, const CellFace& face) {
    return grid.center(face.cell) + 0.5 * grid.cell[face.side / 2] * face_normal(face.side);
}

double face_area(const CellGrid& grid, int side) {
    return grid.cell_volume() / grid.cell[side / 2];
}

} // namespace upright
