// Vectors of one instruction set, for the bodies of the kernels (kernels_impl.hpp).
#pragma once

#include "base/instruction_sets.hpp"
#include "solve/grid/kernels.hpp"

#include <cstring>
#ifdef __F16C__
#include <immintrin.h>
#endif

namespace upright::grid {
namespace UPRIGHT_ISA {

template <class T> struct VectorOf;
template <> struct VectorOf<float> {
    typedef float type __attribute__((vector_size(UPRIGHT_VECTOR)));
    typedef float loose __attribute__((vector_size(UPRIGHT_VECTOR), aligned(4), may_alias));
};
template <> struct VectorOf<double> {
    typedef double type __attribute__((vector_size(UPRIGHT_VECTOR)));
    typedef double loose __attribute__((vector_size(UPRIGHT_VECTOR), aligned(8), may_alias));
};
template <class T> using Vector = typename VectorOf<T>::type;
template <class T> constexpr std::size_t width = UPRIGHT_VECTOR / sizeof(T);

template <class T> inline __attribute__((always_inline)) Vector<T> load(const T* p) {
    return *reinterpret_cast<const typename VectorOf<T>::loose*>(p);
}
template <class T> inline __attribute__((always_inline)) void store(T* p, Vector<T> v) {
    *reinterpret_cast<typename VectorOf<T>::loose*>(p) = v;
}
// Floats as they are, or widened beside doubles.
inline __attribute__((always_inline)) Vector<float> load_as(const float* p, float /*type*/) {
    return load(p);
}
inline __attribute__((always_inline)) Vector<double> load_as(const float* p, double /*type*/) {
    typedef float half __attribute__((vector_size(UPRIGHT_VECTOR / 2), aligned(4), may_alias));
    return __builtin_convertvector(*reinterpret_cast<const half*>(p), Vector<double>);
}
inline __attribute__((always_inline)) Vector<double> load_as(const double* p, double /*type*/) {
    return load(p);
}

} // namespace UPRIGHT_ISA
} // namespace upright::grid
