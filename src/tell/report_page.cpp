#include "tell/report_page.hpp"

#include "base/error.hpp"
#include "base/files.hpp"
#include "base/version.hpp"
#include "store/json_inside.hpp"

#include <algorithm>
#include <cctype>
#include <cmath>
#include <cstdint>
#include <cstring>
#include <fmt/format.h>

namespace upright {

namespace {

std::string html_text(const std::string& text) {
    std::string out;
    for (const char c : text) {
        switch (c) {
        case '&':
            out += "&amp;";
            break;
        case '<':
            out += "&lt;";
            break;
        case '>':
            out += "&gt;";
            break;
        case '"':
            out += "&quot;";
            break;
        case '\'':
            out += "&#39;";
            break;
        default:
            if (static_cast<unsigned char>(c) >= 0x20 || c == '\n' || c == '\t') out += c;
        }
    }
    return out;
}

std::string base64(const void* data, std::size_t size) {
    static const char* signs = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    const auto* in = static_cast<const unsigned char*>(data);
    std::string out;
    out.reserve((size + 2) / 3 * 4);
    for (std::size_t i = 0; i < size; i += 3) {
        const std::size_t left = std::min<std::size_t>(3, size - i);
        std::uint32_t word = static_cast<std::uint32_t>(in[i]) << 16U;
        if (left > 1) word |= static_cast<std::uint32_t>(in[i + 1]) << 8U;
        if (left > 2) word |= in[i + 2];
        for (std::size_t k = 0; k < 4; ++k)
            out += k <= left ? signs[word >> (18U - 6U * static_cast<unsigned>(k)) & 63U] : '=';
    }
    return out;
}

template <class T> std::string base64(const std::vector<T>& all) {
    return base64(all.data(), all.size() * sizeof(T));
}

// Points in 16 bits of the box, triangles in 16 or 32, displacements and values in 16 bits of the largest.
Json surface_json(const ViewSurface& s) {
    Bounds box;
    for (const Vec3& p : s.points) box.include(p);
    std::vector<std::uint16_t> points;
    const Vec3 size = box.size().cwiseMax(1e-30);
    for (const Vec3& p : s.points)
        for (int a = 0; a < 3; ++a)
            points.push_back(
                static_cast<std::uint16_t>(std::lround(65535.0 * (p[a] - box.low[a]) / size[a])));
    Json out{{"low", {box.low.x(), box.low.y(), box.low.z()}},
             {"size", {size.x(), size.y(), size.z()}},
             {"points", base64(points)},
             {"kept", s.kept}};
    if (s.points.size() < 65536) {
        std::vector<std::uint16_t> corners;
        for (const auto& t : s.triangles)
            for (const std::int32_t n : t) corners.push_back(static_cast<std::uint16_t>(n));
        out["corners16"] = base64(corners);
    } else {
        std::vector<std::uint32_t> corners;
        for (const auto& t : s.triangles)
            for (const std::int32_t n : t) corners.push_back(static_cast<std::uint32_t>(n));
        out["corners32"] = base64(corners);
    }
    if (!s.shift.empty()) {
        double most = 0.0;
        for (const Vec3& u : s.shift) most = std::max(most, u.cwiseAbs().maxCoeff());
        std::vector<std::int16_t> shift;
        for (const Vec3& u : s.shift)
            for (int a = 0; a < 3; ++a)
                shift.push_back(
                    static_cast<std::int16_t>(std::lround(most > 0.0 ? 32767.0 * u[a] / most : 0.0)));
        out["shift"] = base64(shift);
        out["mostShift"] = most;
    }
    if (!s.value.empty()) {
        double most = 0.0;
        for (const double v : s.value) most = std::max(most, v);
        std::vector<std::uint16_t> value;
        for (const double v : s.value)
            value.push_back(static_cast<std::uint16_t>(
                std::lround(most > 0.0 ? 65535.0 * std::max(v, 0.0) / most : 0.0)));
        out["value"] = base64(value);
        out["mostValue"] = most;
    }
    return out;
}

// JSON inside a script element: nothing in it may end the element.
std::string script_json(const std::string& json) {
    std::string out;
    for (const char c : json) {
        if (c == '<')
            out += "\\u003c";
        else if (c == '>')
            out += "\\u003e";
        else if (c == '&')
            out += "\\u0026";
        else
            out += c;
    }
    return out;
}

// One after the other, so that nothing that was put in is looked through again.
std::string filled_in(const std::string& text, const std::vector<std::pair<std::string, std::string>>& what) {
    std::string out;
    std::size_t from = 0;
    while (from < text.size()) {
        std::size_t first = std::string::npos;
        const std::pair<std::string, std::string>* found = nullptr;
        for (const auto& one : what)
            if (const auto at = text.find(one.first, from); at < first) {
                first = at;
                found = &one;
            }
        if (found == nullptr) break;
        out += text.substr(from, first - from) + found->second;
        from = first + found->first.size();
    }
    return out + text.substr(from);
}

} // namespace

void ReportPage::verdict(const std::string& words, bool good) {
    verdict_ = fmt::format("<p class=\"verdict {}\"><span aria-hidden=\"true\">{}</span> {}</p>\n",
                           good ? "good" : "bad", good ? "✓" : "✗", html_text(words));
}

void ReportPage::close_section() {
    if (open_) body_ += "</section>\n";
    open_ = false;
}

void ReportPage::section(const std::string& id, const std::string& heading) {
    close_section();
    body_ += fmt::format("<section id=\"{0}\" aria-labelledby=\"{0}-h\">\n<h2 id=\"{0}-h\">{1}</h2>\n", id,
                         html_text(heading));
    contents_ += fmt::format("<li><a href=\"#{}\">{}</a></li>\n", id, html_text(heading));
    open_ = true;
}

void ReportPage::heading(const std::string& words) {
    body_ += "<h3>" + html_text(words) + "</h3>\n";
}
void ReportPage::paragraph(const std::string& words) {
    body_ += "<p>" + html_text(words) + "</p>\n";
}
void ReportPage::doubt(const std::string& words) {
    body_ += "<p class=\"doubt\">" + html_text(words) + "</p>\n";
}
void ReportPage::preformatted(const std::string& text) {
    body_ += "<pre tabindex=\"0\">" + html_text(text) + "</pre>\n";
}
void ReportPage::list(const std::vector<std::string>& items) {
    body_ += "<ul>\n";
    for (const std::string& item : items) body_ += "<li>" + html_text(item) + "</li>\n";
    body_ += "</ul>\n";
}

void ReportPage::table(const std::string& caption, const std::vector<std::string>& head,
                       const std::vector<std::vector<std::string>>& rows) {
    body_ += "<div class=\"wide\" tabindex=\"0\" role=\"region\" aria-label=\"" + html_text(caption) +
             "\"><table>\n<caption>" + html_text(caption) + "</caption>\n<thead><tr>";
    // Columns of words stand to the left, of numbers to the right.
    std::vector<bool> words_in(head.size(), true);
    for (const auto& row : rows)
        for (std::size_t c = 0; c < std::min(row.size(), head.size()); ++c)
            if (!row[c].empty() &&
                (std::isdigit(static_cast<unsigned char>(row[c].back())) != 0 || row[c] == "-"))
                words_in[c] = false;
    for (std::size_t c = 0; c < head.size(); ++c)
        body_ += std::string("<th scope=\"col\"") + (words_in[c] ? " class=\"words\"" : "") + ">" +
                 html_text(head[c]) + "</th>";
    body_ += "</tr></thead>\n<tbody>\n";
    for (const auto& row : rows) {
        body_ += "<tr>";
        for (std::size_t c = 0; c < row.size(); ++c) {
            const bool broken = !row[c].empty() && row[c][0] == '!';
            const std::string words = html_text(broken ? row[c].substr(1) : row[c]);
            if (c == 0)
                body_ += "<th scope=\"row\">" + words + "</th>";
            else
                body_ += fmt::format("<td class=\"{}{}\">{}</td>",
                                     c < words_in.size() && words_in[c] ? "words" : "",
                                     broken ? " broken" : "", words);
        }
        body_ += "</tr>\n";
    }
    body_ += "</tbody></table></div>\n";
}

void ReportPage::image(const std::filesystem::path& file, const std::string& alt) {
    const std::string bytes = read_text(file);
    const char* kind = file.extension() == ".svg" ? "svg+xml" : "png";
    body_ +=
        fmt::format("<figure><img loading=\"lazy\" alt=\"{}\" src=\"data:image/{};base64,{}\"></figure>\n",
                    html_text(alt), kind, base64(bytes.data(), bytes.size()));
}

void ReportPage::history(const ReportHistory& history) {
    Json out{{"runs", history.runs}};
    Json panels = Json::array();
    for (std::size_t n = 0; n < history.names.size(); ++n) {
        Json lines = Json::array();
        for (const auto& line : history.lines[n]) {
            Json points = Json::array();
            for (const auto& [x, y] : line) points.push_back({x, y});
            lines.push_back(points);
        }
        panels.push_back({{"name", history.names[n]},
                          {"min", json_or_null(history.mins[n])},
                          {"max", json_or_null(history.maxs[n])},
                          {"lines", lines}});
    }
    out["panels"] = panels;
    history_json_ = json_line(out);
    body_ += "<div id=\"history-charts\" class=\"charts\"></div>\n<noscript><p>The charts need "
             "scripts.</p></noscript>\n";
}

void ReportPage::view(const ReportView& view) {
    Json out{
        {"unit", view.unit}, {"first", view.first_threshold}, {"iterationsCalled", view.iterations_called}};
    const auto steps = [](const std::vector<ViewStep>& all) {
        Json list = Json::array();
        for (const ViewStep& s : all)
            if (!s.surface.triangles.empty())
                list.push_back({{"label", s.label}, {"surface", surface_json(s.surface)}});
        return list;
    };
    out["thresholds"] = steps(view.thresholds);
    out["iterations"] = steps(view.iterations);
    Json cases = Json::array();
    for (const ViewCase& c : view.cases) {
        if (c.surface.triangles.empty()) continue;
        cases.push_back({{"label", c.label},
                         {"quantity", c.quantity},
                         {"unit", c.unit},
                         {"end", c.end},
                         {"deformation", c.deformation},
                         {"surface", surface_json(c.surface)}});
    }
    out["cases"] = cases;
    view_json_ = json_line(out);
    body_ += "<div id=\"view\"></div>\n<noscript><p>The view needs scripts.</p></noscript>\n";
}

std::string ReportPage::html(const std::filesystem::path& data, const std::string& written) const {
    const std::string end = open_ ? "</section>\n" : "";
    const std::string three = view_json_ == "null" ? "" : read_text(data / "three.min.js");
    return filled_in(read_text(data / "page.html"), {{"{{title}}", html_text(title_)},
                                                     {"{{verdict}}", verdict_},
                                                     {"{{contents}}", contents_},
                                                     {"{{body}}", body_ + end},
                                                     {"{{style}}", read_text(data / "page.css")},
                                                     {"{{view}}", script_json(view_json_)},
                                                     {"{{history}}", script_json(history_json_)},
                                                     {"{{three}}", three},
                                                     {"{{script}}", read_text(data / "page.js")},
                                                     {"{{written}}", html_text(written)},
                                                     {"{{version}}", html_text(version)}});
}

} // namespace upright
