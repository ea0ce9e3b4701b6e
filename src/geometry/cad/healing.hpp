// Small faults of CAD bodies mended below a tolerance: split faces joined, slivers and short edges taken out.
#pragma once

#include <TopoDS_Shape.hxx>

#include <string>
#include <vector>

namespace upright::cad {

struct Healed {
    TopoDS_Shape solid;
    std::vector<std::string> remarks; // what became of the faces, and of the volume
};

// `tolerance` in the shape's own millimetres; lengths in the remarks are times `scale`. Throws
// std::runtime_error with a sentence where no sound solid of nearly the same volume comes out.
Healed heal(const TopoDS_Shape& solid, const std::string& name, double tolerance, double scale);

} // namespace upright::cad
