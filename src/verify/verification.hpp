// The part of a run analysed afresh: every case, every bound, beside the space of full material and the
// design in the run's own elements.
#pragma once

#include "part/extract.hpp"
#include "part/part_mesh.hpp"
#include "response/case_report.hpp"
#include "response/reading.hpp"
#include "store/run_folder.hpp"
#include "store/run_numbers.hpp"

#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace upright {

// One number of the space of full material, of the design in the run's own model, and of the part.
struct VerifyRow {
    std::string name;    // "stiffness", "stiffness @ lift"
    std::string measure; // "compliance"
    std::string unit;
    std::optional<double> whole, design, part;
    std::optional<double> min, max;
    bool holds = true;
    double excess = -1.0;               // as of Reading
    double tolerance = bound_tolerance; // by which it holds
    std::string where;
    bool bounded() const { return min || max; }
};

// One analysis of the part, before another on a finer mesh.
struct VerifyRound {
    std::size_t tets = 0;
    double error = 0.0;  // the largest of the cases, of the energy norm
    double stress = 0.0; // the largest
};

struct Verified {
    double threshold = 0.5;
    double blend = 0.0; // radius of fillets
    Part part;
    Model model, space; // the part's, and that of the space as it would be carved of full density
    bool second_order = true;
    AnalysisReport report, whole_report;
    std::vector<Outcome> outcomes, whole;
    std::vector<VerifyRow> rows;
    std::vector<SurfaceLeft> surfaces;
    std::vector<VerifyRound> rounds;
    RunNumbers run;
    bool first_order_run = false; // the run's own elements are tetrahedra of first order
    bool run_of_shells = false;
    double body_volume = 0.0; // of the body that was made elsewhere
    std::string body_file;
    std::optional<double> mended; // the threshold that holds every bound, where it was looked for and found
    bool bounds_hold = true;
    // Infill as solid material that is as stiff and heavy as its lattice from afar; its name in the model is
    // that of the infill.
    bool homogenised = false;

    double error() const { return rounds.empty() ? 0.0 : rounds.back().error; }
    bool passed() const { return bounds_hold && part.one_piece(); }
};

// Tetrahedra of second order up to so many; more need the memory of a large machine.
inline constexpr std::size_t most_second_order = 250000;
// A carved part has the mass of its design to so much.
inline constexpr double part_mass_tolerance = 5e-3;
// Infill of more tetrahedra is analysed as solid material of the same stiffness, unless told otherwise.
inline constexpr std::size_t most_infill_analysed = 1000000;
enum class InfillAs { Auto, Tetrahedra, Homogenised };
// A bound that is broken by less may be mended.
inline constexpr double mendable = 0.2;
// Of the volume of a body made elsewhere: what may lie beyond the space.
inline constexpr double beyond_allowed = 0.02;

class Verification {
  public:
    // The part of a design, cut at a threshold; `blend`: the radius of its fillets.
    Verification(const Study& study, const Model& model, const RunFolder& folder, const DesignValues& design,
                 double threshold, InfillAs infill = InfillAs::Auto, double blend = 0.0);
    // Bodies of a file, in the study's unit of length, that were made elsewhere, most often from such a part.
    Verification(const Study& study, const Model& model, const RunFolder& folder, const DesignValues& design,
                 const std::vector<std::shared_ptr<const FacetBody>>& bodies, std::string file);

    // In this order; each throws Error as the parts of the work do.
    void carve();
    void analyse();
    // Again on a mesh that is finer where the error is; false, with nothing done, where it is at most
    // `error`, where no tetrahedron is to be had any more, or where the last round gained nothing.
    bool analyse_finer(double error);
    // The largest lower threshold that holds every bound, by at most six carvings: `tried` hears of each, and
    // of the mass of the one that holds.
    void mend(const std::function<void(double threshold, double mass, bool holds)>& tried);

    const Verified& result() const { return out_; }
    double mended_mass() const { return mended_mass_; }
    // Whether every bound that is broken is broken by little, so that mend() has a chance.
    bool nearly() const;

  private:
    Verification(const Study& study, const Model& model, const RunFolder& folder, DesignValues design);
    Part part_at(const PartOptions& options);
    Part homogenised_part(Part solid);
    Study study_of_part() const;
    void model_part();
    void judge();
    void judge_material(Outcome& outcome, const Part& part) const;
    std::optional<double> design_mass() const;
    std::string stress_place(const Extreme& e) const;
    void note_round();
    SizeWish sizes_for(double error) const;
    bool holds_at(double threshold, double& mass);

    const Study study_; // with what carving adds and cuts
    const Model& run_model_;
    const Model carved_model_; // with the same
    const RunFolder& folder_;
    DesignValues design_;
    PartOptions options_;
    std::unique_ptr<PartField> field_;
    AnalysisWish wish_;
    InfillAs infill_ = InfillAs::Auto;
    std::vector<RegionCard> zones_; // of infill, homogenised, behind the study's regions
    std::vector<Material> zone_materials_;
    std::map<std::pair<std::size_t, MaterialId>, Material>
        lattices_; // by card and material, whatever the part
    Verified out_;
    double mended_mass_ = 0.0;
};

} // namespace upright
