// How much design material stands together: the fullest ball of a size. A bound on it is a largest member
// (Wu, Aage, Westermann & Sigmund 2018, a local volume bound), `max_feature` of [form] is that bound.
#include "response/measures.hpp"

#include "base/angles.hpp"
#include "base/reduction.hpp"
#include "response/bulk.hpp"
#include "response/design_state.hpp"
#include "response/motions.hpp"
#include "study/response_keys.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>

namespace upright {

namespace {

constexpr double disc_of_size = 1.5, ball_of_size = 1.3; // their diameters
constexpr double bar_of_size = 1.1;                      // in space: a round bar that has a bulk of 1
constexpr double balls_apart = 1.0 / 3.0;                // of its radius
constexpr double mean_power = 16.0;                      // of the aggregate
constexpr double ball_adapt_share = 0.5;                 // of what the correction misses, made good each time

// What a member about its middle fills of a disc or ball: in the plane a strip of one size, in space a round
// bar a little thicker (a wall that fills as much is 0.86 of a size thick).
double member_share(bool flat) {
    const double t = flat ? 1.0 / disc_of_size : bar_of_size / ball_of_size;
    if (flat) return 2.0 / pi * (std::asin(t) + t * std::sqrt(1.0 - t * t));
    return 1.0 - std::pow(1.0 - t * t, 1.5);
}

// Numbers of the things whose places are near, by bins as wide as the reach.
class Bins {
  public:
    explicit Bins(double width) : width_(width) {}
    using Cell = std::array<std::int64_t, 3>;
    Cell cell(const Vec3& p) const {
        Cell out{};
        for (int a = 0; a < 3; ++a)
            out[static_cast<std::size_t>(a)] = static_cast<std::int64_t>(std::floor(p[a] / width_));
        return out;
    }
    void add(const Vec3& p, std::size_t what) { bins_[cell(p)].push_back(what); }
    const std::map<Cell, std::vector<std::size_t>>& all() const { return bins_; }
    template <class Visit> void near(const Vec3& p, const Visit& visit) const {
        const Cell c = cell(p);
        for (std::int64_t z = c[2] - 1; z <= c[2] + 1; ++z)
            for (std::int64_t y = c[1] - 1; y <= c[1] + 1; ++y)
                for (std::int64_t x = c[0] - 1; x <= c[0] + 1; ++x)
                    if (const auto found = bins_.find({x, y, z}); found != bins_.end())
                        for (const std::size_t what : found->second) visit(what);
    }

  private:
    double width_;
    std::map<Cell, std::vector<std::size_t>> bins_;
};

// Balls about design elements a third of a radius balls_apart, and what share of each an element fills.
class Balls {
  public:
    Balls(const Model& model, double size) : flat_(model.made_by.flat() || model.mesh.shell()) {
        const Mesh& mesh = model.mesh;
        const double radius = 0.5 * (flat_ ? disc_of_size : ball_of_size) * size;
        const double whole =
            (flat_ ? pi * radius * radius : 4.0 / 3.0 * pi * std::pow(radius, 3.0)) * member_share(flat_);
        // The design elements and their mirror images.
        std::vector<Vec3> places;
        std::vector<std::size_t> element;
        Bins middles(std::max(balls_apart * radius, mesh.size));
        const std::size_t images = std::size_t{1} << mesh.symmetry.size();
        for (std::size_t e = 0; e < mesh.elements(); ++e) {
            if (model.role(static_cast<ElementId>(e)) != Role::Design) continue;
            middles.add(mesh.center(e), e);
            for (std::size_t image = 0; image < images; ++image) {
                Vec3 p = mesh.center(e);
                bool near = true;
                for (std::size_t k = 0; k < mesh.symmetry.size(); ++k) {
                    if ((image >> k & 1U) == 0) continue;
                    const SymmetryCut& cut = mesh.symmetry[k];
                    near = near && std::abs(p[cut.axis] - cut.at) <= 2.0 * radius;
                    p[cut.axis] = 2.0 * cut.at - p[cut.axis];
                }
                if (!near) continue;
                places.push_back(p);
                element.push_back(e);
            }
        }
        Bins bins(radius + mesh.size);
        for (std::size_t i = 0; i < places.size(); ++i) bins.add(places[i], i);
        starts_.push_back(0);
        for (const auto& bin : middles.all()) {
            const std::size_t about = middle_of(mesh, bin.second);
            const Vec3& c = mesh.center(about);
            std::map<std::size_t, double> row;
            bins.near(c, [&](std::size_t i) {
                const std::size_t e = element[i];
                const auto id = static_cast<ElementId>(e);
                const double extent = flat_ ? mesh.volume(id) / mesh.depth(id) : mesh.volume(id);
                const double width = flat_ ? std::sqrt(extent) : std::cbrt(extent);
                // Elements on its border count by how far they reach in.
                const double in = std::clamp((radius - (places[i] - c).norm()) / width + 0.5, 0.0, 1.0);
                if (in > 0.0) row[e] += in * extent / whole;
            });
            for (const auto& [e, share] : row) {
                elements_.push_back(e);
                shares_.push_back(share);
            }
            starts_.push_back(elements_.size());
            about_.push_back(about);
        }
    }

    std::size_t count() const { return about_.size(); }
    bool flat() const { return flat_; }
    std::size_t about(std::size_t ball) const { return about_[ball]; }
    std::vector<double> full(const std::vector<double>& density) const {
        std::vector<double> out(count(), 0.0);
#pragma omp parallel for schedule(static)
        for (std::size_t b = 0; b < out.size(); ++b)
            for (std::size_t k = starts_[b]; k < starts_[b + 1]; ++k)
                out[b] += shares_[k] * density[elements_[k]];
        return out;
    }
    void add_transpose(const std::vector<double>& of_balls, std::vector<double>& gradient) const {
        for (std::size_t b = 0; b < of_balls.size(); ++b)
            for (std::size_t k = starts_[b]; k < starts_[b + 1]; ++k)
                gradient[elements_[k]] += shares_[k] * of_balls[b];
    }

  private:
    static std::size_t middle_of(const Mesh& mesh, const std::vector<std::size_t>& some) {
        Vec3 mean = Vec3::Zero();
        for (const std::size_t e : some) mean += mesh.center(e) / static_cast<double>(some.size());
        return *std::min_element(some.begin(), some.end(), [&](std::size_t a, std::size_t b) {
            return (mesh.center(a) - mean).squaredNorm() < (mesh.center(b) - mean).squaredNorm();
        });
    }

    bool flat_;
    std::vector<std::size_t> starts_, elements_, about_;
    std::vector<double> shares_;
};

class Bulk final : public Measurement {
  public:
    explicit Bulk(const Binding& to)
        : model_(to.model), response_(to.response), balls_(to.model, bulk_size(to.response)) {
        if (balls_.count() == 0)
            throw Error::input(response_.place,
                               "there is no design for \"" + response_.name + "\" to measure",
                               "Give a region role = \"design\"");
    }

    std::optional<Reading> read(const State& state, const ColumnAt& /*at*/) const override {
        // What full material comes to is no measure of a design.
        if (state.density() == nullptr) return {};
        const std::vector<double> full = balls_.full(*state.density());
        const auto most = std::max_element(full.begin(), full.end());
        Reading out;
        out.value = *most;
        out.min = response_.min;
        out.max = response_.max;
        out.where =
            place_text(model_.mesh.center(balls_.about(static_cast<std::size_t>(most - full.begin()))),
                       model_.mesh.dimension() == 2);
        return out;
    }

    std::vector<Pending> smooth(const DesignState& state, const ColumnAt& at,
                                const SmoothWish& wish) override {
        const std::vector<double> full = balls_.full(*state.density());
        const double most =
            std::max(largest_over(full.size(), 0.0, [&](std::size_t b) { return full[b]; }), 1e-300);
        const double count = static_cast<double>(full.size());
        const double sum = sum_over(
            full.size(), [&](std::size_t b) { return std::pow(full[b] / most, mean_power) / count; });
        const double mean = most * std::pow(sum, 1.0 / mean_power);
        const double factor = corrected(at, at.name, most / mean, wish.adapt, ball_adapt_share);
        Pending out;
        out.smooth.column = at.column;
        out.smooth.value = factor * mean;
        out.smooth.min = response_.min;
        out.smooth.max = response_.max;
        if (wish.gradients) {
            std::vector<double> of_balls(full.size());
            for (std::size_t b = 0; b < full.size(); ++b)
                of_balls[b] = factor * std::pow(full[b] / mean, mean_power - 1.0) / count;
            out.smooth.gradient.assign(model_.mesh.elements(), 0.0);
            balls_.add_transpose(of_balls, out.smooth.gradient);
            out.smooth.by = Made::Drawn;
        }
        return {std::move(out)};
    }

  private:
    const Model& model_;
    const ModelResponse& response_;
    Balls balls_;
};

class BulkKind final : public MeasureKind {
  public:
    BulkKind() {
        word = bulk_word;
        called = "a bulk";
        dimension = dimension::none;
        says =
            "how full of design material the fullest ball is, 1.3 times `size` across (in the plane a disc, "
            "1.5 times): 1 is what a round bar 1.1 times as thick as `size` fills, or a wall of 0.86 (a "
            "strip of 1). `max_feature` of [form] bounds it";
        reads = Reads::AllCases;
        std::vector<Key<ResponseCard>> own{
            key<ResponseCard>("size", {value::quantity(dimension::length).above(0)},
                              [](ResponseCard& r, const Given& g) { r.own = g.number(); })
                .must("size = \"40 mm\"")
                .says("thickness of members that have a bulk of about 1")};
        keys = std::move(own) + bound_keys(dimension);
        of_shape = true;
    }

    std::unique_ptr<Measurement> bind(const Binding& to) const override { return std::make_unique<Bulk>(to); }

    std::string words(const ResponseCard& r) const override {
        return fmt::format("of the design, by members {:.6g} thick", bulk_size(r));
    }
    std::string smooth_remark(const ResponseCard& /*r*/, const State& /*state*/, const ColumnAt& /*at*/,
                              double /*value*/) const override {
        return "of the aggregate that stands for it";
    }
};

} // namespace

double bulk_size(const ResponseCard& r) {
    return std::any_cast<double>(r.own);
}

MeasureList bulk_measures() {
    return {std::make_shared<BulkKind>()};
}

} // namespace upright
