// Rings, sectors and layers around an axis.
#include "mesh/generators.hpp"
#include "mesh/mesh_kind.hpp"

namespace upright {

namespace {

class Polar final : public MeshKind {
  public:
    Polar() {
        word = "polar";
        called = "a polar mesh";
        says = "rings, sectors and layers around the axis of `frame`, with lines at every coaxial radius and "
               "end: hex8 "
               "and wedge6, in the plane and for flat shells quad4 and tri3";
        keys = {mesh_size_key(),
                key("frame", value::name("cylindrical frame"), &MeshCard::frame, &MeshCard::frame_place)
                    .must("frame = \"bore\", whose axis the cells run around")
                    .says("whose axis the cells run around")};
        second_order = false;
        leaves_out_voids = true;
    }

    MadeMesh make(const Space& space) const override {
        return paint_mesh(space, make_polar_mesh(space), true);
    }
};

} // namespace

std::shared_ptr<const MeshKind> polar_kind() {
    return std::make_shared<Polar>();
}

} // namespace upright
