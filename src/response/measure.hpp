// A measure: what a study can ask of a design, each in one file of response/measures. Analyses and runs,
// bounds, the gradient check and the optimiser all use it.
#pragma once

#include "design/three_designs.hpp"
#include "response/reading.hpp"
#include "study/measure_word.hpp"

#include "fem/buckling.hpp"
#include "fem/modal_analysis.hpp"
#include "fem/static_analysis.hpp"
#include "fem/stress.hpp"

#include <array>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace upright {

// A design and what analyses found, for measures to read.
class State {
  public:
    virtual ~State() = default;
    virtual const Model& model() const = 0;
    // Of every element; nullptr: all material.
    virtual const std::vector<double>* density() const = 0;
    // Where a rule has a design made three times, that of the one that is analysed.
    virtual const std::vector<double>* analysed() const { return density(); }
    virtual bool has_case(CaseId c) const = 0;
    virtual bool has_modal_case(ModalCaseId c) const = 0;
    virtual const Eigen::VectorXd& displacement(CaseId c) const = 0;
    virtual double compliance(CaseId c) const = 0;
    // Von Mises stress of every sample: elements, or nodes of regions (Binding::nodes).
    virtual const std::vector<double>& von_mises(CaseId c) const = 0;
    // Where some response looks for it (buckling_wanted()).
    virtual const BucklingResult& buckling(CaseId c) const = 0;
    virtual const ModalResult& modes(ModalCaseId c) const = 0;
    // Shapes of a modal case under its mass; for following a mode.
    virtual Eigen::VectorXd mass_times(ModalCaseId c, const Eigen::VectorXd& shape) const = 0;
    // The force of supports of a name; `fields` as of `reaction_fields`, for states that have no table of it.
    virtual Vec3 support_force(CaseId c, const std::string& support,
                               const std::array<Eigen::VectorXd, 3>& fields) const = 0;
    // Whether a mode that was asked for may be missing (an analysis of what there is), or is an error.
    virtual bool may_lack_modes() const = 0;
};

class DesignState; // response/design_state.hpp: a state that gradients are made of

// What a response is measured on.
struct Binding {
    const Model& model;
    const ModelResponse& response;
    const RegionNodes* nodes = nullptr; // samples of stress are these, else elements
    bool with_reactions = true;         // fields of reactions are needed
};

// What measures carry from analysis to analysis; kept in checkpoints.
struct Memory {
    std::map<std::string, double> corrections;              // of aggregates, by column and what is corrected
    std::map<std::string, std::vector<double>> followed;    // shapes of modes, by column
    std::map<std::string, std::vector<double>> multipliers; // of every element's stress, by column
};

// The column that is read.
struct ColumnAt {
    std::size_t column = 0;
    CaseId in_case = CaseId::None;
    ModalCaseId in_modal_case = ModalCaseId::None;
    std::string name;
    Memory* memory = nullptr; // none where nothing goes on
};

struct SmoothWish {
    bool gradients = false;
    bool adapt = false;        // corrections move: once an iteration
    bool each_element = false; // stress with an upper bound as what a goal is raised by (Smooth::of_goal)
    bool mixtures = false;     // of modes: also those of every two, whose slopes tell how they part
};

// Of a design that is made three times: the one that is analysed, as drawn, and the thick one.
enum class Made { Thin, Drawn, Thick };

// A function of the physical densities that stands for a reading where the reading is not smooth: an
// aggregate corrected towards it, one of several modes, or the Rayleigh quotient of a mixture of them.
struct Smooth {
    std::size_t column = 0;
    double value = 0.0;
    std::optional<double> min, max; // in the unit of this value
    bool inverse = false;           // it falls where the reading grows: safety by the use of strength
    bool of_goal =
        false; // no bound: what the goal is raised by, as a share of its size, where bounds are broken
    double by_limit = 0.0; // of such a value: its fall by the logarithm of the limit, with `inverse` its rise
    std::vector<double> gradient; // by the physical density of every element
    Made by = Made::Thin;         // which one
};

// A smooth function before its adjoint is solved. With u the displacement of `in_case` and v the answer to
// `load` less `minus` its gradient is `smooth.gradient` (what depends on densities openly; may be empty) less
// v' dK u, plus v' df.
struct Pending {
    Smooth smooth;
    CaseId in_case = CaseId::None;
    Eigen::VectorXd load;  // df/du on every freedom; empty: no adjoint
    Eigen::VectorXd minus; // a field taken off the adjoint, or empty
};

// A response bound to a model.
class Measurement {
  public:
    virtual ~Measurement() = default;
    // Nothing where the state lacks what it reads. `judge` is the caller's.
    virtual std::optional<Reading> read(const State& state, const ColumnAt& at) const = 0;
    // Smooth functions of the last analysis, at least one; adjoints are solved for all together afterwards.
    virtual std::vector<Pending> smooth(const DesignState& state, const ColumnAt& at,
                                        const SmoothWish& wish) = 0;
    // Once an iteration, whether wanted by the optimiser or not.
    virtual void follow(const State& /*state*/, const ColumnAt& /*at*/) {}
    // A design and then the same in black and white, one after the other: what of a local measure the second
    // has more, the functions of the first are held to from then on.
    virtual void before_made(const DesignState& /*state*/, const ColumnAt& /*at*/) {}
    virtual void after_made(const DesignState& /*state*/, const ColumnAt& /*at*/) {}
};

class MeasureKind : public MeasureWord {
  public:
    // Throws Error (Input) where there is nothing to measure.
    virtual std::unique_ptr<Measurement> bind(const Binding& to) const = 0;
    // Whether a response is read in a static case.
    virtual bool fits(const ModelResponse& /*r*/, const ModelCase& /*c*/) const { return true; }
    // Of a linear measure: the weight of each element.
    virtual std::vector<double> weights(const Model& /*model*/, const ModelResponse& /*r*/) const {
        return {};
    }
    // What it measures, for people: "displacement of tip along z in pull".
    virtual std::string words(const ResponseCard& r) const = 0;
    // Its smooth function of that number, in the table of the gradient check: after the name, and a remark.
    virtual std::string smooth_name(const ResponseCard& /*r*/, int /*number*/) const { return {}; }
    virtual std::string smooth_remark(const ResponseCard& /*r*/, const State& /*state*/,
                                      const ColumnAt& /*at*/, double /*value*/) const {
        return {};
    }
};

// The kind that a response was read by.
const MeasureKind& kind_of(const ResponseCard& r);

// A correction towards `wanted` that moves by a share of what it misses when `adapt` is set, and stays
// otherwise (Le, Norato, Bruns, Ha & Tortorelli 2010). Without a memory `wanted` itself.
double corrected(const ColumnAt& at, const std::string& key, double wanted, bool adapt, double share);

// " in pull", or " in every case that fits".
std::string in_cases(const ResponseCard& r);

} // namespace upright
