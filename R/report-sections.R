# What each section of a report says, as blocks that know of no HTML and no Markdown.

report_heads <- c(
  findings = "In short", readings = "The readings and their health", repairs = "Faults and repairs",
  effects = "What happened, and what it did", looks = "A closer look", standing = "Is it rising or falling?",
  pattern = "Pattern and season", forecast = "What comes next",
  backtest = "How wrong such forecasts have been",
  diagnosis = "What the method has left", method = "How it was made"
)

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

readings_blocks <- function(parts) {
  x <- parts$x
  health <- attention_table(parts)
  list(
    if (length(parts$inspection$findings) > most_first) block_list(parts$inspection$findings),
    block_figure(autoplot(x), paste0(
      "Line chart of ", word_list(names(timeline_meta(x)$kinds), 4), ", ", timeline_line(x),
      ". Stretches without values are shaded."
    ), "readings", data = as_plain(x), height = panel_height(x), live = live_readings(x)),
    block_table(health$columns, paste0(
      "Health of each series, those that need attention first",
      if (health$hidden) paste0("; ", show_number(health$hidden, 9), " more need less")
    ), "health", lines = health$lines, folded = length(health$lines) > 40),
    block_figure(autoplot(parts$inspection),
                 "Map of the share of readings present for each series over time.",
                 "coverage", height = max(4.2, 2 + 0.17 * min(series_count(x), most_rows))),
    block_text(paste0("Where the values come from: ", paste(format(origins(parts$grid)), collapse = "; "),
                      ".")),
    if (!is.null(parts$note)) block_text(parts$note, note = TRUE)
  )
}

# More panels need more room.
panel_height <- function(x) {
  n <- min(series_count(x), most_panels)
  if (series_count(x) > most_panels || n <= 2) 5.2 else 1.6 + 1.35 * if (n > 4) ceiling(n / 2) else n
}

# Series by what needs attention: missing readings, an end before the others', faults and repairs.
attention_table <- function(parts) {
  table <- parts$inspection$table
  x <- parts$x
  rows <- rows_of(x)
  own <- series_labels(rows$keys)
  series <- if (length(own) == 1) rep(1L, nrow(table)) else match(inspected_labels(table, x), own)
  touched <- numeric(nrow(table))
  for (m in unique(table$measure)) {
    changed <- is_flagged(x, m) | made_up(x, m)
    share <- as.vector(rowsum(as.numeric(changed), series_index(rows$breaks))) / diff(rows$breaks)
    here <- table$measure == m
    touched[here] <- share[series[here]]
  }
  stopped <- table$last_age > 0
  score <- table$missing_share + stopped + touched
  # A page holds the lines of some hundred series.
  order <- utils::head(order(-score, seq_along(score)), most_table_rows)
  columns <- inspection_columns(parts$inspection, order)
  columns$attention <- round(score[order], 3)
  lines <- small_lines(x, rows, table$measure[order], series[order])
  list(columns = columns, lines = lines, hidden = length(score) - length(order))
}

inspected_labels <- function(table, x) series_labels(table[timeline_meta(x)$series])

# Each series as what 60 columns of pixels hold.
small_lines <- function(x, rows, measures, series) {
  span <- cpp_finite_range(rows$seconds)
  if (span[1] == span[2]) span <- span + c(-1, 1)
  Map(function(m, s) {
    hit <- cpp_pixel_ranges(rows$seconds, x[[m]], rows$breaks[s] + 1, rows$breaks[s + 1],
                            span[1], span[2], 60)
    as.vector(t(hit))
  }, measures, series, USE.NAMES = FALSE)
}

repairs_blocks <- function(parts) {
  book <- unclass(ledger(parts$grid))
  if (length(book) == 0) {
    return(list())
  }
  unlist(lapply(seq_along(book), function(i) {
    entry <- book[[i]]
    table <- as.data.frame(entry$table)
    list(
      block_text(paste0(capitalise(entry$title))),
      if (nrow(table)) {
        block_table(as.list(shown_stamps(table)), paste0("Account of ", entry$verb),
                    paste0("account-", i), folded = TRUE)
      }
    )
  }), recursive = FALSE)
}

# Stamps of any table as text.
shown_stamps <- function(table) {
  stamps <- vapply(table, inherits, TRUE, what = c("Date", "POSIXct"))
  table[stamps] <- lapply(table[stamps], function(v) {
    type <- if (inherits(v, "Date")) "date" else "instant"
    show_stamp(to_seconds(v), type, attr(v, "tzone") %||% "UTC")
  })
  table
}

# Among the looks, what events did.
told_effects <- function(parts) Filter(function(look) inherits(look, "kairon_effect"), parts$looks)

# The first thing to say of an event: where the demand of an item went, all series together, or the largest.
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

effects_blocks <- function(parts) {
  effects <- told_effects(parts)
  unlist(lapply(names(effects), function(name) {
    e <- effects[[name]]
    words <- gsub("[_-]", " ", name)
    rows <- as.data.frame(e)
    list(
      block_text(paste0(capitalise(words), ":")),
      block_list(format(e)),
      block_figure(autoplot(e), paste0(
        "Observed values and what was to be expected (", words, "), their difference and its running sum ",
        "among stretches without the event."
      ), name, data = as.data.frame(e$steps), height = 6),
      block_table(as.list(shown_stamps(rows)), paste0("Effects (", words, ")"), paste0(name, "-effects"),
                  folded = nrow(rows) > 12)
    )
  }), recursive = FALSE)
}

looks_blocks <- function(parts) {
  # Those that have sections of their own are not shown twice.
  own <- c("kairon_inspection", "kairon_standing", "kairon_effect")
  shown <- Filter(function(name) !inherits(parts$looks[[name]], own), names(parts$looks))
  unlist(lapply(shown, function(name) {
    look <- parts$looks[[name]]
    words <- tryCatch(as.character(format(look)), error = function(e) character())
    # Sentences; the table is drawn as one below.
    words <- sub("^- ", "", words[nzchar(words) & !grepl("[^ ]  +[^ ]", words)])
    rows <- as.data.frame(look)
    list(
      block_text(paste0(capitalise(gsub("[_-]", " ", name)), ":")),
      if (!is.data.frame(look) && length(words)) block_list(trimws(words)),
      if (has_figure(look)) {
        block_figure(autoplot(look), paste0("Figure of ", gsub("[_-]", " ", name), "."), name, data = rows)
      } else if (nrow(rows)) {
        block_table(as.list(shown_stamps(rows)), capitalise(gsub("[_-]", " ", name)), name,
                    folded = nrow(rows) > 20)
      }
    )
  }), recursive = FALSE)
}

has_figure <- function(object) {
  any(vapply(class(object), function(k) {
    !is.null(utils::getS3method("autoplot", k, optional = TRUE, envir = asNamespace("kairon")))
  }, TRUE))
}

standing_blocks <- function(parts) {
  s <- parts$standing
  list(
    block_list(format(s)),
    block_figure(autoplot(s), paste0(
      "The values of ", s$measures[1], " by ", s$period, ", behind the mean of the trailing year."
    ), "standing", data = as.data.frame(s))
  )
}

pattern_blocks <- function(parts) {
  d <- parts$pattern
  list(
    block_list(format(d)[-1]),
    block_figure(autoplot(d), paste0(
      "Panels of ", d$measures[1], ", its trend, its season and what is left."
    ), "decomposition", data = as.data.frame(d), height = 6),
    block_table(as.list(strength(d)), "Strength of trend and season (0 nothing, 1 everything)", "strength",
                folded = series_count(parts$grid) > 12)
  )
}

forecast_blocks <- function(parts) {
  f <- parts$forecast
  list(
    block_list(plain_methods(capitalise(trimws(format(f))))),
    block_figure(autoplot(f), paste0(
      "Forecast of ", f$measures[1], " with prediction intervals, behind its recent history."
    ), "forecast", data = as.data.frame(f), height = panel_height(f$history), live = live_forecast(f)),
    block_table(forecast_columns(f), "The forecast", "forecast-values", folded = TRUE)
  )
}

forecast_columns <- function(f) {
  meta <- timeline_meta(f$history)
  table <- utils::head(f$table, 400)
  table[[meta$time]] <- show_stamp(to_seconds(table[[meta$time]]), meta$type, meta$zone)
  as.list(table[setdiff(names(table), c("origin", "ahead"))])
}

backtest_blocks <- function(parts) {
  b <- parts$backtest
  s <- parts$scores %||% scores(b)
  measure <- b$measures[1]
  r <- or_reason(ranking(b))
  list(
    block_text(report_verdict(parts)),
    block_figure(autoplot(s), "Table of scores by method, the better the bluer.", "scores", height = 4.2,
                 data = as.data.frame(s)),
    block_figure(autoplot(b), "Forecasts made at past cutoffs beside what came true.", "backtest",
                 data = as.data.frame(b), live = live_backtest(b, parts$grid)),
    block_figure(autoplot(b, show = "ahead"),
                 paste0("Mean absolute error of ", measure, " by step ahead, a line for each method."),
                 "errors-ahead", height = 4.2),
    block_figure(autoplot(b, show = "coverage"),
                 "How often observed values lay within the intervals, against their level.",
                 "interval-coverage", height = 4.2),
    if (!failed(r)) block_text(ranking_words(r)),
    block_text(trimws(format(b)), note = TRUE)
  )
}

# Coefficients of the method that forecasts, and what its errors still tell.
diagnosis_blocks <- function(parts) {
  d <- parts$diagnosis
  table <- coef(d$fit)
  list(
    block_text(paste0(
      sub(":$", "", format(d)[1]), if (series_count(parts$grid) > length(d$labels)) {
        paste0(" (the first ", length(d$labels), " of ", series_count(parts$grid), " series)")
      }, ":"
    )),
    block_list(trimws(format(d)[-1])),
    if (d$table$values[1] >= 8) block_figure(autoplot(d), paste0(
      "One-step errors of ", d$fit$measure, " in time, by part of the calendar, by step ahead, their ",
      "correlation with earlier errors, and their quantiles against the normal distribution."
    ), "diagnosis", data = as.data.frame(d), height = 5.6),
    if (nrow(table)) {
      block_table(as.list(utils::head(table, 200)), "Coefficients of the method", "coefficients",
                  folded = nrow(table) > 12)
    }
  )
}

method_blocks <- function(parts) {
  list(
    block_text(
      "Only measured values are scored: observed ones, and summaries of enough observed ",
      "readings. Interpolated, imputed, repaired and forecast values are drawn hollow and ",
      "never count as measured."
    ),
    if (!is.null(parts$routine)) block_code(format(parts$routine)),
    block_list(source_notes(parts)),
    block_table(provenance_columns(parts), "Provenance", "provenance"),
    block_text("To run it again, save this as ", "study.yml and call kairon run-study study.yml:"),
    block_code(parts$study_lines %||% draft_study(parts), "study.yml")
  )
}

report_section_makers <- list(
  findings = findings_blocks, readings = readings_blocks, repairs = repairs_blocks, effects = effects_blocks,
  looks = looks_blocks,
  standing = standing_blocks, pattern = pattern_blocks, forecast = forecast_blocks,
  backtest = backtest_blocks, diagnosis = diagnosis_blocks, method = method_blocks
)

# A section on one part has nothing to say without it, and the reason where it could not be made.
section_blocks <- function(id, parts) {
  on_part <- c("standing", "pattern", "forecast", "backtest", "diagnosis")
  if (id %in% on_part && is.null(parts[[id]])) {
    return(list())
  }
  if (id %in% on_part && failed(parts[[id]])) {
    return(list(block_reason(parts[[id]])))
  }
  Filter(Negate(is.null), report_section_makers[[id]](parts))
}
