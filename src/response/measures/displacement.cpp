// Displacement of a place, of a surface the largest or the mean.
#include "response/measures.hpp"

#include "base/reduction.hpp"
#include "response/design_state.hpp"
#include "response/motions.hpp"
#include "study/names.hpp"
#include "study/response_keys.hpp"

#include <algorithm>
#include <cmath>

namespace upright {

namespace {

constexpr double sharpest_mean = 30.0; // of the aggregate
constexpr double adapt_share = 0.5;    // of what a correction misses, made good each time

class Displacement final : public Measurement {
  public:
    explicit Displacement(const Binding& to)
        : response_(to.response), plane_(to.model.mesh.dimension() == 2),
          freedoms_(static_cast<Eigen::Index>(to.model.freedoms())), raised_(to.response.raised),
          motions_(motions(to.model, to.response)) {
        if (motions_.empty())
            throw Error::input(response_.place, "\"" + response_.name + "\" finds no node to read");
    }

    std::optional<Reading> read(const State& state, const ColumnAt& at) const override {
        const CaseId c = at.in_case;
        if (!state.has_case(c)) return {};
        Reading out;
        out.min = response_.min;
        out.max = response_.max;
        bool any = false;
        double least = 0.0;
        double most = 0.0;
        Vec3 at_least = Vec3::Zero();
        Vec3 at_most = Vec3::Zero();
        for (const Motion& m : motions_) {
            const double value = component_of(response_, m.of(state.displacement(c)), m.at);
            if (!any || value < least) at_least = m.at;
            if (!any || value > most) at_most = m.at;
            least = any ? std::min(least, value) : value;
            most = any ? std::max(most, value) : value;
            any = true;
        }
        const bool low = reads_lowest(response_, least, most);
        out.value = low ? least : most;
        if (motions_.size() > 1) out.where = place_text(low ? at_least : at_most, plane_);
        return out;
    }

    std::vector<Pending> smooth(const DesignState& state, const ColumnAt& at,
                                const SmoothWish& wish) override {
        const Values found = values(state.displacement(at.in_case));
        const bool largest = response_.max || !response_.min;
        if (motions_.size() == 1) {
            Pending p = fresh(at);
            p.smooth.value = found.value.front();
            for (std::size_t a = 0; a < 3; ++a)
                for (const Term& t : motions_.front().along[a])
                    p.load[static_cast<Eigen::Index>(t.freedom)] +=
                        found.slope.front()[static_cast<Eigen::Index>(a)] * t.factor;
            p.smooth.min = response_.min;
            p.smooth.max = response_.max;
            return {std::move(p)};
        }
        std::vector<Pending> out;
        if (largest) {
            const bool both =
                !response_.min && !response_.max && response_.component != Component::Size && !raised_;
            out.push_back(aggregate(found, 1.0, both, at, at.name + " high", wish.adapt));
            out.back().smooth.max = response_.max;
        }
        if (response_.min) {
            out.push_back(aggregate(found, -1.0, false, at, at.name + " low", wish.adapt));
            out.back().smooth.min = response_.min;
        }
        return out;
    }

  private:
    // Component or size at each place, and its derivative by the displacement there.
    struct Values {
        std::vector<double> value;
        std::vector<Vec3> slope;
    };
    Values values(const Eigen::VectorXd& displacement) const {
        Values out;
        for (const Motion& m : motions_) {
            const Vec3 u = m.of(displacement);
            const std::optional<Vec3> along = direction(response_, m.at);
            const double size = along ? along->dot(u) : u.norm();
            out.value.push_back(size);
            out.slope.push_back(along ? *along : size > 0.0 ? Vec3(u / size) : Vec3::Zero());
        }
        return out;
    }

    Pending fresh(const ColumnAt& at) const {
        Pending p;
        p.in_case = at.in_case;
        p.smooth.column = at.column;
        p.load = Eigen::VectorXd::Zero(freedoms_);
        return p;
    }

    // log(sum(exp)) of sign * value, corrected to the largest one; with `both` of the values and their
    // opposites.
    Pending aggregate(const Values& found, double sign, bool both, const ColumnAt& at, const std::string& key,
                      bool adapt) const {
        Pending p = fresh(at);
        const std::vector<double>& values = found.value;
        const double most = largest_over(values.size(), -1e300, [&](std::size_t i) {
            return both ? std::abs(values[i]) : sign * values[i];
        });
        const double size =
            largest_over(values.size(), 0.0, [&](std::size_t i) { return std::abs(values[i]); });
        // What the exponents are measured by is the size when last adapted: the function is the same around.
        const double scale = corrected(at, key + " size", size, adapt, 1.0);
        const double sharp = sharpest_mean / std::max(scale, 1e-300);
        double sum = 0.0;
        std::vector<double> weight(values.size(), 0.0); // signed
        for (std::size_t i = 0; i < values.size(); ++i)
            for (const double s : both ? std::vector<double>{1.0, -1.0} : std::vector<double>{sign}) {
                const double w = std::exp(sharp * (s * values[i] - most));
                sum += w;
                weight[i] += s * w;
            }
        sum = total(sum);
        const double turn = both ? 1.0 : sign;
        for (std::size_t i = 0; i < values.size(); ++i)
            for (std::size_t a = 0; a < 3; ++a)
                for (const Term& t : motions_[i].along[a])
                    p.load[static_cast<Eigen::Index>(t.freedom)] +=
                        turn * weight[i] / sum * found.slope[i][static_cast<Eigen::Index>(a)] * t.factor;
        const double mean = most + std::log(sum) / sharp;
        // The correction is a share of the size, so that it shrinks with it.
        const double wanted = scale > 0.0 ? (mean - most) / scale : 0.0;
        p.smooth.value = turn * (mean - corrected(at, key, wanted, adapt, adapt_share) * scale);
        return p;
    }

    const ModelResponse& response_;
    bool plane_;
    Eigen::Index freedoms_;
    bool raised_;
    std::vector<Motion> motions_;
};

class DisplacementKind final : public MeasureKind {
  public:
    DisplacementKind() {
        word = "displacement";
        called = "a displacement";
        dimension = dimension::length;
        says = "of a place or a surface";
        std::vector<Key<ResponseCard>> own{
            case_key(false), at_key(false),
            key("take", Words<bool>{{"largest", false}, {"mean", true}}, &ResponseCard::mean)
                .fallback("\"largest\"")
                .example("take = \"mean\"")
                .says("of a surface: the largest, or the mean over its area")};
        keys = std::move(own) + component_keys() + bound_keys(dimension);
        check = check_place;
        stiffness = at_place = needs_bound = true;
    }

    std::unique_ptr<Measurement> bind(const Binding& to) const override {
        return std::make_unique<Displacement>(to);
    }

    std::string words(const ResponseCard& r) const override { return word + component_words(r); }

    std::string smooth_name(const ResponseCard& /*r*/, int number) const override {
        return number > 0 ? " (lowest)" : "";
    }

  private:
    static void check_place(ResponseCard& r, const CardReader& reader) {
        require_cases(r, reader, false, "displacement");
        check_component(r, reader);
        const std::vector<std::string> surfaces = names_of(reader.context().study.surfaces);
        const auto meant = [&](const std::string& s) { return refers_to(r.at, s); };
        if (reader.has("take") && std::none_of(surfaces.begin(), surfaces.end(), meant))
            throw Error::input(reader.place_of("take"), "take belongs to a displacement of a surface",
                               "Remove it");
    }
};

} // namespace

MeasureList displacement_measures() {
    return {std::make_shared<DisplacementKind>()};
}

} // namespace upright
