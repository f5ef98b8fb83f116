#' How much of a series swings at which period
#'
#' The variance of a series by period (or frequency), with a band of confidence, the cycles that
#' stand out with their harmonics, and a warning where a peak may come from the grid or from filled
#' values.
#'
#' @param x A timeline. Irregular or gappy series need no resampling: see `method`.
#' @param measures Measures; all by default.
#' @param method `"smoothed"` (means over `smooth` neighbouring ordinates), `"raw"`, `"segments"`
#'   (means over overlapping tapered segments) or `"irregular"` (least squares at the true times).
#'   By default `"smoothed"`, and `"irregular"` for irregular stamps and where values are missing.
#' @param smooth How many ordinates are averaged, an odd number.
#' @param segment Length of a segment: steps or a duration; by default a quarter of the shortest
#'   series.
#' @param overlap Share of a segment that the next one holds too, from 0 to 0.9.
#' @param window Taper of the segments: `"hann"`, `"hamming"`, `"blackman"` or `"none"`.
#' @param detrend What is taken off first (from each segment): a straight `"line"`, the `"mean"` or
#'   `"none"`.
#' @param mark Periods to mark in the figure: names such as `c("day", "year")`, or durations such as
#' `"12 hours"`.
#' @param decibels Whether the density is given as 10 log10 of itself.
#' @param axis Whether the figure's axis reads in `"period"` or `"frequency"`.
#' @param confidence Level of the band in percent.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_spectrum`. [as.data.frame()] gives for each series and measure: `frequency`
#'   (cycles per unit of time, named in `unit`), `period` (in that unit), `density` (the measure's
#'   unit squared times that unit; the sum over frequencies times their distance is the variance),
#'   `lower` and `upper`. `peaks()` of the print are in `x$peaks`: `period`, `words`, `ratio` over
#'   the background, `p_value`, `part_of` (the fundamental that it is a harmonic of) and `artefact`.
#' @section Formulas:
#' With n values dt apart, S(k / (n dt)) = 2 dt / n |sum x_t exp(-2 pi i k t / n)|^2. A band of
#' freedom v is v S / q, with q the quantiles of the chi-squared distribution; v is 2 for each
#' ordinate averaged; for segments see Percival and Walden. Irregular: half the sum of squares that
#' a sine takes off (Lomb; Scargle), on the same scale. Lines stand out where they exceed their
#' background as in [find_seasons()].
#' @section Artefacts:
#' Nothing shorter than two steps can be seen. Where readings came every r and the grid has steps g,
#' interpolation makes
#' false lines at frequencies |j / r - k / g|; such lines are flagged, and so are those at the
#' rhythm of filled values.
#' @references Welch, P. D. (1967). IEEE Transactions on Audio and Electroacoustics 15, 70-73.
#'   Percival, D. B. and Walden, A. T. (1993). Spectral analysis for physical applications.
#'   Cambridge University Press. Scargle, J. D. (1982). Astrophysical Journal 263, 835-853.
#' @seealso [correlogram()], [lag_grid()], [lead_lag()], [effect_of()], [find_seasons()],
#'   [stationarity()]
#' @examples
#' power_spectrum(demo_timeline("energy"))
#' power_spectrum(demo_timeline("river"), flow)
#' plot(power_spectrum(demo_timeline("demand"), mark = c("week", "year")))
#' @export
power_spectrum <- function(x, measures = NULL, method = NULL, smooth = 5, segment = NULL,
                           overlap = 0.5, window = "hann",
                           detrend = "line", mark = NULL, decibels = FALSE, axis = "period",
                             confidence = 95, ...) {
  refuse_more("power_spectrum", ...)
  check_rows(x)
  check_flag(decibels)
  measures <- pick_measures(x, rlang::enquo(measures))
  plan <- spectrum_plan(x, measures, method, smooth, segment, overlap, window, detrend, confidence)
  regular <- is_regular(x)
  if (regular) x <- complete_grid(x)
  rows <- rows_of(x)
  for (m in measures) check_finite(x, m, rows)
  plan$unit <- spectrum_unit(x, rows)
  plan$axis <- check_choice(axis, c("period", "frequency"))
  plan$decibels <- decibels
  plan$mark <- mark_periods(mark, plan$unit)
  plan$segment <- segment_steps(segment, x, rows, plan$method)
  parts <- unlist(lapply(measures, function(m) {
    invented <- !is_measured(x, m) & !is.na(x[[m]])
    lapply(seq_len(length(rows$breaks) - 1),
           function(s) one_spectrum(x, m, s, rows, plan, invented))
  }), recursive = FALSE)
  there <- Filter(Negate(is.null), parts)
  if (length(there) == 0) abort_input("A spectrum needs 8 values or more in a series.")
  left_out <- length(parts) - length(there)
  parts <- there
  bind <- function(name) as.data.frame(data.table::rbindlist(lapply(parts, `[[`, name)))
  structure(
    list(table = bind("table"), peaks = bind("peaks"),
         notes = c(unique(unlist(lapply(parts, `[[`, "notes"))),
                   if (left_out) paste0(left_out, " series left out, of fewer than 8 values.")),
         plan = plan,
         measures = measures, meta = timeline_meta(x), line = timeline_line(x)),
    class = "kairon_spectrum"
  )
}

spectrum_plan <- function(x, measures, method, smooth, segment, overlap, window, detrend,
                          confidence) {
  gaps <- is_regular(x) && any(vapply(measures, function(m) has_holes(x, m), TRUE))
  if (is.null(method)) {
    method <- if (!is_regular(x) || gaps) "irregular" else "smoothed"
    if (gaps) {
      tell(c(i = "Values are missing: the spectrum rests on those that are there, by least \\
                  squares."))
    }
  }
  method <- check_choice(method, c("smoothed", "raw", "segments", "irregular"))
  if (method != "irregular") {
    if (!is_regular(x)) {
      abort_input(c(
        "A {.val {method}} spectrum needs a regular cadence.",
        i = "Take {.code method = \"irregular\"}, which uses the true times, or {.fn resample} \\
             first."
      ))
    }
    if (gaps) {
      abort_input(c(
        "A {.val {method}} spectrum needs every value.",
        i = "Take {.code method = \"irregular\"}, or fill the gaps with {.fn impute}."
      ))
    }
  }
  if (!is_number(smooth) || smooth < 1 || smooth %% 2 != 1) {
    abort_input("{.arg smooth} must be an odd number of ordinates, such as 5.")
  }
  if (!is_number(overlap) || overlap < 0 || overlap > 0.9) {
    abort_input("{.arg overlap} must be a share from 0 to 0.9.")
  }
  window <- check_choice(window, c("hann", "hamming", "blackman", "none"))
  check_heeded(
    c(segment = !is.null(segment), overlap = !identical(overlap, 0.5),
      window = !identical(window, "hann"), smooth = !smooth %in% 5),
    list(segment = "segments", overlap = "segments", window = "segments",
         smooth = c("smoothed", "irregular")), method
  )
  list(
    method = method, smooth = if (method == "raw") 1 else smooth, overlap = overlap,
    window = window,
    detrend = check_choice(detrend, c("line", "mean", "none")),
      confidence = check_levels_one(confidence)
  )
}

check_levels_one <- function(level) {
  if (!is_number(level) || level <= 0 || level >= 100) {
    abort_input("{.arg confidence} must be a percentage, such as 95.")
  }
  level
}

has_holes <- function(x, m) {
  rows <- rows_of(x)
  sum(cadence_periods(x, rows)) > nrow(x) || anyNA(x[[m]])
}

# The unit in which periods are told, and how many seconds (or steps) it has.
spectrum_unit <- function(x, rows) {
  cadence <- timeline_meta(x)$cadence
  if (timeline_meta(x)$type == "step") {
    return(list(name = "step", size = 1, step = 1))
  }
  if (is_regular_cadence(cadence) && cadence$unit == "month") {
    return(list(name = "month", size = 1, step = cadence$n))
  }
  if (is_regular_cadence(cadence) && cadence$unit == "weekday") {
    return(list(name = "business day", size = 1, step = cadence$n))
  }
  step <- if (is_regular_cadence(cadence)) {
    step_seconds(cadence)
  } else {
    stats::median(typical_steps(rows))
  }
  name <- if (step < 86400 - 1) "hour" else if (step < 7 * 86400 - 1) "day" else "week"
  size <- c(hour = 3600, day = 86400, week = 7 * 86400)[[name]]
  list(name = name, size = size, step = step / size)
}

unit_seconds <- function(unit) {
  switch(unit$name, month = 365.2425 / 12 * 86400, `business day` = 86400 * 365.2425 / 261,
         step = NA, unit$size)
}

# A period in words: "24 h" is "1 day", 0.33 hours "20 minutes".
period_words <- function(period, unit) {
  seconds <- unit_seconds(unit)
  if (is.na(seconds)) {
    return(plural(signif(period, 3), "step"))
  }
  if (unit$name %in% c("month", "business day")) {
    if (unit$name == "month" && abs(period %% 12) < 1e-6) return(plural(period / 12, "year"))
    return(plural(signif(period, 3), unit$name))
  }
  s <- period * seconds
  for (name in c("year", "month", "week", "day", "hour")) {
    k <- s / (season_days[[name]] * 86400)
    if (k > 0.99 && k < 12.1 && abs(k - round(k)) < 0.004 * k) return(plural(round(k), name))
  }
  show_duration(signif(s, 6))
}

mark_periods <- function(mark, unit) {
  if (is.null(mark)) {
    return(NULL)
  }
  if (!is.atomic(mark) || anyNA(mark)) {
    abort_input("{.arg mark} must be periods, such as {.val week} or a number of steps.")
  }
  seconds <- unit_seconds(unit)
  out <- vapply(mark, function(m) {
    if (is.numeric(m)) return(as.numeric(m))
    if (is.na(seconds)) {
      abort_input("Plain steps have no {.val {m}}: mark a number of steps.")
    }
    if (m %in% names(season_days)) return(season_days[[m]] * 86400 / seconds)
    duration_seconds(parse_step(m, "mark")) / seconds
  }, 1)
  data.frame(period = unname(out),
             label = if (is.numeric(mark)) vapply(out, period_words, "", unit = unit) else
    as.character(mark))
}

segment_steps <- function(segment, x, rows, method) {
  if (method != "segments") {
    return(NULL)
  }
  shortest <- min(diff(rows$breaks))
  steps <- in_steps(segment %||% max(8, shortest %/% 4), timeline_meta(x)$cadence, "segment")
  if (length(steps) != 1 || is.na(steps) || steps < 8 || steps > shortest) {
    abort_input("A segment must have from 8 to {shortest} steps (the shortest series).")
  }
  round(steps)
}

# `invented`: which values of all rows are there and were not measured.
one_spectrum <- function(x, m, s, rows, plan, invented) {
  at <- (rows$breaks[s] + 1):rows$breaks[s + 1]
  v <- as.double(x[[m]][at])
  size <- span_of_values(v)
  if (sum(is.finite(v)) < 8) {
    return(NULL)
  }
  if (size > 0 && (!is.finite(1e6 * size^2) || size^2 < 1e-290)) {
    abort_input(c(
      "The values of {.field {m}} are too {if (size > 1) 'large' else 'small'} to be squared.",
      i = "Divide them by a power of ten first."
    ))
  }
  step <- plan$unit$step
  keys <- rows$keys[s, , drop = FALSE]
  found <- switch(plan$method,
    segments = segment_spectrum(v, plan$detrend, plan$segment, plan$overlap, plan$window),
    irregular = irregular_part(v, rows$seconds[at], x, plan),
    smoothed_spectrum(v, plan$detrend, plan$smooth)
  )
  # From cycles a step to cycles a unit.
  f <- if (plan$method == "irregular") found$frequency else found$frequency / step
  density <- if (plan$method == "irregular") found$density else found$density * step
  tail <- (1 - plan$confidence / 100) / 2
  band <- function(p) found$freedom / stats::qchisq(p, found$freedom)
  show <- if (plan$decibels) function(d) 10 * log10(pmax(d, 1e-300)) else identity
  table <- data.frame(
    measure = m, frequency = f, period = 1 / f, density = show(density),
      lower = show(density * band(1 - tail)),
    upper = show(density * band(tail)), unit = plan$unit$name
  )
  lines <- found$lines
  if (is.null(lines)) {
    lines <- even_lines(v, 0.01)
    lines$frequency <- lines$frequency / step
  }
  peaks <- name_peaks(lines, m, x, invented[at], v, plan)
  notes <- spectrum_notes(m, mean(invented[at][!is.na(v)]), peaks)
  if (ncol(keys)) {
    table <- beside_keys(keys[rep(1, nrow(table)), , drop = FALSE], table)
    peaks <- beside_keys(keys[rep(1, nrow(peaks)), , drop = FALSE], peaks)
    if (length(notes)) notes <- paste0(series_labels(keys), ": ", notes)
  }
  list(table = table, peaks = peaks, notes = notes)
}

# Times in units, from stamps or, where steps are the unit, from their numbers.
irregular_part <- function(v, seconds, x, plan) {
  t <- if (plan$unit$name %in% c("month", "business day")) {
    seq_along(v) * plan$unit$step
  } else {
    seconds / plan$unit$size
  }
  found <- irregular_spectrum(t, v, plan$detrend, plan$smooth)
  fine <- irregular_spectrum(t, v, "line", 1, oversample = 2)
  found$lines <- spectral_lines(fine$power, 2, fine$frequency, 0.01)
  ok <- is.finite(v)
  found$lines <- found$lines[found$lines$frequency > 2 / diff(range(t[ok])), ]
  found
}

# Peaks with their words, harmonics and suspicions, the strongest first.
name_peaks <- function(lines, m, x, invented, v, plan) {
  lines <- utils::head(lines, 40)
  n <- nrow(lines)
  width <- 1 / (length(v) * plan$unit$step)
  period <- 1 / lines$frequency
  seconds <- unit_seconds(plan$unit)
  known <- if (!is.na(seconds)) season_days * 86400 / seconds else numeric()
  for (name in names(known)) {
    near <- abs(lines$frequency - 1 / known[[name]]) < 0.6 * width
    period[near] <- known[[name]]
  }
  calendar <- period %in% known[c("year", "week", "day")]
  exact <- lines
  exact$frequency[calendar] <- 1 / period[calendar]
  group <- join_lines(exact, width, calendar, unname(1 / known["year"]))
  own <- group$base == seq_len(n)
  fake <- artefact_of(lines$frequency, x, invented, plan, width)
  own <- own | !is.na(fake)
  period[!own] <- (period[group$base] / group$times)[!own]
  data.frame(
    measure = rep(m, n), period = period,
    words = vapply(period, period_words, "", unit = plan$unit),
    frequency = lines$frequency, ratio = lines$ratio, p_value = lines$p_value,
    part_of = ifelse(own, NA_real_, period[group$base]), artefact = fake
  )
}

# Why a line may not be the series' own; NA where nothing speaks against it.
artefact_of <- function(frequency, x, origin, plan, width) {
  out <- rep(NA_character_, length(frequency))
  # Lines of the calendar are not blamed on the grid.
  seconds <- unit_seconds(plan$unit)
  reading <- timeline_meta(x)$read_every
  if (!is.na(seconds) && !is.null(reading) && is_regular(x) && any(origin)) {
    grid <- plan$unit$step
    beats <- beat_frequencies(reading / seconds, grid)
    for (f in beats) {
      # Slow swings are copied to both sides of the beat.
      hit <- abs(frequency - f) < max(2 * width, 0.1 * f) &
        !near_calendar(frequency, seconds, width)
      out[hit] <- paste0("readings every ", show_duration(reading), " on a grid of ",
                         show_duration(grid * seconds), " beat there")
    }
  }
  if (any(origin) && !all(origin)) {
    rhythm <- even_lines(as.numeric(origin), 1e-4)
    rhythm <- rhythm$frequency / plan$unit$step
    for (f in utils::head(rhythm, 6)) {
      hit <- is.na(out) & abs(frequency - f) < max(2 * width, 0.1 * f) &
        !near_calendar(frequency, seconds,
          width)
      out[hit] <- "values that were filled come in that rhythm"
    }
  }
  out
}

near_calendar <- function(frequency, seconds, width) {
  if (is.na(seconds)) {
    return(rep(FALSE, length(frequency)))
  }
  known <- 1 / (c(day = 1, half = 0.5, week = 7, year = 365.25) * 86400 / seconds)
  vapply(frequency, function(f) any(abs(f - known) < 2 * width), TRUE)
}

spectrum_notes <- function(m, invented, peaks) {
  false <- peaks[!is.na(peaks$artefact), ]
  beats <- NULL
  if (nrow(false)) {
    beats <- paste0("the peak", if (nrow(false) > 1) "s", " at ", word_list(false$words, 4),
                    if (nrow(false) > 1) " are" else " is",
                    " likely made by the preparation: ", false$artefact[1], ".")
  }
  c(
    if (invented > 0) paste0(show_percent(invented), " of the values of ", m,
                             " were not measured."),
    beats
  )
}

# Results ----

#' @export
as.data.frame.kairon_spectrum <- function(x, row.names = NULL, optional = FALSE, ...) x$table

peak_sentence <- function(p) {
  own <- p[is.na(p$artefact) & p$p_value < 0.002, ]
  main <- own[is.na(own$part_of), ]
  main <- utils::head(main, 5)
  if (nrow(main) == 0) {
    return("no cycle stands out from the background")
  }
  words <- vapply(seq_len(nrow(main)), function(i) {
    parts <- unique(own$words[!is.na(own$part_of) & own$part_of == main$period[i]])
    paste0(main$words[i],
           if (length(parts)) paste0(" (with its harmonic", if (length(parts) > 1) "s", " ",
        word_list(parts, 4), ")"))
  }, "")
  paste0("cycle", if (length(words) > 1) "s", " of ", word_list(words))
}

#' @export
format.kairon_spectrum <- function(x, ...) {
  groups <- unique(measured_keys(x$table, x$meta$series))
  label <- function(t) key_text(measured_keys(t, x$meta$series))
  own <- label(x$peaks)
  shown <- seq_len(min(nrow(groups), 12))
  lines <- vapply(shown, function(i) {
    g <- groups[i, , drop = FALSE]
    head <- trimws(paste(g$measure, series_labels(keys_in(g, x$meta$series))))
    paste0("  ", head, ": ", peak_sentence(x$peaks[own == label(g), ]), ".")
  }, "")
  more <- nrow(groups) - length(shown)
  how <- switch(x$plan$method,
    smoothed = paste("smoothed over", x$plan$smooth, "ordinates"), raw = "raw periodogram",
    segments = paste("means over segments of", x$plan$segment, "steps"),
      irregular = "least squares at the true times"
  )
  limit <- max(x$table$frequency)
  c(
    paste0("Spectrum of ", x$line, "; ", how, "."), lines,
    if (more > 0) paste0("  ... and ", plural(more, "more series", "more series")),
    if (length(x$notes)) paste0("  ! ", capitalise(utils::head(x$notes, 4))),
    paste0("  Nothing shorter than ", period_words(1 / limit, x$plan$unit),
           " can be seen, and what is longer than ",
           period_words(spectrum_span(x) / 2, x$plan$unit),
           " is seen less than twice and cannot be told from a trend.")
  )
}

# The length of the longest series, in the spectrum's unit.
spectrum_span <- function(s) 1 / min(s$table$frequency)

#' @export
print.kairon_spectrum <- function(x, ...) {
  show_lines(wrap_lines(format(x)))
  invisible(x)
}
