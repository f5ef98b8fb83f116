# What a report says first: what comes next, how wrong such forecasts have been, and what to look
# at.

# As many paths as a page's time and memory bear; sums have no interval with fewer than 100.
answer_paths <- function(x, steps) {
  most <- floor(3e6 / max(1,
                          series_count(x) * length(timeline_meta(x)$kinds) *
                            horizon_count(x, steps)))
  if (most < 100) 0 else min(400, most)
}

horizon_count <- function(x, steps) {
  rows <- rows_of(x)
  meta <- timeline_meta(x)
  count <- tryCatch({
    last <- period_of_stamp(meta$cadence, max(rows$seconds), rows$zone)
    horizon_steps(steps, last, meta, rows$zone)
  }, error = function(e) 100)
  if (length(count) == 1 && is.finite(count)) count else 100
}

# The rows of a forecast that an answer speaks of: those of the method that forecasts.
answer_rows <- function(t, f, measure) {
  t[t$measure == measure & t$method == f$table$method[1], , drop = FALSE]
}

# Of these series, those that make up the whole: its own total where there is one, else all parts.
of_the_whole <- function(t, meta) {
  if (is.null(meta$sums)) {
    return(rep(TRUE, nrow(t)))
  }
  over <- lapply(t[meta$series], function(v) as.character(v) == meta$sums$word)
  whole <- Reduce(`&`, over)
  if (any(whole)) whole else !Reduce(`|`, over)
}

# One line for all series together (the first), and one for each: sums of amounts, means of levels,
# over the whole horizon, with bounds at the level nearest to 90 % and what was a year before.
answer_table <- function(f, measure) {
  meta <- timeline_meta(f$history)
  amount <- meta$kinds[[measure]] == "amount"
  rows <- answer_rows(f$table, f, measure)
  paths <- if (!is.null(f$paths)) answer_rows(f$paths, f, measure)
  rows$before <- year_before(f, measure, rows)$value
  label <- forecast_labels(rows, f)
  path_label <- if (!is.null(paths)) forecast_labels(paths, f)
  level <- f$levels[which.min(abs(f$levels - 90))]
  over <- if (amount) sum else mean
  one <- function(name, here, there) {
    t <- rows[here, ]
    both <- is.finite(t$before)
    known <- isTRUE(mean(both[t$ahead <= year_steps(meta$cadence)]) >= 0.9)
    value <- over(t$value)
    out <- data.frame(
      series = name, measure = measure, expected = value, lower = NA_real_, upper = NA_real_,
      each = if (amount) value / length(unique(t$ahead)) else value,
      now = if (known) over(t$value[both]) else NA_real_,
      before = if (known) over(t$before[both]) else NA_real_, stringsAsFactors = FALSE
    )
    if (!is.null(paths) && length(level)) {
      sums <- tapply(paths$value[there], paths$path[there], over)
      q <- stats::quantile(sums, (1 + c(-1, 1) * level / 100) / 2, names = FALSE, na.rm = TRUE)
      out$lower <- min(q[1], value)
      out$upper <- max(q[2], value)
    } else if (length(unique(t$ahead)) == 1 && nrow(t) == 1 && length(level)) {
      out[c("lower", "upper")] <- t[bound_columns(level)]
    }
    out
  }
  each <- unique(label)
  top <- of_the_whole(rows, meta)
  whole <- unique(label[top])
  all <- one(if (length(whole) > 1) "all together" else whole, top,
             if (!is.null(paths)) of_the_whole(paths, meta))
  if (length(whole) == 1) each <- setdiff(each, whole)
  all <- rbind(all, do.call(rbind, lapply(each, function(l) one(l, label == l, path_label == l))))
  all$change <- ifelse(all$before > 0 & all$now > 0, all$now / all$before - 1, NA)
  attr(all, "level") <- level
  all
}

# How many steps a year has, as years are compared: months and quarters by the calendar, everything
# shorter by 52 weeks, so that weekdays meet. NA where steps do not divide it.
year_steps <- function(cadence) {
  n <- switch(cadence$unit,
    step = NA, month = 12 / cadence$n, weekday = 260 / cadence$n, day = 364 / cadence$n,
    364 * 86400 / step_seconds(cadence)
  )
  if (isTRUE(abs(n - round(n)) < 1e-9) && n >= 1) round(n) else NA_real_
}

year_words <- function(cadence) if (cadence$unit == "month") "a year before" else "52 weeks before"

# For each row of a forecast, what was measured in the same step a year before, of its first year.
year_before <- function(f, measure, rows) {
  x <- f$history
  meta <- timeline_meta(x)
  year <- year_steps(meta$cadence)
  if (is.na(year)) {
    return(list(value = rep(NA_real_, nrow(rows))))
  }
  own <- rows_of(x)
  zone <- future_zone(meta, own, f$horizon)
  there <- paste(row_labels(x), period_of_stamp(meta$cadence, own$seconds, zone))
  k <- period_of_stamp(meta$cadence, to_seconds(rows[[meta$time]]), zone)
  at <- match(paste(forecast_labels(rows, f), k - year), there)
  v <- x[[measure]]
  v[!is_measured(x, measure)] <- NA
  list(value = ifelse(rows$ahead <= year, v[at], NA_real_))
}

# "Demand of 7 series is expected to be 1,234,000 m3 in all (90 %: ...), 88,100 m3 a day from
# 2032-07-01 to 2032-07-14, 2.3 % more than 52 weeks before (...)."
answer_sentences <- function(f, answers) {
  vapply(names(answers), function(m) answer_sentence(f, m, answers[[m]]), "", USE.NAMES = FALSE)
}

answer_sentence <- function(f, measure, table) {
  meta <- timeline_meta(f$history)
  unit <- meta$units[[measure]]
  amount <- meta$kinds[[measure]] == "amount"
  a <- table[1, ]
  number <- function(v) trimws(paste(show_number(v, 4), unit))
  span <- function(low, high) {
    if (is.finite(low) && is.finite(high)) {
      bounds <- paste(show_number(low, 4), "to", show_number(high, 4))
      paste0(" (", attr(table, "level"), " %: ", bounds, ")")
    }
  }
  stamps <- unique(show_stamp(range(to_seconds(f$table[[meta$time]])), meta$type, meta$zone))
  when <- if (length(stamps) == 1) {
    paste("for", stamps)
  } else {
    paste("from", stamps[1], "to", stamps[2])
  }
  n <- nrow(table) - 1
  whom <- if (!is.null(meta$sums) && a$series != "all together") {
    " of all together"
  } else if (n > 0) {
    paste(" of", plural(n, "series", "series"))
  } else if (nzchar(a$series)) {
    paste(" of", a$series)
  }
  step <- sub("^1 ", "", step_words(meta$cadence))
  each <- paste(if (grepl("^[0-9]",
                          step)) "each" else if (grepl("^[aeiou]|^hour", step)) "an" else "a", step)
  told <- if (length(stamps) == 1) {
    paste0(number(a$expected), span(a$lower, a$upper))
  } else if (amount) {
    paste0(number(a$expected), " in all", span(a$lower, a$upper), ", ", number(a$each), " ", each)
  } else {
    paste0(number(a$expected), " on average", span(a$lower, a$upper))
  }
  moved <- moved_words(f, measure, a, number)
  paste0(capitalise(measure), whom, " is expected to be ", told, " ", when, moved, ".")
}

moved_words <- function(f, measure, a, number) {
  meta <- timeline_meta(f$history)
  if (!is.finite(a$before)) {
    return(since_words(f, measure, number))
  }
  part <- if (f$horizon > year_steps(meta$cadence)) "; its first year is " else ", "
  moved <- if (is.finite(a$change)) {
    share <- abs(a$change)
    if (share < 0.0005) "as much as" else
      paste(show_percent(share), if (a$change > 0) "more than" else "less than")
  } else {
    d <- a$now - a$before
    if (d == 0) "as much as" else paste(number(abs(d)), if (d > 0) "more than" else "less than")
  }
  paste0(part, moved, " ", year_words(meta$cadence), " (", number(a$before), ")")
}

# Where there is no year before: what the same number of steps before it held.
since_words <- function(f, measure, number) {
  rows <- answer_rows(f$table, f, measure)
  shown <- unique(forecast_labels(rows[of_the_whole(rows, timeline_meta(f$history)), ], f))
  past <- forecast_past(f, measure, shown, f$horizon)
  v <- past$value[!past$invented]
  if (!any(is.finite(v))) {
    return("")
  }
  amount <- timeline_meta(f$history)$kinds[[measure]] == "amount"
  # A sum over fewer values would look like less.
  whole <- length(v) == f$horizon * length(shown) && all(is.finite(v))
  if (amount && !whole) {
    return("")
  }
  summed <- amount
  over <- if (summed) sum(v, na.rm = TRUE) else mean(v, na.rm = TRUE)
  cadence <- timeline_meta(f$history)$cadence
  span <- if (f$horizon == 1) {
    sub("^1 ", "", step_words(cadence))
  } else {
    steps_in_words(f$horizon, cadence)
  }
  paste0("; in the ", span, " before it was ", number(over),
         if (!summed && f$horizon > 1) " on average")
}

# Names of methods as people say them.
plain_methods <- function(words) {
  said <- c(
    "\\bby auto\\b" = "by the automatic choice", "^Auto\\b" = "The automatic choice",
    "\\bauto\\b" = "the automatic choice",
    "[Tt]he seasonal naive habit" = "repeating the last season",
    "[Tt]his naive habit" = "this habit", "[Tt]he naive habit" = "repeating the last value",
    "\\bby seasonal naive\\b" = "that repeat the last season",
    "\\bby naive\\b" = "that repeat the last value",
    "^Seasonal naive\\b" = "Repeating the last season", "^Naive\\b" = "Repeating the last value",
    "\\bseasonal naive\\b" = "repeating the last season", "\\bnaive\\b" = "repeating the last value"
  )
  for (i in seq_along(said)) words <- gsub(names(said)[i], said[[i]], words, perl = TRUE)
  words
}

most_first <- 5

findings_blocks <- function(parts) {
  f <- parts$forecast
  answers <- if (there(f)) lapply(rlang::set_names(f$measures), answer_table, f = f)
  says <- c(if (there(f)) answer_sentences(f, answers),
            if (there(parts$backtest)) plain_verdict(parts))
  look <- parts$inspection$findings
  first <- utils::head(look, most_first)
  left <- length(look) - most_first
  if (left > 0) first[most_first] <- paste0(first[most_first], " And ", left, " more.")
  besides <- c(
    if (there(parts$standing)) utils::head(format(parts$standing), 1),
    unlist(lapply(told_effects(parts), effect_lead)),
    if (there(parts$pattern)) pattern_lead(parts$pattern)
  )
  Filter(Negate(is.null), c(
    list(if (length(parts$notes)) block_text(parts$notes),
         if (length(says)) block_list(says, lead = TRUE)),
    if (there(f)) list(answer_block(f, answers)),
    if (length(first)) list(block_text("What to look at first:"), block_list(first)),
    if (length(besides)) list(block_text("Besides:"), block_list(besides))
  ))
}

answer_block <- function(f, answers) {
  table <- do.call(rbind, unname(answers))
  if (nrow(table) <= length(answers)) table$series <- NULL
  meta <- timeline_meta(f$history)
  level <- attr(answers[[1]], "level")
  names(table)[match(c("lower", "upper", "each", "before"), names(table))] <- c(
    paste0(if (length(level)) paste0(level, " % "), "lower"), "upper",
    paste("a", sub("^1 ", "", step_words(meta$cadence))), year_words(meta$cadence)
  )
  table$now <- NULL
  table$change <- ifelse(is.na(table$change), NA, sprintf("%+.1f %%", 100 * table$change))
  table <- table[colSums(!is.na(table)) > 0]
  block_table(as.list(table), "What comes next, the whole time together", "answer",
              folded = nrow(table) > 12)
}

# Of one series what its decomposition says; of several how strong trend and seasons are, in all of
# them.
pattern_lead <- function(d) {
  s <- strength(d)
  labels <- unique(measured_keys(s, d$meta$series))
  if (nrow(labels) == 1) {
    return(utils::head(format(d)[-1], 1))
  }
  of <- if (length(d$meta$series)) series_labels(keys_in(s, d$meta$series)) else s$measure
  told <- vapply(unique(s$component[is.finite(s$strength)]), function(part) {
    here <- which(s$component == part & is.finite(s$strength))
    v <- s$strength[here]
    name <- season_title(part)
    paste0(name, " ", show_number(min(v), 2), " (", of[here][which.min(v)], ") to ",
           show_number(max(v), 2), " (", of[here][which.max(v)], ")")
  }, "", USE.NAMES = FALSE)
  told <- paste(told, collapse = "; ")
  if (nzchar(told)) paste0("Strength, from 0 (nothing) to 1 (everything): ", told, ".")
}

# Past errors of the method that forecasts, and what came closer, in words without names of methods.
plain_verdict <- function(parts) {
  plain_methods(report_verdict(parts))
}

# The first thing to say of an event: where the demand of an item went, all series together, or the
# largest.
effect_lead <- function(e) {
  if (!is.null(e$gone)) {
    return(gone_sentences(e))
  }
  vapply(e$measures, function(m) {
    t <- e$table[e$table$measure == m & e$table$phase == "during", ]
    whole <- is_together(t, e$meta)
    size <- if (all(is.na(t$share))) abs(t$effect) else abs(t$share)
    effect_sentence(t[if (any(whole)) which(whole)[1] else which.max(size), ], e)
  }, "", USE.NAMES = FALSE)
}

# Among the looks, what events did.
told_effects <- function(parts) Filter(function(look) inherits(look, "kairon_effect"), parts$looks)

# Past errors of the method that forecasts, and what came closer.
report_verdict <- function(parts) {
  b <- parts$backtest
  used <- parts$chosen
  known <- !is.null(used) && used %in% b$table$method
  words <- paste(format(verdict(b, method = if (known) used)), collapse = " ")
  if (!is.null(used) && !known) {
    words <- paste0(words, " The forecast is by ", used, ", which the backtest did not try.")
  }
  words
}

# Made, and not left out for a reason.
there <- function(part) !is.null(part) && !failed(part)
