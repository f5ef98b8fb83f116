# Seasons by local regression, as numbers.

# Over how many cycles each season is smoothed; 0: the same in each.
loess_spans <- function(seasons, longest, span = NULL) {
  if (identical(span, "fixed")) {
    return(rep(0L, length(seasons)))
  }
  if (!is.null(span)) {
    return(rep(as.integer(span), length(seasons)))
  }
  cycles <- longest / as.numeric(seasons)
  odd <- 2 * floor(cycles / 8) + 1
  as.integer(ifelse(cycles < 6, 0, pmax(7, odd)))
}

# Trend, seasons (one column each) and weights of flat series; of logarithms where parts multiply.
loess_parts <- function(values, breaks, exact, spans, multiply = FALSE, robust = FALSE, degree = 1L,
                        trend_span = NULL, everywhere = FALSE) {
  v <- if (multiply) log(values) else as.double(values)
  made <- call_core(cpp_loess_seasons(
    v, breaks, exact, spans, as.integer(trend_span %||% 0), as.integer(degree), isTRUE(everywhere),
    if (robust) 10L else 0L, core_threads()
  ))
  if (multiply) list(trend = exp(made$trend), seasons = exp(made$seasons), weights = made$weights) else made
}
