#' Forecast by the same place of the last season
#'
#' Every forecast is the last value at the same place of the season: the same weekday of last week, the same
#' month of last year. The habit that any other method has to beat.
#'
#' @param seasons The season by name (`"week"`) or number of steps. Several, such as `c("week", "year")`: the
#'   longest, moved to the nearest whole number of the shorter ones, so that a Monday meets a Monday (364
#'   days ago). Default: the shortest season that [find_seasons()] finds in the past values, else the usual
#'   one of the cadence.
#' @section Formula:
#' With a season of m steps, the interval h steps ahead is +/- t s sqrt(k), where k = ceiling(h / m) counts
#' the seasons since the value that is repeated, s is the root mean square of the differences over one
#' season and t the quantile of Student's distribution.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A forecasting method for [forecast()] and [backtest()].
#' @references Hyndman, R. J. and Athanasopoulos, G. (2021). Forecasting: Principles and Practice, 3rd ed.,
#' section 5.5.
#' @seealso [by_mean()], [by_moving_average()], [by_naive()], [by_regression()], [by_smoothing()],
#'   [by_theta()]
#' @examples
#' forecast(demo_timeline("demand"), "14 days", by_seasonal_naive("week"))
#' @export
by_seasonal_naive <- function(seasons = NULL, ...) {
  refuse_more("by_seasonal_naive", ...)
  new_baseline("seasonal_naive", seasons = seasons)
}

#' @export
method_fit.kairon_by_seasonal_naive <- function(method, batch) {
  season <- chosen_season(method, batch$context)
  if (length(season) == 0) {
    abort_input(c("There is no season to repeat.",
      i = "Name one: {.code by_seasonal_naive(\"week\")}, or a number of steps."),
                call = NULL)
  }
  fit_baseline(method, batch, season)
}

#' @export
method_predict.kairon_by_seasonal_naive <- function(method, model, horizon, levels) {
  predict_baseline(method, model, horizon, levels)
}

#' @export
method_describe.kairon_by_seasonal_naive <- function(method, context) {
  season <- chosen_season(method, context)
  paste0("the last season repeated, ", season_length(season))
}

#' @export
method_needs.kairon_by_seasonal_naive <- function(method, context) {
  season <- chosen_season(method, context)
  list(values = 2, season = TRUE, steps = if (length(season)) season[[1]] + 1)
}

chosen_season <- function(method, context, call = NULL) {
  if (!is.null(method$seasons)) {
    return(nested_season(resolve_seasons(method$seasons, context$cadence, "seasons", call)))
  }
  utils::head(context$seasons, 1)
}

# The longest of several seasons as a whole number of the one before, of that before it, and so on.
nested_season <- function(seasons) {
  seasons <- sort(seasons)
  steps <- seasons[[1]]
  for (longer in seasons[-1]) steps <- steps * max(1, round(longer / steps))
  names <- names(seasons)
  stats::setNames(steps, names[length(names)])
}
