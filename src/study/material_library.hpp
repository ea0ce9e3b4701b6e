// The shipped library of engineering materials.
#pragma once

#include "study/study.hpp"

#include <optional>
#include <string>
#include <vector>

namespace upright {

// One entry, in the units its sources use. Strengths are 0 where the source gives none.
struct LibraryMaterial {
    const char* name;
    const char* grade; // designation in its standard
    double E_GPa;      // Young's modulus
    double nu;         // Poisson's ratio
    double density_kg_m3;
    double yield_MPa;       // yield or 0.2 % proof
    double ultimate_MPa;    // tensile strength
    double expansion_um_mK; // linear expansion near room temperature, 1e-6/K
    const char* source;     // where the data come from
};

const std::vector<LibraryMaterial>& material_library();

// The entry of that name or grade (case ignored), or nullptr.
const LibraryMaterial* find_library_material(const std::string& name);

// All names, for messages.
std::vector<std::string> library_names();

// The entry in the units of a study.
Material to_material(const LibraryMaterial& entry, const UnitSystem& units);

} // namespace upright
