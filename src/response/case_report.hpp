// What the analysis of a model came to, case by case: the numbers of the tables, and every response of the
// study measured.
#pragma once

#include "fem/error_estimate.hpp"
#include "fem/modal_analysis.hpp"
#include "fem/static_analysis.hpp"
#include "response/measure.hpp"

#include <optional>
#include <string>
#include <vector>

namespace upright {

// A value and where it was found.
struct Extreme {
    double value = 0.0;
    Vec3 place = Vec3::Zero();
    std::string region;
};

inline constexpr double balance_doubt = 1e-6; // from which on a case's balance is a doubt

// What one support, joint to the ground or symmetry plane holds the model with.
struct Reaction {
    std::string name;
    Vec3 force = Vec3::Zero();
    Vec3 moment = Vec3::Zero(); // about the origin
};

struct StaticReport {
    std::string name;
    Eigen::VectorXd displacement; // every freedom
    double compliance = 0.0;
    double strain_energy = 0.0; // of elements and joints
    Extreme displacement_peak;
    Extreme stress_peak;       // von Mises, averaged at the nodes within a region
    Extreme stress_point_peak; // von Mises at the points where stress is most accurate
    Extreme principal_high, principal_low;
    std::optional<Extreme> least_safety; // yield over stress; empty without any yield
    std::vector<Reaction> reactions;
    Resultant applied;
    // What applied forces and reactions leave, moments over the body's length, as a share of `at_work`: the
    // sizes of all forces added up, those of heat and of supports as well.
    double balance = 0.0;
    double at_work = 0.0;
    std::vector<std::string> doubts;
    ErrorEstimate error;
    std::optional<BucklingResult> buckling; // where a response looks for it
    std::vector<Voigt> stress;              // averaged, beside RegionNodes, layer by layer
    std::vector<double> von_mises;          // of those, the larger of the layers
    std::vector<Vec3> points;               // where stress is most accurate, element by element
    std::vector<Voigt> stress_at_points;    // there, layer by layer
};

struct AnalysisReport {
    RegionNodes nodes;
    int layers = 1;
    std::vector<StaticReport> statics;
    std::vector<std::string> modal_names;
    std::vector<ModalResult> modals;
    std::vector<std::string> excepted; // regions and surfaces left out of peaks
    SolverCost cost;
    std::vector<std::string> notes; // what the solvers had to say
    double mass = 0.0;              // of the model, what rides on it left out
};

struct AnalysisWish {
    std::vector<std::string> cases;  // by name; empty: all
    std::vector<std::string> except; // regions and surfaces whose elements are left out of stress peaks
    SolverOptions solver;
};

// Throws Error (Usage) for a case, region or surface that is not there.
void require_names(const Model& model, const AnalysisWish& wish);

// Analyses the cases of the model with full material. Throws Error (Usage) for a case that is not there,
// Error (Numerics) where the numbers fail.
AnalysisReport analyze(const Model& model, const AnalysisWish& wish);

// One response measured in one case.
struct Outcome {
    std::size_t response = 0; // index in the study
    std::string in_case;      // empty where it depends on none
    double value = 0.0;
    std::optional<double> min, max; // in the unit of the value, a share of strength resolved
    bool holds = true;
    double excess = -1.0; // as of Reading
    std::string where;
};
// Every response of the study that the analysed cases fit. Material measures are those of full material.
std::vector<Outcome> measure_all(const Model& model, const AnalysisReport& report);

// Displacement and stress at a place.
struct ProbeReading {
    Vec3 asked = Vec3::Zero(), place = Vec3::Zero();
    double off = 0.0;
    std::string region;
    Vec3 displacement = Vec3::Zero();
    Voigt stress = Voigt::Zero(); // of a shell that of the face where von Mises is larger
    double von_mises = 0.0;
};
ProbeReading read_probe(const Model& model, const AnalysisReport& report, const StaticReport& result,
                        const Vec3& place);

// The displacement of a node or a coupling's reference point.
Vec3 displacement_at(const Model& model, const Eigen::VectorXd& u, NodeId node);

} // namespace upright
