#' Series that are sums of others
#'
#' Adds totals to the series of a timeline: by place, by kind, by both, and of all. The timeline
#' knows from then on which series are sums of which, and [forecast()] and [backtest()] make
#' forecasts of them that add up.
#'
#' @inheritParams resample
#' @param ... What to add up by: series columns or attributes, bare or as text, and crossings of
#'   them (`place:kind`). Each gives a level of totals.
#' @param all Whether to add the sum of all series, too.
#' @param word What stands, in a column that a total sums over, in place of a name. No series may be
#'   called so, but for totals that the data give: they are compared with the sums, and a difference
#'   is an error that shows it.
#' @param weights Weights of the series for measures that are levels, as in [pool_series()]: their
#'   totals are weighted means. Without weights a level is refused, since a sum of levels means
#'   nothing.
#' @param at_least Share (0 to 1) of its series, or number of them (2 and more), that a total needs
#'   at a stamp.
#' @returns A timeline. Attributes that are summed by become series columns; a total has `word` in
#'   the columns that it sums over. Its values are "summarised", and where a part has none their
#'   coverage says so; a part that begins later or has ended is not missed.
#' @section Error types:
#' `kairon_error_input` where a series is called as totals are, a series has no value in a column to
#' sum by, a measure is a level and there are no weights, or nothing is left to add up.
#' @references Wickramasuriya, S. L., Athanasopoulos, G. and Hyndman, R. J. (2019). Optimal forecast
#' reconciliation for hierarchical and grouped time series through trace minimization. Journal of
#' the American Statistical Association 114, 804-819.
#' @seealso [resample()], [align()], [impute()], [pool_series()], [bands()], [as_rate()]
#' @examples
#' demand <- demo_timeline("demand")
#' both <- with_totals(demand)
#' both
#' # Totals of forecasts are the sums of the forecasts.
#' f <- as.data.frame(forecast(both, "7 days", by_smoothing()))
#' f <- f[f$origin == "forecast", ]
#' tapply(f$value, list(f$day, f$district == "all"), sum)
#' @export
with_totals <- function(x, ..., all = TRUE, word = "all", weights = NULL, at_least = 0) {
  UseMethod("with_totals")
}

#' @export
with_totals.default <- function(x, ...) check_timeline(x)

#' @rdname with_totals
#' @export
with_totals.kairon_timeline <- function(x, ..., all = TRUE, word = "all", weights = NULL,
                                        at_least = 0) {
  check_rows(x)
  check_flag(all)
  check_string(word)
  check_least(at_least)
  meta <- timeline_meta(x)
  whole <- x
  if (!is.null(meta$sums)) {
    abort_input(c("The timeline has totals already.",
                  i = "Name all that is to be added up by in one call of {.fn with_totals}."))
  }
  given <- given_totals(x, word)
  if (!is.null(given)) x <- x[!given, ]
  groups <- sum_columns(rlang::enquos(...), x)
  if (all) groups <- c(list(character()), groups)
  # What tells all series apart is no total of several.
  alone <- vapply(groups, function(g) all(c(meta$series, unlist(groups)) %in% g), TRUE)
  if (any(alone) && length(c(meta$series, unlist(groups)))) {
    told <- unique(unlist(groups[alone]))
    groups <- groups[!alone]
    if (length(groups)) {
      tell(c(i = "{.field {told}} tell{?s/} all series apart: there are no totals by {?it/them}."))
    }
  }
  if (length(groups) == 0) {
    abort_input(c("There is nothing to add up by.",
                  i = "Name a series column or an attribute that several series share."))
  }
  weights <- rlang::enquo(weights)
  check_summable(meta, rlang::quo_is_null(weights))
  if (!rlang::quo_is_null(weights)) row_weights(x, weights)
  parts <- with_sum_keys(x, unique(unlist(groups)), word)
  keys <- timeline_meta(parts)$series
  totals <- lapply(groups, totals_by, x = x, parts = parts, word = word, weights = weights,
                   at_least = at_least)
  out <- do.call(rbind, c(list(parts), totals))
  meta <- timeline_meta(out)
  meta$sums <- list(word = word)
  meta$cadence <- timeline_meta(x)$cadence
  attr(out, "timeline") <- meta
  out <- totals_first(out)
  if (!is.null(given)) check_given(whole[given, ], out, word)
  words <- totals_line(out)
  tell(c(i = verbatim(words)))
  say_missed_parts(out)
  add_entry(out, "with_totals", words, sum_account(out, keys))
}

#' @rdname with_totals
#' @export
with_totals.kairon_routine <- function(x, ..., all = TRUE, word = "all", weights = NULL,
                                       at_least = 0) {
  quos <- rlang::enquos(..., weights = weights)
  plain <- Filter(function(a) !identical(a, FALSE),
                  list(all = all, word = word, at_least = at_least))
  record_step(x, "with_totals", c(Filter(function(q) !rlang::quo_is_null(q), as.list(quos)),
                                  if (!isTRUE(all)) list(all = all),
                                  if (word != "all") list(word = word),
                                  if (!identical(at_least, 0)) plain["at_least"]), regrids = TRUE)
}

# Rows of series that are called as totals are: the data may give totals themselves. NULL without
# any.
given_totals <- function(x, word) {
  keys <- as_plain(x)[timeline_meta(x)$series]
  given <- Reduce(`|`, lapply(keys, function(v) as.character(v) == word), FALSE)
  if (!any(given)) {
    return(NULL)
  }
  if (all(given)) abort_input("Every series is called {.val {word}}, as totals are.")
  given
}

# Totals that the data give are those of their parts, or are told with the ways out.
check_given <- function(given, out, word) {
  meta <- timeline_meta(out)
  data <- as_plain(given)
  # A total's own place among what it sums over may be missing.
  for (name in setdiff(meta$series, timeline_meta(given)$series)) {
    v <- as.character(data[[name]])
    data[[name]] <- ifelse(is.na(v), word, v)
  }
  key <- function(t) paste(key_text(t[meta$series]), to_seconds(t[[meta$time]]))
  at <- match(key(data), key(as_plain(out)))
  lost <- which(is.na(at))
  if (length(lost)) {
    label <- row_labels(given)[lost[1]]
    abort_input(c("A series is called {.val {word}}, as totals are, and is none of those that \\
                   are asked for: \
                   {.val {label}}.",
                  i = "Take it out first, or choose another {.arg word} for totals."))
  }
  for (m in names(meta$kinds)) {
    own <- given[[m]]
    sum <- out[[m]][at]
    off <- which(abs(own - sum) > 1e-6 * pmax(abs(own), abs(sum)))
    if (length(off) == 0) next
    label <- row_labels(given)[off[1]]
    stamp <- show_stamp(to_seconds(given[[meta$time]])[off[1]], meta$type, meta$zone)
    of <- length(own)
    numbers <- vapply(c(own[off[1]], sum[off[1]]), show_number, "")
    abort_input(c(
      "{.val {label}}, which the data give, is not the sum of its parts.",
      x = "{length(off)} of {of} value{?s} of {.field {m}} differ, the first at {stamp}: \\
           {numbers[1]}, and \\
           the parts add up to {numbers[2]}.",
      i = "Take {.val {label}} out first to have the sum in its place, or choose another \\
           {.arg word} for \\
           totals and keep it as a series like others."
    ))
  }
  tell(c(i = "Totals that the data give are the sums of their parts, and give way to them."))
}

# Columns by which to sum: names, text, and crossings of them.
sum_columns <- function(quos, x) {
  meta <- timeline_meta(x)
  known <- c(meta$series, meta$attributes)
  # Text may cross columns, too; c(place, kind) are two levels, as place, kind are.
  levels_of <- function(expr, env) {
    if (rlang::is_call(expr, ":")) {
      return(list(unlist(c(levels_of(expr[[2]], env), levels_of(expr[[3]], env)))))
    }
    if (rlang::is_call(expr, "c")) {
      return(unlist(lapply(as.list(expr)[-1], levels_of, env), recursive = FALSE))
    }
    lapply(names_in(expr, env, known), function(name) {
      if (name %in% known) name else strsplit(name, ":", fixed = TRUE)[[1]]
    })
  }
  out <- lapply(quos, function(q) levels_of(rlang::quo_get_expr(q), rlang::quo_get_env(q)))
  out <- unlist(unname(out), recursive = FALSE)
  for (names in out) {
    for (name in setdiff(names, known)) {
      hint <- nearest_word(name, known)
      abort_input(c("There is no series column or attribute {.field {name}} to add up by.",
                    i = if (!is.null(hint)) "Did you mean {.field {hint}}?",
                    i = "There {?is/are} {.field {known}}."))
    }
  }
  unique(lapply(out, unique))
}

check_summable <- function(meta, unweighted) {
  levels <- names(meta$kinds)[meta$kinds == "level"]
  if (length(levels) && unweighted) {
    abort_input(c(
      "{.field {levels}} {?is a level/are levels}, and a sum of levels means nothing.",
      i = "Declare what adds up with {.arg amounts}, give {.arg weights} for weighted means, or \\
           leave \\
           {.field {levels}} out."
    ))
  }
}

# Attributes that are summed by tell series apart from now on.
with_sum_keys <- function(x, wanted, word) {
  meta <- timeline_meta(x)
  meta$series <- c(setdiff(wanted, meta$series), meta$series)
  meta$attributes <- setdiff(meta$attributes, meta$series)
  if (length(meta$series) == 0) {
    abort_input("There is one series, and nothing to add up.")
  }
  data <- as_plain(x)
  for (name in meta$series) {
    values <- as.character(data[[name]])
    if (anyNA(values)) {
      label <- row_labels(x)[which(is.na(values))[1]]
      abort_input("Series {.val {label}} has no {.field {name}} to be added up by.")
    }
    if (word %in% values) {
      abort_input(c(
        "A series is called {.val {word}} in {.field {name}}, as totals are.",
        i = "If it is a total, take it out first; else choose another {.arg word}."
      ))
    }
    data[[name]] <- values
  }
  order <- row_order(data[meta$series], to_seconds(data[[meta$time]]))
  if (!is.null(order)) data <- data[order, , drop = FALSE]
  rownames(data) <- NULL
  new_timeline(data, meta)
}

totals_by <- function(group, x, parts, word, weights, at_least) {
  meta <- timeline_meta(x)
  amounts <- names(meta$kinds)[meta$kinds == "amount"]
  levels <- setdiff(names(meta$kinds), amounts)
  pool <- function(measures, statistic, weights) {
    if (length(measures) == 0) {
      return(NULL)
    }
    lost <- setdiff(names(meta$kinds), measures)
    own <- x[setdiff(names(x), c(lost, companion_columns(meta, lost)))]
    args <- c(list(own, group), rlang::set_names(rep(list(statistic), length(measures)), measures),
              list(at_least = at_least))
    quietly(if (is.null(weights)) do.call(pool_series, args) else
      rlang::inject(pool_series(!!!args, weights = !!weights)))
  }
  out <- pool(amounts, "sum", NULL)
  means <- pool(levels, "mean", weights)
  if (is.null(out)) out <- means else if (!is.null(means)) {
    extra <- setdiff(names(means), names(out))
    at <- timeline_meta(means)
    meta_out <- timeline_meta(out)
    data <- cbind(as_plain(out), as_plain(means)[extra])
    meta_out$kinds <- c(meta_out$kinds, at$kinds)
    meta_out$units <- c(meta_out$units, at$units)
    meta_out$beside <- c(meta_out$beside, at$beside)
    out <- new_timeline(data, meta_out)
  }
  keys <- timeline_meta(parts)$series
  made <- timeline_meta(out)
  data <- as_plain(out)
  for (name in setdiff(keys, group)) data[[name]] <- rep(word, nrow(data))
  for (name in group) data[[name]] <- as.character(data[[name]])
  for (name in timeline_meta(parts)$attributes) data[[name]] <- as_plain(parts)[[name]][NA_integer_]
  made$series <- keys
  made$attributes <- timeline_meta(parts)$attributes
  # How many series stand behind a value is told by the coverage.
  counts <- unlist(lapply(made$beside, `[`, "series"), use.names = FALSE)
  made$beside <- lapply(made$beside, function(b) b[names(b) != "series"])
  data <- data[setdiff(names(data), counts)]
  new_timeline(data, made)
}

# A part without a value makes a dip in its totals, which nobody measured.
say_missed_parts <- function(x) {
  meta <- timeline_meta(x)
  for (m in names(meta$kinds)) {
    coverage <- companion(x, m, "coverage")
    n <- sum(coverage < 1 & !is.na(x[[m]]), na.rm = TRUE)
    if (n > 0) {
      tell(c(i = "{n} value{?s} of totals of {m} {cli::qty(n)}miss{?es/} a part and {?is/are} \\
                  low by it; \\
                  {.code at_least = 1} makes {?it/them} missing."))
    }
  }
}

sum_account <- function(x, keys) {
  own <- rows_of(x)$keys
  pairs <- sum_pairs(own, timeline_meta(x)$sums)
  labels <- series_labels(own)
  counts <- table(factor(pairs$total, unique(pairs$total)))
  data.frame(total = labels[as.integer(names(counts))], parts = as.integer(counts))
}
