# Where the demand of an item that ended went: what its group's other members gained, against
# stretches before.

# The question that `ended` asks: the neighbours alone, the stretch after the end, and the item as
# it was.
gone_item <- function(x, ended, within, when, measures) {
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  labels <- series_labels(rows$keys)
  check_string(ended)
  check_choice(ended, labels, arg = "ended")
  levels <- measures[vapply(measures, function(m) meta$kinds[[m]] != "amount", TRUE)]
  if (length(levels)) {
    abort_input(c("Only amounts can go from one series to others.",
                  x = "{.field {levels}} {?is a level/are levels}.",
                  i = "Name the {.arg measures}, or declare sums with {.arg amounts}."))
  }
  item <- match(ended, labels)
  at <- (rows$breaks[item] + 1):rows$breaks[item + 1]
  sold <- Reduce(`|`, lapply(x[measures], function(v) is.finite(v[at]) & v[at] != 0))
  if (!any(sold)) {
    abort_input("{.val {ended}} never had a value, and cannot have ended.")
  }
  period <- period_of_stamp(meta$cadence, rows$seconds, rows$zone)
  last <- period[at[max(which(sold))]]
  if (last >= max(period)) {
    shown <- show_stamp(rows$seconds[at[max(which(sold))]], meta$type, meta$zone)
    abort_input(c("{.val {ended}} has not ended.",
                  x = "It has a value at the end of the data ({shown})."))
  }
  group <- gone_group(x, item, within)
  spans <- if (is.null(when)) {
    usual_after(x, rows, last, period)
  } else {
    effect_spans(x, when, NULL)
  }
  if (nrow(spans) > 1) {
    abort_input("With {.arg ended}, {.arg when} is one stretch after the end.")
  }
  if (spans[1, 1] < period_start(meta$cadence, last + 1, rows$zone) - 1e-3) {
    abort_input(c("{.arg when} must lie after the end of {.val {ended}}.",
                  i = "Leave it out to look at what came right after it."))
  }
  owner <- series_index(rows$breaks)
  stretch <- touched_rows(x, spans)[[1]]
  known <- Reduce(`|`, lapply(x[measures], is.finite))
  span <- range(period[stretch])
  first <- last_known <- rep(NA_real_, length(labels))
  first[rev(owner[known])] <- rev(period[known])
  last_known[owner[known]] <- period[known]
  # Who is there for less than half of the stretch tells nothing of it.
  live <- last_known >= mean(span)
  # What began after the end may be what replaced it.
  young <- group[live[group] %in% TRUE & first[group] > last]
  short <- group[!live[group] & last_known[group] > last]
  whom <- setdiff(group[live[group] %in% TRUE], young)
  if (length(whom) == 0) {
    abort_input(c("No other series of its group was there before and after the end of \\
                   {.val {ended}}.",
                  i = "{.arg within} names a column that several series share."))
  }
  own <- x[owner == item, ]
  for (m in measures) own[[m]][period[at] > last] <- NA
  list(
    x = complete_grid(without_sums(x[owner %in% whom, ]), common_end = TRUE), spans = spans,
    label = ended,
    item = own, group = attr(group, "words"), last = rows$seconds[at[max(which(sold))]],
    until = max(period[stretch]),
    notes = c(
      if (length(young)) {
        paste0(word_list(labels[young], 4), " began after the end: what went there is not counted")
      },
      if (length(short)) {
        paste0(word_list(labels[short], 4), " ended within the stretch and is not counted")
      }
    )
  )
}

# Neighbours are parts; what adds them up is calculated here.
without_sums <- function(x) {
  meta <- timeline_meta(x)
  meta$sums <- NULL
  attr(x, "timeline") <- meta
  x
}

# Numbers of the other members of the group: by columns, by the smallest total with company, or all.
gone_group <- function(x, item, within) {
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  parts <- seq_along(rows$breaks[-1])
  if (!is.null(meta$sums)) {
    over <- Reduce(`|`, lapply(rows$keys, function(v) as.character(v) == meta$sums$word))
    if (over[item]) abort_input("{.arg ended} names a total, not one of its parts.")
    parts <- parts[!over]
  }
  others <- setdiff(parts, item)
  if (!is.null(within)) {
    known <- c(meta$series, meta$attributes)
    if (!is.character(within) || length(within) == 0) {
      abort_input("{.arg within} must name columns that the series of a group share.")
    }
    check_choices(within, known, arg = "within")
    first <- as_plain(x)[rows$breaks[-length(rows$breaks)] + 1L, within, drop = FALSE]
    same <- Reduce(`&`, lapply(first, function(v) v == v[item]))
    group <- others[same[others] %in% TRUE]
    words <- paste("of the same", word_list(within))
    if (length(group) == 0) {
      label <- series_labels(rows$keys)[item]
      abort_input("No other series has the same {.field {within}} as {.val {label}}.")
    }
  } else if (!is.null(meta$sums)) {
    pairs <- sum_pairs(rows$keys, meta$sums)
    totals <- pairs$total[pairs$part == item]
    sizes <- vapply(totals, function(t) sum(pairs$total == t & pairs$part != item), 1)
    best <- totals[sizes > 0][which.min(sizes[sizes > 0])]
    group <- if (length(best)) setdiff(pairs$part[pairs$total == best], item) else others
    words <- if (length(best)) paste("of", series_labels(rows$keys)[best]) else ""
  } else {
    group <- others
    words <- ""
  }
  if (length(group) == 0) {
    abort_input("There is no other series for its demand to go to.")
  }
  structure(group, words = words)
}

# After the end: four weeks or twelve steps, where the data go on so long; less where the history
# before has no room for twenty such stretches to compare with (placebo_past()).
usual_after <- function(x, rows, last, period) {
  cadence <- timeline_meta(x)$cadence
  week <- steps_of_week(cadence)
  room <- floor((0.4 * (last - min(period)) - 19 * week) / week) * week
  n <- min(max(period) - last, max(week, min(room, if (week > 1) 4 * week else 12)))
  begin <- period_start(cadence, last + 1, rows$zone)
  matrix(c(begin, period_start(cadence, last + n + 1, rows$zone)), 1)
}

# What of the item was to be expected after its end, step by step, by what it was before.
gone_expected <- function(measure, gone, plan, calendar) {
  x <- reaching(gone$item, gone$until)
  rows <- rows_of(x)
  plan$touched <- touched_rows(x, plan$spans)
  plan$regressors <- if (!is.null(calendar)) event_regressors(x, calendar, plan$spans)
  plan$found <- if (is.null(plan$seasons)) default_seasons(gone$item, measure) else
    resolve_seasons(plan$seasons, timeline_meta(x)$cadence)
  value <- x[[measure]]
  value[!is_measured(x, measure) | is_flagged(x, measure)] <- NA
  d <- effect_series(value, rows, 1L, x, measure, plan)
  made <- stretch_expected(d, d$blocks[[1]], d$blocks[[1]], TRUE, plan, NULL, NULL)
  list(period = d$period[d$blocks[[1]]],
       value = if (is.null(made)) NA_real_ else if (d$logs) exp(made$expected) else made$expected)
}

# A timeline of one series with rows up to this period, missing ones at its end.
reaching <- function(x, until) {
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  last <- period_of_stamp(meta$cadence, rows$seconds[nrow(x)], rows$zone)
  if (last >= until) {
    return(x)
  }
  data <- as_plain(x)
  grown <- data[c(seq_len(nrow(x)), rep(NA_integer_, until - last)), , drop = FALSE]
  ahead <- rows$seconds[nrow(x)] + (until - last + 2) * step_seconds(meta$cadence)
  stamps <- stamp_of(meta$cadence, as.numeric((last + 1):until),
                     span_zone(meta, c(rows$seconds, ahead)))
  new <- nrow(x) + seq_along(stamps)
  grown[[meta$time]][new] <- from_seconds(stamps, meta$type, meta$zone)
  for (name in c(meta$series, meta$attributes)) grown[[name]][new] <- data[[name]][1]
  rownames(grown) <- NULL
  new_timeline(grown, meta)
}

# Effects as shares of what was to be expected of the item, in the steps that were measured.
with_gone_shares <- function(table, steps, gone) {
  meta <- timeline_meta(gone$x)
  key <- function(t) key_text(t[c(meta$series, "measure")])
  own <- match(key(steps), key(table))
  seconds <- to_seconds(steps[[meta$time]])
  period <- period_of_stamp(meta$cadence, seconds, span_zone(meta, seconds))
  there <- is.finite(steps$observed)
  base <- vapply(seq_len(nrow(table)), function(i) {
    e <- gone$expected[[table$measure[i]]]
    sum(e$value[e$period %in% period[own == i & there]])
  }, 1)
  base[!(base > 0)] <- NA
  table$of_ended <- table$effect / base
  table$of_ended_lower <- table$lower / base
  table$of_ended_upper <- table$upper / base
  table
}

# "Rye ended after 12 March 2031. From ... 2,300 loaves were to be expected of it; about 65 % of it
# (39 to 91 %) went to the 5 others of the same place."
gone_sentences <- function(e) {
  gone <- e$gone
  meta <- e$meta
  t <- group_lines(e)
  vapply(seq_len(nrow(t)), function(i) {
    line <- t[i, ]
    expected <- sum(gone$expected[[line$measure]]$value)
    amount <- trimws(paste(show_number(expected, 4), meta$units[[line$measure]]))
    stamp <- function(v) show_stamp(to_seconds(v), meta$type, meta$zone)
    lead <- paste0(gone$label, " ended after ", show_stamp(gone$last, meta$type, meta$zone),
                   ". From ", stamp(line$from), " to ", stamp(line$to), " ")
    if (!isTRUE(expected > 0)) {
      return(paste0(lead, "nothing of it was to be expected any more."))
    }
    # Of whom it is told: a neighbour with too little before is not among them.
    told_of <- e$table$measure == line$measure & e$table$phase == "during" &
      !is_together(e$table, meta)
    n <- sum(told_of)
    whom <- trimws(paste("the", if (n == 1) "other" else plural(n, "other"), gone$group))
    percent <- function(v) show_number(100 * v, 2)
    span <- if (all(is.finite(c(line$of_ended_lower, line$of_ended_upper)))) {
      paste0(" (", percent(line$of_ended_lower), " to ", percent(line$of_ended_upper), " %)")
    }
    told <- if (!is.finite(line$of_ended)) {
      "where it went cannot be told"
    } else if (line$placebos < 20) {
      paste0(whom, " changed by ", percent(line$of_ended), " % of it", span,
             ", and there is too little before to tell that from chance")
    } else if (line$p_value > 0.05) {
      paste0("whether any of it went to ", whom, " cannot be told from chance: they changed by ",
             percent(line$of_ended), " % of it", span)
    } else if (line$of_ended < 0) {
      paste0("nothing of it went to ", whom, ": they fell by ", percent(-line$of_ended),
             " % of it as well")
    } else {
      paste0("about ", percent(line$of_ended), " % of it", span, " went to ", whom)
    }
    what <- if (length(e$measures) > 1 ||
                amount == show_number(expected, 4)) paste0(" (", line$measure, ")")
    paste0(lead, amount, what, " were to be expected of it; ", told, ".")
  }, "")
}

# The group's sum for each measure: all together, or the one neighbour that there is.
group_lines <- function(e) {
  t <- e$table[e$table$phase == "during", ]
  whole <- is_together(t, e$meta)
  if (any(whole)) t[whole, ] else t[!duplicated(t$measure), ]
}
