#' Forecast by the mean of all values
#'
#' Every forecast is the mean of the history. A baseline for series without
#' trend or season.
#'
#' @section Formula:
#' With n values, mean m and standard deviation s, the forecast is m at every
#' step and its interval m +/- t s sqrt(1 + 1/n), where t is the quantile of
#' Student's distribution with n - 1 degrees of freedom. Missing values are left out.
#' @returns A forecasting method for [forecast()] and [backtest()].
#' @references Hyndman, R. J. and Athanasopoulos, G. (2021). Forecasting:
#' Principles and Practice, 3rd ed., section 5.5.
#' @seealso [by_blend()], [by_decomposition()], [by_drift()], [by_intermittent()], [by_moving_average()],
#'   [by_naive()]
#' @examples
#' forecast(demo_timeline("rain"), "7 days", by_mean())
#' @export
by_mean <- function() new_baseline("mean")

#' @export
method_fit.kairon_by_mean <- function(method, batch) fit_baseline(method, batch)

#' @export
method_predict.kairon_by_mean <- function(method, model, horizon, levels) {
  predict_baseline(method, model, horizon, levels)
}

#' @export
method_describe.kairon_by_mean <- function(method, context) {
  "the mean of all values"
}
