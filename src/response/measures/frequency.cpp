// The frequency of a mode.
#include "response/measures.hpp"

#include "base/angles.hpp"
#include "base/reduction.hpp"
#include "response/design_state.hpp"
#include "study/response_keys.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

constexpr double near_frequencies = 0.02; // as a share: modes that a step may bring together
constexpr int modes_together = 3;         // above the lowest one wanted: they may swap, or share a frequency

class Frequency final : public Measurement {
  public:
    explicit Frequency(const Binding& to)
        : model_(to.model), response_(to.response), raised_(to.response.raised) {}

    std::optional<Reading> read(const State& state, const ColumnAt& at) const override {
        const ModalCaseId c = at.in_modal_case;
        if (!state.has_modal_case(c)) return {};
        const std::vector<Mode>& modes = state.modes(c).modes;
        if (state.may_lack_modes() && modes.size() < static_cast<std::size_t>(response_.mode)) return {};
        Reading out;
        out.min = response_.min;
        out.max = response_.max;
        out.value = modes[mode_of(state, at)].frequency;
        return out;
    }

    std::vector<Pending> smooth(const DesignState& state, const ColumnAt& at,
                                const SmoothWish& wish) override {
        const ModalCaseId c = at.in_modal_case;
        const std::vector<Mode>& modes = state.modes(c).modes;
        const std::size_t own = mode_of(state, at);
        // A lower bound (or a goal to raise) is one on every mode from there on: the few nearest can swap.
        const bool raised = response_.min || raised_;
        const std::size_t last =
            response_.track || !raised
                ? own
                : std::min(modes.size() - 1, own + static_cast<std::size_t>(modes_together) - 1);
        std::vector<Pending> out;
        const auto add = [&](double frequency, const Eigen::VectorXd& shape, bool highest) {
            Pending p;
            Smooth& one = p.smooth;
            one.column = at.column;
            one.value = frequency;
            one.min = response_.min;
            if (highest) one.max = response_.max;
            if (wish.gradients) {
                const ModalAnalysis::UnitEnergies unit =
                    state.modal().unit_energies(shape, model_.modal_cases[c].lumped);
                const double lambda = std::pow(2.0 * pi * frequency, 2);
                const double factor = 1.0 / (8.0 * pi * pi * std::max(frequency, 1e-300));
                one.gradient.resize(state.density()->size());
                for (std::size_t e = 0; e < one.gradient.size(); ++e)
                    one.gradient[e] = factor * (state.slope()[e] * unit.strain[e] -
                                                lambda * state.mass_slope()[e] * unit.kinetic[e]);
            }
            out.push_back(std::move(p));
        };
        for (std::size_t m = own; m <= last; ++m) add(modes[m].frequency, modes[m].shape, m == own);
        // Modes that share a frequency are no functions of the design one by one: any mixture is a mode too,
        // and a step parts them by the whole matrix of slopes. A bound on the lowest is one on the Rayleigh
        // quotient of every mixture; of each two modes the two halfway between them go with their own, which
        // cut off what the modes' own slopes do not see (the generalised gradients of Seyranian, Lund &
        // Olhoff 1994).
        const auto near = [&](std::size_t i, std::size_t j) {
            return modes[j].frequency <= (1.0 + near_frequencies) * modes[i].frequency;
        };
        for (std::size_t i = own; wish.mixtures && i < last; ++i)
            for (std::size_t j = i + 1; j <= last && near(i, j); ++j)
                for (const double sign : {1.0, -1.0})
                    add(std::hypot(modes[i].frequency, modes[j].frequency) * std::sqrt(0.5),
                        (modes[i].shape + sign * modes[j].shape) * std::sqrt(0.5), false);
        return out;
    }

    void follow(const State& state, const ColumnAt& at) override {
        if (!response_.track || at.memory == nullptr) return;
        const Eigen::VectorXd& shape = state.modes(at.in_modal_case).modes[mode_of(state, at)].shape;
        at.memory->followed[key(at)] = {shape.data(), shape.data() + shape.size()};
    }

  private:
    static std::string key(const ColumnAt& at) { return std::to_string(at.column); }

    std::size_t mode_of(const State& state, const ColumnAt& at) const {
        const ModalCaseId c = at.in_modal_case;
        const std::vector<Mode>& modes = state.modes(c).modes;
        const auto number = static_cast<std::size_t>(response_.mode) - 1;
        if (number >= modes.size())
            throw Error::numerics(
                fmt::format("\"{}\" asks for mode {} and the case \"{}\" has {} below its limit",
                            response_.name, response_.mode, model_.modal_cases[c].name, modes.size()),
                "Raise modes or up_to in that case");
        if (!response_.track || at.memory == nullptr) return number;
        const auto shape = at.memory->followed.find(key(at));
        if (shape == at.memory->followed.end()) return number;
        // The mode most like the one followed; both are of unit mass, so the product under the mass tells.
        const Eigen::VectorXd along =
            state.mass_times(c, Eigen::Map<const Eigen::VectorXd>(
                                    shape->second.data(), static_cast<Eigen::Index>(shape->second.size())));
        std::size_t best = number;
        double most = -1.0;
        for (std::size_t m = 0; m < modes.size(); ++m) {
            const double like = std::abs(
                inner_product(static_cast<std::size_t>(along.size()), modes[m].shape.data(), along.data()));
            if (like <= most) continue;
            most = like;
            best = m;
        }
        return best;
    }

    const Model& model_;
    const ModelResponse& response_;
    bool raised_;
};

class FrequencyKind final : public MeasureKind {
  public:
    FrequencyKind() {
        word = "frequency";
        called = "a frequency";
        dimension = dimension::frequency;
        says = "of a mode of a modal case";
        reads = Reads::EachModalCase;
        std::vector<Key<ResponseCard>> own{
            case_key(true),
            key("mode", value::whole(1), &ResponseCard::mode)
                .fallback("1")
                .example("mode = 2")
                .says("its number, counted after the rigid-body modes"),
            key("track", value::flag(), &ResponseCard::track)
                .fallback("false")
                .example("track = true")
                .says("true: the mode is followed by its shape, whatever its number becomes")};
        keys = std::move(own) + bound_keys(dimension);
        check = check_mode;
        vibration = true;
    }

    std::unique_ptr<Measurement> bind(const Binding& to) const override {
        return std::make_unique<Frequency>(to);
    }

    std::string words(const ResponseCard& r) const override {
        return fmt::format("{} of mode {}{}", word, r.mode, in_cases(r));
    }

    std::string smooth_name(const ResponseCard& r, int number) const override {
        return fmt::format(" (mode {})", r.mode + number);
    }

    std::string smooth_remark(const ResponseCard& /*r*/, const State& state, const ColumnAt& at,
                              double value) const override {
        for (const Mode& m : state.modes(at.in_modal_case).modes) {
            const double apart = std::abs(m.frequency / value - 1.0);
            if (apart > 0.0 && apart < 1e-3)
                return "another mode lies within 0.1 %: the slope of one alone says little";
        }
        return {};
    }

  private:
    static void check_mode(ResponseCard& r, const CardReader& reader) {
        require_cases(r, reader, true, "frequency");
        for (const ModalCase& c : reader.context().study.modal_cases)
            if (!c.up_to && r.mode > c.modes && (r.in_case.empty() || r.in_case == c.name))
                throw Error::input(reader.place_of("mode"),
                                   "the case \"" + c.name + "\" has " + std::to_string(c.modes) + " modes",
                                   "Raise modes there, or name an earlier one");
    }
};

} // namespace

MeasureList frequency_measures() {
    return {std::make_shared<FrequencyKind>()};
}

} // namespace upright
