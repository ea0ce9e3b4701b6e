#include "tell/ledger_text.hpp"

#include "base/text.hpp"

#include <algorithm>

namespace upright {

std::string render(const Ledger& ledger, int width, bool colored) {
    const auto paint = [&](const std::string& words, const char* code) {
        return colored ? std::string("\033[") + code + "m" + words + "\033[0m" : words;
    };
    std::size_t longest = 6;
    for (const LedgerSection& s : ledger.sections)
        for (const LedgerLine& l : s.lines) longest = std::max(longest, text_columns(l.name));
    longest = std::min<std::size_t>(longest, 24);
    const std::size_t indent = longest + 6;
    std::string out;
    for (const LedgerSection& s : ledger.sections) {
        out += (out.empty() ? "" : "\n") + paint(s.title, "1") + "\n";
        for (const LedgerLine& l : s.lines) {
            const char* mark = l.standing == Standing::Fine ? "✓" : l.standing == Standing::Doubt ? "?" : "✗";
            const char* code = l.standing == Standing::Fine    ? "32"
                               : l.standing == Standing::Doubt ? "33;1"
                                                               : "31;1";
            const std::string pad(longest > text_columns(l.name) ? longest - text_columns(l.name) : 0, ' ');
            out += "  " + paint(mark, code) + " " + l.name + pad + "  " +
                   wrapped(l.text, indent, static_cast<std::size_t>(width)) + "\n";
            for (const std::string& remark : l.remarks)
                out += std::string(indent, ' ') +
                       paint(wrapped("→ " + remark, indent + 2, static_cast<std::size_t>(width)), code) +
                       "\n";
        }
    }
    return out;
}

} // namespace upright
