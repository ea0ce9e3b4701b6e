#include "part/making_check.hpp"

#include "base/angles.hpp"
#include "design/form.hpp"
#include "design/making_rule.hpp"
#include "geometry/distance.hpp"
#include "mesh/into_model.hpp"
#include "part/lean.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

constexpr double lines_in_a_cell = 3.0;
constexpr double most_lines = 250000.0;
constexpr double asked_every = 0.25; // sizes, along a line, whose shape stands there
constexpr double nothing = 0.02;     // sizes: gaps and pieces as short are none
constexpr double angle_slack = 5.0;  // degrees
constexpr double free_share = 0.03;
constexpr double draft_slack = 0.5; // degrees

// Of the whole body.
bool in_design(const Model& model, const Vec3& p) {
    const RegionId r = model.shapes.owner(into_model(model.mesh, p));
    return r != RegionId::None && model.shapes[r].role == Role::Design;
}

class DrawCheck {
  public:
    DrawCheck(const Model& model, const Part& part, double parting)
        : model_(model), draw_(*model.form.draw), size_(model.mesh.size),
          tree_(part.surface.points, part.surface.corners), parting_(parting) {
        for (const Vec3& p : part.surface.points) box_.include(p);
    }

    MakingFinding run() {
        const auto both = across(draw_.along);
        const Vec3 u = both.first, v = both.second;
        double low_u = 1e300;
        double low_v = 1e300;
        double high_u = -1e300;
        double high_v = -1e300;
        low_ = 1e300;
        high_ = -1e300;
        for (int k = 0; k < 8; ++k) {
            const Vec3 p((k & 1) != 0 ? box_.high.x() : box_.low.x(),
                         (k & 2) != 0 ? box_.high.y() : box_.low.y(),
                         (k & 4) != 0 ? box_.high.z() : box_.low.z());
            low_u = std::min(low_u, p.dot(u));
            high_u = std::max(high_u, p.dot(u));
            low_v = std::min(low_v, p.dot(v));
            high_v = std::max(high_v, p.dot(v));
            low_ = std::min(low_, p.dot(draw_.along));
            high_ = std::max(high_, p.dot(draw_.along));
        }
        step_ =
            std::max(size_ / lines_in_a_cell, std::sqrt((high_u - low_u) * (high_v - low_v) / most_lines));
        // Off the middle of cells, so that no line runs along an edge.
        const int across_u = static_cast<int>((high_u - low_u) / step_) + 1;
        const int across_v = static_cast<int>((high_v - low_v) / step_) + 1;
        std::vector<char> bad(static_cast<std::size_t>(across_u) * static_cast<std::size_t>(across_v), 0);
        std::vector<char> counted(bad.size(), 0);
#pragma omp parallel for schedule(dynamic, 16)
        for (std::size_t i = 0; i < bad.size(); ++i) {
            const auto column = static_cast<double>(i % static_cast<std::size_t>(across_u));
            const auto row = static_cast<double>(i / static_cast<std::size_t>(across_u));
            const Vec3 foot = (low_u + (column + 0.4637) * step_) * u + (low_v + (row + 0.4391) * step_) * v +
                              (low_ - size_) * draw_.along;
            const Line line = look(foot);
            bad[i] = line == Line::Bad ? 1 : 0;
            counted[i] = line == Line::Good || line == Line::Bad ? 1 : 0;
        }
        const auto seen = static_cast<std::size_t>(std::count(counted.begin(), counted.end(), 1));
        return judge(std::move(bad), across_u, across_v, seen, low_u, low_v, u, v);
    }

  private:
    enum class Line { Empty, Exempt, Good, Bad };

    Line look(const Vec3& foot) const {
        std::vector<FacetTree::Hit> hits;
        tree_.crossings(foot, draw_.along, hits);
        if (hits.size() < 2) return Line::Empty;
        if (std::any_of(hits.begin(), hits.end(), [](const auto& h) { return h.doubtful; }))
            return Line::Exempt;
        std::vector<double> at;
        for (const auto& h : hits) at.push_back(h.along);
        std::sort(at.begin(), at.end());
        if (at.size() % 2 != 0) return Line::Exempt;
        std::vector<std::pair<double, double>> pieces;
        for (std::size_t i = 0; i < at.size(); i += 2) {
            if (at[i + 1] - at[i] < nothing * size_) continue;
            if (!pieces.empty() && at[i] - pieces.back().second < nothing * size_)
                pieces.back().second = at[i + 1];
            else
                pieces.emplace_back(at[i], at[i + 1]);
        }
        if (pieces.empty()) return Line::Empty;
        // The stretch of the line where the design is free; void shapes before and behind it are no part of
        // the space.
        const double end = high_ - low_ + 2.0 * size_;
        double from = end;
        double to = 0.0;
        bool within = false;
        for (double s = 0.0; s < end; s += asked_every * size_) {
            const RegionId r = owner(foot + s * draw_.along);
            const bool outside = r == RegionId::None || model_.shapes[r].role == Role::Void;
            if (!outside && model_.shapes[r].role != Role::Design) return Line::Exempt;
            if (!outside && !within && from < end) return Line::Exempt; // a gap of the space itself
            within = !outside;
            if (outside) continue;
            from = std::min(from, s);
            to = s;
        }
        if (pieces.size() > 1) return Line::Bad;
        if (draw_.dies == 2) {
            // Dies that part column by column meet within whatever one piece there is.
            if (draw_.parting == FormCard::Draw::Parting::Found) return Line::Good;
            const double cut = parting_ - foot.dot(draw_.along);
            if (cut < from - size_ || cut > to + size_) return Line::Exempt; // no design reaches the parting
            return pieces[0].first <= cut + size_ && pieces[0].second >= cut - size_ ? Line::Good : Line::Bad;
        }
        // Down to where the space ends, but for a cell.
        const double below = pieces[0].first - size_;
        return in_space(foot + below * draw_.along) ? Line::Bad : Line::Good;
    }

    RegionId owner(const Vec3& p) const {
        return model_.shapes.owner(into_model(model_.mesh, p));
    }
    bool in_space(const Vec3& p) const {
        return in_design(model_, p);
    }

    // Undercuts are as wide as it takes to wear them off from all sides.
    MakingFinding judge(std::vector<char> bad, int across_u, int across_v, std::size_t seen, double low_u,
                        double low_v, const Vec3& u, const Vec3& v) const {
        const auto total = static_cast<std::size_t>(std::count(bad.begin(), bad.end(), 1));
        MakingFinding out;
        out.rule = "draw";
        out.what = fmt::format("undercuts along ({:.4g}, {:.4g}, {:.4g}) are wide", draw_.along.x(),
                               draw_.along.y(), draw_.along.z());
        out.unit = model_.units.text(dimension::length);
        out.limit = size_;
        int rounds = 0;
        while (std::find(bad.begin(), bad.end(), 1) != bad.end()) {
            const auto first = static_cast<std::size_t>(std::find(bad.begin(), bad.end(), 1) - bad.begin());
            const auto i = static_cast<double>(first % static_cast<std::size_t>(across_u));
            const auto j = static_cast<double>(first / static_cast<std::size_t>(across_u));
            out.where = (low_u + (i + 0.5) * step_) * u + (low_v + (j + 0.5) * step_) * v +
                        0.5 * (low_ + high_) * draw_.along;
            std::vector<char> left = bad;
            for (int row = 0; row < across_v; ++row)
                for (int column = 0; column < across_u; ++column) {
                    const auto is = [&](int c, int r) {
                        return c >= 0 && r >= 0 && c < across_u && r < across_v &&
                               bad[static_cast<std::size_t>(r) * static_cast<std::size_t>(across_u) +
                                   static_cast<std::size_t>(c)] != 0;
                    };
                    if (!is(column - 1, row) || !is(column + 1, row) || !is(column, row - 1) ||
                        !is(column, row + 1))
                        left[static_cast<std::size_t>(row) * static_cast<std::size_t>(across_u) +
                             static_cast<std::size_t>(column)] = 0;
                }
            bad.swap(left);
            ++rounds;
        }
        out.value = rounds == 0 ? 0.0 : (2.0 * rounds - 1.0) * step_;
        out.also =
            seen > 0 ? fmt::format("{} of {} lines that miss kept shapes and gaps of the space", total, seen)
                     : std::string("none was looked at: every line meets a kept shape or a gap of the space");
        return out;
    }

    const Model& model_;
    const FormCard::Draw& draw_;
    double size_;
    FacetTree tree_;
    double parting_;
    Bounds box_;
    double low_ = 0.0, high_ = 0.0, step_ = 1.0;
};

// Calls visit(normal, area, middle) for each face of the design's own surface; areas are of the whole body.
template <class Visit> void each_free_face(const Model& model, const SolidPart& solid, const Visit& visit) {
    for (const Improved::Face& f : solid.faces) {
        if (f.before >= 0 || f.sheet != solid.level) continue;
        const Vec3& a = solid.points[static_cast<std::size_t>(f.nodes[0])];
        const Vec3& b = solid.points[static_cast<std::size_t>(f.nodes[1])];
        const Vec3& c = solid.points[static_cast<std::size_t>(f.nodes[2])];
        const Vec3 twice = Vec3(b - a).cross(c - a);
        visit(Vec3(twice.normalized()), 0.5 * twice.norm() * model.mesh.copies(), Vec3((a + b + c) / 3.0));
    }
}

// The share of the free faces that lean less than asked, on the mean within a cell. Faces across the draw are
// no walls.
MakingFinding draft_of(const Model& model, const Part& part) {
    const FormCard::Draw& rule = *model.form.draw;
    const double asked = rule.draft - draft_slack;
    const Dies dies = dies_of(model, rule.along);
    const std::vector<double> wall = leans(part.surface, part.free, dies, model.mesh.size);
    const std::vector<double> own = leans(part.surface, part.free, dies, 0.0);
    double all = 0.0;
    double less = 0.0;
    double facets = 0.0;
    double worst = 1e300;
    MakingFinding out;
    for (std::size_t t = 0; t < wall.size(); ++t) {
        if (!part.free[t]) continue;
        const auto& c = part.surface.corners[t];
        const Vec3& p = part.surface.points[static_cast<std::size_t>(c[0])];
        const Vec3& q = part.surface.points[static_cast<std::size_t>(c[1])];
        const Vec3& r = part.surface.points[static_cast<std::size_t>(c[2])];
        const double area = 0.5 * Vec3(q - p).cross(r - p).norm();
        all += area;
        facets += own[t] < asked ? area : 0.0;
        if (wall[t] >= asked) continue;
        less += area;
        if (wall[t] >= worst) continue;
        worst = wall[t];
        out.where = (p + q + r) / 3.0;
    }
    out.rule = "draft";
    out.what =
        fmt::format("free faces that lean less than {:.3g} degrees, on the mean within a cell, are", asked);
    out.value = all > 0.0 ? 100.0 * less / all : 0.0;
    out.limit = 100.0 * free_share;
    out.unit = "% of the free surface";
    out.also = (worst < 1e299 ? fmt::format("the least leans {:.3g}", worst) : std::string("none")) +
               fmt::format("; of single triangles {:.3g} %", all > 0.0 ? 100.0 * facets / all : 0.0);
    return out;
}

MakingFinding overhang_of(const Model& model, const Part& part) {
    const FormCard::Overhang& rule = *model.form.overhang;
    double all = 0.0;
    double beyond = 0.0;
    double support = 0.0;
    double worst = 0.0;
    MakingFinding out;
    each_free_face(model, *part.solid, [&](const Vec3& normal, double area, const Vec3& middle) {
        const double down = -normal.dot(rule.up);
        all += area;
        if (down > std::sin(rule.angle * degree)) support += area * down;
        if (down <= std::sin(std::min(rule.angle + angle_slack, 90.0) * degree)) return;
        beyond += area;
        if (down * area > worst) {
            worst = down * area;
            out.where = middle;
        }
    });
    out.rule = "overhang";
    out.what = fmt::format("free faces beyond {:.4g} degrees are", rule.angle + angle_slack);
    out.value = all > 0.0 ? 100.0 * beyond / all : 0.0;
    out.limit = 100.0 * free_share;
    out.unit = "% of the free surface";
    out.also = fmt::format("{:.4g} {}; {:.4g} to be supported, seen from below", beyond,
                           model.units.text(dimension::area), support);
    return out;
}

// How far the free surface is from its images, where those lie in the design as well.
void check_pattern(const Model& model, const Part& part, std::vector<MakingFinding>& out) {
    const std::vector<PatternImage> images = pattern_images(model, form_rules(model.form));
    if (images.empty()) return;
    std::vector<bool> of_free(part.surface.points.size(), false);
    for (std::size_t t = 0; t < part.surface.corners.size(); ++t)
        if (part.free[t])
            for (const std::int32_t n : part.surface.corners[t]) of_free[static_cast<std::size_t>(n)] = true;
    std::vector<Vec3> places;
    for (std::size_t i = 0; i < of_free.size(); ++i)
        if (of_free[i]) places.push_back(part.surface.points[i]);
    const FacetTree tree(part.surface.points, part.surface.corners);
    for (const PatternImage& image : images) {
        std::vector<double> off(places.size(), -1.0);
#pragma omp parallel for schedule(dynamic, 256)
        for (std::size_t i = 0; i < places.size(); ++i) {
            const auto other = image.at(places[i]);
            if (other && in_design(model, *other)) off[i] = tree.nearest(*other).distance;
        }
        MakingFinding f;
        f.rule = image.rule;
        f.what = "free faces, " + image.words + ", miss the part by at most";
        f.limit = model.mesh.size;
        f.unit = model.units.text(dimension::length);
        double sum = 0.0;
        std::size_t count = 0;
        for (std::size_t i = 0; i < off.size(); ++i) {
            if (off[i] < 0.0) continue;
            ++count;
            sum += off[i];
            if (off[i] <= f.value) continue;
            f.value = off[i];
            f.where = places[i];
        }
        if (count == 0) continue;
        f.also = fmt::format("by {:.2g} on the mean of {} places", sum / static_cast<double>(count), count);
        out.push_back(f);
    }
}

void check_sizes(const Model& model, const Thickness& found, std::vector<MakingFinding>& out) {
    const double cell = model.mesh.size;
    const std::string unit = model.units.text(dimension::length);
    const auto add = [&](const char* rule, const char* what, const Thickness::Place& place, double asked,
                         bool at_least) {
        MakingFinding f;
        f.rule = rule;
        f.what = what;
        f.value = place.across;
        f.limit = at_least ? asked - cell : asked + cell;
        f.at_least = at_least;
        f.unit = unit;
        f.where = place.at;
        f.also = std::string_view(rule) == "min_slot" ? std::string("from side to side")
                 : at_least ? fmt::format("{:.3g} % of the design is thinner than {:.4g}",
                                          100.0 * found.thinner_than(asked), asked)
                            : std::string("of design regions alone");
        out.push_back(f);
    };
    if (model.form.min_feature && found.thinnest)
        add("min_feature", "the thinnest place is", *found.thinnest, *model.form.min_feature, true);
    if (model.form.min_slot && found.narrowest)
        add("min_slot", "the narrowest gap is", *found.narrowest, *model.form.min_slot, true);
    if (const std::optional<double> most = largest_feature(model.form); most && found.thickest)
        add("max_feature", "the thickest place is", *found.thickest, *most, false);
}

} // namespace

std::vector<MakingFinding> check_making(const Model& model, const Part& part, double parting,
                                        const Thickness& thickness) {
    std::vector<MakingFinding> out;
    if (!part.solid) return out;
    if (model.form.draw) out.push_back(DrawCheck(model, part, parting).run());
    if (model.form.draw && model.form.draw->draft > 0.0) out.push_back(draft_of(model, part));
    if (model.form.overhang) out.push_back(overhang_of(model, part));
    check_pattern(model, part, out);
    check_sizes(model, thickness, out);
    return out;
}

} // namespace upright
