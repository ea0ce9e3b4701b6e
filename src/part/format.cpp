#include "part/format.hpp"

#include "base/error.hpp"
#include "part/formats/formats.hpp"

#include <algorithm>
#include <cctype>

namespace upright {

std::vector<PartFormat> part_formats(const std::vector<PartFormat>& more) {
    std::vector<PartFormat> out{stl_format(), three_mf_format(), obj_format(),
                                ply_format(), vtu_format(),      step_format()};
    out.insert(out.end(), more.begin(), more.end());
    return out;
}

std::string first_line(const std::string& text) {
    std::string out = text.substr(0, text.find_first_of("\r\n"));
    return out.empty() ? "part" : out;
}

const PartFormat& format_of(const std::vector<PartFormat>& formats, const std::filesystem::path& file) {
    std::string ending = file.extension().string();
    std::transform(ending.begin(), ending.end(), ending.begin(),
                   [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
    std::string known;
    for (const PartFormat& format : formats) {
        if (format.ending == ending) return format;
        known += (known.empty() ? "" : " or ") + format.ending + " (" + format.says + ")";
    }
    throw Error::usage("no part is written as " + file.string(), "Write a name that ends in " + known);
}

} // namespace upright
