// The writer of the ledger, one method a section; only the files of check/ use this.
#pragma once

#include "base/text.hpp"
#include "check/ledger.hpp"

#include "design/form.hpp"
#include "design/making_rule.hpp"
#include "fem/constrained_solver.hpp"
#include "geometry/distance.hpp"
#include "geometry/file_body.hpp"
#include "mesh/quality.hpp"
#include "model/rigid_freedom.hpp"
#include "model/written_volumes.hpp"
#include "optimize/run.hpp"
#include "optimize/run/stepper.hpp"
#include "study/file_slot.hpp"
#include "study/mesh_word.hpp"

#include <map>
#include <optional>
#include <string>
#include <vector>

namespace upright::check {

// Numbers as the ledger writes them.
std::string number(double value);
// "half", "a quarter": how much of the body a symmetric model is.
std::string modelled_part(int copies);

class Writer {
  public:
    Writer(const Model& model, bool measured) : model_(model), plane_(model.mesh.dimension() == 2) {
        if (measured) written_ = written_volumes(model);
    }
    Ledger write() {
        materials();
        regions();
        finishes();
        infills();
        mesh();
        surfaces();
        links();
        supports();
        loads();
        cases();
        goal();
        solver();
        return std::move(ledger_);
    }

  private:
    std::string unit(const Dimension& d) const { return model_.units.text(d); }
    std::string vector(const Vec3& v, double scale) const;
    std::string vector(const Vec3& v) const { return vector(v, std::max(v.norm(), 1e-300)); }
    std::string place(const Vec3& p) const { return vector(p, model_.mesh.bounds.diagonal()); }
    LedgerLine& line(const std::string& name, const std::string& text);
    static void doubt(LedgerLine& l, const std::string& why);
    static void missing(LedgerLine& l, const std::string& why);
    void section(const std::string& title) { ledger_.sections.push_back({title, {}}); }
    void materials();
    // Data that no solid has, with the unit that was probably meant.
    void plausible(LedgerLine& l, const Material& m) const;
    // The volume a region should have, and what the mesh gives it, side by side.
    void volumes(LedgerLine& l, std::size_t r);
    void regions();
    void finishes();
    void infills();
    std::string extent(const std::string& before, const Shape& shape) const;
    bool apart(const Shape& shape) const;
    std::string beyond(std::size_t r) const;
    // Bodies from files: how large they came out, and in what unit they were written.
    void files();
    void mesh();
    void surfaces();
    void links();
    void supports();
    void loads();
    std::string force(const Resultant& sum) const;
    std::string moment(const Resultant& sum) const;
    double target_area(const ModelLoad& load) const;
    // A load should meet solid material that the optimiser cannot take away, at least as deep as the filter
    // reaches.
    void pads(LedgerLine& l, const ModelLoad& load) const;
    void across_symmetry(LedgerLine& l, const ModelLoad& load, const Resultant& sum) const;
    void cases();
    void modal(const ModelModalCase& c);
    void freedom(LedgerLine& l, const ModelCase& c);
    // Forces that act on held components do nothing.
    void straight_into_support(LedgerLine& l, const ModelCase& c) const;
    void goal();
    void response(const ModelResponse& r);
    void run(const Problem& problem);
    // A bound on material that every design holds, with the unit that was probably meant.
    void never(LedgerLine& l, const ModelResponse& r, const Range& range) const;
    // How the part will be made.
    void form();
    // Which solver the cases get, and what an analysis of them takes.
    void solver();
    static std::string bytes_text(double bytes);
    static std::string seconds_text(double seconds);
    const Model& model_;
    bool plane_;
    std::optional<std::vector<double>> written_; // volumes of the regions as the study writes them
    std::map<std::vector<SupportId>, std::vector<FreePart>> motions_;
    Ledger ledger_;
};

} // namespace upright::check
