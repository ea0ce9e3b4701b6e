// What charts have in common: text for gnuplot, and running it.
#pragma once

#include "figures/figure.hpp"

#include <filesystem>
#include <string>

namespace upright {

// Text for gnuplot: in single quotes it replaces nothing and runs nothing; a quote is written twice. Control
// characters would end the line, and with it the text. Its enhanced mode is off, so other signs are as they
// are.
std::string gnuplot_text(const std::string& text);

// The terminal of a script, by the file's ending, and how all charts look: paper, ink, grid.
std::string chart_head(const FigureOptions& options, const std::filesystem::path& file, int font);

// A title over several charts on one sheet, before the first of them; after_sheet_title behind it.
std::string sheet_title(const FigureOptions& options, const std::string& title);
inline constexpr const char* after_sheet_title = "unset label 99\n";
// The same script with lines that are bright enough for dark paper.
std::string for_paper(const FigureOptions& options, std::string script);

// The script's chart (PNG, or SVG where the script's terminal is that) as a file; the script names no file
// itself. Throws Error (Files), which names `file`.
void run_gnuplot(const std::string& script, const std::filesystem::path& file,
                 const std::filesystem::path& temporary);

} // namespace upright
