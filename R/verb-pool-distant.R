# pool_series() where the rows lie elsewhere: sums of each group at each stamp are all that is kept.

#' @export
pool_series.kairon_distant_bins <- function(x, by = NULL, ..., weights = NULL) {
  # Bins are few: they are brought here, and pooled as any timeline.
  pool_series(as_timeline(x), !!rlang::enquo(by), ..., weights = !!rlang::enquo(weights))
}

#' @export
pool_series.kairon_remote <- function(x, by = NULL, ..., weights = NULL, total = FALSE, each = NULL,
                                      at_least = 0) {
  check_least(at_least)
  check_flag(total)
  if (!is.null(each)) {
    abort_state(c("{.arg each} needs the rows here.",
                  i = "Resample first, such as {.code resample(x, \"1 day\")}."))
  }
  facts <- distant_facts(x)
  ends <- distant_ends(x)
  if (!is_regular(ends)) {
    abort_state(c("Series must share their stamps to be pooled.",
                  x = "{capitalise(x$label)} is {format(cadence_of(ends))}.",
                  i = "Bring them onto a grid first, such as {.code resample(x, \"1 hour\")}."))
  }
  rows <- rows_of(ends)
  wanted <- read_statistics(ends, list(...))
  check_across(wanted)
  weight <- weight_of_series(row_weights(ends, rlang::enquo(weights)), seq_along(rows$seconds),
                             rows)
  check_pooled_sums(wanted, all(weight == 1))
  groups <- series_groups(ends, rows, rlang::enquo(by), total)
  needs <- words_of_spread(needs_of(wanted), FALSE)
  for (m in names(needs)) {
    needs[[m]] <- union(needs[[m]], c("weight", "weighted", if (is_marked(x, m)) c("own", "worst")))
  }
  shift <- shift_of(x, needs)
  sums <- pooled_sums(x, facts, groups, weight, needs, shift)
  cells <- distant_stamps(ends, facts, lived_ends(x, facts), rows, groups, sums)
  full <- living_weight(cells$life, weight[groups$series], length(cells$owner))
  place <- function(measure, word) sums[[paste0(measure, ".", word)]][cells$row]
  ranked <- function(measure, statistic) {
    pooled_quantiles(x, facts, groups, sums, measure, statistic)[cells$row]
  }
  out <- pooled_table(
    timeline_meta(ends), cells, wanted, at_least,
    function(measure) {
      coverage <- ifelse(full > 0, pmin(1, known_or_zero(place(measure, "weight")) / full), 1)
      coverage[coverage > 1 - 1e-9] <- 1
      present <- known_or_zero(place(measure, "n"))
      list(series = present, coverage = coverage, origin = pooled_origin(place, measure, present))
    },
    function(measure, statistic) {
      if (is_ordered(statistic)) {
        return(ranked(measure, statistic))
      }
      s <- lapply(rlang::set_names(c("n", "sum", "spread", needs[[measure]])), place,
                  measure = measure)
      s$n <- known_or_zero(s$n)
      if (!all(weight == 1) && statistic %in% c("mean", "sum")) {
        return(ifelse(s$n > 0, s$weighted / if (statistic == "mean") s$weight else 1, NA_real_))
      }
      statistic_of_sums(statistic, s)
    }
  )
  result <- add_marks(new_timeline(out$data, out$meta), out$marks)
  account <- distant_account(ends, facts, groups, weight)
  words <- pool_words(account, groups)
  tell(c(i = verbatim(words)))
  add_entry(result, "pool_series", words, account)
}

check_pooled_sums <- function(wanted, flat) {
  known <- if (flat) setdiff(names(statistic_needs), c("first", "last", "slope", "time_mean")) else
    c("mean", "sum", "count", "min", "max", "range")
  for (m in names(wanted)) {
    for (one in wanted[[m]]) {
      word <- if (is.character(one)) one else "a function"
      if (!word %in% known && !(flat && is_ordered(one))) {
        abort_state(c("{.val {word}} of {.field {m}} cannot be worked out over the series where \\
                       they lie.",
                      i = "There are {.val {known}}{if (flat) ', medians and quantiles' else '; \\
                           without weights there are more'}.",
                      i = "Or bring the rows with {.fn as_timeline} first."))
      }
    }
  }
}

# Summaries, but where most of the values were invented the worst of their origins.
pooled_origin <- function(place, measure, present) {
  out <- rep(summarised_code, length(present))
  own <- place(measure, "own")
  invented <- which(present > 0 & known_or_zero(own) < 0.5 * present & !is.na(own))
  out[invented] <- as.integer(place(measure, "worst")[invented])
  out
}

# Sums of each group at each stamp: a data frame sorted by group (`series`) and seconds (`cell`).
pooled_sums <- function(x, facts, groups, weight, needs, shift) {
  columns <- group_sums_sql(x, needs, shift)
  out <- sql_rows(x$con, pooled_sql(x, facts, groups, weight, columns))
  names(out) <- c("series", "cell", unlist(lapply(names(needs), function(m) {
    paste0(m, ".", c("n", "sum", needs[[m]]))
  })))
  out[] <- lapply(out, as.numeric)
  out <- out[order(out$series, out$cell), , drop = FALSE]
  with_spreads(out, needs, function(m) {
    columns <- variance_columns(x$con, sql_name(x$con, m))
    found <- sql_rows(x$con, pooled_sql(x, facts, groups, weight, columns))
    at <- match(paste(found[[1]], found[[2]]), paste(out$series, out$cell))
    squares_of_parts(at, nrow(out), found[3:5])
  })
}

# An order statistic of each group at each of its stamps, in the order of `sums`.
pooled_quantiles <- function(x, facts, groups, sums, m, statistic) {
  found <- sql_rows(x$con, pooled_ranks_sql(x, facts, groups, m, statistic))
  found[] <- lapply(found, as.numeric)
  # Each stamp as its place among all stamps, so that a group and a stamp are one number.
  stamps <- sort(unique(sums$cell))
  number <- function(group, at) group * (length(stamps) + 1) + match(at, stamps)
  row <- match(number(found$kairon_group, found$kairon_at), number(sums$series, sums$cell))
  quantile_of_ranks(row, found$kairon_size, found$kairon_place, found$kairon_value, statistic,
                    nrow(sums))
}

# Seconds of the first and the last row of each series that has a value; NA where none has.
lived_ends <- function(x, facts) {
  keys <- vapply(x$meta$series, function(s) sql_name(x$con, s), "")
  there <- paste(vapply(names(x$meta$kinds), function(m) sql_name(x$con, m), ""), "IS NOT NULL",
                 collapse = " OR ")
  seconds <- remote_seconds(x)
  found <- sql_rows(x$con, paste(
    "SELECT", paste(c(keys, paste0(c("min(", "max("), seconds, ") AS kairon_", c("first", "last"))),
                    collapse = ", "),
    "FROM", x$from, remote_where(x, paste0("(", there, ")")),
    if (length(keys)) paste("GROUP BY", paste(keys, collapse = ", "))
  ))
  found <- keyed_rows(x, found, c("first", "last"), facts)
  found[match(seq_len(nrow(facts)), found$series), c("first", "last")]
}

# The stamps of each group, from its first to its last, and the row of its sums at each (NA without
# any).
distant_stamps <- function(ends, facts, lived, rows, groups, sums) {
  meta <- timeline_meta(ends)
  place <- function(seconds) period_of_stamp(meta$cadence, seconds, rows$zone)
  over <- function(v, how) as.vector(tapply(v[groups$series], groups$group, how))
  low <- over(place(facts$first), min)
  size <- over(place(facts$last), max) - low + 1
  check_size(sum(size))
  owner <- rep(seq_along(size), size)
  at <- sequence_from(low, size)
  from <- c(0, cumsum(size))
  row <- rep(NA_integer_, length(owner))
  row[from[sums$series] + place(sums$cell) - low[sums$series] + 1] <- seq_len(nrow(sums))
  # Pauses of rows elsewhere are not known; that a series has ended is told by the usual cycle
  # alone.
  cell <- function(seconds) {
    from[groups$group] + place(seconds)[groups$series] - low[groups$group] + 1
  }
  wait <- max(place(facts$last)) - place(lived$last)
  ended <- has_ended(wait, 0, usual_cycle(meta$cadence, 0))[groups$series]
  life <- member_life(cell(lived$first), cell(lived$last), ended, from[groups$group + 1])
  list(life = life, row = row, owner = owner, keys = groups$table[owner, , drop = FALSE],
       stamps = from_seconds(stamp_of(meta$cadence, at, rows$zone), meta$type, meta$zone),
       type = meta$type, cadence = meta$cadence)
}

# What pool_account() tells, from the ends of each series.
distant_account <- function(ends, facts, groups, weight) {
  meta <- timeline_meta(ends)
  s <- groups$series
  stamp <- function(seconds) from_seconds(seconds, meta$type, meta$zone)
  data.frame(
    group = if (ncol(groups$table)) {
      series_labels(groups$table)[groups$group]
    } else {
      rep("all", length(s))
    },
    series = series_labels(facts[meta$series])[s], weight = weight[s], from = stamp(facts$first[s]),
    to = stamp(facts$last[s]), values = facts$rows[s]
  )
}
