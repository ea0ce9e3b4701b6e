// Lines of text, one below the other.
#pragma once

#include <string>
#include <utility>

namespace upright {

class Lines {
  public:
    void add(const std::string& line) {
        text_ += (first_ ? "" : "\n") + line;
        first_ = false;
    }
    std::string take() { return std::move(text_); }

  private:
    std::string text_;
    bool first_ = true;
};

} // namespace upright
