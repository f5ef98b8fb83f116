#' A health card of a timeline
#'
#' Says in plain words what to look at before any analysis, then gives a table with one row for each
#' series and measure.
#'
#' @param x A timeline, also one whose rows stay elsewhere: see [remote-timelines].
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_inspection`. It prints the findings and the table; [as.data.frame()] gives the
#'   table: the series columns, `measure`, `kind`, `unit`, `cadence` (of the series, in words),
#'   `on_grid` (share of its stamps that lie on it), `rows`, `first`, `last` (stamps of the first
#'   and last value), `last_age` (seconds from `last` to the last stamp of any series), `missing`
#'   (missing or absent readings; for irregular stamps, missing values), `missing_share`, `gaps`,
#'   `longest_gap` (missing readings in the longest gap), `missing_steps` (missing readings in all
#'   gaps), `repeats` (repeated stamps that were settled when the timeline was made), `zeros`,
#'   `negatives`, `infinite`, `min`, `q25`, `median`, `mean`, `q75`, `max`, `sd`, `last_value`, and
#'   `unchanged` (the longest run of equal values other than zero).
#' @seealso [gaps()], [origins()], [during()], [ledger()]
#' @examples
#' inspect(demo_timeline("demand"))
#' @export
inspect <- function(x, ...) UseMethod("inspect")

#' @export
inspect.default <- function(x, ...) check_timeline(x)

#' @export
inspect.kairon_timeline <- function(x, ...) {
  refuse_more("inspect", ...)
  check_rows(x)
  if (length(timeline_meta(x)$kinds) == 0) {
    abort_state("This timeline has no measures (numeric columns) to inspect.")
  }
  table <- inspection_table(x)
  structure(
    list(
      line = timeline_line(x),
      findings = inspection_findings(
        timeline_meta(x), table, c(invented_findings(x), marker_findings(x)),
        unfinished_findings(x), function(lines) ended_lines(lines, x)
      ),
      table = table, series = timeline_meta(x)$series, meta = timeline_meta(x),
      coverage = coverage_map(x)
    ),
    class = "kairon_inspection"
  )
}

inspection_table <- function(x) {
  meta <- timeline_meta(x)
  regular <- is_regular(x)
  pauses <- gaps(x)
  full <- if (regular) complete_grid(x) else x
  rows <- rows_of(full)
  own <- series_cadences(x)
  out <- lapply(names(meta$kinds), function(measure) {
    card <- values_card(full[[measure]], rows, meta)
    found <- pauses[pauses$measure == measure, , drop = FALSE]
    labels <- series_labels(rows$keys)
    of <- if (ncol(rows$keys)) {
      match(series_labels(keys_in(found, meta$series)), labels)
    } else {
      rep(1L, nrow(found))
    }
    count <- tabulate(of, nrow(card))
    longest <- absent <- numeric(nrow(card))
    if (length(of)) {
      absent[sort(unique(of))] <- rowsum(found$steps, of)[, 1]
      widest <- order(of, -found$steps)
      widest <- widest[!duplicated(of[widest])]
      longest[of[widest]] <- found$steps[widest]
    }
    head <- data.frame(
      measure = measure, kind = meta$kinds[[measure]],
      unit = meta$units[[measure]], own
    )
    card$last_age <- max(rows$seconds) - to_seconds(card$last)
    card <- card[c(1:3, ncol(card), 4:(ncol(card) - 1))]
    card <- cbind(head, card[1:6], gaps = count, longest_gap = longest,
                  missing_steps = absent, repeats = settled_repeats(meta, labels), card[-(1:6)])
    if (ncol(rows$keys)) beside_keys(rows$keys, card) else card
  })
  out <- do.call(rbind, out)
  rownames(out) <- NULL
  out
}

# The cadence that each series shows by itself.
series_cadences <- function(x) {
  rows <- rows_of(x)
  # What was declared holds for every series, which was checked.
  if (isTRUE(timeline_meta(x)$declared) && is_regular(x)) {
    series <- length(rows$breaks) - 1
    return(data.frame(cadence = rep(format(cadence_of(x)), series), on_grid = rep(1, series)))
  }
  found <- detect_each(rows$seconds, rows$breaks, rows$zone, timeline_meta(x)$type == "step")
  shape <- do.call(paste, as.data.frame(found))
  words <- vapply(which(!duplicated(shape)), function(i) format(cadence_found(found[i, ])), "")
  data.frame(
    cadence = words[match(shape, unique(shape))],
    on_grid = ifelse(found[, "known"] == 1, found[, "on_grid"], NA_real_)
  )
}

# Values that nobody has measured.
invented_findings <- function(x) {
  counts <- origins(x)
  some <- counts[which(counts$invented > 0), , drop = FALSE]
  as.character(lapply(seq_len(nrow(some)), function(i) {
    n <- unlist(some[i, setdiff(origin_levels, measured_origins)])
    n <- n[n > 0]
    what <- word_list(paste(show_number(n, 9), names(n)))
    paste0(some$measure[i], ": ", what, " values, which nobody measured.")
  }))
}

marker_findings <- function(x) {
  out <- lapply(names(timeline_meta(x)$kinds), function(measure) {
    v <- x[[measure]]
    v <- v[is.finite(v)]
    count <- vapply(usual_markers, function(mark) sum(v == mark), 1)
    rest <- v[!v %in% usual_markers]
    marker_words(measure, count, length(rest), if (length(rest)) range(rest))
  })
  as.character(unlist(out))
}

# `count` of each usual marker, number and range of the other values.
marker_words <- function(measure, count, others, range) {
  if (others < 2) {
    return(character())
  }
  reach <- diff(range)
  far <- usual_markers < range[1] - 3 * reach | usual_markers > range[2] + 3 * reach
  vapply(which(count > 0 & far), function(i) {
    mark <- usual_markers[i]
    paste0(measure, ": ", mark, " stands ", plural(count[i], "time"),
           "; if it marks missing values, read with missing = \"", mark, "\".")
  }, "")
}

settled_repeats <- function(meta, labels) {
  n <- meta$repeats[match(labels, names(meta$repeats))]
  if (is.null(meta$repeats)) rep(0, length(labels)) else unname(ifelse(is.na(n), 0, n))
}

# Amounts whose last value is far below the ones before: their period may still be running.
unfinished_findings <- function(x) {
  meta <- timeline_meta(x)
  count <- tail_length(meta)
  if (is.na(count)) {
    return(character())
  }
  rows <- rows_of(x)
  labels <- series_labels(rows$keys)
  out <- lapply(names(meta$kinds)[meta$kinds == "amount"], function(measure) {
    tails <- lapply(seq_along(labels), function(s) {
      v <- x[[measure]][(rows$breaks[s] + 1):rows$breaks[s + 1]]
      utils::tail(v[!is.na(v)], count)
    })
    unfinished_words(measure, tails, labels, count)
  })
  utils::head(unlist(out), 3)
}

# How many of the last values are looked at: a cycle, the last, and one before; NA where none are.
tail_length <- function(meta) {
  if (!is_regular_cadence(meta$cadence) || meta$type == "step") {
    return(NA_real_)
  }
  season <- usual_season(meta$cadence)
  2 + if (is.null(season)) 6 else max(6, round(season_steps(season, meta$cadence)))
}

unfinished_words <- function(measure, tails, labels, count) {
  if (is.na(count)) {
    return(character())
  }
  out <- lapply(seq_along(tails), function(s) {
    v <- tails[[s]]
    if (length(v) < count) {
      return(NULL)
    }
    last <- v[count]
    before <- v[2:(count - 1)]
    # Series that are often zero have no "far below".
    if (min(before) <= 0 || last >= 0.6 * min(before)) {
      return(NULL)
    }
    paste0(if (nzchar(labels[s])) paste0(labels[s], " (", measure, ")") else measure,
           ": the last value is ",
           show_percent(last / stats::median(before)),
           " of the usual one; is its period unfinished?")
  })
  as.character(unlist(out))
}

values_card <- function(v, rows, meta) {
  breaks <- rows$breaks
  n <- length(breaks) - 1
  from <- breaks[-(n + 1)]
  to <- breaks[-1]
  # Of each series at once: there may be thousands.
  count <- function(flag) diff(c(0, cumsum(flag))[breaks + 1])
  there <- !is.na(v)
  present <- which(there)
  owner <- series_index(breaks)[present]
  edge <- function(side) {
    at <- present[!duplicated(owner, fromLast = side == "last")]
    replace(rep(NA_integer_, n), unique(owner), at)
  }
  first <- edge("first")
  last <- edge("last")
  finite <- replace(as.double(v), is.infinite(v), NA)
  found <- range_statistics(finite, rows$seconds, from, to,
                            list("min", "q25", "median", "mean", "q75", "max", "sd"))
  names(found) <- c("min", "q25", "median", "mean", "q75", "max", "sd")
  missing <- (to - from) - count(there)
  data.frame(
    rows = to - from,
    first = from_seconds(rows$seconds[first], meta$type, meta$zone),
    last = from_seconds(rows$seconds[last], meta$type, meta$zone),
    missing = missing, missing_share = missing / (to - from),
    zeros = count(there & v == 0), negatives = count(there & v < 0),
    infinite = count(is.infinite(v)),
    found, last_value = as.double(v)[last], unchanged = longest_runs(v[present], owner, n)
  )
}

# The longest run of equal values of each series; zeros are left out: a dry month of a rain gauge is
# no stuck sensor.
longest_runs <- function(v, owner, series) {
  out <- numeric(series)
  n <- length(v)
  if (n == 0) {
    return(out)
  }
  begin <- which(c(TRUE, v[-1] != v[-n] | owner[-1] != owner[-n]))
  long <- diff(c(begin, n + 1))
  long[v[begin] == 0] <- 1
  best <- order(owner[begin], -long)
  best <- best[!duplicated(owner[begin][best])]
  replace(out, owner[begin][best], long[best])
}

# What deserves a look, the most pressing first.
# `over`: which lines of the table are of series that have ended, where rows are at hand to tell.
inspection_findings <- function(meta, table, markers, unfinished, over = NULL) {
  name <- function(rows) word_list(unique(card_labels(rows, meta$series)), 4)
  out <- character()
  add <- function(rows, text) {
    if (nrow(rows)) out <<- c(out, paste0(name(rows), ": ", text))
  }
  add(table[table$missing == table$rows, ], "no value at all.")
  some <- table[table$missing < table$rows, ]
  out <- c(out, ended_findings(some, meta, over))
  add(some[some$infinite > 0, ], "infinite values.")
  out <- c(out, markers)
  gappy <- some[some$longest_gap > 0, ]
  if (nrow(gappy)) {
    worst <- gappy[which.max(gappy$longest_gap), ]
    out <- c(out, paste0(
      plural(sum(gappy$gaps), "gap"), " with ", plural(sum(gappy$missing_steps), "missing reading"),
      "; the longest, ", plural(worst$longest_gap, "reading"), ", in ", name(worst), "."
    ))
  }
  stuck <- some[some$unchanged >= 12 & some$unchanged > 0.002 * some$rows, ]
  if (nrow(stuck)) {
    worst <- stuck[which.max(stuck$unchanged), ]
    out <- c(out, paste0(
      name(worst), ": the same value ", worst$unchanged,
      " times in a row; is the sensor stuck?"
    ))
  }
  add(some[some$kind == "amount" & some$negatives > 0, ], "negative amounts.")
  far <- some[is.finite(some$sd) & some$sd > 0, ]
  far <- far[pmax(far$max - far$q75, far$q25 - far$min) > 10 * (far$q75 - far$q25) &
               far$q75 > far$q25, ]
  add(far, "values very far from the rest (over ten quartile ranges).")
  out <- c(out, unfinished)
  if (nrow(meta$rejects)) {
    out <- c(out, paste0(plural(nrow(meta$rejects), "row"), " could not be read: rejects(x)."))
  }
  if (length(meta$news)) out <- c(out, paste0(capitalise(meta$news), "."))
  out
}

card_labels <- function(rows, series) {
  if (length(series) == 0) {
    return(rows$measure)
  }
  labels <- series_labels(keys_in(rows, series))
  paste0(labels, " (", rows$measure, ")")
}

# Series that stopped before the others, or began after them.
ended_findings <- function(table, meta, over = NULL) {
  if (length(meta$series) == 0 || nrow(table) < 2) {
    return(character())
  }
  last <- to_seconds(table$last)
  first <- to_seconds(table$first)
  span <- max(last) - min(first)
  ended <- table[if (is.null(over)) ended_by_card(table, meta$cadence, span) else over(table), ]
  late <- table[first > min(first) + 0.05 * span, ]
  line <- function(rows, word, when) {
    stamp <- show_stamp(to_seconds(rows[[when]]), meta$type, meta$zone)
    if (nrow(rows)) paste0(card_labels(rows, meta$series), ": ", word, " ", stamp, ".")
  }
  c(line(ended, "stopped on", "last"), line(late, "began only on", "first"))
}

# Of many series, those with the most missing are shown.
most_cards <- 40

#' @export
format.kairon_inspection <- function(x, ...) {
  n <- length(x$findings)
  head <- if (n == 0) "Nothing stands out." else paste0(plural(n, "thing"), " to look at:")
  c(
    x$line, "", head,
    unlist(lapply(x$findings, function(f) {
      fold_words(f, initial = "  - ", prefix = "    ")
    })),
    "", text_table(inspection_columns(x)),
    if (nrow(x$table) > most_cards) {
      more <- plural(nrow(x$table) - most_cards, "more line")
      paste0("  ... and ", more, " with less missing: as.data.frame()")
    }
  )
}

# `shown`: rows of the table in their order; of many series those that miss most.
inspection_columns <- function(x, shown = NULL) {
  t <- x$table
  if (is.null(shown) && nrow(t) > most_cards) {
    shown <- utils::head(order(-t$missing_share), most_cards)
  }
  if (!is.null(shown)) t <- t[shown, ]
  short <- list(
    measure = t$measure, values = t$rows - t$missing,
    missing = vapply(t$missing_share, show_percent, ""),
    gaps = t$gaps, min = t$min, median = t$median, mean = t$mean, max = t$max, sd = t$sd,
    last = t$last_value, unit = t$unit
  )
  if (all(t$unit == "")) short$unit <- NULL
  series <- lapply(keys_in(t, x$series), as.character)
  c(series, short)
}

#' @export
print.kairon_inspection <- function(x, ...) {
  show_lines(format(x))
  invisible(x)
}

#' @export
as.data.frame.kairon_inspection <- function(x, row.names = NULL,
                                            optional = FALSE, ...) {
  x$table
}

#' @export
summary.kairon_timeline <- function(object, ...) {
  as.data.frame(inspect(object))
}
