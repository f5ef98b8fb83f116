#' Write a report that can be sent to somebody without R
#'
#' One self-contained HTML page: findings in plain words first, then the
#' readings, their pattern, a forecast and how wrong such forecasts have been.
#' It needs no network and no scripts; every figure has an alternative text.
#'
#' @param x A timeline.
#' @param file Where to write the page.
#' @param title Its title.
#' @param horizon How far to forecast: a duration or steps. Default: two
#'   seasons, or 12 steps without one.
#' @param routine Preparation steps, a [routine()]. An irregular timeline
#'   without one is summarised by day, and the report says so.
#' @param methods Methods to compare; see [backtest()].
#' @returns `file`, invisibly.
#' @examples
#' page <- tempfile(fileext = ".html")
#' report(demo_timeline("billed"), page, title = "Billed volume")
#' @export
report <- function(x, file, title = "Report on timestamped measurements",
                   horizon = NULL, routine = NULL, methods = NULL) {
  check_timeline(x)
  check_string(file)
  check_string(title)
  check_routine(routine)
  parts <- quietly(report_parts(x, horizon, routine, methods))
  page <- report_page(parts, title)
  write_whole(file, function(partial) {
    con <- file(partial, "wb")
    on.exit(close(con))
    writeLines(enc2utf8(page), con, useBytes = TRUE)
  })
}

# Everything that the page says; what the data do not allow is left out with
# the reason.
report_parts <- function(x, horizon, routine, methods) {
  note <- NULL
  if (is.null(routine) && !is_regular(x)) {
    routine <- routine() |>
      resample("1 day") |>
      impute("linear", longest = "3 days")
    note <- paste(
      "The readings are irregular; pattern and forecast rest on daily values,",
      "gaps of up to three days filled."
    )
  }
  grid <- replay(routine, x)
  steps <- horizon %||% usual_horizon(grid)
  list(
    x = x, grid = grid, note = note, routine = routine,
    inspection = inspect(x),
    standing = or_reason(standing(x)),
    pattern = or_reason(decomposition(grid)),
    forecast = or_reason(forecast(x, steps, report_method(methods), routine = routine)),
    diagnosis = or_reason(diagnosis(fit(some_of(grid), (report_method(methods) %||% list(by_auto()))[[1]],
                                        measures = first_measure(grid)))),
    backtest = or_reason(report_backtest(x, grid, methods, steps, routine))
  )
}

# The automatic choice beside the habits that it has to beat, at three cutoffs.
report_backtest <- function(x, grid, methods, steps, routine) {
  if (!is.null(methods)) {
    return(backtest(x, methods, steps, routine = routine))
  }
  own <- c(list(auto = by_auto()), baseline_methods(grid)[c("naive", "seasonal naive")])
  own <- Filter(Negate(is.null), own)
  tryCatch(backtest(x, own, steps, cutoffs = 3, routine = routine),
           kairon_error = function(e) backtest(x, own, steps, routine = routine))
}

# The measure that a report fits: the first that is no raw value kept beside.
first_measure <- function(x) names(timeline_meta(x)$kinds)[1]

# The first series, which stand for all where there are many.
some_of <- function(x, most = 3) {
  labels <- row_labels(x)
  x[labels %in% utils::head(unique(labels), most), ]
}

usual_horizon <- function(x) {
  cadence <- timeline_meta(x)$cadence
  season <- usual_season(cadence)
  if (is.null(season)) 12 else max(2, round(2 * season_steps(season, cadence)))
}

report_method <- function(methods) if (is.null(methods)) NULL else as_methods(methods)[1]

or_reason <- function(expr) {
  tryCatch(expr, kairon_error = function(e) e)
}

failed <- function(part) inherits(part, "error")

# The page ----

report_page <- function(parts, title) {
  body <- htmltools::tagList(
    htmltools::tags$h1(title),
    htmltools::tags$p(class = "span", timeline_line(parts$x)),
    contents_list(),
    findings_section(parts),
    readings_section(parts),
    standing_section(parts),
    pattern_section(parts),
    forecast_section(parts),
    backtest_section(parts),
    diagnosis_section(parts),
    method_section(parts)
  )
  paste0(
    "<!DOCTYPE html>\n<html lang=\"en-GB\">\n<head>\n<meta charset=\"utf-8\">\n",
    "<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n",
    "<title>", htmltools::htmlEscape(title), "</title>\n<style>\n", report_style(),
    "\n</style>\n</head>\n<body>\n<main>\n", as.character(body), "\n</main>\n</body>\n</html>"
  )
}

report_heads <- c(
  findings = "What the data say", readings = "The readings", standing = "Is it rising or falling?",
  pattern = "Pattern and season", forecast = "What comes next",
  backtest = "How wrong such forecasts have been",
  diagnosis = "What the method has left", method = "How it was made"
)

contents_list <- function() {
  htmltools::tags$nav(`aria-label` = "Contents", htmltools::tags$ul(lapply(names(report_heads), function(id) {
    htmltools::tags$li(htmltools::tags$a(href = paste0("#", id), report_heads[[id]]))
  })))
}

report_style <- function() {
  paste(readLines(system.file("report", "report.css", package = "kairon", mustWork = TRUE)),
        collapse = "\n")
}

report_section <- function(id, ...) {
  htmltools::tags$section(id = id, htmltools::tags$h2(report_heads[[id]]), ...)
}

findings_section <- function(parts) {
  says <- c(
    parts$inspection$findings,
    if (!failed(parts$standing)) format(parts$standing)[1],
    if (!failed(parts$pattern)) utils::head(format(parts$pattern)[-1], 2),
    if (!failed(parts$backtest)) paste(format(verdict(parts$backtest)), collapse = " "),
    if (!failed(parts$forecast)) forecast_sentence(parts$forecast)
  )
  report_section("findings",
    htmltools::tags$ul(class = "findings", lapply(says, htmltools::tags$li))
  )
}

forecast_sentence <- function(f) {
  meta <- timeline_meta(f$history)
  stamps <- range(f$table[[meta$time]])
  shown <- show_stamp(to_seconds(stamps), meta$type, meta$zone)
  measure <- f$measures[1]
  rows <- f$table[f$table$measure == measure & f$table$method == f$table$method[1], ]
  past <- forecast_past(f, measure, unique(forecast_labels(rows, f)), f$horizon)
  unit <- meta$units[[measure]]
  n <- length(unique(forecast_labels(rows, f)))
  paste0(
    "From ", shown[1], " to ", shown[2], ", ", measure, " is expected at ",
    trimws(paste(show_number(mean(rows$value, na.rm = TRUE)), unit)),
    " a step on average", if (n > 1) paste0(" over ", n, " series"), "; in the ",
    plural(f$horizon, "step"), " before it was ",
    trimws(paste(show_number(mean(past$value, na.rm = TRUE)), unit)), "."
  )
}

readings_section <- function(parts) {
  x <- parts$x
  report_section("readings",
    html_figure(autoplot(x), paste0(
      "Line chart of ", word_list(names(timeline_meta(x)$kinds), 4), ", ", timeline_line(x),
      ". Stretches without values are shaded."
    )),
    html_table(inspection_columns(parts$inspection), "Health of each series"),
    html_figure(autoplot(parts$inspection), "Map of the share of readings present for each series over time.",
                height = 4.2),
    htmltools::tags$p(paste0("Where the values come from: ",
                             paste(format(origins(parts$grid)), collapse = "; "), ".")),
    if (!is.null(parts$note)) htmltools::tags$p(class = "note", parts$note)
  )
}

standing_section <- function(parts) {
  s <- parts$standing
  report_section("standing",
    if (failed(s)) {
      reason(s)
    } else {
      htmltools::tagList(
        htmltools::tags$ul(lapply(format(s), htmltools::tags$li)),
        html_figure(autoplot(s), paste0(
          "The values of ", s$measures[1], " by ", s$period, ", behind the mean of the trailing year."
        ))
      )
    }
  )
}

pattern_section <- function(parts) {
  d <- parts$pattern
  report_section("pattern",
    if (failed(d)) {
      reason(d)
    } else {
      htmltools::tagList(
        htmltools::tags$ul(lapply(format(d)[-1], htmltools::tags$li)),
        html_figure(autoplot(d), paste0(
          "Four panels: ", d$measures[1], ", its trend, its season and what is left."
        )),
        html_table(as.list(strength(d)), "Strength of trend and season (0 nothing, 1 everything)")
      )
    }
  )
}

forecast_section <- function(parts) {
  f <- parts$forecast
  report_section("forecast",
    if (failed(f)) {
      reason(f)
    } else {
      htmltools::tagList(
        htmltools::tags$p(paste(trimws(format(f)), collapse = " ")),
        html_figure(autoplot(f), paste0(
          "Forecast of ", f$measures[1], " with prediction intervals, behind its recent history."
        )),
        html_table(forecast_columns(f), "The forecast", folded = TRUE)
      )
    }
  )
}

forecast_columns <- function(f) {
  meta <- timeline_meta(f$history)
  table <- utils::head(f$table, 400)
  table[[meta$time]] <- show_stamp(to_seconds(table[[meta$time]]), meta$type, meta$zone)
  as.list(table[setdiff(names(table), c("origin", "ahead"))])
}

backtest_section <- function(parts) {
  b <- parts$backtest
  report_section("backtest",
    if (failed(b)) {
      reason(b)
    } else {
      s <- scores(b)
      htmltools::tagList(
        htmltools::tags$p(paste(format(verdict(b)), collapse = " ")),
        html_figure(autoplot(s), "Table of scores by method, the better the bluer.", height = 4.2),
        html_figure(autoplot(b), "Forecasts made at past cutoffs beside what came true."),
        comparison_parts(b),
        htmltools::tags$p(class = "note", paste(trimws(format(b)), collapse = " "))
      )
    }
  )
}

comparison_parts <- function(b) {
  measure <- b$measures[1]
  r <- or_reason(ranking(b))
  htmltools::tagList(
    html_figure(autoplot(b, show = "ahead"),
                paste0("Mean absolute error of ", measure, " by step ahead, a line for each method."),
                height = 4.6),
    html_figure(autoplot(b, show = "coverage"),
                "How often observed values lay within the intervals, against their level.",
                height = 4.2),
    if (!failed(r)) htmltools::tags$p(paste(ranking_words(r), collapse = " "))
  )
}

# Coefficients of the method that forecasts, and what its errors still tell.
diagnosis_section <- function(parts) {
  d <- parts$diagnosis
  report_section("diagnosis",
    if (failed(d)) {
      reason(d)
    } else {
      table <- coef(d$fit)
      htmltools::tagList(
        htmltools::tags$p(paste0(
          sub(":$", "", format(d)[1]), if (series_count(parts$grid) > length(d$labels)) {
            paste0(" (the first ", length(d$labels), " of ", series_count(parts$grid), " series)")
          }, ":"
        )),
        htmltools::tags$ul(lapply(trimws(format(d)[-1]), htmltools::tags$li)),
        if (d$table$values[1] >= 8) html_figure(autoplot(d), paste0(
          "One-step errors of ", d$fit$measure, " in time, by part of the calendar, by step ahead, their ",
          "correlation with earlier errors, and their quantiles against the normal distribution."
        )),
        if (nrow(table)) {
          html_table(as.list(utils::head(table, 200)), "Coefficients of the method",
                     folded = nrow(table) > 12)
        }
      )
    }
  )
}

reason <- function(e) {
  why <- sub("\\.$", "", cli::ansi_strip(rlang::cnd_header(e)))
  htmltools::tags$p(class = "note", paste0("Not possible with these data: ", why, "."))
}

method_section <- function(parts) {
  meta <- timeline_meta(parts$x)
  rows <- list(
    program = c("Kairon", as.character(utils::packageVersion("kairon"))),
    language = c("R", paste(R.version$major, R.version$minor, sep = ".")),
    rows = c("Rows", show_number(nrow(parts$x), 9)),
    zone = c("Zone", meta$zone)
  )
  report_section("method",
    if (!is.null(parts$routine)) {
      htmltools::tags$pre(paste(format(parts$routine), collapse = "\n"))
    },
    html_table(list(what = vapply(rows, `[`, "", 1), value = vapply(rows, `[`, "", 2)), "Provenance"),
    htmltools::tags$p(
      "Only measured values are scored: observed ones, and summaries of enough observed ",
      "readings. Interpolated, imputed, repaired and forecast values are drawn hollow and ",
      "never count as measured."
    )
  )
}

# Pieces ----

html_figure <- function(plot, alt, width = 10, height = 6.2) {
  svg <- svglite::svgstring(
    width = width, height = height, standalone = FALSE, fix_text_size = FALSE,
    system_fonts = list(sans = "DejaVu Sans")
  )
  tryCatch(print(plot), finally = grDevices::dev.off())
  text <- sub("^<\\?xml[^>]*>", "", paste(svg(), collapse = "\n"))
  text <- sub("<svg ", paste0(
    "<svg role=\"img\" aria-label=\"", htmltools::htmlEscape(alt, attribute = TRUE), "\" "
  ), text, fixed = TRUE)
  htmltools::tags$figure(htmltools::HTML(unique_ids(text)), htmltools::tags$figcaption(alt))
}

# Clip paths of several figures on one page must not share their names.
figure_count <- new.env(parent = emptyenv())

unique_ids <- function(svg) {
  figure_count$n <- (figure_count$n %||% 0) + 1
  mark <- paste0("f", figure_count$n, "-")
  svg <- gsub("id='cp", paste0("id='", mark, "cp"), svg, fixed = TRUE)
  gsub("url(#cp", paste0("url(#", mark, "cp"), svg, fixed = TRUE)
}

html_table <- function(columns, caption, folded = FALSE) {
  number <- vapply(columns, is.numeric, logical(1))
  cells <- lapply(columns, function(v) {
    if (is.numeric(v)) show_column(v) else ifelse(is.na(v), "-", as.character(v))
  })
  head <- Map(function(name, n) {
    htmltools::tags$th(class = if (n) "number", scope = "col", name)
  }, names(cells), number)
  rows <- lapply(seq_along(cells[[1]]), function(i) {
    htmltools::tags$tr(Map(function(cell, n) {
      htmltools::tags$td(class = if (n) "number", cell[i])
    }, unname(cells), unname(number)))
  })
  table <- htmltools::tags$div(class = "wide", htmltools::tags$table(
    htmltools::tags$caption(caption),
    htmltools::tags$thead(htmltools::tags$tr(unname(head))),
    htmltools::tags$tbody(rows)
  ))
  if (!folded) {
    return(table)
  }
  htmltools::tags$details(htmltools::tags$summary(paste0(caption, ", ", plural(length(rows), "row"))), table)
}
