#' Forecast by the last value and the mean slope
#'
#' Continues the straight line from the first to the last value.
#'
#' @section Formula:
#' With the first and last value T - 1 steps apart and slope b between them, the
#' forecast is last + b h and its interval +/- t s sqrt(h (1 + h / (T - 1))),
#' where s is the standard deviation of the one-step differences about b and t
#' the quantile of Student's distribution.
#' @returns A forecasting method for [forecast()] and [backtest()].
#' @references Hyndman, R. J. and Athanasopoulos, G. (2021). Forecasting:
#' Principles and Practice, 3rd ed., section 5.5.
#' @seealso [by_arima()], [by_auto()], [by_blend()], [by_decomposition()], [by_intermittent()], [by_mean()]
#' @examples
#' forecast(demo_timeline("billed"), "6 months", by_drift())
#' @export
by_drift <- function() new_baseline("drift")

#' @export
method_fit.kairon_by_drift <- function(method, batch) fit_baseline(method, batch)

#' @export
method_predict.kairon_by_drift <- function(method, model, horizon, levels) {
  predict_baseline(method, model, horizon, levels)
}

#' @export
method_describe.kairon_by_drift <- function(method, context) {
  "the last value moved on by the mean slope"
}

#' @export
method_needs.kairon_by_drift <- function(method, context) {
  list(values = 3, season = FALSE)
}
