// Text for people: lists of words, and lines of a width.
#pragma once

#include <cstddef>
#include <string>
#include <vector>

namespace upright {

// The words with `between` between them.
std::string joined(const std::vector<std::string>& words, const char* between = ", ");

// The number of columns of a UTF-8 text.
std::size_t text_columns(const std::string& text);

// Breaks at blanks so that no line is longer than `width`, the second and later ones indented.
std::string wrapped(const std::string& text, std::size_t indent, std::size_t width);

// A name of a card as the name of a file: "start-up/1" becomes "start-up.1".
std::string file_name(const std::string& card);

// A cell of a table in CSV: quoted where it has to be, and with a ' before it where a spreadsheet would take
// it for a formula.
std::string csv_cell(const std::string& text);

} // namespace upright
