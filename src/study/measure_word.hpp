// What the study language and the optimiser know of a measure; response/measure.hpp adds how it is measured.
#pragma once

#include "study/schema.hpp"
#include "study/study.hpp"

#include <functional>
#include <string>
#include <vector>

namespace upright {

struct MeasureWord {
    // Of what it is a number: of the design alone, of all static cases together, of each static case, of each
    // modal case.
    enum class Reads { Design, AllCases, EachCase, EachModalCase };

    std::string word;
    std::string called; // "a frequency"
    Dimension dimension;
    std::string says;
    Reads reads = Reads::EachCase;
    std::vector<Key<ResponseCard>> keys;                         // beside `name` and `measure`
    std::function<void(ResponseCard&, const CardReader&)> check; // rules across its keys

    // What an optimiser has to know.
    bool linear = false;      // a sum over the elements of weight times density
    bool compliance = false;  // force times displacement
    bool stiffness = false;   // all material is best for it, as a rule
    bool strength = false;    // local: as many numbers as there are elements, one aggregate
    bool vibration = false;   // it grows with the square root of stiffness over mass
    bool buckles = false;     // a factor of the loads of a case
    bool at_place = false;    // `at` names points, couplings or surfaces
    bool of_shape = false;    // what all material comes to, and the analysis of a part, say nothing of it
    bool needs_bound = false; // alone as a goal it goes to all material, or to none

    virtual ~MeasureWord() = default;
};

// Mass, volume and their fractions: they depend on the design alone.
inline bool of_material(const ResponseCard& r) {
    return r.measure->reads == MeasureWord::Reads::Design;
}
// Those and measures of its shape: no analysis is needed for them.
inline bool of_design(const ResponseCard& r) {
    return of_material(r) || r.measure->of_shape;
}

// The word of the measure that a largest member is a bound on.
inline constexpr const char* bulk_word = "bulk";

} // namespace upright
