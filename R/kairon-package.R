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
#' The generic of the package ggplot2, here so that a figure needs no other package attached. See [figures].
#'
#' @param object What to draw.
#' @param ... Passed on to the method.
#' @returns A ggplot object.
#' @examples
#' autoplot(demo_timeline("billed"))
#' @export
#' @usage autoplot(object, ...)
# Bound, not imported: loading ggplot2 takes longer than most commands of the program, and many draw nothing.
autoplot <- ggplot2::autoplot
