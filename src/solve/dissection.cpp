#include "solve/dissection.hpp"

#include <algorithm>
#include <numeric>

namespace upright {

namespace {

constexpr std::size_t small_enough = 40;
constexpr double least_share = 0.2; // of the nodes, on either side

class Dissection {
  public:
    explicit Dissection(const std::vector<std::array<std::int32_t, 3>>& places) : places_(places) {
        nodes_.resize(places.size());
        std::iota(nodes_.begin(), nodes_.end(), 0);
        order_.nodes.reserve(places.size());
    }

    DissectionOrder run() {
        part(nodes_.begin(), nodes_.end());
        return std::move(order_);
    }

  private:
    using Iterator = std::vector<std::int32_t>::iterator;

    struct Plane {
        std::size_t axis = 0;
        std::int32_t at = 0;
        double worth = 1e300; // nodes on it, more where the sides are unequal
    };

    Plane best_plane(Iterator first, Iterator last) {
        Plane best;
        const auto n = static_cast<double>(last - first);
        for (std::size_t axis = 0; axis < 3; ++axis) {
            std::int32_t low = places_[static_cast<std::size_t>(*first)][axis];
            std::int32_t high = low;
            for (Iterator i = first; i != last; ++i) {
                low = std::min(low, places_[static_cast<std::size_t>(*i)][axis]);
                high = std::max(high, places_[static_cast<std::size_t>(*i)][axis]);
            }
            const std::int32_t span = high - low;
            if (span < 2) continue;
            counts_.assign(static_cast<std::size_t>(span) + 1, 0);
            for (Iterator i = first; i != last; ++i)
                ++counts_[static_cast<std::size_t>(places_[static_cast<std::size_t>(*i)][axis] - low)];
            double before = 0.0;
            for (std::size_t c = 0; c < counts_.size(); ++c) {
                const double here = counts_[c];
                const double after = n - before - here;
                if (std::min(before, after) >= least_share * n) {
                    const double tilt = (before - after) / n;
                    const double worth = here * (1.0 + tilt * tilt);
                    if (worth < best.worth) best = {axis, low + static_cast<std::int32_t>(c), worth};
                }
                before += here;
            }
        }
        return best;
    }

    void eliminate(Iterator first, Iterator last) {
        const auto n = static_cast<double>(last - first);
        order_.flops += n * n * n * (1.0 / 3.0 + 1.0 + 1.0);
        order_.nodes.insert(order_.nodes.end(), first, last);
    }

    void part(Iterator first, Iterator last) {
        const auto n = static_cast<std::size_t>(last - first);
        const Plane plane = n > small_enough ? best_plane(first, last) : Plane{};
        if (plane.worth >= static_cast<double>(n)) {
            eliminate(first, last);
            return;
        }
        const auto at = [&](std::int32_t node) {
            return places_[static_cast<std::size_t>(node)][plane.axis];
        };
        const Iterator middle =
            std::stable_partition(first, last, [&](std::int32_t node) { return at(node) < plane.at; });
        const Iterator right =
            std::stable_partition(middle, last, [&](std::int32_t node) { return at(node) > plane.at; });
        part(first, middle);
        part(middle, right);
        eliminate(right, last);
    }

    const std::vector<std::array<std::int32_t, 3>>& places_;
    std::vector<std::int32_t> nodes_;
    DissectionOrder order_;
    std::vector<std::int32_t> counts_;
};

} // namespace

DissectionOrder dissection_order(const std::vector<std::array<std::int32_t, 3>>& places) {
    return Dissection(places).run();
}

} // namespace upright
