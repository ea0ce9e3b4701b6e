#include "geometry/step_apart.hpp"

namespace upright {

cad::File read_step_apart(const std::filesystem::path& file, double unit_si, double deflection, double heal,
                          const ApartLimits& limits) {
    const cad::Module& module = cad::module();
    cad::File out;
    run_apart(
        file, limits, "the CAD library", [&] { out = module.read_step(file, unit_si, deflection, heal); },
        [&](Handover& over) {
            over.text(out.unit);
            over.one(out.unit_si);
            over.each(out.remarks, [&](std::string& remark) { over.text(remark); });
            over.each(out.bodies, [&](cad::Body& body) {
                over.text(body.name);
                over.one(body.volume);
                over.many(body.mesh.points);
                over.many(body.mesh.triangles);
                over.many(body.mesh.face_of);
                over.many(body.mesh.faces);
            });
        });
    return out;
}

} // namespace upright
