#include "base/reduction.hpp"

namespace upright {

namespace {

const Alone nobody;
const Peers* with = &nobody;

} // namespace

const Peers& peers() {
    return *with;
}

WithPeers::WithPeers(const Peers& others) : before_(with) {
    with = &others;
}

WithPeers::~WithPeers() {
    with = before_;
}

} // namespace upright
