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

#' @importFrom ggplot2 autoplot
#' @export
ggplot2::autoplot
