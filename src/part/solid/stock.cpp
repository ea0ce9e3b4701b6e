#include "part/solid/stock.hpp"

#include "base/edge_key.hpp"
#include "part/solid/face_corners.hpp"
#include "part/solid/symmetry_face.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <fmt/format.h>
#include <map>

namespace upright {

namespace {

constexpr double as_one = 0.05;   // of singular values: normals that differ by less are one
constexpr double touching = 1e-7; // of a size: on a sheet
constexpr double flush = 0.99;    // cosine between a side and the sheet that it lies on

class StockBuilder {
  public:
    StockBuilder(const Model& model, const SolidPart& part, const StockWish& wish)
        : model_(model), wish_(wish), out_(part), sheets_(std::make_shared<SheetSet>(*part.sheets)) {}

    SolidPart run() {
        find_faces();
        raise_points();
        for (const std::size_t f : chosen_) add_prism(f);
        add_sides();
        for (const std::size_t f : chosen_)
            out_.faces[f].before = static_cast<std::int32_t>(index(wish_.region));
        for (std::size_t f = first_face_; f < out_.faces.size(); ++f)
            for (const std::int32_t n : out_.faces[f].nodes) {
                auto& list = out_.sheets_of[static_cast<std::size_t>(n)];
                const std::int32_t s = out_.faces[f].sheet;
                if (s >= 0 && std::find(list.begin(), list.end(), s) == list.end()) list.push_back(s);
            }
        out_.sheets = sheets_;
        measure_angles(out_);
        return std::move(out_);
    }

  private:
    const Vec3& place(std::int32_t n) const { return out_.points[static_cast<std::size_t>(n)]; }
    Vec3 normal_of(const Corners& n) const {
        return Vec3(place(n[1]) - place(n[0])).cross(place(n[2]) - place(n[0])).normalized();
    }

    void find_faces() {
        std::map<Corners, std::size_t> known;
        for (std::size_t f = 0; f < out_.faces.size(); ++f)
            if (out_.faces[f].before < 0) known.emplace(sorted(out_.faces[f].nodes), f);
        for (const Corners& face : wish_.faces) {
            const auto found = known.find(sorted(face));
            if (found == known.end() || on_symmetry(model_, out_, out_.faces[found->second])) continue;
            chosen_.push_back(found->second);
        }
        std::sort(chosen_.begin(), chosen_.end());
        chosen_.erase(std::unique(chosen_.begin(), chosen_.end()), chosen_.end());
        first_face_ = out_.faces.size();
        piece_at_.assign(out_.points.size(), 0);
        for (std::size_t t = 0; t < out_.tets.size(); ++t)
            for (const std::int32_t n : out_.tets[t]) piece_at_[static_cast<std::size_t>(n)] = out_.piece[t];
    }

    // Each point so far that it is as deep above every face about it.
    void raise_points() {
        std::map<std::int32_t, std::map<std::int32_t, Vec3>> ways; // of points: by sheets
        for (const std::size_t f : chosen_) {
            const Improved::Face& face = out_.faces[f];
            const Vec3 flat = normal_of(face.nodes);
            const bool exact = face.sheet >= 0 && (*sheets_)[face.sheet].kind != Sheet::Kind::Field;
            for (const std::int32_t n : face.nodes) {
                Vec3 way = exact ? (*sheets_)[face.sheet].normal(place(n)) : flat;
                if (way.dot(flat) < 0.0) way = -way;
                Vec3& sum = ways[n].emplace(exact ? face.sheet : -1, Vec3::Zero()).first->second;
                sum = exact ? way : Vec3(sum + way);
            }
            if (exact && raised_sheet_.count(face.sheet) == 0)
                raised_sheet_[face.sheet] =
                    raise_sheet(face.sheet, flat,
                                (place(face.nodes[0]) + place(face.nodes[1]) + place(face.nodes[2])) / 3.0);
        }
        for (const auto& [n, of_sheets] : ways) {
            Eigen::MatrixXd normals(static_cast<Eigen::Index>(of_sheets.size()), 3);
            Eigen::Index row = 0;
            for (const auto& [sheet, way] : of_sheets) normals.row(row++) = way.normalized().transpose();
            Eigen::JacobiSVD<Eigen::MatrixXd> parts(normals, Eigen::ComputeThinU | Eigen::ComputeThinV);
            parts.setThreshold(as_one);
            Vec3 move = parts.solve(Eigen::VectorXd::Constant(row, wish_.depth));
            for (const SymmetryCut& cut : model_.mesh.symmetry)
                if (on_plane(place(n), cut, model_.mesh.size)) move[cut.axis] = 0.0;
            top_[n] = static_cast<std::int32_t>(out_.points.size());
            out_.points.emplace_back(place(n) + move);
            out_.sheets_of.emplace_back();
        }
    }

    // The same face, as deep further out; -1 of what is neither plane, cylinder nor sphere.
    std::int32_t raise_sheet(std::int32_t s, const Vec3& out, const Vec3& p) {
        Sheet raised = (*sheets_)[s];
        const double way = raised.normal(p).dot(out) < 0.0 ? -wish_.depth : wish_.depth;
        raised.regions = {static_cast<std::int32_t>(index(wish_.region))};
        if (raised.kind == Sheet::Kind::Plane)
            raised.at += way * raised.axis;
        else if (raised.kind == Sheet::Kind::Cylinder || raised.kind == Sheet::Kind::Sphere)
            raised.radius += way;
        else
            return -1;
        return raised.kind == Sheet::Kind::Plane || raised.radius > 0.0 ? sheets_->add(raised) : -1;
    }

    void add_tet(const std::array<std::int32_t, 4>& n, std::int32_t piece) {
        std::array<std::int32_t, 4> nodes = n;
        std::array<Vec3, 4> p;
        for (std::size_t k = 0; k < 4; ++k) p[k] = place(nodes[k]);
        if (turned_) {
            std::swap(nodes[2], nodes[3]);
            std::swap(p[2], p[3]);
        }
        if (!(tet_volume(p) > 0.0)) {
            const Vec3 at = 0.25 * (p[0] + p[1] + p[2] + p[3]);
            throw Error::input({},
                               fmt::format("the stock \"{}\" of {:.4g} {} is deeper than its faces are bent "
                                           "about ({:.4g}, {:.4g}, {:.4g})",
                                           wish_.name, wish_.depth, model_.units.length, at.x(), at.y(),
                                           at.z()),
                               "Write a smaller allowance");
        }
        out_.tets.push_back(nodes);
        out_.region.push_back(wish_.region);
        out_.piece.push_back(piece);
    }

    // Three tetrahedra; sides are halved from the lower number below to the higher above, so that prisms fit.
    void add_prism(std::size_t f) {
        const Corners face = out_.faces[f].nodes;
        const Corners n = sorted(face);
        // Whether the order of the numbers goes round the other way.
        turned_ = !((face[0] == n[0] && face[1] == n[1]) || (face[1] == n[0] && face[2] == n[1]) ||
                    (face[2] == n[0] && face[0] == n[1]));
        const std::int32_t piece = piece_at_[static_cast<std::size_t>(n[0])];
        add_tet({n[0], n[1], n[2], top_[n[2]]}, piece);
        add_tet({n[0], n[1], top_[n[2]], top_[n[1]]}, piece);
        add_tet({n[0], top_[n[1]], top_[n[2]], top_[n[0]]}, piece);
        const auto raised = raised_sheet_.find(out_.faces[f].sheet);
        add_face({top_[face[0]], top_[face[1]], top_[face[2]]},
                 raised == raised_sheet_.end() ? -1 : raised->second);
    }

    void add_face(const Corners& nodes, std::int32_t sheet) {
        Improved::Face face;
        face.nodes = nodes;
        face.behind = static_cast<std::int32_t>(index(wish_.region));
        face.sheet = sheet;
        out_.faces.push_back(face);
    }

    std::int32_t sheet_along(const Corners& n) const {
        const Vec3 normal = normal_of(n);
        const Vec3 middle = (place(n[0]) + place(n[1]) + place(n[2])) / 3.0;
        for (std::size_t i = 0; i < sheets_->count(); ++i) {
            const Sheet& sheet = (*sheets_)[static_cast<std::int32_t>(i)];
            if (sheet.kind != Sheet::Kind::Field && std::abs(sheet.normal(middle).dot(normal)) > flush &&
                std::all_of(n.begin(), n.end(), [&](std::int32_t k) {
                    return std::abs(sheet.value(place(k))) < touching * sheets_->size();
                }))
                return static_cast<std::int32_t>(i);
        }
        return -1;
    }

    void add_sides() {
        std::map<std::uint64_t, int> count;
        for (const std::size_t f : chosen_)
            for (std::size_t k = 0; k < 3; ++k)
                ++count[edge_key(out_.faces[f].nodes[k], out_.faces[f].nodes[(k + 1) % 3])];
        for (const std::size_t f : chosen_)
            for (std::size_t k = 0; k < 3; ++k) {
                const std::int32_t a = out_.faces[f].nodes[k];
                const std::int32_t b = out_.faces[f].nodes[(k + 1) % 3];
                if (count.at(edge_key(a, b)) != 1) continue;
                const std::array<Corners, 2> sides =
                    a < b ? std::array<Corners, 2>{{{a, b, top_[b]}, {a, top_[b], top_[a]}}}
                          : std::array<Corners, 2>{{{a, b, top_[a]}, {b, top_[b], top_[a]}}};
                for (const Corners& side : sides) add_face(side, sheet_along(side));
            }
    }

    const Model& model_;
    const StockWish& wish_;
    SolidPart out_;
    std::shared_ptr<SheetSet> sheets_;
    std::vector<std::size_t> chosen_; // of the faces
    std::size_t first_face_ = 0;      // of the stock's own
    std::vector<std::int32_t> piece_at_;
    std::map<std::int32_t, std::int32_t> top_; // of points
    std::map<std::int32_t, std::int32_t> raised_sheet_;
    bool turned_ = false;
};

} // namespace

SolidPart with_stock(const Model& model, const SolidPart& part, const StockWish& wish) {
    return StockBuilder(model, part, wish).run();
}

} // namespace upright
