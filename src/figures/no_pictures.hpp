// What is thrown where the machine can draw no picture at all: commands whose work is something else go on.
#pragma once

#include "base/error.hpp"

namespace upright {

class NoPictures : public Error {
  public:
    explicit NoPictures(const Error& why) : Error(why) {}
};

} // namespace upright
