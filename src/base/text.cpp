#include "base/text.hpp"

#include <algorithm>
#include <cctype>

namespace upright {

std::string joined(const std::vector<std::string>& words, const char* between) {
    std::string out;
    for (const std::string& word : words) out += (out.empty() ? "" : between) + word;
    return out;
}

std::size_t text_columns(const std::string& text) {
    return static_cast<std::size_t>(std::count_if(
        text.begin(), text.end(), [](char c) { return (static_cast<unsigned char>(c) & 0xC0U) != 0x80U; }));
}

std::string wrapped(const std::string& text, std::size_t indent, std::size_t width) {
    std::string out;
    std::size_t used = 0;
    std::size_t at = 0;
    while (at < text.size()) {
        const std::size_t end = std::min(text.find(' ', at), text.size());
        const std::string word = text.substr(at, end - at);
        if (used > 0 && used + 1 + text_columns(word) + indent > width) {
            out += "\n" + std::string(indent, ' ');
            used = 0;
        } else if (used > 0) {
            out += " ";
            ++used;
        }
        out += word;
        used += text_columns(word);
        at = end + 1;
    }
    return out;
}

std::string file_name(const std::string& card) {
    std::string out = card;
    std::replace(out.begin(), out.end(), '/', '.');
    return out;
}

std::string csv_cell(const std::string& text) {
    const bool number = text.size() > 1 && (text[0] == '-' || text[0] == '+') &&
                        (std::isdigit(static_cast<unsigned char>(text[1])) != 0 || text[1] == '.');
    const bool formula = !text.empty() && std::string("=+-@\t").find(text[0]) != std::string::npos && !number;
    const std::string cell = formula ? "'" + text : text;
    if (cell.find_first_of(",\"\n\r") == std::string::npos) return cell;
    std::string out = "\"";
    for (const char c : cell) out += c == '"' ? std::string("\"\"") : std::string(1, c);
    return out + "\"";
}

} // namespace upright
