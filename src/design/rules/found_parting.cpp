#include "design/rules/found_parting.hpp"

#include "design/columns.hpp"

#include <algorithm>
#include <cmath>

namespace upright {

namespace {

constexpr double interval_slope =
    0.55; // of the density at an interval's end, by a cell: two cells come to one half
constexpr double interval_stretch = 1.1; // a column that is full is so at its ends as well
constexpr double kept_shift = -0.05;     // and over kept elements an empty one is empty
constexpr double to_the_middle =
    0.02; // of an empty column: the share that has its middle where the column has

enum class Lies : char { Free, Above, Below, Between }; // kept elements of the same column

class Intervals final : public Link {
  public:
    Intervals(const Model& model, const std::vector<std::size_t>& elements, const FormCard::Draw& card,
              double wall)
        : columns_(model.mesh, card.along), elements_(elements), steep_(interval_slope / model.mesh.size),
          wall_(card.through ? 0.0 : wall), column_(columns_.count()) {
        const Mesh& mesh = model.mesh;
        const auto at = [&](std::size_t e) { return mesh.center(e).dot(card.along); };
        for (std::size_t e = 0; e < mesh.elements(); ++e) {
            const auto id = static_cast<ElementId>(e);
            Column& c = column_[columns_.of(id)];
            const double half =
                0.5 * std::cbrt(mesh.volume(e)); // an element's own reach, of tetrahedra as well
            c.low = std::min(c.low, at(e) - half);
            c.high = std::max(c.high, at(e) + half);
            if (model.role(id) != Role::Keep) continue;
            c.kept_low = std::min(c.kept_low, at(e) - half);
            c.kept_high = std::max(c.kept_high, at(e) + half);
        }
        double whole = 0.0;
        double between = 0.0;
        for (const std::size_t e : elements) {
            Column& c = column_of(e);
            place_.push_back(at(e));
            const Lies lies = !c.kept()             ? Lies::Free
                              : at(e) > c.kept_high ? Lies::Above
                              : at(e) < c.kept_low  ? Lies::Below
                                                    : Lies::Between;
            lies_.push_back(lies);
            volume_.push_back(mesh.volume(e));
            whole += mesh.volume(e);
            if (lies == Lies::Between)
                between += mesh.volume(e);
            else
                c.volume[side(lies)] += mesh.volume(e);
        }
        hidden_ = whole > 0.0 ? between / whole : 0.0;
    }

    double hidden() const { return hidden_; }

    void apply(const std::vector<double>& in, std::vector<double>& out) const override {
        const std::vector<Interval> intervals = intervals_of(in);
        out.resize(in.size());
#pragma omp parallel for schedule(static)
        for (std::size_t v = 0; v < in.size(); ++v) {
            const auto [top, bottom] = ends_at(v, intervals);
            out[v] = density(v, top, bottom);
        }
    }

    void pull_back(const std::vector<double>& in, const std::vector<double>& gradient,
                   std::vector<double>& out) const override {
        const std::vector<Interval> intervals = intervals_of(in);
        std::vector<Ends> by_ends(column_.size());
        for (std::size_t v = 0; v < in.size(); ++v) {
            if (lies_[v] == Lies::Between) continue;
            const auto [top, bottom] = ends_at(v, intervals);
            const double by_top = lies_[v] == Lies::Below ? 0.0 : 0.5 * bend(top - place_[v]);
            const double by_bottom = lies_[v] == Lies::Above ? 0.0 : -0.5 * bend(bottom - place_[v]);
            each_read(v, [&](std::size_t c, double w) {
                by_ends[c].top += w * gradient[v] * by_top;
                by_ends[c].bottom += w * gradient[v] * by_bottom;
            });
        }
        out.assign(in.size(), 0.0);
        for (std::size_t v = 0; v < in.size(); ++v) {
            const std::size_t number = columns_.of(static_cast<ElementId>(elements_[v]));
            const Column& c = column_[number];
            const Ends& by = by_ends[number];
            if (lies_[v] == Lies::Between) continue;
            const double share = volume_[v] / c.volume[side(lies_[v])];
            if (lies_[v] == Lies::Above) {
                out[v] = share * by.top * interval_stretch * (c.high - c.kept_high);
            } else if (lies_[v] == Lies::Below) {
                out[v] = -share * by.bottom * interval_stretch * (c.kept_low - c.low);
            } else {
                const double loose = 1.0 - wall_share(c);
                const double by_half = by.top - by.bottom;
                const double by_middle = (by.top + by.bottom) * loose;
                out[v] = share * (by_half * 0.5 * interval_stretch * loose * c.length() +
                                  by_middle * (place_[v] - intervals[number].centroid) /
                                      (intervals[number].full[0] + to_the_middle));
            }
        }
    }

  private:
    struct Column {
        double low = 1e300, high = -1e300;
        double kept_low = 1e300, kept_high = -1e300;
        std::array<double, 2> volume{}; // of the variables' elements: above kept ones or of all, and below
        bool kept() const { return kept_low <= kept_high; }
        double length() const { return high - low; }
    };
    struct Ends {
        double top = 0.0, bottom = 0.0;
    };
    struct Interval : Ends {
        std::array<double, 2> full{}; // mean of the values, above kept ones or of all, and below
        double centroid = 0.0;        // of the values, of a column without kept elements
    };

    static std::size_t side(Lies lies) {
        return lies == Lies::Below ? 1 : 0;
    }
    Column& column_of(std::size_t e) {
        return column_[columns_.of(static_cast<ElementId>(e))];
    }
    double wall_share(const Column& c) const {
        return std::min(1.0, wall_ / c.length());
    }
    double bend(double off) const {
        const double t = std::tanh(steep_ * off);
        return steep_ * (1.0 - t * t);
    }

    std::vector<Interval> intervals_of(const std::vector<double>& in) const {
        std::vector<Interval> out(column_.size());
        for (std::size_t v = 0; v < in.size(); ++v) {
            if (lies_[v] == Lies::Between) continue;
            const std::size_t number = columns_.of(static_cast<ElementId>(elements_[v]));
            const std::size_t k = side(lies_[v]);
            const double share = in[v] * volume_[v] / column_[number].volume[k];
            out[number].full[k] += share;
            if (lies_[v] == Lies::Free) out[number].centroid += share * place_[v];
        }
        for (std::size_t number = 0; number < out.size(); ++number) {
            const Column& c = column_[number];
            Interval& i = out[number];
            if (c.kept()) {
                const auto reach = [&](std::size_t k) { return interval_stretch * i.full[k] + kept_shift; };
                i.top = c.kept_high + reach(0) * (c.high - c.kept_high);
                i.bottom = c.kept_low - reach(1) * (c.kept_low - c.low);
                continue;
            }
            const double middle = 0.5 * (c.low + c.high);
            i.centroid = (i.centroid + to_the_middle * middle) / (i.full[0] + to_the_middle);
            // With a wall that stands whatever the values say, they have the rest of the length.
            const double wall = wall_share(c);
            const double half = 0.5 * (wall + (1.0 - wall) * interval_stretch * i.full[0]) * c.length();
            const double at = middle + (1.0 - wall) * (i.centroid - middle);
            i.top = at + half;
            i.bottom = at - half;
        }
        return out;
    }

    // Columns without an element of a variable have no say.
    template <class Visit> void each_read(std::size_t v, const Visit& visit) const {
        const auto& reads = columns_.reads(static_cast<ElementId>(elements_[v]));
        const auto counts = [&](std::size_t c) {
            return column_[c].volume[side(lies_[v])] > 0.0 && (lies_[v] == Lies::Free || column_[c].kept());
        };
        double sum = 0.0;
        for (const auto& [c, w] : reads) sum += counts(c) ? w : 0.0;
        for (const auto& [c, w] : reads)
            if (counts(c)) visit(c, w / sum);
    }
    Ends ends_at(std::size_t v, const std::vector<Interval>& intervals) const {
        Ends out;
        each_read(v, [&](std::size_t c, double w) {
            out.top += w * intervals[c].top;
            out.bottom += w * intervals[c].bottom;
        });
        return out;
    }
    double density(std::size_t v, double top, double bottom) const {
        const double z = place_[v];
        switch (lies_[v]) {
        case Lies::Between:
            return 1.0;
        case Lies::Above:
            return 0.5 * (1.0 + std::tanh(steep_ * (top - z)));
        case Lies::Below:
            return 0.5 * (1.0 - std::tanh(steep_ * (bottom - z)));
        default:
            return 0.5 * (std::tanh(steep_ * (top - z)) - std::tanh(steep_ * (bottom - z)));
        }
    }

    Columns columns_;
    std::vector<std::size_t> elements_;
    double steep_, wall_;
    std::vector<Column> column_;
    std::vector<double> place_, volume_; // of each element: along the draw
    std::vector<Lies> lies_;
    double hidden_ = 0.0;
};

} // namespace

FoundParting found_parting(const Model& model, const std::vector<std::size_t>& elements,
                           const FormCard::Draw& card, double wall) {
    auto link = std::make_unique<Intervals>(model, elements, card, wall);
    FoundParting out;
    out.hidden = link->hidden();
    out.link = std::move(link);
    return out;
}

} // namespace upright
