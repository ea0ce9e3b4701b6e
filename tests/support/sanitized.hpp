// Whether this is a build with the address sanitizer, which takes terabytes of room for itself, so that no
// limit of memory can be set.
#pragma once

namespace upright::test {

#if defined(__SANITIZE_ADDRESS__)
inline constexpr bool sanitized = true;
#elif defined(__has_feature)
#if __has_feature(address_sanitizer)
inline constexpr bool sanitized = true;
#else
inline constexpr bool sanitized = false;
#endif
#else
inline constexpr bool sanitized = false;
#endif

} // namespace upright::test
