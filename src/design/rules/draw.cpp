// The part leaves its die. Every column along the draw has one height over the base, or one to each side of
// the parting, as in die casting by Gersborg & Andreasen (2011): a height per column, not a bound between
// neighbours, so that no undercut can come of any density.
#include "design/columns.hpp"
#include "design/making_rule.hpp"
#include "design/rules/found_parting.hpp"
#include "design/rules/plane_table.hpp"

#include "study/cards/cards.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

using DrawCard = FormCard::Draw;

// Density over the height: (1 + tanh B (1.1 h - 0.05 - z)) / 2, with z from 0 at the base to 1. B is that of
// the gray design; the projection sharpens what comes of it.
constexpr double slope = 5.0, stretch = 1.1, shift = -0.05;
constexpr double default_wall = 2.0; // cells

double direction_off(const Vec3& a, const Vec3& b) {
    return 1.0 - std::abs(a.dot(b));
}
constexpr double parallel = 1e-6;

// The parting's place along the draw: given, or in the middle.
double parting_of(const Model& model, const DrawCard& card) {
    const auto [low, high] = extent_along(model.mesh, card.along);
    if (card.parting == DrawCard::Parting::Plane) return card.point.dot(card.along);
    return 0.5 * (low + high);
}

double wall_of(const Model& model, const DrawCard& card) {
    return card.wall.value_or(default_wall * model.mesh.size);
}

class DrawLink final : public Link {
  public:
    DrawLink(const Model& model, const std::vector<std::size_t>& elements, const DrawCard& card)
        : columns_(model.mesh, card.along), elements_(elements) {
        const Mesh& mesh = model.mesh;
        const auto [low, high] = extent_along(mesh, card.along);
        const double base = card.dies == 1 ? low : parting_of(model, card);
        const double wall = wall_of(model, card);
        const auto above = [&](std::size_t e) { return mesh.center(e).dot(card.along) - base; };
        const auto side_of = [&](double s) { return card.dies == 2 && s < 0.0 ? 1U : 0U; };
        const std::array<double, 2> length{std::max(high - base, 1e-9), std::max(base - low, 1e-9)};
        // How far up kept material stands in each column: below it no die comes.
        std::vector<double> kept(columns_.count() * 2, -1.0);
        std::vector<double> bottom(columns_.count() * 2, 1e300);
        for (std::size_t e = 0; e < mesh.elements(); ++e) {
            const auto id = static_cast<ElementId>(e);
            const double s = above(e);
            const std::size_t slot = 2 * columns_.of(id) + side_of(s);
            bottom[slot] = std::min(bottom[slot], std::abs(s));
            if (model.role(id) == Role::Keep) kept[slot] = std::max(kept[slot], std::abs(s));
        }
        share_.resize(elements.size());
        for (const std::size_t e : elements) {
            const auto id = static_cast<ElementId>(e);
            const double s = above(e);
            const unsigned side = side_of(s);
            side_.push_back(side);
            height_.push_back(std::abs(s) / length[side]);
            const std::size_t slot = 2 * columns_.of(id) + side;
            const bool hidden = std::abs(s) < kept[slot];
            hidden_ += hidden ? mesh.volume(e) : 0.0;
            whole_ += mesh.volume(e);
            solid_.push_back(hidden || (!card.through && std::abs(s) - bottom[slot] < wall));
        }
        volume_.assign(columns_.count() * 2, 0.0);
        for (std::size_t v = 0; v < elements.size(); ++v)
            if (!solid_[v]) volume_[slot_of(v)] += mesh.volume(elements[v]);
        for (std::size_t v = 0; v < elements.size(); ++v)
            share_[v] = solid_[v] ? 0.0 : mesh.volume(elements[v]) / volume_[slot_of(v)];
    }

    double hidden_share() const { return whole_ > 0.0 ? hidden_ / whole_ : 0.0; }

    void apply(const std::vector<double>& in, std::vector<double>& out) const override {
        const std::vector<double> heights = heights_of(in);
        out.resize(in.size());
#pragma omp parallel for schedule(static)
        for (std::size_t v = 0; v < in.size(); ++v)
            out[v] = solid_[v] ? 1.0 : 0.5 * (1.0 + std::tanh(slope * off(v, heights)));
    }

    void pull_back(const std::vector<double>& in, const std::vector<double>& gradient,
                   std::vector<double>& out) const override {
        const std::vector<double> heights = heights_of(in);
        std::vector<double> by_height(heights.size(), 0.0);
        for (std::size_t v = 0; v < in.size(); ++v) {
            if (solid_[v]) continue;
            const double t = std::tanh(slope * off(v, heights));
            const double by_own = gradient[v] * 0.5 * slope * stretch * (1.0 - t * t);
            double sum = 0.0;
            each_read(v, [&](std::size_t, double w) { sum += w; });
            each_read(v, [&](std::size_t slot, double w) { by_height[slot] += by_own * w / sum; });
        }
        out.resize(in.size());
        for (std::size_t v = 0; v < in.size(); ++v) out[v] = share_[v] * by_height[slot_of(v)];
    }

  private:
    std::size_t slot_of(std::size_t v) const {
        return 2 * columns_.of(static_cast<ElementId>(elements_[v])) + side_[v];
    }
    // Columns without a free element have no height.
    template <class Visit> void each_read(std::size_t v, const Visit& visit) const {
        for (const auto& [column, w] : columns_.reads(static_cast<ElementId>(elements_[v])))
            if (volume_[2 * column + side_[v]] > 0.0) visit(2 * column + side_[v], w);
    }
    std::vector<double> heights_of(const std::vector<double>& in) const {
        std::vector<double> out(volume_.size(), 0.0);
        for (std::size_t v = 0; v < in.size(); ++v) out[slot_of(v)] += share_[v] * in[v];
        return out;
    }
    double off(std::size_t v, const std::vector<double>& heights) const {
        double height = 0.0;
        double sum = 0.0;
        each_read(v, [&](std::size_t slot, double w) {
            height += w * heights[slot];
            sum += w;
        });
        return stretch * height / sum + shift - height_[v];
    }

    Columns columns_;
    std::vector<std::size_t> elements_;
    std::vector<unsigned> side_; // of each: above the parting, or below
    std::vector<double> height_; // over the base, as a share of what there is
    std::vector<bool> solid_;    // whatever the height
    std::vector<double> volume_; // of what is free, of each column and side
    std::vector<double> share_;  // of that
    double hidden_ = 0.0, whole_ = 0.0;
};

const Schema<DrawCard>& draw_schema() {
    using Parting = DrawCard::Parting;
    static const Schema<DrawCard> out = schema<DrawCard>(
        "draw", "dies leave the part",
        {key<DrawCard>("along", {value::direction()},
                       [](DrawCard& d, const Given& g) { d.along = g.direction().normalized(); })
             .must("along = [0, 0, 1], the way of the die")
             .says("the way that the die takes; of two dies the upper one's"),
         key("dies", value::whole(1, 2), &DrawCard::dies)
             .fallback("1")
             .says("one die, above a base at the lowest place of the space; or two, from a parting plane"),
         key<DrawCard>(
             "parting",
             {value::word({"middle", "found"}), value::table(facts_of<FormCard::AnyPlane, plane_schema>)},
             [](DrawCard& d, const Given& g) {
                 if (g.node.table() != nullptr) {
                     const FormCard::AnyPlane plane = read_table(plane_schema(), g.inner());
                     d.parting = Parting::Plane;
                     d.point = plane.point;
                     d.normal = plane.normal;
                 } else {
                     d.parting = g.word() == "found" ? Parting::Found : Parting::Middle;
                 }
             })
             .fallback("\"middle\"")
             .says("of two dies: in the middle of the space, a plane { point, normal } across the draw, or "
                   "found: a surface of its own, in each column where its material has its middle"),
         key<DrawCard>("through", {value::word({"allowed", "none"})},
                       [](DrawCard& d, const Given& g) { d.through = g.word() == "allowed"; })
             .fallback("\"allowed\"")
             .says("whether the die may leave holes that go through; without them a wall stands over base or "
                   "parting"),
         key("wall", value::quantity(dimension::length).above(0), &DrawCard::wall)
             .says("its thickness (two cells)"),
         key<DrawCard>("draft", {value::quantity(dimension::angle).inside(0, 30)},
                       [](DrawCard& d, const Given& g) { d.draft = g.number(); })
             .fallback("none")
             .example("draft = \"2 deg\"")
             .says("by which the walls of the part lean back from the draw: given to the part when it is "
                   "carved, "
                   "at the same volume, since an angle so small is less than a cell; `carve` measures it")});
    return out;
}

bool found(const DrawCard& d) {
    return d.dies == 2 && d.parting == DrawCard::Parting::Found;
}

class DrawRule final : public RuleKind {
  public:
    DrawRule() {
        word = "draw";
        links = true;
        keys = {table_key("draw", draw_schema, &FormCard::draw, facts_of<DrawCard, draw_schema>)
                    .where(in_space, "a plane model or a flat shell has one height already", "Remove it")
                    .example("draw = { along = [0, 0, 1], dies = 1 }")
                    .says("every line along it meets one piece of material: what a die can leave")};
    }
    bool asked(const FormCard& form) const override { return form.draw.has_value(); }

    std::pair<std::string, std::string> unfit(const Model& model, const FormCard& form) const override {
        const DrawCard& d = *form.draw;
        if (model.mesh.dimension() != 3 || model.mesh.shell())
            return {"a plane model or a shell has one height already", "Remove it"};
        if (d.wall && d.through)
            return {"wall belongs to through = \"none\"", "Write through = \"none\", or remove wall"};
        if (form.extrude && direction_off(Vec3::Unit(*form.extrude), d.along) < parallel)
            return {"the design is extruded along the draw, so that it has one height everywhere",
                    "Remove one of the two"};
        if (form.extrude && std::abs(d.along[*form.extrude]) > parallel)
            return {"the design is extruded along a direction askew to the draw",
                    "Draw across it or along it"};
        for (const SymmetryPlane& plane : form.mirror)
            if (std::abs(d.along[plane.axis]) > parallel)
                return {"a mirror plane lies across the draw", "Mirror at planes along the draw alone"};
        for (const FormCard::AnyPlane& plane : form.oblique)
            if (std::abs(d.along.dot(plane.normal)) > parallel)
                return {"a mirror plane lies across the draw", "Mirror at planes along the draw alone"};
        if (form.sectors && model.form.sectors_about &&
            direction_off(model.form.sectors_about->axes.col(2), d.along) > parallel)
            return {"the sectors' axis is not along the draw",
                    "Draw along the axis, or remove one of the two"};
        if (d.dies == 1 && d.parting != DrawCard::Parting::Middle)
            return {"parting belongs to two dies", "Write dies = 2, or remove parting"};
        if (d.parting == DrawCard::Parting::Plane && direction_off(d.normal, d.along) > parallel)
            return {"the parting plane is not across the draw", "Write its normal along the draw"};
        if (found(d) && d.draft > 0.0)
            return {"draft leans walls back from a parting plane, and parting = \"found\" has none",
                    "Write parting = \"middle\" or a plane, or remove draft"};
        if (d.dies == 2) {
            const auto [low, high] = extent_along(model.mesh, d.along);
            const double at = d.point.dot(d.along);
            if (d.parting == DrawCard::Parting::Plane && (at <= low || at >= high))
                return {fmt::format("the parting at {:.6g} lies outside the space", at),
                        fmt::format("Write a place between {:.6g} and {:.6g}", low, high)};
        }
        return {};
    }
    std::unique_ptr<Link> link(const Model& model, const std::vector<std::size_t>& elements,
                               const FormCard& form) const override {
        const DrawCard& d = *form.draw;
        if (found(d)) return found_parting(model, elements, d, wall_of(model, d)).link;
        return std::make_unique<DrawLink>(model, elements, d);
    }
    // What kept regions hide from the dies.
    std::string doubt(const Model& model, const FormCard& form) const override {
        std::vector<std::size_t> elements;
        for (std::size_t e = 0; e < model.mesh.elements(); ++e)
            if (model.role(static_cast<ElementId>(e)) == Role::Design) elements.push_back(e);
        const DrawCard& d = *form.draw;
        const double hidden = found(d) ? found_parting(model, elements, d, wall_of(model, d)).hidden
                                       : DrawLink(model, elements, d).hidden_share();
        if (hidden < 0.005) return {};
        return fmt::format("kept regions hide {:.0f} % of the design from the {}", 100.0 * hidden,
                           found(d) ? "dies: it is filled between them" : "die: it is filled below them");
    }
    std::string words(const FormCard& form, const UnitSystem& units) const override {
        const DrawCard& d = *form.draw;
        std::string out =
            fmt::format("{} along ({:.4g}, {:.4g}, {:.4g})", d.dies == 1 ? "one die" : "two dies",
                        d.along.x(), d.along.y(), d.along.z());
        if (d.dies == 2)
            out += d.parting == DrawCard::Parting::Plane
                       ? fmt::format(", parting at {:.6g} {}", d.point.dot(d.along),
                                     units.text(dimension::length))
                   : d.parting == DrawCard::Parting::Found
                       ? ", parting in each column where its material has its middle"
                       : ", parting in the middle";
        if (d.draft > 0.0) out += fmt::format(", walls that lean by {:.4g} degrees", d.draft);
        return out + (d.through ? "" : ", no holes through");
    }
};

} // namespace

double draw_parting(const Model& model, const FormCard& form) {
    return parting_of(model, *form.draw);
}

RuleList draw_rules() {
    return {std::make_shared<DrawRule>()};
}

} // namespace upright
