// What charts have in common: text for gnuplot, and running it.
#pragma once

#include <filesystem>
#include <string>

namespace upright {

// Text for gnuplot: in single quotes it replaces nothing and runs nothing; a quote is written twice. Control
// characters would end the line, and with it the text. Its enhanced mode is off, so other signs are as they
// are.
std::string gnuplot_text(const std::string& text);

// The script's chart (PNG, or SVG where the script's terminal is that) as a file; the script names no file
// itself. Throws Error (Files), which names `file`.
void run_gnuplot(const std::string& script, const std::filesystem::path& file,
                 const std::filesystem::path& temporary);

} // namespace upright
