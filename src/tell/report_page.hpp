// A report as one HTML page that needs nothing else: text, tables, pictures, a history to look into and the
// part to turn. Whatever stands in it is escaped here.
#pragma once

#include "figures/view_surface.hpp"

#include <filesystem>
#include <optional>
#include <string>
#include <utility>
#include <vector>

namespace upright {

// One surface that a slider leads to; without triangles it is left out.
struct ViewStep {
    std::string label; // "density above 0.5: 22.4 kg"
    ViewSurface surface;
};
// A case: the deformed shape and a quantity on it.
struct ViewCase {
    std::string label;
    std::string quantity, unit; // of the value
    double end = 1.0;           // of the colours
    double deformation = 0.0;   // as figures draw it: so many times as large
    ViewSurface surface;
};
struct ReportView {
    std::string unit; // of length
    std::vector<ViewStep> thresholds, iterations;
    std::size_t first_threshold = 0; // that is shown at first
    std::string iterations_called = "iteration";
    std::vector<ViewCase> cases;
};

struct ReportHistory {
    std::vector<std::string> names; // with units
    std::vector<std::optional<double>> mins, maxs;
    std::vector<std::string> runs;                                       // labels; one: a single run
    std::vector<std::vector<std::vector<std::pair<int, double>>>> lines; // of each name and run
};

class ReportPage {
  public:
    explicit ReportPage(std::string title) : title_(std::move(title)) {}

    // What stands below the title: "holds every bound", and whether that is good.
    void verdict(const std::string& words, bool good);
    void section(const std::string& id, const std::string& heading);
    void heading(const std::string& words);
    void paragraph(const std::string& words);
    void doubt(const std::string& words); // set apart
    void list(const std::vector<std::string>& items);
    // A cell that begins with "!" is marked as broken, without it.
    void table(const std::string& caption, const std::vector<std::string>& head,
               const std::vector<std::vector<std::string>>& rows);
    // Text as a terminal shows it.
    void preformatted(const std::string& text);
    // PNG or SVG, put into the page. Throws Error (Files).
    void image(const std::filesystem::path& file, const std::string& alt);
    void history(const ReportHistory& history);
    void view(const ReportView& view);

    // The whole page. `data`: the folder of page.html, page.css, page.js and three.min.js. Throws Error
    // (Files).
    std::string html(const std::filesystem::path& data, const std::string& written) const;

  private:
    void close_section();
    std::string title_, body_, contents_, verdict_;
    std::string view_json_ = "null", history_json_ = "null";
    bool open_ = false;
};

} // namespace upright
