// How unsure parameters of a model are that makes squared one-step errors small: independent moves
// of one sd each, from the curvature of the squares (Gauss and Newton) and what is known of the
// parameters beforehand.
#pragma once
#include <cmath>
#include <cstddef>
#include <vector>

namespace core {

struct FreeParameter {
  double step;    // small, to see how the errors answer
  double prior;   // sd before any value is seen; 0: nothing is known
};

// `errors(i, step, out)` writes the one-step errors with parameter i moved by `step` (i = -1:
// none), in units of their sd; NaN where there is none. One row for each move, of as many numbers
// as parameters; none where the curvature tells nothing.
template <typename F>
std::vector<std::vector<double>> directions(const std::vector<FreeParameter>& free, std::size_t n,
                                            F&& errors) {
  using Numbers = std::vector<double>;
  const std::size_t p = free.size();
  std::vector<Numbers> out;
  Numbers at(n), there(n), jacobian(p * n, 0), c(p * p, 0);
  errors(-1, 0.0, at);
  for (std::size_t j = 0; j < p; ++j) {
    errors(static_cast<int>(j), free[j].step, there);
    for (std::size_t t = 0; t < n; ++t) {
      const double d = (there[t] - at[t]) / free[j].step;
      if (std::isfinite(d)) jacobian[j * n + t] = d;
    }
  }
  for (std::size_t i = 0; i < p; ++i) {
    for (std::size_t j = 0; j <= i; ++j) {
      for (std::size_t t = 0; t < n; ++t) c[i * p + j] += jacobian[i * n + t] * jacobian[j * n + t];
    }
    if (free[i].prior > 0) c[i * p + i] += 1 / (free[i].prior * free[i].prior);
    c[i * p + i] *= 1 + 1e-9;
  }
  // The precision as C C' (Cholesky); the columns of the inverse of C' are independent moves.
  for (std::size_t i = 0; i < p; ++i) {
    for (std::size_t j = 0; j <= i; ++j) {
      double sum = c[i * p + j];
      for (std::size_t k = 0; k < j; ++k) sum -= c[i * p + k] * c[j * p + k];
      if (i == j) {
        if (!(sum > 0)) return out;
        c[i * p + i] = std::sqrt(sum);
      } else {
        c[i * p + j] = sum / c[j * p + j];
      }
    }
  }
  for (std::size_t j = 0; j < p; ++j) {
    Numbers move(p, 0);
    for (std::size_t i = j + 1; i-- > 0;) {
      double sum = i == j ? 1 : 0;
      for (std::size_t k = i + 1; k <= j; ++k) sum -= c[k * p + i] * move[k];
      move[i] = sum / c[i * p + i];
    }
    out.push_back(std::move(move));
  }
  return out;
}

constexpr double kSmallMove = 0.1;  // of an sd: so near that models answer in a straight line, and
                                    // their variance in a parabola

// Moments of a forecast over its parameters, from forecasts with these moved by a small share of
// each direction, up and down: the variance of the means, and the mean of the variances.
class Spread {
 public:
  Spread(const double* mean, double* variance, std::size_t steps)
      : mean_(mean), variance_(variance), steps_(steps), more_(steps, 0) {}
  // Where one side is no model (empty), the other tells how the mean moves.
  void add(const std::vector<double>& up, const std::vector<double>& up_variance,
           const std::vector<double>& down, const std::vector<double>& down_variance) {
    const bool both = !up.empty() && !down.empty();
    const std::vector<double>& side = up.empty() ? down : up;
    for (std::size_t i = 0; i < side.size(); ++i) {
      const double rise = both ? (up[i] - down[i]) / 2 : side[i] - mean_[i];
      const double curve = both ? (up_variance[i] + down_variance[i]) / 2 - variance_[i] : 0;
      const double more = (rise * rise + curve) / (kSmallMove * kSmallMove);
      if (std::isfinite(more)) more_[i] += more;
    }
  }
  // Never much narrower than with parameters that are known.
  void finish() {
    for (std::size_t i = 0; i < steps_; ++i)
      variance_[i] += more_[i] > -0.3 * variance_[i] ? more_[i] : -0.3 * variance_[i];
  }

 private:
  const double* mean_;
  double* variance_;
  std::size_t steps_;
  std::vector<double> more_;
};

}  // namespace core
