# Filling the gaps of regular series: flat vectors and `breaks`, as in core-series.R.

learnt_rules <- c("mean", "median", "seasonal", "model")
fill_rules <- c(between_rules, learnt_rules)
# Rules that use nothing from after a gap.
backward_rules <- c("previous", learnt_rules)

# A list: values, and filled (TRUE where a value was put in). `rule` is a name or a
# number; `season` in steps.
fill_values <- function(values, times, breaks, rule, longest = Inf, season = 0, past = FALSE) {
  if (is.numeric(rule)) {
    return(cpp_fill_constant(values, times, breaks, rule, longest))
  }
  if (rule %in% learnt_rules) {
    return(call_core(cpp_fill_learnt(
      values, times, breaks, match(rule, learnt_rules) - 1L, as.integer(season), longest, past, core_threads()
    )))
  }
  call_core(cpp_fill_gaps(values, times, breaks, match(rule, between_rules) - 1L, longest, core_threads()))
}
