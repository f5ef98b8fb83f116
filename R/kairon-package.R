#' @description From raw readings to tested forecasts: can I trust these readings, what is the
#'   pattern, what comes next, and how wrong has that kind of forecast been?
#'
#' @section A map of the verbs:
#' * **Read, index**: [read_timeline()] (text, workbooks, Parquet, JSON, NetCDF, databases,
#'   addresses), [timeline()] for a data frame, [from_parts()] for stamps in two columns, [events()]
#'   for holidays, [cadence()], [rejects()]; [write_timeline()] for files of every kind, workbooks
#'   among them.
#' * **Inspect**: [inspect()], [gaps()], [origins()], [during()], [ledger()] of what was done.
#' * **Vet, repair**: [vet()], [findings()], [repair()], [remove_shifts()].
#' * **Reshape**: [resample()], [align()], [impute()], [pool_series()], [with_totals()].
#' * **Compare, roll**: [roll()], [change()], [rebase()], [stabilise()], [season_profile()],
#'   [standing()].
#' * **Look**: [find_seasons()], [correlogram()], [power_spectrum()], [stationarity()],
#'   [lead_lag()], [traits()], [effect_of()].
#' * **Decompose**: [decomposition()], [adjusted()], [strength()].
#' * **Forecast**: [forecast()][forecast.kairon_timeline], [fit()][fit.kairon_timeline], methods
#'   `by_...()` from [by_auto()] on, [total()], [breakdown()], [choices()].
#' * **Assess**: [backtest()], [verdict()] (how to read one: `vignette("backtesting")`),
#'   [ranking()], [best()], [scores()], [leak_check()], [diagnosis()], [track()].
#' * **Tell**: `plot()` and [autoplot()] (see [figures]; `ggplot2::ggsave()` saves one), [report()],
#'   [run_study()].
#' * **Again and at large**: [routine()], [replay()], [append_rows()], `remote = TRUE` for rows that
#'   do not fit memory, and workers for hundreds of series: `vignette("machines")`.
#'
#' `vignette("kairon")` begins, `vignette("tour")` has a line of everything,
#' `vignette("which-method")` chooses, and `vignette("methods")` tells each method's formula.
#' @keywords internal
#' @useDynLib kairon, .registration = TRUE
#' @importFrom Rcpp evalCpp
#' @importFrom rlang %||% .data
#' @importFrom stats coef fitted logLik nobs predict residuals
"_PACKAGE"

#' @importFrom generics forecast
#' @export
generics::forecast

#' @importFrom generics fit
#' @export
generics::fit

#' Draw an object
#'
#' The generic of the package ggplot2, here so that a figure needs no other package attached. See
#' [figures].
#'
#' @param object What to draw.
#' @param ... Passed on to the method.
#' @returns A ggplot object.
#' @seealso [date_marks()], [figure_style()], [report()], [run_study()]
#' @examples
#' autoplot(demo_timeline("billed"))
#' @export
#' @usage autoplot(object, ...)
# Bound, not imported: loading ggplot2 takes longer than most commands of the program, and many draw
# nothing.
autoplot <- ggplot2::autoplot
