#include "check/ledger.hpp"

#include "check/writer.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright::check {

std::string number(double value) {
    return fmt::format("{:.6g}", std::abs(value) < 1e-300 ? 0.0 : value);
}

// "one half", "a quarter", "an eighth".
std::string modelled_part(int copies) {
    return copies == 2 ? "one half" : copies == 4 ? "a quarter" : copies == 8 ? "an eighth" : "the whole";
}

std::string Writer::vector(const Vec3& v, double scale) const {
    const auto clean = [&](double x) { return std::abs(x) < 1e-9 * scale ? 0.0 : x; };
    return plane_ ? fmt::format("({:.6g}, {:.6g})", clean(v.x()), clean(v.y()))
                  : fmt::format("({:.6g}, {:.6g}, {:.6g})", clean(v.x()), clean(v.y()), clean(v.z()));
}

LedgerLine& Writer::line(const std::string& name, const std::string& text) {
    ledger_.sections.back().lines.push_back({Standing::Fine, name, text, {}});
    return ledger_.sections.back().lines.back();
}

void Writer::doubt(LedgerLine& l, const std::string& why) {
    l.standing = std::max(l.standing, Standing::Doubt);
    l.remarks.push_back(why);
}

void Writer::missing(LedgerLine& l, const std::string& why) {
    l.standing = Standing::Missing;
    l.remarks.push_back(why);
}

} // namespace upright::check

namespace upright {

std::size_t Ledger::count(Standing standing) const {
    std::size_t out = 0;
    for (const LedgerSection& s : sections)
        out += static_cast<std::size_t>(std::count_if(
            s.lines.begin(), s.lines.end(), [&](const LedgerLine& l) { return l.standing == standing; }));
    return out;
}

Ledger make_ledger(const Model& model, bool measured) {
    return check::Writer(model, measured).write();
}

} // namespace upright
