// A render window without an X server: VTK on an EGL context without a surface, software rendering.
#pragma once

#include <vtkSmartPointer.h>

class vtkRenderWindow;

namespace upright {

// Throws NoPictures when the machine has no EGL.
vtkSmartPointer<vtkRenderWindow> make_offscreen_window(int width, int height);

} // namespace upright
