# What a decomposition tells: tables, words, comparisons.

effect_columns <- function(d) paste0(names(d$season), "_effect")

#' @export
as.data.frame.kairon_decomposition <- function(x, row.names = NULL, optional = FALSE, ...) {
  x$table
}

#' How much of a series each component explains
#'
#' The strength of a component is 1 less the variance of the remainder over that of
#' component and remainder together (logs, when components multiply): 0 is
#' nothing, 1 is everything.
#'
#' @param d A [decomposition()].
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A data frame: the series columns, `measure`, `component` (`trend`
#'   or the season's name) and `strength` (0 to 1).
#' @references Wang, X., Smith, K. and Hyndman, R. (2006). Characteristic-based
#' clustering for time series data. Data Mining and Knowledge Discovery 13, 335-364.
#' @seealso [decomposition()], [adjusted()]
#' @examples
#' strength(decomposition(demo_timeline("billed"), "year"))
#' @export
strength <- function(d, ...) {
  refuse_more("strength", ...)
  check_decomposition(d)
  pieces <- split_decomposition(d)
  log_if <- if (d$combine == "multiply") log else identity
  out <- lapply(pieces, function(p) {
    remainder <- log_if(p$remainder)
    one <- function(component) {
      both <- log_if(component) + remainder
      max(0, 1 - stats::var(remainder, na.rm = TRUE) / stats::var(both, na.rm = TRUE))
    }
    columns <- c("trend", effect_columns(d))
    data.frame(
      p[rep(1, length(columns)), c(d$meta$series, "measure"), drop = FALSE],
      component = sub("_effect$", "", columns),
      strength = vapply(columns, function(c) one(p[[c]]), 1),
      row.names = NULL, check.names = FALSE
    )
  })
  out <- do.call(rbind, out)
  rownames(out) <- NULL
  out
}

#' The series without its seasons, or without an event
#'
#' @param d A [decomposition()], or an [effect_of()].
#' @param without What to take off: any of `"season"`, `"events"` (shifts and the calendar among them) and
#' `"remainder"`.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A data frame: the series columns, the time column, `measure`,
#'   `value` and `adjusted`, both in the measure's unit. Of an effect: the timeline with what was to be
#'   expected in place of what was measured during the event and after it, its origin *repaired*, so that the
#'   next forecast does not repeat what will not be repeated.
#' @seealso [decomposition()], [strength()]
#' @examples
#' head(adjusted(decomposition(demo_timeline("billed"), "year")))
#' @export
adjusted <- function(d, ...) UseMethod("adjusted")

#' @export
adjusted.default <- function(d, ...) check_decomposition(d)

#' @rdname adjusted
#' @export
adjusted.kairon_decomposition <- function(d, without = "season", ...) {
  refuse_more("adjusted", ...)
  for (w in without) check_choice(w, c("season", "events", "remainder"), arg = "without")
  off <- if (d$combine == "multiply") `/` else `-`
  columns <- c(
    if ("season" %in% without) effect_columns(d),
      if ("events" %in% without) intersect("event_effect", names(d$table)),
    if ("remainder" %in% without) "remainder"
  )
  out <- d$table[c(d$meta$series, d$meta$time, "measure", "value")]
  out$adjusted <- Reduce(off, d$table[columns], d$table$value)
  out
}

check_decomposition <- function(d, call = rlang::caller_env()) {
  if (!inherits(d, "kairon_decomposition")) {
    abort_input("{.arg d} must be a decomposition, not {.obj_type_friendly {d}}.", call = call)
  }
}

split_decomposition <- function(d) {
  key <- key_text(d$table[c(d$meta$series, "measure")])
  split(d$table, factor(key, levels = unique(key)))
}

method_words <- c(
  loess = "local regression", averages = "moving averages", henderson = "Henderson's filters",
    regression = "regression",
  state = "a structural model"
)

#' @export
format.kairon_decomposition <- function(x, ...) {
  sign <- if (x$combine == "multiply") " x " else " + "
  season <- season_title(names(x$season))
  parts <- paste(c("trend", season, if ("event_effect" %in% names(x$table)) "events", "remainder"),
                 collapse = sign)
  strong <- strength(x)
  labels <- unique(strong[c(x$meta$series, "measure")])
  shown <- utils::head(seq_len(nrow(labels)), 10)
  lines <- vapply(shown, function(i) decomposition_line(x, strong, labels, i), "")
  more <- nrow(labels) - length(shown)
  seasons <- season_length(x$season)
  if (all(endsWith(seasons, " steps"))) {
    seasons <- paste("of", word_list(sub(" steps$", "", seasons)), "steps")
  }
  c(
    paste0(
      "Decomposition by ", method_words[[x$method]], ", ", x$span, ": ", parts,
      ", season", if (length(x$season) > 1) "s", " ", word_list(seasons), "."
    ),
    lines,
    if (more > 0) paste("... and", plural(more, "more series", "more series")),
    x$notes, effect_lines(x)
  )
}

effect_lines <- function(x) {
  e <- x$effects
  if (is.null(e) || nrow(e) == 0) {
    return(NULL)
  }
  shown <- utils::head(e[order(-abs(e$t)), ], 6)
  unit <- if (x$combine == "multiply") "%" else x$meta$units[[shown$measure[1]]]
  label <- if (length(x$meta$series)) paste0(series_labels(shown[x$meta$series]), ", ") else ""
  words <- paste0(label, shown$effect, " ", ifelse(shown$size > 0, "+", ""),
                  trimws(paste(show_number(shown$size), unit)),
                  " (standard error ", show_number(shown$error, 2), ")")
  paste0("Effects: ", paste(words, collapse = "; "),
         if (nrow(e) > 6) paste0("; and ", nrow(e) - 6, " more in $effects"), ".")
}

# What is left, in words: waves, runs, a season.
remainder_words <- function(x, p, season) {
  rest <- p$remainder
  if (sum(is.finite(rest)) < 20) {
    return(NULL)
  }
  check <- tryCatch(check_noise(rest, usual_lags(sum(is.finite(rest)), max(season, 1))),
                    kairon_error = function(e) NULL)
  left <- search_cycles(rest, c(0L, length(rest)), x$meta$cadence)
  left <- left[!round(left$steps) %in% season, , drop = FALSE]
  parts <- c(
    if (!is.null(check) && check$p_value[2] < 0.01 &&
        grepl("few", check$says[2])) "slow waves are left in the remainder",
    if (!is.null(check) && check$p_value[1] < 0.01) "neighbours in the remainder are related",
    if (nrow(left)) paste0("a cycle of ", steps_in_words(left$steps[1], x$meta$cadence), " is left")
  )
  if (length(parts)) paste0("; ", parts[1],
                            if (length(parts) > 1 && nrow(left)) paste0(", and ", parts[length(parts)]))
}

# Seasons place by place, where there is one series to show.
profile_lines <- function(x) {
  p <- x$profiles
  if (length(x$season) != 1 || nrow(p) != x$season || nrow(p) > 31) {
    return(NULL)
  }
  words <- function(v) {
    if (x$combine == "multiply") {
      return(sprintf("%+.1f %%", 100 * (v - 1)))
    }
    paste0(ifelse(v >= 0, "+", ""), show_column(v))
  }
  columns <- list(place = p$label, effect = words(p$effect))
  moves <- max(abs(p$first - p$last), na.rm = TRUE) > 0.02 * diff(range(p$effect))
  if (isTRUE(moves)) columns <- c(columns, list(first = words(p$first), last = words(p$last)))
  c("", text_table(columns, right = c("effect", "first", "last")))
}

decomposition_line <- function(x, strong, labels, i) {
  is_this <- function(t) {
    series_labels(t[c(x$meta$series, "measure")]) ==
      series_labels(labels[i, , drop = FALSE])
  }
  s <- strong[is_this(strong), ]
  unit <- x$meta$units[[labels$measure[i]]]
  show <- function(e) {
    if (x$combine == "multiply") {
      paste0(if (isTRUE(e >= 1)) "+", show_number(100 * (e - 1), 2), " %")
    } else {
      trimws(paste0(if (isTRUE(e >= 0)) "+", show_number(e, 3), " ", unit))
    }
  }
  profiles <- x$profiles[is_this(x$profiles), ]
  words <- vapply(names(x$season), function(name) {
    p <- profiles[profiles$season == name, ]
    # A season that a short series lacks has no highest place.
    if (nrow(p) == 0 || isTRUE(all(p$effect == p$effect[1]))) {
      return("")
    }
    at <- switch(name, week = "on ", year = if (x$season[[name]] %in% c(4, 12)) "in " else "on ", "at ")
    paste0(
      if (length(x$season) > 1) paste0(season_title(name), " highest ") else "highest ", at,
        p$label[which.max(p$effect)],
      " (", show(max(p$effect)), "), lowest ", at, p$label[which.min(p$effect)], " (", show(min(p$effect)),
        ")"
    )
  }, "")
  strengths <- paste0("of the ", season_title(s$component[-1]), " ",
                      show_number(s$strength[-1], 2))
  if (length(x$season) == 1) strengths <- paste0("of the season ", show_number(s$strength[2], 2))
  p <- x$table[is_this(x$table), ]
  paste0(
    series_labels(labels[i, , drop = FALSE]), ": ", paste(words[nzchar(words)], collapse = "; "),
      "; strength of trend ",
    show_number(s$strength[1], 2), ", ", paste(strengths, collapse = ", "), remainder_words(x, p, x$season),
      "."
  )
}

#' @export
print.kairon_decomposition <- function(x, ...) {
  show_lines(strwrap(format(x), exdent = 2, width = 0.95 * getOption("width")))
  show_lines(profile_lines(x))
  if (length(x$rivals)) {
    show_lines("", "Methods compared:", text_table(as.list(summary(x)$comparison)))
  }
  invisible(x)
}

#' @export
coef.kairon_decomposition <- function(object, ...) {
  refuse_more("coef", ...)
  if (is.null(object$coefficients)) {
    abort_state(c(
      "Only a decomposition by regression has coefficients.",
      x = "This one is by {method_words[[object$method]]}."
    ))
  }
  object$coefficients
}

#' @export
summary.kairon_decomposition <- function(object, ...) {
  out <- list(strength = strength(object), effects = object$effects)
  if (length(object$rivals)) {
    own <- comparison_row(object$table, object$table, object, object$method)
    others <- lapply(names(object$rivals),
                     function(m) comparison_row(object$rivals[[m]], object$table, object, m))
    out$comparison <- do.call(rbind, c(list(own), others))
  }
  out
}

# How a rival differs: its remainder, its trend in the middle and over the last season, its turning points.
comparison_row <- function(t, base, d, method) {
  log_if <- if (d$combine == "multiply") log else identity
  key <- key_text(t[c(d$meta$series, "measure")])
  place <- stats::ave(seq_along(key), key, FUN = function(i) rev(seq_along(i)))
  end <- place <= max(d$season)
  apart <- abs(log_if(t$trend) - log_if(base$trend))
  turns <- sum(vapply(split(t$trend, key), function(v) {
    v <- v[is.finite(v)]
    sum(diff(sign(diff(v)[diff(v) != 0])) != 0)
  }, 1))
  scale <- if (d$combine == "multiply") 100 else 1
  out <- data.frame(
    method = method, remainder_sd = scale * stats::sd(log_if(t$remainder), na.rm = TRUE),
    trend_apart = scale * mean(apart[!end], na.rm = TRUE),
      trend_apart_at_end = scale * mean(apart[end], na.rm = TRUE),
    turning_points = turns
  )
  if (d$combine == "multiply") names(out)[2:4] <- paste0(names(out)[2:4], "_percent")
  out
}
