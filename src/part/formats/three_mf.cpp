// 3MF: one object a region, with its unit, its material and the title.
#include "base/error.hpp"
#include "base/files.hpp"
#include "model/model.hpp"
#include "part/formats/formats.hpp"
#include "part/part.hpp"
#include "quantity/units.hpp"

#include "Model/COM/NMR_DLLInterfaces.h"

#include <algorithm>
#include <array>
#include <map>
#include <memory>
#include <unordered_map>

namespace upright {

namespace {

constexpr double millimetre = 1e-3;
// Of the materials, in turn: told apart without colour vision too.
constexpr std::array<std::array<BYTE, 3>, 6> colours{
    {{0, 114, 178}, {230, 159, 0}, {0, 158, 115}, {204, 121, 167}, {86, 180, 233}, {213, 94, 0}}};

struct Release {
    template <class T> void operator()(T* p) const { NMR::lib3mf_release(p); }
};
template <class T> using Held = std::unique_ptr<T, Release>;

void require(LIB3MFRESULT result) {
    if (result != 0)
        throw Error::numerics("the 3MF library could not take the part (its result " +
                                  std::to_string(result) + ")",
                              "Write it as .stl, .obj or .ply");
}
template <class T, class Call> Held<T> made(Call call) {
    T* out = nullptr;
    require(call(&out));
    return Held<T>(out);
}

// The library escapes attributes, but writes the text of metadata as it is.
std::string escaped(const std::string& text) {
    std::string out;
    for (const char c : text) {
        if (c == '&')
            out += "&amp;";
        else if (c == '<')
            out += "&lt;";
        else if (c == '>')
            out += "&gt;";
        else if (c == '"')
            out += "&quot;";
        else if (static_cast<unsigned char>(c) >= 0x20)
            out += c;
    }
    return out;
}

// The unit of the file, and what coordinates are multiplied by.
struct FileUnit {
    NMR::eModelUnit unit = NMR::MODELUNIT_MILLIMETER;
    double factor = 1.0;
};
FileUnit unit_of(const std::string& length) {
    static const std::map<std::string, NMR::eModelUnit> same{
        {"um", NMR::MODELUNIT_MICROMETER}, {"mm", NMR::MODELUNIT_MILLIMETER},
        {"cm", NMR::MODELUNIT_CENTIMETER}, {"in", NMR::MODELUNIT_INCH},
        {"inch", NMR::MODELUNIT_INCH},     {"ft", NMR::MODELUNIT_FOOT},
        {"m", NMR::MODELUNIT_METER}};
    if (const auto found = same.find(length); found != same.end()) return {found->second, 1.0};
    return {NMR::MODELUNIT_MILLIMETER, parse_unit(length, {}).si / millimetre};
}

// The closed border of each region; of a part without tetrahedra its surface alone.
std::vector<std::pair<std::string, Triangles>> bodies_of(const PartToWrite& part) {
    if (part.part == nullptr || part.model == nullptr || !part.part->solid)
        return {{first_line(part.title), part.surface}};
    const WholeTets whole = whole_tets(*part.model, *part.part->solid);
    std::vector<std::pair<std::string, Triangles>> out;
    for (std::size_t r = 0; r < part.model->regions.size(); ++r) {
        Triangles body = border_of(whole, static_cast<RegionId>(r));
        if (!body.corners.empty()) out.emplace_back(part.model->regions[r].name, std::move(body));
    }
    return out;
}

std::string material_of(const PartToWrite& part, const std::string& region) {
    if (part.part != nullptr)
        for (const RegionShare& r : part.part->regions)
            if (r.region == region) return r.material;
    return {};
}

void write_three_mf(const PartToWrite& part, const std::filesystem::path& file) {
    const FileUnit unit = unit_of(part.length_unit);
    const auto model =
        made<NMR::PLib3MFModel>([](NMR::PLib3MFModel** p) { return NMR::lib3mf_createmodel(p); });
    require(NMR::lib3mf_model_setunit(model.get(), unit.unit));
    require(NMR::lib3mf_model_addmetadatautf8(model.get(), "Title", escaped(first_line(part.title)).c_str()));
    require(NMR::lib3mf_model_addmetadatautf8(model.get(), "Application", "upright"));
    Held<NMR::PLib3MFModelBaseMaterial> materials;
    DWORD group = 0;
    std::map<std::string, DWORD> number; // of each material
    for (const auto& [name, body] : bodies_of(part)) {
        const auto object = made<NMR::PLib3MFModelMeshObject>(
            [&](NMR::PLib3MFModelMeshObject** p) { return NMR::lib3mf_model_addmeshobject(model.get(), p); });
        require(NMR::lib3mf_object_setnameutf8(object.get(), name.c_str()));
        std::vector<NMR::MODELMESHVERTEX> points;
        for (const Vec3& p : body.points) {
            NMR::MODELMESHVERTEX to{};
            for (int a = 0; a < 3; ++a) to.m_fPosition[a] = static_cast<float>(unit.factor * p[a]);
            points.push_back(to);
        }
        std::vector<NMR::MODELMESHTRIANGLE> triangles;
        for (const auto& t : body.corners) {
            NMR::MODELMESHTRIANGLE to{};
            for (std::size_t k = 0; k < 3; ++k) to.m_nIndices[k] = static_cast<DWORD>(t[k]);
            triangles.push_back(to);
        }
        require(NMR::lib3mf_meshobject_setgeometry(object.get(), points.data(),
                                                   static_cast<DWORD>(points.size()), triangles.data(),
                                                   static_cast<DWORD>(triangles.size())));
        if (const std::string material = material_of(part, name); !material.empty()) {
            if (!materials) {
                materials = made<NMR::PLib3MFModelBaseMaterial>([&](NMR::PLib3MFModelBaseMaterial** p) {
                    return NMR::lib3mf_model_addbasematerialgroup(model.get(), p);
                });
                require(NMR::lib3mf_basematerial_getresourceid(materials.get(), &group));
            }
            if (number.count(material) == 0) {
                const auto& c = colours.at(number.size() % colours.size());
                DWORD added = 0;
                require(NMR::lib3mf_basematerial_addmaterialutf8(materials.get(), material.c_str(), c[0],
                                                                 c[1], c[2], &added));
                require(NMR::lib3mf_basematerial_setdisplaycolorrgba(materials.get(), added, c[0], c[1], c[2],
                                                                     255)); // not transparent
                number[material] = added;
            }
            const auto property =
                made<NMR::PLib3MFDefaultPropertyHandler>([&](NMR::PLib3MFDefaultPropertyHandler** p) {
                    return NMR::lib3mf_object_createdefaultpropertyhandler(object.get(), p);
                });
            require(NMR::lib3mf_defaultpropertyhandler_setbasematerial(property.get(), group,
                                                                       number.at(material)));
        }
        made<NMR::PLib3MFModelBuildItem>([&](NMR::PLib3MFModelBuildItem** p) {
            return NMR::lib3mf_model_addbuilditem(model.get(), object.get(), nullptr, p);
        });
    }
    write_then_rename(file, [&](const std::filesystem::path& to) {
        const auto writer = made<NMR::PLib3MFModelWriter>([&](NMR::PLib3MFModelWriter** p) {
            return NMR::lib3mf_model_querywriter(model.get(), MODELWRITERCLASS_3MF, p);
        });
        if (NMR::lib3mf_writer_writetofileutf8(writer.get(), to.c_str()) != 0)
            throw Error::files(file.string(), "cannot be written", "Choose another place with --out");
    });
}

} // namespace

PartFormat three_mf_format() {
    return {".3mf", "3MF, an object a region", write_three_mf};
}

} // namespace upright
