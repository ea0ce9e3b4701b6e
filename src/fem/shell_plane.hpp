// The mean plane of a flat shell element, and the way between its freedoms and global ones.
#pragma once

#include "base/vectors.hpp"

#include <Eigen/Core>

namespace upright {

struct ShellPlane {
    Mat3 axes;           // columns: two in the plane, the normal
    Eigen::MatrixXd x;   // 2 x nodes
    Eigen::VectorXd off; // nodes above the plane

    // `places` is 3 x nodes, of three or four nodes.
    explicit ShellPlane(const Eigen::MatrixXd& places);
    // From global freedoms to those of the mean plane's points, in local axes: u v w, then turns about them.
    Eigen::MatrixXd to_local() const;
};

} // namespace upright
