// The few types that the core throws; R/base-conditions.R turns them into
// conditions of the package.
#pragma once
#include <stdexcept>
#include <string>

namespace core {

// What the caller handed over cannot be worked with.
struct InputError : std::runtime_error {
  using std::runtime_error::runtime_error;
};

}  // namespace core
