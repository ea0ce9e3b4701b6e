#include "response/measures.hpp"

namespace upright {

MeasureList measure_kinds(const MeasureList& more) {
    MeasureList out;
    for (const MeasureList& some :
         {compliance_measures(), material_measures(), displacement_measures(), strength_measures(),
          frequency_measures(), reaction_measures(), buckling_measures(), bulk_measures(), more})
        out.insert(out.end(), some.begin(), some.end());
    return out;
}

} // namespace upright
