#' Find the seasons of a series
#'
#' Which season lengths a series has, how sure that is, and how much of the series each explains.
#' Nested cycles (day, week, year) are found together; that there is none is an answer too.
#'
#' @param x A regular timeline.
#' @param measures Measures; all by default.
#' @param between The shortest and the longest season to look for, in steps (`c(20, 50)`) or as
#'   durations (`c("5 days", "3 weeks")`). By default from 2 steps to a third of each series; cycles
#'   of the calendar (day, week, year) also with two turns only.
#' @param rivals Season lengths to compare side by side: steps, or names such as `"week"`.
#' @param level Level of the tests: how often a season may be found in noise alone.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_seasons`. [as.data.frame()] gives one row for each season found in each series
#'   and measure, the strongest first: `season` (its name in the calendar, or its steps), `steps`,
#'   `length` (in words), `cycles` (how many there are), `share` (of the variance of the series less
#'   a straight line that it explains, 0 to 1), `p_value`, `correlation` (of the series with itself
#'   one season before) and `harmonics` (how many of its lines stand out: one is a sine, several are
#'   a shape). `autoplot()` folds the series over each season, or over the rivals.
#' @section Method:
#' Where all values are above zero and the spread in windows of a tenth of the series goes with
#' their mean by a power of over one half, the search is in logarithms: growth in proportion is no
#' season.
#'
#' Lines are looked for in the periodogram (straight line off, Hann taper). Their background is the
#' larger of the 35 % quantile of the neighbours, scaled to a mean, and a first-order autoregressive
#' (red or white) spectrum fitted to such quantiles. A line is looked at where the chance that the
#' largest of all ordinates is that high over its background is below `level`. Lines at multiples of
#' a frequency are joined to their fundamental, and to the day, week or year where they are
#' overtones of it. A period is set to a cycle of the calendar within half an independent ordinate,
#' or to a whole number of steps within a quarter. A line within two and a half independent
#' ordinates of an overtone of a season that is there is what that season's changes leave, and no
#' season.
#'
#' What is looked at counts as a season where an F test, of waves and values that were freed of the
#' autoregression (up to six lags by AICc) of what is left without them, is below `level` over the
#' number of independent lines (over five for the day, week and year), in short series (1 + (100 /
#' n)^2) times smaller; near a walk in the differences too. It is then taken off by least squares,
#' and the search goes on. Cycles of the calendar that are left are tested in the same way.
#'
#' By simulation, a share of at most 1 % of series of noise (white, red, walks, moving averages; 60
#' to 1,000 values) has a season; of a strong hump in the spectrum 3 % at 60 values.
#' @references Percival, D. B. and Walden, A. T. (1993). Spectral analysis for physical
#'   applications. Cambridge University Press. Mann, M. E. and Lees, J. M. (1996). Robust estimation
#'   of background noise and signal detection in climatic time series. Climatic Change 33, 409-445.
#' @seealso [lag_grid()], [lead_lag()], [effect_of()], [power_spectrum()], [stationarity()],
#'   [noise_check()]
#' @examples
#' find_seasons(demo_timeline("demand"))
#' find_seasons(demo_timeline("billed"), between = c(4, 40))
#' plot(find_seasons(demo_timeline("billed"), rivals = c(6, 12, 18)))
#' @export
find_seasons <- function(x, measures = NULL, between = NULL, rivals = NULL, level = 0.002, ...) {
  refuse_more("find_seasons", ...)
  check_timeline(x)
  check_regular(x, "The search for seasons")
  measures <- pick_measures(x, rlang::enquo(measures))
  if (!is_number(level) || level <= 0 || level > 0.2) {
    abort_input("{.arg level} must be a number above 0 and up to 0.2, such as 0.002.")
  }
  x <- complete_grid(x)
  rows <- rows_of(x)
  cadence <- timeline_meta(x)$cadence
  range <- between_steps(between, cadence)
  for (m in measures) check_finite(x, m, rows)
  longest <- max(diff(rows$breaks))
  if (longest < 8) {
    abort_input(c(
      "A season needs at least two cycles to be seen.",
      x = "The longest series has {longest} value{?s}; 8 are the least to search in."
    ))
  }
  tables <- lapply(measures, function(m) {
    found <- search_cycles(x[[m]], rows$breaks, cadence, range, level)
    season_table(found, m, rows, cadence)
  })
  structure(
    list(
      table = do.call(rbind, tables),
      rivals = if (!is.null(rivals)) rival_steps(rivals, cadence, longest),
      data = x, measures = measures, cadence = cadence, meta = timeline_meta(x),
      line = timeline_line(x),
        between = range,
      none = lapply(rlang::set_names(tables, measures),
                    function(t) setdiff(seq_len(length(rows$breaks) - 1), t$.series))
    ),
    class = "kairon_seasons"
  ) |> without_index()
}

without_index <- function(s) {
  s$table$.series <- NULL
  rownames(s$table) <- NULL
  s
}

season_table <- function(found, m, rows, cadence) {
  n <- nrow(found)
  size <- diff(rows$breaks)[found$series]
  table <- data.frame(
    measure = rep(m, n), season = found$season, steps = found$steps,
    length = vapply(found$steps, steps_in_words, "", cadence = cadence),
      cycles = round(size / found$steps, 1),
    share = found$share, p_value = found$p_value, correlation = found$correlation,
      harmonics = found$harmonics,
    .series = found$series
  )
  if (ncol(rows$keys)) beside_keys(rows$keys[found$series, , drop = FALSE], table) else table
}

between_steps <- function(between, cadence) {
  if (is.null(between)) {
    return(NULL)
  }
  steps <- in_steps(between, cadence, "between")
  if (length(steps) != 2 || anyNA(steps) || steps[1] < 2 || steps[2] < steps[1]) {
    abort_input(c(
      "{.arg between} must be the shortest and the longest season, of at least 2 steps.",
      x = "It is {.val {between}}."
    ))
  }
  steps
}

rival_steps <- function(rivals, cadence, longest) {
  steps <- resolve_seasons(rivals, cadence, arg = "rivals")
  if (any(2 * steps > longest)) {
    bad <- steps[2 * steps > longest][1]
    abort_input("A season of {bad} steps does not fit twice into {longest} values.")
  }
  steps
}

#' @export
as.data.frame.kairon_seasons <- function(x, row.names = NULL, optional = FALSE, ...) x$table

sure_words <- function(p) {
  c("almost certain", "very likely", "likely")[findInterval(p, c(-Inf, 1e-6, 1e-3))]
}

season_sentence <- function(t) {
  name <- ifelse(grepl(" steps$", t$season), t$length, t$season)
  steps <- paste0(" (", show_number(t$steps, 4), " steps)")
  paste0(name, ifelse(grepl("steps?$", name), "", steps), ", ", vapply(t$share, show_percent, ""),
         " of the variance")
}

#' @export
format.kairon_seasons <- function(x, ...) {
  head <- paste0("Seasons of ", word_list(x$measures, 4), ", ", x$line, ":")
  lines <- unlist(lapply(x$measures, function(m) measure_seasons(x, m)))
  invented <- vapply(x$measures, function(m) mean(!is_measured(x$data, m)[!is.na(x$data[[m]])]), 1)
  c(
    head, lines,
    if (any(invented > 0, na.rm = TRUE)) {
      paste0("  ", show_percent(max(invented, na.rm = TRUE)), " of the values were not measured.")
    }
  )
}

measure_seasons <- function(x, m) {
  rows <- rows_of(x$data)
  labels <- series_labels(rows$keys)
  t <- x$table[x$table$measure == m, , drop = FALSE]
  own <- if (length(x$meta$series)) series_labels(keys_in(t, x$meta$series)) else rep("", nrow(t))
  shown <- utils::head(labels, 12)
  lines <- vapply(shown, function(label) {
    mine <- t[own == label, , drop = FALSE]
    says <- if (nrow(mine)) paste0(season_sentence(mine), " (", sure_words(mine$p_value),
                                   ")") else "none stands out"
    paste0("  ", trimws(paste(m, label)), ": ", paste(says, collapse = "; "), ".")
  }, "")
  more <- length(labels) - length(shown)
  c(unname(lines), if (more > 0) paste0("  ... and ", plural(more, "more series", "more series")))
}

#' @export
print.kairon_seasons <- function(x, ...) {
  show_lines(wrap_lines(format(x)))
  if (!is.null(x$rivals)) {
    shown <- rival_table(x)
    shown[c("share", "by_chance")] <- lapply(shown[c("share", "by_chance")],
                                             function(v) vapply(v, show_percent, ""))
    show_lines("Rivals side by side (share of the variance):",
      text_table(shown, right = c("share", "by_chance")))
  }
  invisible(x)
}

# Folding ----

# Values of one series less a straight line, with their place in the cycle and its number.
folded <- function(v, steps) {
  t <- seq_along(v) - 1
  ok <- is.finite(v)
  fit <- stats::.lm.fit(cbind(1, t[ok]), v[ok])
  data.frame(place = t %% steps, cycle = t %/% steps,
             value = v - fit$coefficients[1] - fit$coefficients[2] * t)
}

# How much the means of each place in the cycle explain.
fold_share <- function(f, steps) {
  bins <- floor(f$place / max(1, steps / 200))
  ok <- is.finite(f$value)
  means <- stats::ave(f$value[ok], bins[ok])
  1 - sum((f$value[ok] - means)^2) / sum((f$value[ok] - mean(f$value[ok]))^2)
}

rival_table <- function(x, measure = x$measures[1], series = 1) {
  v <- series_values(x$data, measure, series)
  out <- lapply(x$rivals, function(steps) {
    f <- folded(v, steps)
    data.frame(
      season = steps_in_words(steps, x$cadence), steps = steps, share = fold_share(f, steps),
      by_chance = min(1, (steps - 1) / max(1, sum(is.finite(v)) - 1)), cycles = length(v) / steps
    )
  })
  do.call(rbind, unname(out))
}

series_values <- function(x, measure, series) {
  rows <- rows_of(x)
  x[[measure]][seq_len(diff(rows$breaks)[series]) + rows$breaks[series]]
}

#' The typical pattern of a season
#'
#' What a Monday, a March or six in the morning usually looks like: mean, median, spread and
#' count of the values in each part of the calendar, or in two parts crossed.
#'
#' @param x A timeline.
#' @param each A part of the calendar, or two of them: `"hour of day"`, `"day of week"`, `"day of
#' month"`, `"month of year"`,
#'   `"quarter of year"`, `"season of year"` (December to February and so on, December counting to
#'   the year
#' that follows),
#'   `"week of year"`, `"day of year"`. By default the one that suits the cadence.
#' @param split Whether to keep each cycle's own value too (each year's March), to see a season that
#'   changes.
#' @param measures Measures; all by default.
#' @param as `"difference"`: effects are departures from the mean of the parts; `"index"`: they are
#'   around 100.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_season_profile`. [as.data.frame()] gives one row for each series (with its
#'   attributes), measure and part: `part` (and `part_2`), `mean`, `median`, `sd`, `q25`, `q75`,
#'   `count`, `effect`; with `split` one for each cycle, with `cycle` (its first day) and `mean`,
#'   `count`. `autoplot()` draws the profile with the band of the middle half; two parts as a heat
#'   map; with `split` each part's own history.
#' @seealso [change()], [rebase()], [stabilise()], [remove_seasons()], [standing()]
#' @examples
#' season_profile(demo_timeline("energy"), "hour of day")
#' season_profile(demo_timeline("energy"), c("hour of day", "day of week"))
#' season_profile(demo_timeline("billed"), "month of year", split = TRUE, as = "index")
#' @export
season_profile <- function(x, each = NULL, split = FALSE, measures = NULL, as = "difference", ...) {
  refuse_more("season_profile", ...)
  check_flag(split)
  if (inherits(x, "kairon_distant")) {
    return(distant_profile(x, each, split = split, measures = {{ measures }}, as = as))
  }
  check_rows(x)
  as <- check_choice(as, c("difference", "index"))
  meta <- timeline_meta(x)
  if (meta$type == "step") {
    abort_input("Plain steps have no calendar, and so no season by its parts.")
  }
  measures <- pick_measures(x, rlang::enquo(measures))
  each <- each %||% usual_part(x)
  if (!is.character(each) || length(each) == 0) {
    abort_input("{.arg each} must be a part of the calendar, such as {.val month of year}.")
  }
  parts <- vapply(each, check_part, "")
  if (length(parts) > 2) {
    abort_input("One part of the calendar can be crossed with one other, not with more.")
  }
  if (length(parts) == 2 && split) {
    abort_input("{.arg split} goes with one part of the calendar.")
  }
  rows <- rows_of(x)
  local <- if (meta$type == "instant") cpp_local_of(rows$seconds, rows$zone) else rows$seconds
  tables <- lapply(measures, profile_table, x = x, rows = rows, parts = parts, local = local,
                   as = as)
  history <- if (split) {
    do.call(rbind,
            lapply(measures, profile_history, x = x, rows = rows, part = parts, local = local))
  }
  structure(
    list(
      table = do.call(rbind, tables), history = history, parts = parts, measures = measures,
      as = as, meta = meta, line = timeline_line(x)
    ),
    class = "kairon_season_profile"
  )
}

# Of rows that lie elsewhere: a few series at a time.
distant_profile <- function(x, each, ...) {
  each <- each %||% usual_part(distant_ends(x))
  made <- lapply(series_bundles(x), function(keys) {
    x$keys <- keys
    season_profile(rows_here(x), each, ...)
  })
  out <- made[[1]]
  # By measure first, as of rows in memory.
  join <- function(name) {
    all <- do.call(rbind, lapply(made, `[[`, name))
    if (is.null(all)) {
      return(NULL)
    }
    all <- all[order(match(all$measure, out$measures)), , drop = FALSE]
    rownames(all) <- NULL
    all
  }
  out[c("table", "history")] <- list(join("table"), join("history"))
  out$line <- timeline_line(distant_ends(x))
  out
}

# The part that divides the cycle a cadence usually has.
usual_part <- function(x) {
  cadence <- timeline_meta(x)$cadence
  step <- if (is_regular_cadence(cadence)) {
    step_seconds(cadence)
  } else {
    stats::median(typical_steps(rows_of(x)))
  }
  if (step <= 6 * 3600) "hour of day" else if (step <= 2 * 86400) "day of week" else "month of year"
}

# Cells: series by part (by second part).
profile_cells <- function(rows, parts, local) {
  owner <- series_index(rows$breaks)
  code <- part_codes(parts[1], local)
  second <- if (length(parts) > 1) part_codes(parts[2], local) else 1
  key <- (owner * 1000 + second) * 1000 + code
  keys <- sort(unique(key))
  order <- cpp_cell_order(match(key, keys), length(keys))
  list(
    order = order, owner = keys %/% 1e6, second = keys %/% 1000 %% 1000, code = keys %% 1000
  )
}

profile_table <- function(m, x, rows, parts, local, as) {
  cells <- profile_cells(rows, parts, local)
  v <- x[[m]][cells$order$order]
  found <- range_statistics(
    v, v, cells$order$from, cells$order$to, list("mean", "median", "sd", "q25", "q75", "count")
  )
  names(found) <- c("mean", "median", "sd", "q25", "q75", "count")
  centre <- stats::ave(found$mean, cells$owner, FUN = function(v) mean(v, na.rm = TRUE))
  out <- data.frame(measure = rep(m, length(centre)), part = part_labels(parts[1], cells$code))
  if (length(parts) > 1) out$part_2 <- part_labels(parts[2], cells$second)
  out <- cbind(out, as.data.frame(found))
  out$effect <- if (as == "index") 100 * out$mean / centre else out$mean - centre
  first <- rows$breaks[-length(rows$breaks)] + 1L
  keys <- as_plain(x)[first, c(names(rows$keys), timeline_meta(x)$attributes), drop = FALSE]
  if (ncol(keys)) out <- beside_keys(keys[cells$owner, , drop = FALSE], out)
  rownames(out) <- NULL
  out
}

# Each cycle's own mean of each part.
profile_history <- function(m, x, rows, part, local) {
  owner <- series_index(rows$breaks)
  code <- part_codes(part, local)
  cycle <- part_cycle(part, local)
  key <- paste(owner, code, cycle)
  first <- !duplicated(key)
  at <- match(key, key[first])
  order <- cpp_cell_order(at, sum(first))
  v <- x[[m]][order$order]
  out <- data.frame(
    measure = rep(m, sum(first)), part = part_labels(part, code[first]),
    cycle = .Date(cycle[first]), mean = range_statistic(v, v, order$from, order$to, "mean"),
    count = range_statistic(v, v, order$from, order$to, "count")
  )
  keys <- rows$keys[owner[first], , drop = FALSE]
  if (ncol(keys)) out <- beside_keys(keys, out)
  out <- out[order(owner[first], code[first], cycle[first]), ]
  rownames(out) <- NULL
  out
}

#' @export
as.data.frame.kairon_season_profile <- function(x, row.names = NULL, optional = FALSE, ...) {
  x$history %||% x$table
}

#' @export
format.kairon_season_profile <- function(x, ...) {
  n <- nrow(unique(keys_in(x$table, x$meta$series)))
  lines <- vapply(x$measures, function(m) {
    t <- x$table[x$table$measure == m, ]
    parts <- grep("^part(_[0-9]+|[0-9]+)?$", names(t))
    t <- stats::aggregate(t["effect"], unname(t[parts]), mean, na.rm = TRUE)
    label <- function(i) {
      paste(vapply(t[-ncol(t)], function(v) as.character(v[i]), ""), collapse = ", ")
    }
    unit <- if (x$as == "index") "" else x$meta$units[[m]]
    sign <- function(v) {
      paste0(if (x$as != "index" && v > 0) "+", trimws(paste(show_number(v), unit)))
    }
    high <- which.max(t$effect)
    low <- which.min(t$effect)
    if (length(high) == 0) {
      return(paste0("  ", m, ": no values to compare."))
    }
    paste0("  ", m, ": highest ", label(high), " (", sign(t$effect[high]), "), lowest ", label(low),
           " (", sign(t$effect[low]), ")",
           if (n > 1) paste0(", on average over ", n, " series"), ".")
  }, "")
  c(paste0("Profile by ", word_list(x$parts, last = " and "), " of ", x$line, "."), lines)
}

#' @export
print.kairon_season_profile <- function(x, rows = 12, ...) {
  show_lines(fold_words(format(x), exdent = 4), "")
  shown <- utils::head(x$table, rows)
  shown <- shown[setdiff(names(shown), c("q25", "q75"))]
  show_lines(text_table(lapply(shown, function(v) if (is.numeric(v)) v else as.character(v))))
  more <- nrow(x$table) - nrow(shown)
  if (more > 0) show_lines(paste0("  ... and ", plural(more, "more row"), ": as.data.frame()"))
  invisible(x)
}
