#include "model/written_volumes.hpp"

#include "geometry/distance.hpp"

#include <algorithm>
#include <cmath>
#include <cstdint>

namespace upright {

namespace {

constexpr int samples = 8; // of a smallest box

class Measurement {
  public:
    explicit Measurement(const Model& model)
        : model_(model), regions_(model.shapes), flat_(model.mesh.dimension() == 2 || model.made_by.flat()),
          axes_(flat_ ? 2 : 3), out_(regions_.size(), 0.0) {}

    std::optional<std::vector<double>> run() {
        Bounds box = model_.mesh.bounds;
        for (const FieldRegion& card : regions_.regions()) {
            const Shape* shape = std::get_if<Shape>(&card.extent);
            if (shape == nullptr) continue;
            if (std::holds_alternative<CellSet>(*shape)) return {};
            const Bounds own = bounds(*shape);
            if (card.role == Role::Void || own.empty()) continue;
            box.include(own.low);
            box.include(own.high);
        }
        for (const SymmetryCut& cut : model_.mesh.symmetry)
            (cut.high ? box.high : box.low)[cut.axis] = cut.at;
        if (flat_) box.low.z() = box.high.z() = 0.0;
        coarse_ = box.diagonal() / 40.0;
        std::vector<std::size_t> all(regions_.size());
        for (std::size_t r = 0; r < all.size(); ++r) all[r] = r;
        look(box, all);
        return std::move(out_);
    }

  private:
    double size_for(std::size_t r) const {
        const auto& extent = regions_[r].extent;
        if (const Skin* skin = std::get_if<Skin>(&extent)) return std::min(coarse_, 1.5 * skin->depth);
        if (const HoleRing* ring = std::get_if<HoleRing>(&extent))
            return std::min(coarse_, std::min(ring->depth, ring->width));
        return coarse_;
    }

    // `unsure`: regions whose surface may pass through the box.
    void look(const Bounds& box, const std::vector<std::size_t>& unsure) {
        const Vec3 middle = 0.5 * (box.low + box.high);
        const double reach = 0.5 * (box.high - box.low).norm();
        std::vector<std::size_t> left;
        double wanted = 1e300;
        for (const std::size_t r : unsure) {
            const double d = regions_.distance(r, middle);
            if (std::abs(d) > reach * (1 + 1e-9)) continue;
            left.push_back(r);
            wanted = std::min(wanted, size_for(r));
        }
        if (left.empty()) return take(middle, volume(box));
        if ((box.high - box.low).maxCoeff() <= wanted) {
            for (int s = 0; s < samples; ++s) {
                Vec3 share = Vec3::Zero();
                for (int a = 0; a < axes_; ++a) share[a] = next();
                // One in each corner of the box, so that they are spread.
                for (int a = 0; a < axes_; ++a) share[a] = 0.5 * (share[a] + ((s >> a) & 1));
                take(box.low + share.cwiseProduct(box.high - box.low), volume(box) / samples);
            }
            return;
        }
        // The longest sides are halved.
        const double longest = (box.high - box.low).maxCoeff();
        std::vector<Bounds> parts{box};
        for (int a = 0; a < axes_; ++a) {
            if (box.high[a] - box.low[a] < 0.6 * longest) continue;
            const std::size_t count = parts.size();
            for (std::size_t i = 0; i < count; ++i) {
                Bounds upper = parts[i];
                upper.low[a] = parts[i].high[a] = middle[a];
                parts.push_back(upper);
            }
        }
        for (const Bounds& part : parts) look(part, left);
    }

    double volume(const Bounds& box) const { return (box.high - box.low).head(axes_).prod(); }

    void take(const Vec3& p, double share) {
        const RegionId owner = regions_.owner(p);
        if (owner == RegionId::None || regions_[owner].role == Role::Void) return;
        out_[index(owner)] += share * (flat_ ? regions_[owner].deep : 1.0);
    }

    // Numbers between 0 and 1, the same in every run (xorshift, Marsaglia 2003).
    double next() {
        state_ ^= state_ << 13U;
        state_ ^= state_ >> 7U;
        state_ ^= state_ << 17U;
        return static_cast<double>(state_ >> 11U) / 9007199254740992.0;
    }

    const Model& model_;
    const RegionField& regions_;
    bool flat_;
    int axes_;
    double coarse_ = 0.0;
    std::uint64_t state_ = 88172645463325252ULL;
    std::vector<double> out_;
};

} // namespace

std::optional<std::vector<double>> written_volumes(const Model& model) {
    return Measurement(model).run();
}

} // namespace upright
