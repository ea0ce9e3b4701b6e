#include "tell/ledger_text.hpp"

#include <algorithm>

namespace upright {

namespace {

// The number of columns of a UTF-8 text.
std::size_t columns(const std::string& text) {
    return static_cast<std::size_t>(std::count_if(
        text.begin(), text.end(), [](char c) { return (static_cast<unsigned char>(c) & 0xC0U) != 0x80U; }));
}

// Breaks at blanks so that no line is longer than `width`, the second and later ones indented.
std::string wrapped(const std::string& text, std::size_t indent, std::size_t width) {
    std::string out;
    std::size_t used = 0;
    std::size_t at = 0;
    while (at < text.size()) {
        const std::size_t end = std::min(text.find(' ', at), text.size());
        const std::string word = text.substr(at, end - at);
        if (used > 0 && used + 1 + columns(word) + indent > width) {
            out += "\n" + std::string(indent, ' ');
            used = 0;
        } else if (used > 0) {
            out += " ";
            ++used;
        }
        out += word;
        used += columns(word);
        at = end + 1;
    }
    return out;
}

} // namespace

std::string render(const Ledger& ledger, int width, bool colored) {
    const auto paint = [&](const std::string& words, const char* code) {
        return colored ? std::string("\033[") + code + "m" + words + "\033[0m" : words;
    };
    std::size_t longest = 6;
    for (const LedgerSection& s : ledger.sections)
        for (const LedgerLine& l : s.lines) longest = std::max(longest, columns(l.name));
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
            const std::string pad(longest > columns(l.name) ? longest - columns(l.name) : 0, ' ');
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
