#include "base/error.hpp"

#include <cstring>
#include <utility>

namespace upright {

std::string Place::text() const {
    std::string out = file;
    if (line > 0) {
        out += ":" + std::to_string(line);
        if (column > 0) out += ":" + std::to_string(column);
    }
    return out;
}

namespace {

bool ends_sentence(const std::string& text) {
    return !text.empty() && std::strchr(".?!", text.back()) != nullptr;
}

void append_sentence(std::string& out, const std::string& sentence) {
    if (sentence.empty()) return;
    if (!out.empty()) out += " ";
    out += sentence;
    if (!ends_sentence(out)) out += ".";
}

} // namespace

Error::Error(ExitCode code, Place place, const std::string& wrong, const std::string& instead)
    : code_(code), place_(std::move(place)) {
    std::string sentences;
    append_sentence(sentences, wrong);
    append_sentence(sentences, instead);
    const std::string where = place_.text();
    message_ = where.empty() ? sentences : where + ": " + sentences;
}

Error Error::input(const Place& place, const std::string& wrong, const std::string& instead) {
    return {ExitCode::Input, place, wrong, instead};
}

Error Error::usage(const std::string& wrong, const std::string& instead) {
    return {ExitCode::Usage, {}, wrong, instead};
}

Error Error::numerics(const std::string& wrong, const std::string& instead) {
    return {ExitCode::Numerics, {}, wrong, instead};
}

Error Error::interrupted(const std::string& what, const std::string& next) {
    return {ExitCode::Interrupted, {}, what, next};
}

Error Error::files(const std::string& path, const std::string& wrong, const std::string& instead) {
    return {ExitCode::Files, Place{path, 0, 0}, wrong, instead};
}

} // namespace upright
