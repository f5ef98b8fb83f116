# Levels between their readings.

# Rules for a level between its readings, in the order of the core.
between_rules <- c("previous", "next", "nearest", "linear", "cubic", "spline")

# A list: value, and found (0 nothing, 1 a reading at that instant, 2 made).
level_at <- function(values, times, breaks, at, at_breaks, rule, within) {
  call_core(cpp_interpolate(
    values, times, breaks, at, as.integer(at_breaks), match(rule, between_rules) - 1L, within,
    core_threads()
  ))
}
