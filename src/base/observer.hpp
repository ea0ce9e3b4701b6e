// The one way in which a long computation speaks: it reports, and asks whether to go on.
#pragma once

#include <string>

namespace upright {

class Observer {
  public:
    Observer() = default;
    Observer(const Observer&) = delete;
    Observer& operator=(const Observer&) = delete;
    virtual ~Observer() = default;

    // A sentence worth showing, such as what is being done now.
    virtual void note(const std::string& sentence) = 0;
    // True when the user asked to stop; the computation ends at the next whole step.
    virtual bool stop_requested() const = 0;
};

} // namespace upright
