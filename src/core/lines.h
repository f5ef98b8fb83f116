// Many straight lines with seasons by least squares at once: a level, a slope where it is wanted,
// and for each season the effects of its places or pairs of waves. What errors carry on is an
// autoregression of them.
#pragma once
#include <vector>

#include "span.h"

namespace core {

struct LineSeason {
  double steps;  // length; need not be whole for waves
  int pairs;     // of sine and cosine; 0: an effect for each place of a whole number of steps
};

struct LinePlan {
  bool slope;
  std::vector<LineSeason> seasons;

  std::size_t columns() const;
  // The columns at a step counted from the first of the series; effects of places add up to nought.
  void row(double step, double* out) const;
};

struct Line {
  std::vector<double> coefficients;  // as the columns of the plan
  std::vector<double> inverse;       // of the normal matrix, columns by columns
  std::vector<double>
      carried;  // the autoregression of errors, its order by the corrected criterion of Akaike
  std::vector<double>
      errors;  // as many of the last ones, the last first; where missing, expected ones
  double sigma;                      // standard deviation of an error
  double shock;                      // of what is new in it
  double steps;                      // of the series
  double waited;                     // steps since its last value
  double freedom;                    // values less columns
  bool whitened;  // whether the inverse is that of rows less what errors carry on
};

// Values are missing where they are not finite. Columns that say nothing get nought. The errors are
// those of move_line(). `most` is the highest order of the autoregression; with 1, for short
// series, the line itself is fitted with it.
Line fit_line(Doubles values, const LinePlan& plan, int most);

// The next steps: points; what a shock moves by so many steps later (standard deviations); and the
// variance that the coefficients add, and errors of steps since the last value. Errors that carry
// on say less about the line than as many that do not: that of level and slope grows by the sum of
// the autoregression's weights.
void forecast_line(const Line& line, const LinePlan& plan, int horizon, double* point,
                   double* moves, double* added);

// Moves a line on to the end of values that begin where those it was fitted to began: its
// coefficients stay. `out` is what is expected of each value one step before it.
void move_line(Line& line, const LinePlan& plan, Doubles values, double* out);

}  // namespace core
