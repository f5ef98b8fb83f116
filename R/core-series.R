# Numbers of many series in one flat vector, with `breaks`: the first row of
# each series counted from 0, and the number of rows.

core_threads <- function() {
  as.integer(max(1, getOption("kairon.threads", 2)))
}

statistic_words <- c(
  "mean", "sum", "sd", "var", "min", "max", "median", "mad", "first", "last",
  "count", "range", "slope"
)

is_statistic <- function(name) {
  vapply(name, cpp_statistic_exists, logical(1), USE.NAMES = FALSE)
}

# One value for each range of rows; `statistic` is a name of the grammar or a
# function of the values that are not missing.
range_statistic <- function(values, times, from, to, statistic,
                            where = function(i) paste("range", i),
                            call = rlang::caller_env()) {
  if (is.character(statistic)) {
    return(call_core(cpp_range_statistics(
      statistic, values, times, from, to
    ), call))
  }
  own_statistic(values, from, to, statistic, where, call)
}

sliding_statistic <- function(values, times, from, to, breaks, statistic,
                              where = function(i) paste("window", i),
                              call = rlang::caller_env()) {
  if (is.character(statistic)) {
    return(call_core(cpp_sliding_statistics(
      statistic, values, times, from, to, breaks, core_threads()
    ), call))
  }
  own_statistic(values, from, to, statistic, where, call)
}

own_statistic <- function(values, from, to, statistic, where, call) {
  vapply(seq_along(from), function(i) {
    rows <- seq_len(to[i] - from[i]) + from[i]
    piece <- values[rows]
    piece <- piece[!is.na(piece)]
    if (length(piece) == 0) {
      return(NA_real_)
    }
    result <- tryCatch(statistic(piece), error = function(e) {
      abort_input(c(
        "Your statistic failed for {where(i)}.",
        x = conditionMessage(e)
      ), call = call, .envir = list2env(list(where = where, i = i, e = e)))
    })
    if (!is.numeric(result) || length(result) != 1) {
      size <- length(result)
      abort_input(c(
        "A statistic must give one number.",
        x = "Yours gave {size} value{?s} for {where(i)}."
      ), call = call, .envir = environment())
    }
    as.numeric(result)
  }, numeric(1))
}

fill_rules <- c("previous", "next", "nearest", "linear")

fill_values <- function(values, times, breaks, rule, longest) {
  call_core(cpp_fill_gaps(
    values, times, breaks, match(rule, fill_rules) - 1L, longest
  ))
}

split_averages <- function(values, breaks, m, multiply) {
  call_core(cpp_decompose_averages(
    values, breaks, as.integer(m), multiply, core_threads()
  ))
}
