#' Make the spread of a series the same at every level
#'
#' Takes values to a power (Box and Cox), so that swings which grow with the level become
#' even. `back_transform()` goes back.
#'
#' @inheritParams change
#' @param x A timeline, or a routine to record the step in. For `back_transform()` a timeline whose
#'   scale was changed.
#' @param power `"auto"` (Guerrero's method: the spread within seasons varies least), `"likelihood"` (profile
#'   likelihood of a straight line with a season), `"log"`, `"root"` (square root), or a number from -2 to 3.
#' @param seasons Steps or name of the season whose groups `"auto"` compares; by default the usual
#'   cycle.
#' @param mean Whether forecasts that come back are means (adjusted for bias, to second order) and not
#'   medians. Bounds are quantiles, and go back exactly.
#' @param compare Instead of transforming, return a table of rivals (values, square roots,
#'   logarithms, the automatic power, differences, values less their rolling mean): for each series and
#'   measure, `spread_ratio` (largest over smallest standard deviation of whole seasons) and
#'   `level_correlation` (of the seasons' standard deviations with their means; near 0 is even),
#'   `unit_root_p` and `level_p` (see [stationarity()]: small and large where the level is kept).
#' @returns The timeline with transformed measures (`back_transform()`: the original ones); [ledger()] has
#' the power
#'   and shift of each series. Zeros are shifted by half the smallest positive value, which is said.
#'   With `compare`, a data frame.
#' @section Formula:
#' w = (v^p - 1) / p, and log(v) for p = 0. Guerrero's power makes the coefficient of variation of
#' sd / mean^(1 - p) over whole seasons smallest, between -1 and 2.
#' @section Forecasts:
#' In a routine the power is chosen on what each forecast may see, and forecasts come back on the original
#' scale.
#' @references
#' Box, G. E. P. and Cox, D. R. (1964). An analysis of transformations. Journal of the Royal Statistical
#' Society B 26, 211-252.
#'
#' Guerrero, V. M. (1993). Time-series analysis supported by power transformations. Journal of
#' Forecasting 12, 37-48.
#' @seealso [roll()], [windows], [change()], [rebase()], [remove_seasons()], [season_profile()]
#' @examples
#' even <- stabilise(demo_timeline("billed"))
#' even
#' back_transform(even)
#' stabilise(demo_timeline("billed"), compare = TRUE)
#' @export
stabilise <- function(x, power = "auto", ...) UseMethod("stabilise")

#' @rdname stabilise
#' @export
stabilize <- stabilise

#' @rdname stabilise
#' @export
stabilise.kairon_routine <- function(x, power = "auto", ...) {
  read_power(power)
  record_step(x, "stabilise", list(power = power, ...), regrids = FALSE)
}

power_words <- c("auto", "likelihood", "log", "root")

#' @rdname stabilise
#' @export
stabilise.kairon_timeline <- function(x, power = "auto", measures = NULL, seasons = NULL, mean = FALSE,
                                      compare = FALSE, ...) {
  refuse_more("stabilise", ...)
  power <- read_power(power)
  measures <- pick_measures(x, rlang::enquo(measures))
  check_regular(x, "An even spread")
  x <- complete_grid(x)
  rows <- rows_of(x)
  steps <- power_season(seasons, x, measures[1], rows)
  if (isTRUE(compare)) {
    return(compare_rivals(x, rows, measures, steps))
  }
  table <- list()
  for (m in measures) {
    chosen <- series_powers(x, rows, m, power, steps)
    owner <- series_index(rows$breaks)
    made <- x[[m]]
    for (s in seq_len(nrow(chosen))) {
      here <- owner == s
      made[here] <- power_forward(made[here] + chosen$shift[s], chosen$power[s])
    }
    undo <- list(
      kind = "power", power = chosen$power, shift = chosen$shift, labels = series_labels(rows$keys),
      mean = isTRUE(mean), found = is.character(power)
    )
    unit <- timeline_meta(x)$units[[m]]
    x <- rescale_measure(x, m, made, origin_codes(x, m), if (nzchar(unit)) paste("transformed", unit) else "",
                         undo)
    account <- data.frame(measure = rep(m, nrow(chosen)), power = chosen$power, shift = chosen$shift)
    table[[m]] <- if (ncol(rows$keys)) cbind(rows$keys, account) else account
  }
  table <- do.call(rbind, unname(table))
  words <- paste0(
    power_sentence(range(table$power)),
    if (any(table$shift > 0)) paste0("; zeros shifted by ", show_number(max(table$shift), 3), " at most"), "."
  )
  tell(c(i = verbatim(words)))
  add_entry(x, "stabilise", words, table)
}

#' @export
stabilise.default <- function(x, power = "auto", ...) check_timeline(x)

power_sentence <- function(range) {
  words <- c(`0` = "logarithms", `0.5` = "square roots", `-1` = "reciprocals")
  if (range[1] != range[2]) {
    return(paste("Values taken to powers from", word_list(show_number(range, 2), last = " to "),
                 if (range[1] <= 0 && range[2] >= 0) "(0: logarithms)"))
  }
  word <- words[as.character(range[1])]
  if (!is.na(word)) {
    return(paste("Values turned into", word))
  }
  paste("Values taken to the power", show_number(range[1], 2))
}

read_power <- function(power, call = rlang::caller_env()) {
  if (is.character(power)) {
    power <- check_choice(power, power_words, arg = "power", call = call)
    return(switch(power, log = 0, root = 0.5, power))
  }
  if (!is.numeric(power) || length(power) != 1 || is.na(power) || power < -2 || power > 3) {
    abort_input("{.arg power} must be one of {.val {power_words}} or a number from -2 to 3.", call = call)
  }
  power
}

power_season <- function(seasons, x, measure, rows, call = rlang::caller_env()) {
  if (!is.null(seasons)) {
    return(resolve_seasons(seasons, timeline_meta(x)$cadence, arg = "seasons", call = call)[[1]])
  }
  found <- default_seasons(x, measure, rows)
  if (length(found)) found[[1]] else 6
}

# Power and shift of each series.
series_powers <- function(x, rows, m, power, season, call = rlang::caller_env()) {
  values <- x[[m]]
  if (any(values < 0, na.rm = TRUE)) {
    at <- which(values < 0)[1]
    meta <- timeline_meta(x)
    shown <- show_stamp(rows$seconds[at], meta$type, meta$zone)
    abort_input(c(
      "Values below zero have no power transformation.",
      x = "{.field {m}} has {sum(values < 0, na.rm = TRUE)}, the first at {shown}.",
      i = "Take differences instead: {.code change(x)}."
    ), call = call)
  }
  out <- lapply(seq_len(length(rows$breaks) - 1), function(s) {
    v <- values[(rows$breaks[s] + 1):rows$breaks[s + 1]]
    positive <- v[is.finite(v) & v > 0]
    shift <- if (any(v == 0, na.rm = TRUE) && length(positive)) min(positive) / 2 else 0
    own <- power
    if (is.character(power)) {
      found <- if (power == "auto") power_by_spread(v + shift, season) else power_by_likelihood(v + shift,
          season)
      own <- if (is.na(found)) 1 else found
    }
    data.frame(power = own, shift = shift)
  })
  do.call(rbind, out)
}

# Rivals ----

compare_rivals <- function(x, rows, measures, season) {
  out <- lapply(measures, function(m) {
    lapply(seq_len(length(rows$breaks) - 1), function(s) {
      v <- x[[m]][(rows$breaks[s] + 1):rows$breaks[s + 1]]
      level <- v
      shift <- if (any(v == 0, na.rm = TRUE)) min(v[v > 0], na.rm = TRUE) / 2 else 0
      usable <- all(v >= 0, na.rm = TRUE)
      auto <- if (usable) power_by_spread(v + shift, season) else NA_real_
      smooth <- kernel_values_of(v, 2 * (season %/% 2) + 1)
      rivals <- list(
        values = v, root = if (usable) sqrt(v), logarithm = if (usable) log(v + shift),
        power = if (!is.na(auto)) power_forward(v + shift, auto),
        difference = c(NA, diff(v)), `less rolling mean` = v - smooth
      )
      rivals <- Filter(Negate(is.null), rivals)
      rows <- lapply(rivals, spread_by_level, level = level, season = season)
      rows <- do.call(rbind, rows)
      tests <- lapply(rivals, function(w) {
        root <- unit_root_test(w)
        level <- level_test(w)
        data.frame(unit_root_p = root$p_value %||% NA_real_, level_p = level$p_value %||% NA_real_)
      })
      rows <- cbind(rows, do.call(rbind, tests))
      names <- names(rivals)
      names[names == "power"] <- paste("power", show_number(auto, 2))
      data.frame(series = s, measure = m, rival = names, rows)
    })
  })
  out <- do.call(rbind, unlist(out, recursive = FALSE))
  rownames(out) <- NULL
  if (ncol(rows$keys)) out <- cbind(rows$keys[out$series, , drop = FALSE], out)
  out$series <- NULL
  rownames(out) <- NULL
  out
}

kernel_values_of <- function(v, width) {
  cpp_kernel_means(v, c(0L, length(v)), rep(1, width), as.integer((width - 1) / 2), 1L)$value
}

# Spread of whole seasons against the level of the values in them.
spread_by_level <- function(v, level, season) {
  m <- max(2, season)
  groups <- length(v) %/% m
  if (groups < 3) {
    return(data.frame(spread_ratio = NA_real_, level_correlation = NA_real_))
  }
  tail <- function(y) matrix(utils::tail(y, groups * m), m)
  sd <- apply(tail(v), 2, stats::sd, na.rm = TRUE)
  mean <- colMeans(tail(level), na.rm = TRUE)
  ok <- is.finite(sd) & is.finite(mean) & sd > 0
  data.frame(
    spread_ratio = if (any(ok)) max(sd[ok]) / min(sd[ok]) else NA_real_,
    level_correlation = if (sum(ok) > 2) stats::cor(sd[ok], mean[ok]) else NA_real_
  )
}

# Going back ----

#' @rdname stabilise
#' @export
back_transform <- function(x, measures = NULL, ...) {
  refuse_more("back_transform", ...)
  check_timeline(x)
  meta <- timeline_meta(x)
  chosen <- column_names(rlang::enquo(measures), meta$kinds, arg = "measures")
  changed <- if (length(chosen)) chosen else names(meta$undo)
  lost <- setdiff(changed, names(meta$undo))
  if (length(changed) == 0 || length(lost)) {
    what <- if (length(lost)) lost[1] else "of this timeline"
    abort_state(c(
      "The scale {if (length(lost)) 'of '}{what} was not changed.",
      i = "{.fn stabilise}, {.fn change} and {.fn rebase} change it."
    ))
  }
  for (m in changed) x <- undo_measure(x, m)
  x
}
