#include "figures/offscreen.hpp"

#include "figures/no_pictures.hpp"

#include "base/error.hpp"

#include <EGL/egl.h>
#include <EGL/eglext.h>
#include <cstdlib>
#include <vtkGenericOpenGLRenderWindow.h>
#include <vtkObjectFactory.h>
#include <vtk_glew.h>

namespace upright {

namespace {

struct EglContext {
    EGLDisplay display = EGL_NO_DISPLAY;
    EGLContext context = EGL_NO_CONTEXT;
};

NoPictures no_egl(const char* what) {
    return NoPictures(Error::files("figures", std::string("no picture can be drawn: ") + what,
                                   "Install libegl1 and libgl1-mesa-dri (scripts/install-packages)"));
}

// One context for the life of the program; it is never terminated, which crashes in Mesa when VTK still holds
// objects.
const EglContext& shared_context() {
    static const EglContext made = [] {
        ::setenv("LIBGL_ALWAYS_SOFTWARE", "1", 0);
        EglContext out;
        const auto get_display =
            reinterpret_cast<PFNEGLGETPLATFORMDISPLAYEXTPROC>(eglGetProcAddress("eglGetPlatformDisplayEXT"));
        if (get_display == nullptr) throw no_egl("EGL has no platform displays");
        out.display = get_display(EGL_PLATFORM_SURFACELESS_MESA, EGL_DEFAULT_DISPLAY, nullptr);
        EGLint major = 0;
        EGLint minor = 0;
        if (out.display == EGL_NO_DISPLAY || eglInitialize(out.display, &major, &minor) == EGL_FALSE)
            throw no_egl("EGL cannot be started");
        eglBindAPI(EGL_OPENGL_API);
        const EGLint attributes[] = {EGL_CONTEXT_MAJOR_VERSION,
                                     3,
                                     EGL_CONTEXT_MINOR_VERSION,
                                     2,
                                     EGL_CONTEXT_OPENGL_PROFILE_MASK,
                                     EGL_CONTEXT_OPENGL_CORE_PROFILE_BIT,
                                     EGL_NONE};
        out.context = eglCreateContext(out.display, nullptr, EGL_NO_CONTEXT, attributes);
        if (out.context == EGL_NO_CONTEXT) throw no_egl("OpenGL 3.2 is missing");
        return out;
    }();
    return made;
}

class OffscreenWindow : public vtkGenericOpenGLRenderWindow {
  public:
    static OffscreenWindow* New();
    vtkTypeMacro(OffscreenWindow, vtkGenericOpenGLRenderWindow)

        void MakeCurrent() override {
        const EglContext& egl = shared_context();
        eglMakeCurrent(egl.display, EGL_NO_SURFACE, EGL_NO_SURFACE, egl.context);
    }
    bool IsCurrent() override { return eglGetCurrentContext() == shared_context().context; }
    void OpenGLInitContext() override {
        if (this->Initialized) return;
        glewExperimental = GL_TRUE;
        const GLenum result = glewInit();
        // Without an X server GLEW finds no GLX display, which does not matter here.
        constexpr GLenum no_glx_display = 4;
        if (result != GLEW_OK && result != no_glx_display) throw no_egl("OpenGL cannot be started");
        this->Initialized = true;
    }
};
vtkStandardNewMacro(OffscreenWindow)

} // namespace

vtkSmartPointer<vtkRenderWindow> make_offscreen_window(int width, int height) {
    vtkObject::SetGlobalWarningDisplay(0); // our own errors say it for users
    auto window = vtkSmartPointer<OffscreenWindow>::New();
    window->MakeCurrent();
    window->SetOwnContext(0);
    window->SetSize(width, height);
    window->SetMultiSamples(0);
    window->SetOffScreenRendering(1);
    window->SetShowWindow(false);
    window->SetFrameBlitModeToNoBlit();
    window->SetReadyForRendering(true);
    return window;
}

} // namespace upright
