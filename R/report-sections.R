# What each section of a report says, as blocks that know of no HTML and no Markdown.

report_heads <- c(
  findings = "In short", readings = "The readings and their health", repairs = "Faults and repairs",
  effects = "What happened, and what it did", looks = "A closer look",
  standing = "Is it rising or falling?",
  pattern = "Pattern and season", forecast = "What comes next",
  backtest = "How wrong such forecasts have been",
  diagnosis = "What the method has left", method = "How it was made"
)

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
    block_text(paste0("Where the values come from: ",
                      paste(format(origins(parts$grid)), collapse = "; "), ".")),
    if (!is.null(parts$note)) block_text(parts$note, note = TRUE)
  )
}

# More panels need more room.
panel_height <- function(x) {
  n <- min(series_count(x), most_panels)
  if (series_count(x) > most_panels || n <= 2) 5.2 else 1.6 +
    1.35 * if (n > 4) ceiling(n / 2) else n
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
        "Observed values and what was to be expected (", words,
        "), their difference and its running sum ", "among stretches without the event."
      ), name, data = as.data.frame(e$steps), height = 6),
      block_table(as.list(shown_stamps(rows)), paste0("Effects (", words, ")"),
                  paste0(name, "-effects"), folded = nrow(rows) > 12)
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
        block_figure(autoplot(look), paste0("Figure of ", gsub("[_-]", " ", name), "."), name,
                     data = rows)
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
    block_table(as.list(strength(d)), "Strength of trend and season (0 nothing, 1 everything)",
                "strength", folded = series_count(parts$grid) > 12)
  )
}

forecast_blocks <- function(parts) {
  f <- parts$forecast
  list(
    block_list(plain_methods(capitalise(trimws(format(f))))),
    block_figure(autoplot(f), paste0(
      "Forecast of ", f$measures[1], " with prediction intervals, behind its recent history."
    ), "forecast", data = as.data.frame(f), height = panel_height(f$history),
    live = live_forecast(f)),
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
    block_figure(autoplot(s), "Table of scores by method, the better the bluer.", "scores",
                 height = 4.2, data = as.data.frame(s)),
    block_figure(autoplot(b), "Forecasts made at past cutoffs beside what came true.", "backtest",
                 data = as.data.frame(b), live = live_backtest(b, parts$grid)),
    block_figure(autoplot(b, show = "ahead"),
                 paste0("Mean absolute error of ", measure,
                        " by step ahead, a line for each method."),
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
      "One-step errors of ", d$fit$measure,
      " in time, by part of the calendar, by step ahead, their ",
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
  findings = findings_blocks, readings = readings_blocks, repairs = repairs_blocks,
  effects = effects_blocks, looks = looks_blocks,
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

# What a reader needs to check a report or to make it again.

provenance_columns <- function(parts) {
  meta <- timeline_meta(parts$x)
  rows <- list(
    c("Kairon", as.character(utils::packageVersion("kairon"))),
    c("R", paste(R.version$major, R.version$minor, sep = ".")),
    c("Made", format(Sys.time(), "%Y-%m-%d %H:%M UTC", tz = "UTC")),
    c("Data", timeline_line(parts$x)),
    c("Rows", show_number(nrow(parts$x), 9)),
    c("Digest of the data", data_digest(parts$x)),
    c("Zone", meta$zone)
  )
  list(what = vapply(rows, `[`, "", 1), value = vapply(rows, `[`, "", 2))
}

# Of stamps, series and measures alone, so that it is the same however they were read.
data_digest <- function(x) {
  meta <- timeline_meta(x)
  rlang::hash(list(to_seconds(x[[meta$time]]),
                   lapply(meta$series, function(s) as.character(x[[s]])),
                   lapply(names(meta$kinds), function(m) as.double(x[[m]]))))
}

# Where the methods of a report come from.
method_sources <- c(
  loess = paste(
    "Decomposition by loess: Cleveland, Cleveland, McRae and Terpenning (1990), Journal of",
    "Official",
    "Statistics 6, 3-73."
  ),
  theta = paste(
    "Theta lines: Assimakopoulos and Nikolopoulos (2000), International Journal of Forecasting 16,",
    "521-530."
  ),
  smoothing = paste(
    "Exponential smoothing: Holt (1957), ONR Memorandum 52; Winters (1960), Management Science 6,",
    "324-342; as state-space models: Ord, Koehler and Snyder (1997), JASA 92, 1621-1629."
  ),
  arima = paste("ARIMA: Box and Jenkins (1970), Time Series Analysis: Forecasting and Control,",
                "Holden-Day."),
  blend = paste("Blends of forecasts: Bates and Granger (1969), Operational Research Quarterly 20,",
                "451-468."),
  intermittent = "Intermittent demand: Croston (1972), Operational Research Quarterly 23, 289-303.",
  backtest = paste(
    "Comparison of forecasts: Diebold and Mariano (1995), Journal of Business and Economic",
    "Statistics 13,",
    "253-263; corrected for few: Harvey, Leybourne and Newbold (1997), International Journal of",
    "Forecasting",
    "13, 281-291."
  ),
  scores = "Scores of intervals: Gneiting and Raftery (2007), JASA 102, 359-378."
)

source_notes <- function(parts) {
  used <- character()
  if (there(parts$pattern) && parts$pattern$method == "loess") used <- "loess"
  methods <- c(if (there(parts$forecast)) parts$forecast$methods,
               if (there(parts$backtest)) parts$backtest$methods)
  names <- unique(unlist(lapply(methods, method_names)))
  if ("auto" %in% names) names <- union(names, c("smoothing", "theta", "blend"))
  used <- c(used, intersect(names(method_sources), names),
            if (there(parts$backtest)) c("backtest", "scores"))
  unname(method_sources[unique(used)])
}

# A method's name, and those of its members.
method_names <- function(method) {
  if (!inherits(method, "kairon_method")) {
    return(character())
  }
  c(method$name, unlist(lapply(unclass(method), function(p) {
    if (inherits(p, "kairon_method")) method_names(p) else if (is.list(p)) lapply(p, method_names)
  })))
}

# A study that makes the report again, for data that came from somewhere.
draft_study <- function(parts) {
  meta <- timeline_meta(parts$x)
  kinds <- meta$kinds
  steps <- lapply(parts$routine$steps, study_step)
  lost <- vapply(steps, is.null, TRUE)
  value <- Filter(length, list(
    kairon_study = 1L,
    data = Filter(length, list(
      source = "data.csv", time = meta$time, series = as.list(meta$series),
      amounts = as.list(names(kinds)[kinds == "amount"]),
      levels = as.list(names(kinds)[kinds == "level"]),
      attributes = as.list(meta$attributes), units = as.list(meta$units[nzchar(meta$units)]),
      zone = meta$zone
    )),
    routine = steps[!lost],
    decomposition = if (there(parts$pattern)) list(method = parts$pattern$method),
    backtest = if (there(parts$backtest)) {
      list(horizon = parts$horizon, methods = as.list(method_keys(parts$backtest$methods)),
           cutoffs = nrow(parts$backtest$plan) %||% length(parts$backtest$plan$stamps))
    },
    forecast = if (there(parts$forecast)) {
      list(horizon = parts$horizon, method = as.list(method_keys(parts$forecast$methods)))
    },
    outputs = list(report = "report.html")
  ))
  c(
    "# data.csv stands for the file of the measurements, as write_timeline() writes it.",
    if (any(lost)) paste0("# Left out, since a study cannot hold it: step ",
                          paste(which(lost), collapse = ", "),
                          " of the routine."),
    if (!is.null(parts$methods)) "# Methods stand here with their usual settings.",
    strsplit(yaml::as.yaml(value, indent.mapping.sequence = TRUE, precision = 15), "\n")[[1]]
  )
}

method_keys <- function(methods) unname(vapply(methods, function(m) m$name, ""))

# A recorded step as a study writes it, or NULL where it holds what no study can.
study_step <- function(step) {
  args <- Filter(Negate(is.null), step$args)
  if (length(args) == 0) {
    return(step$verb)
  }
  made <- lapply(args, study_argument)
  labels <- names(args) %||% rep("", length(args))
  if (any(vapply(made, is.null, TRUE)) || any(labels == "") && length(made) > 1) {
    return(NULL)
  }
  rlang::set_names(list(if (identical(labels, "")) made[[1]] else rlang::set_names(made, labels)),
                   step$verb)
}

study_argument <- function(a) {
  if (inherits(a, "kairon_window") && !is.null(a$step)) {
    words <- paste(a$step$n, a$step$word)
    value <- if (identical(a$side, "fading")) list(half_life = words) else words
    return(rlang::set_names(list(value), a$side))
  }
  if (is.atomic(a) && !is.object(a)) {
    return(if (length(a) > 1 || !is.null(names(a))) as.list(a) else a)
  }
  NULL
}
