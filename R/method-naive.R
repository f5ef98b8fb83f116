#' Forecast by the last value
#'
#' Every forecast is the last value that is there: the forecast of a random walk.
#'
#' @section Formula:
#' The interval h steps ahead is last value +/- t s sqrt(h), where s is the root
#' mean square of the one-step differences and t the quantile of Student's
#' distribution with as many degrees of freedom as there are differences. A
#' difference over k steps, around missing values, counts with its square over k;
#' h counts from the last value that is there.
#' @returns A forecasting method for [forecast()] and [backtest()].
#' @references Hyndman, R. J. and Athanasopoulos, G. (2021). Forecasting:
#' Principles and Practice, 3rd ed., section 5.5.
#' @seealso [by_drift()], [by_intermittent()], [by_mean()], [by_moving_average()], [by_regression()],
#'   [by_seasonal_naive()]
#' @examples
#' forecast(demo_timeline("billed"), "6 months", by_naive())
#' @export
by_naive <- function() new_baseline("naive")

#' @export
method_fit.kairon_by_naive <- function(method, batch) fit_baseline(method, batch)

#' @export
method_predict.kairon_by_naive <- function(method, model, horizon, levels) {
  predict_baseline(method, model, horizon, levels)
}

#' @export
method_describe.kairon_by_naive <- function(method, context) {
  "the last value repeated"
}
