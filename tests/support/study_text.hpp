// Studies as text, card by card, for tests and benches: so that the whole way from the file is exercised.
//
//     StudyText().steel().region("block", "box = [[0, 0, 0], [8, 4, 4]]").surface("root", "facing = [-1, 0,
//     0]")
#pragma once

#include <string>
#include <vector>

namespace upright::test {

class StudyText {
  public:
    explicit StudyText(const std::string& length = "mm") {
        text_ = "units = [\"" + length + "\", \"N\", \"s\"]\n";
    }

    // Lines as they are.
    StudyText& add(const std::string& lines) {
        text_ += lines;
        if (!lines.empty() && lines.back() != '\n') text_ += '\n';
        return *this;
    }
    StudyText& section(const std::string& word, const std::string& keys) {
        return add("[" + word + "]\n" + keys);
    }
    StudyText& card(const std::string& word, const std::string& name, const std::string& keys) {
        return add("[[" + word + "]]\nname = \"" + name + "\"\n" + keys);
    }

    StudyText& material(const std::string& name, const std::string& E, const std::string& nu,
                        const std::string& density, const std::string& more = {}) {
        material_ = name;
        return card("material", name, "E = " + E + "\nnu = " + nu + "\ndensity = " + density + "\n" + more);
    }
    StudyText& steel() { return material("steel", "210000", "0.3", "7.85e-9"); }
    // Of the last material.
    StudyText& region(const std::string& name, const std::string& shape, const std::string& role = "design") {
        region_ = name;
        return card("region", name,
                    "role = \"" + role + "\"\n" +
                        (role == "void" ? "" : "material = \"" + material_ + "\"\n") + shape);
    }
    // Of the last region.
    StudyText& surface(const std::string& name, const std::string& rules) {
        return card("surface", name, "of = \"" + region_ + "\"\n" + rules);
    }
    StudyText& point(const std::string& name, const std::string& at) {
        return card("point", name, "at = " + at);
    }
    StudyText& support(const std::string& name, const std::string& on, const std::string& hold) {
        return card("support", name, "on = \"" + on + "\"\nhold = " + hold);
    }
    StudyText& force(const std::string& name, const std::string& on, const std::string& total) {
        return card("load", name, "on = \"" + on + "\"\nforce = " + total);
    }
    StudyText& load_case(const std::string& name, const std::string& supports, const std::string& loads) {
        return card("case", name, "supports = " + supports + "\nloads = " + loads);
    }
    StudyText& response(const std::string& name, const std::string& measure, const std::string& more = {}) {
        return card("response", name, "measure = \"" + measure + "\"\n" + more);
    }
    StudyText& minimize(const std::string& response) {
        return section("goal", "minimize = \"" + response + "\"");
    }
    StudyText& mesh(const std::string& keys) { return section("mesh", keys); }

    const std::string& str() const { return text_; }
    operator std::string() const { return text_; }

  private:
    std::string text_, material_, region_;
};

} // namespace upright::test
