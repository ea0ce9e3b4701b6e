#include "study/material_library.hpp"

#include <algorithm>
#include <cctype>

namespace upright {

namespace {

bool same_word(const std::string& a, const std::string& b) {
    return a.size() == b.size() &&
           std::equal(a.begin(), a.end(), b.begin(),
                      [](unsigned char x, unsigned char y) { return std::tolower(x) == std::tolower(y); });
}

// The grade, and the words of name and grade that hold a digit: "S355", "1.0577", "6061-T6", "EN AW-6061".
std::vector<std::string> words_of(const LibraryMaterial& entry) {
    std::vector<std::string> out{entry.grade};
    for (const std::string& text : {std::string(entry.name), std::string(entry.grade)}) {
        std::size_t from = 0;
        while (from < text.size()) {
            const std::size_t to = std::min(text.find_first_of(" ,+", from), text.size());
            const std::string word = text.substr(from, to - from);
            const bool digit =
                std::any_of(word.begin(), word.end(), [](unsigned char c) { return std::isdigit(c) != 0; });
            if (digit && word.size() > 2) out.push_back(word);
            from = to + 1;
        }
    }
    return out;
}

} // namespace

const std::vector<LibraryMaterial>& material_library() {
    // Strengths: "min" is the least value of the standard for the thickness named, "typical" a handbook
    // value.
    static const std::vector<LibraryMaterial> library{
        // steels
        {"structural steel S235", "1.0038", 210, 0.30, 7850, 235, 360, 12.0,
         "min, t<=16 mm: EN 10025-2; elastic: EN 1993-1-1"},
        {"structural steel S275", "1.0044", 210, 0.30, 7850, 275, 410, 12.0,
         "min, t<=16 mm: EN 10025-2; elastic: EN 1993-1-1"},
        {"structural steel S355", "1.0577", 210, 0.30, 7850, 355, 470, 12.0,
         "min, t<=16 mm: EN 10025-2; elastic: EN 1993-1-1"},
        {"fine-grain steel S690", "S690QL", 210, 0.30, 7850, 690, 770, 12.0,
         "min, t<=50 mm: EN 10025-6; elastic: EN 1993-1-1"},
        {"carbon steel C45", "1.0503+N", 210, 0.30, 7850, 305, 580, 11.5,
         "min, normalised, 16<d<=100 mm: EN ISO 683-1; elastic: typical"},
        {"heat-treated steel 42CrMo4", "1.7225+QT", 210, 0.30, 7850, 750, 1000, 11.5,
         "min, 16<d<=40 mm: EN ISO 683-2; elastic: typical"},
        {"heat-treated steel 34CrNiMo6", "1.6582+QT", 210, 0.30, 7850, 900, 1100, 11.5,
         "min, 16<d<=40 mm: EN ISO 683-2; elastic: typical"},
        {"cast steel", "GE240", 210, 0.30, 7850, 240, 450, 12.0,
         "min, t<=300 mm: EN 10293; elastic: typical"},
        {"stainless steel 304", "1.4301", 200, 0.30, 7900, 210, 520, 16.0,
         "min, hot-rolled plate: EN 10088-2; physical: EN 10088-1"},
        {"stainless steel 316L", "1.4404", 200, 0.30, 8000, 220, 520, 16.0,
         "min, hot-rolled plate: EN 10088-2; physical: EN 10088-1"},
        {"duplex steel 2205", "1.4462", 200, 0.30, 7800, 460, 640, 13.0,
         "min, hot-rolled plate: EN 10088-2; physical: EN 10088-1"},
        {"precipitation-hardened steel 17-4", "1.4542+P960", 200, 0.28, 7800, 790, 960, 10.9,
         "min, bar: EN 10088-3; physical: EN 10088-1"},
        // irons
        {"grey iron", "EN-GJL-250", 110, 0.26, 7200, 0, 250, 10.0,
         "min, separately cast: EN 1561 (no yield point)"},
        {"ductile iron", "EN-GJS-450-10", 169, 0.275, 7100, 310, 450, 12.5,
         "min, t<=30 mm: EN 1563 with its annex"},
        {"ductile iron 400-15", "EN-GJS-400-15", 169, 0.275, 7100, 250, 400, 12.5,
         "min, t<=30 mm: EN 1563 with its annex"},
        {"ductile iron 600-3", "EN-GJS-600-3", 174, 0.275, 7200, 370, 600, 12.5,
         "min, t<=30 mm: EN 1563 with its annex"},
        {"austempered ductile iron", "EN-GJS-800-10", 170, 0.27, 7100, 500, 800, 14.0,
         "min, t<=30 mm: EN 1564 with its annex"},
        // aluminium
        {"aluminium 2024-T3", "EN AW-2024", 73.1, 0.33, 2780, 345, 483, 23.2,
         "typical, sheet: Aluminum Standards and Data"},
        {"aluminium 5083-H111", "EN AW-5083", 71, 0.33, 2660, 125, 275, 24.2,
         "min, plate t<=50 mm: EN 485-2; physical: typical"},
        {"aluminium 6061-T6", "EN AW-6061", 68.9, 0.33, 2700, 276, 310, 23.6,
         "typical: Aluminum Standards and Data"},
        {"aluminium 6082-T6", "EN AW-6082", 70, 0.33, 2700, 260, 310, 23.4,
         "min, extruded rod 20<d<=150 mm: EN 755-2; physical: typical"},
        {"aluminium 7075-T6", "EN AW-7075", 71.7, 0.33, 2810, 503, 572, 23.6,
         "typical: Aluminum Standards and Data"},
        {"cast aluminium AlSi7Mg0.3-T6", "EN AC-42100", 72, 0.33, 2680, 210, 290, 22.0,
         "min, chill cast: EN 1706; physical: typical"},
        {"printed aluminium AlSi10Mg", "AlSi10Mg, powder bed", 70, 0.33, 2670, 220, 340, 20.0,
         "typical of powder-bed fusion, stress relieved; check with your process"},
        // titanium, nickel
        {"titanium grade 2", "3.7035", 105, 0.37, 4510, 275, 345, 8.6, "min: ASTM B265; physical: typical"},
        {"titanium Ti-6Al-4V", "grade 5", 113.8, 0.342, 4430, 828, 895, 8.6,
         "min, annealed: ASTM B265; physical: typical"},
        {"nickel alloy 718", "2.4668", 200, 0.29, 8190, 1034, 1276, 13.0,
         "min, solution treated and aged: ASTM B637; physical: typical"},
        // copper, magnesium, zinc
        {"copper", "CW004A", 120, 0.34, 8940, 200, 250, 16.9,
         "typical, half hard: EN 12163 range; physical: typical"},
        {"brass CuZn39Pb3", "CW614N", 97, 0.34, 8470, 250, 430, 20.9,
         "typical, bar: EN 12164 range; physical: typical"},
        {"tin bronze CuSn12", "CC483K", 95, 0.34, 8700, 140, 260, 18.5,
         "min, sand cast: EN 1982; physical: typical"},
        {"aluminium bronze", "CC333G", 120, 0.33, 7600, 250, 600, 16.5,
         "min, sand cast: EN 1982; physical: typical"},
        {"magnesium AZ91", "EN-MC21120", 45, 0.35, 1810, 150, 230, 26.0,
         "typical, die cast; physical: typical"},
        {"zinc ZP5", "ZnAl4Cu1", 85, 0.27, 6700, 200, 310, 27.4, "typical, die cast; physical: typical"},
        // polymers
        {"polyamide PA12 printed", "PA12, powder bed", 1.7, 0.40, 950, 45, 48, 110.0,
         "typical of powder-bed sintering, dry; check with your process"},
        {"polyamide PA66-GF30", "PA66 with 30 % glass", 9.5, 0.38, 1360, 0, 180, 30.0,
         "typical, dry, along the flow; check with your supplier"},
        {"polyoxymethylene", "POM-C", 2.7, 0.37, 1410, 63, 63, 110.0, "typical at 23 degC"},
        {"polyetheretherketone", "PEEK", 3.7, 0.39, 1300, 98, 98, 50.0, "typical, unfilled, at 23 degC"},
    };
    return library;
}

const LibraryMaterial* find_library_material(const std::string& name) {
    for (const LibraryMaterial& entry : material_library())
        if (same_word(entry.name, name) || same_word(entry.grade, name)) return &entry;
    // A part of a name serves where one material alone bears it.
    const LibraryMaterial* out = nullptr;
    for (const LibraryMaterial& entry : material_library())
        for (const std::string& word : words_of(entry)) {
            if (!same_word(word, name)) continue;
            if (out != nullptr && out != &entry) return nullptr;
            out = &entry;
        }
    return out;
}

std::vector<std::string> library_names() {
    std::vector<std::string> out;
    for (const LibraryMaterial& entry : material_library()) out.emplace_back(entry.name);
    for (const LibraryMaterial& entry : material_library())
        for (const std::string& word : words_of(entry))
            if (find_library_material(word) == &entry && std::find(out.begin(), out.end(), word) == out.end())
                out.push_back(word);
    return out;
}

Material to_material(const LibraryMaterial& entry, const UnitSystem& units) {
    Material out;
    out.name = entry.name;
    const double stress = units.si(dimension::stress);
    out.E = entry.E_GPa * 1e9 / stress;
    out.nu = entry.nu;
    out.density = entry.density_kg_m3 / units.si(dimension::density);
    if (entry.yield_MPa > 0) out.yield = entry.yield_MPa * 1e6 / stress;
    if (entry.ultimate_MPa > 0) out.ultimate = entry.ultimate_MPa * 1e6 / stress;
    out.expansion = entry.expansion_um_mK * 1e-6;
    out.source = std::string(entry.name) + " (" + entry.grade + "): " + entry.source;
    return out;
}

} // namespace upright
