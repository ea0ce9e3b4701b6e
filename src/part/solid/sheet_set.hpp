// Places on one sheet or on several at once.
#pragma once

#include "part/solid/sheets.hpp"

#include <array>
#include <optional>

namespace upright {

class SheetSet {
  public:
    // `size`: what lengths are measured by.
    SheetSet(std::vector<Sheet> sheets, double size) : sheets_(std::move(sheets)), size_(size) {}

    std::size_t count() const { return sheets_.size(); }
    const Sheet& operator[](std::int32_t s) const { return sheets_[static_cast<std::size_t>(s)]; }
    std::int32_t add(Sheet sheet) {
        sheets_.push_back(std::move(sheet));
        return static_cast<std::int32_t>(sheets_.size()) - 1;
    }
    void replace(std::int32_t s, Sheet sheet) { sheets_[static_cast<std::size_t>(s)] = std::move(sheet); }
    double size() const { return size_; }

    // The place near p on all of these (three at most), by Newton's steps of least length; nothing where it
    // is farther than a size or the sheets do not meet.
    std::optional<Vec3> onto(const std::vector<std::int32_t>& which, const Vec3& p) const;

  private:
    std::vector<Sheet> sheets_;
    double size_;
};

// The sheet that a triangle lies on, given what its corners lie on: that of all three, the one along it where
// there are more; -1 where there is none.
std::int32_t sheet_of_triangle(const SheetSet& sheets, const std::array<Vec3, 3>& corners,
                               const std::array<const std::vector<std::int32_t>*, 3>& on);

} // namespace upright
