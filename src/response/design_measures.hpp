// Everything that a study measures of a design: the values, and smooth functions of the densities with their
// gradients for an optimiser.
#pragma once

#include "fem/modal_analysis.hpp"
#include "fem/static_analysis.hpp"
#include "response/motions.hpp"
#include "response/response.hpp"

#include <map>
#include <optional>
#include <string>
#include <vector>

namespace upright {

// One number of a run: a response, in one case where it is read in several.
struct Column {
    std::size_t response = 0; // index in the study
    int in_case = -1;         // index of the static or modal case; -1: of none, or of all together
    std::string name;         // as in the study; "name@case" where the response has several
};
std::vector<Column> columns(const Study& study);

// What came out for it. Base units; bounds in the unit of the value, a share of strength resolved.
struct Reading {
    double value = 0.0;
    std::optional<double> min, max;
    bool holds = true;
    // How far the worse of its bounds is exceeded, as a share of the bound; below zero where both hold.
    double excess = -1.0;
    std::string where; // the place of a stress or of the largest displacement, the case of a compliance
};

// A function of the physical densities that stands for a reading where the reading is not smooth: an
// aggregate corrected towards it, or one of several modes.
struct Smooth {
    std::size_t column = 0;
    double value = 0.0;
    std::optional<double> min, max; // in the unit of this value
    bool inverse = false;           // it falls where the reading grows: safety by the use of strength
    std::vector<double> gradient;   // by the physical density of every element
};

struct MeasureAccuracy {
    Accuracy statics;
    ModalAccuracy modals;
};

// The factor on the stress of solid material that makes soft cells count less: rho^3.5 / (rho^3 + 1e-3)
// (in the spirit of the qp approach, Bruggi 2008); 1 at 1 within 1e-3.
double stress_share(double density);
double stress_share_slope(double density);

inline constexpr double counted_density = 0.5; // elements above it count for the stress that is reported

class DesignMeasures {
  public:
    // Throws Error (Input) where a measure finds nothing to measure.
    DesignMeasures(const Study& study, StaticAnalysis& statics);

    const std::vector<Column>& columns() const { return columns_; }

    // Analyses a design in every case. Throws Error (Numerics).
    void analyse(const std::vector<double>& density, double penalty, const MeasureAccuracy& accuracy);
    // Of the last analysis.
    std::vector<Reading> readings() const;
    // Smooth functions of the columns marked, of the last analysis. With `adapt` the corrections of
    // aggregates move towards what was found (Le, Norato, Bruns, Ha & Tortorelli 2010): once an iteration.
    std::vector<Smooth> smooth(const std::vector<bool>& wanted, bool gradients, bool adapt);

    // Adds weight times the gradient of one case's compliance. Its adjoint v is u itself, or u without the
    // motions that supports enforce: dC/drho = (u + v)' df/drho - v' dK/drho u.
    void add_compliance(std::size_t c, double weight, std::vector<double>& gradient) const;

    const std::vector<CaseResult>& cases() const { return cases_; }
    // One for each modal case; without modes where no response looks at it.
    const std::vector<ModalResult>& modals() const { return modals_; }
    const std::vector<double>& stiffness() const { return stiffness_; }
    double grayness() const { return gray_; } // of the design elements
    // Seconds that the modal cases and the adjoints of the last analysis took.
    double modal_seconds() const { return modal_seconds_; }
    double adjoint_seconds() const { return adjoint_seconds_; }
    std::vector<std::string> take_notes();

    // What goes on from analysis to analysis, for checkpoints: corrections, followed shapes, warm starts.
    using Memory = std::map<std::string, std::vector<double>>;
    void keep(Memory& memory) const;
    void take_up(const Memory& memory);

  private:
    struct StressPart {
        std::vector<std::size_t> elements; // that count
        std::vector<double> limit;         // of each: strength, or 1
        bool relative = false;             // limit is a strength: the value is the use of it
    };
    // A function before its adjoint is solved: explicit part, and the load of the adjoint.
    struct Pending {
        Smooth smooth;
        int in_case = -1;
        Eigen::VectorXd load;  // empty: none
        Eigen::VectorXd minus; // a field taken off the adjoint, or empty
    };
    double compliance_of(const ResponseCard& r, std::string* where) const;
    Reading displacement_reading(const ResponseCard& r, std::size_t response, std::size_t c) const;
    Reading stress_reading(const ResponseCard& r, std::size_t response, std::size_t c) const;
    Reading reaction_reading(const ResponseCard& r, std::size_t column) const;
    std::size_t mode_of(const ResponseCard& r, std::size_t column, const ModalResult& result) const;
    void smooth_compliance(std::size_t column, std::vector<Smooth>& out, bool gradients) const;
    void smooth_displacement(std::size_t column, std::vector<Pending>& out, bool adapt);
    void smooth_stress(std::size_t column, std::vector<Pending>& out, bool gradients, bool adapt);
    void smooth_reaction(std::size_t column, std::vector<Pending>& out) const;
    void smooth_frequency(std::size_t column, std::vector<Smooth>& out, bool gradients) const;
    void finish(std::vector<Pending>& pending, std::vector<Smooth>& out, bool gradients);
    Vec3 reaction_force(std::size_t column) const;

    const Study& study_;
    const Model& model_;
    StaticAnalysis& statics_;
    std::optional<ModalAnalysis> modal_;
    std::vector<Column> columns_;
    std::map<std::size_t, StressPart> stress_;                        // by response
    std::map<std::size_t, std::vector<Motion>> motions_;              // by response
    std::map<std::size_t, std::array<Eigen::VectorXd, 3>> reactions_; // by column
    std::map<std::size_t, std::vector<double>> linear_;               // by response

    std::vector<double> density_, stiffness_, slope_, mass_, mass_slope_;
    mutable std::vector<double> energy_; // room
    std::vector<bool> modal_wanted_;     // modal cases that some response looks at; others are not solved
    std::vector<bool> design_;
    double gray_ = 0.0; // of the last design
    Accuracy accuracy_;
    std::vector<CaseResult> cases_;
    std::vector<ModalResult> modals_;
    std::vector<std::vector<double>> von_mises_; // by case, where some stress is measured
    double modal_seconds_ = 0.0, adjoint_seconds_ = 0.0;
    std::map<std::string, double> corrections_;
    std::map<std::size_t, Eigen::VectorXd> followed_; // shapes of tracked modes, by column
    std::vector<std::string> notes_;
};

// Whether a bound holds and by what share it is exceeded, filled in.
void judge(Reading& reading);

} // namespace upright
