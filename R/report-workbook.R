# Workbooks for people: a backtest, or all of a report, in several sheets.

#' @export
result_sheets.kairon_backtest <- function(x) {
  list(backtest = sheet_columns(as.data.frame(x), timeline_meta(x$x)$time),
       scores = sheet_cells(as.data.frame(scores(x))),
       notes = notes_sheet(c(format(verdict(x)), format(x))))
}

# What a workbook shows of a report: words first, then the tables.
report_sheets <- function(parts, title) {
  time <- timeline_meta(parts$x)$time
  lines <- c(title, timeline_line(parts$x), "", unlist(lapply(findings_blocks(parts), block_words)))
  sheets <- list(findings = notes_sheet(lines))
  names(sheets$findings$cells) <- "findings"
  if (there(parts$forecast)) {
    made <- result_sheets(parts$forecast)
    sheets <- c(sheets, made[c("forecast", "history")])
  } else {
    sheets$history <- sheet_columns(parts$grid)
  }
  if (there(parts$backtest)) sheets$scores <- sheet_cells(as.data.frame(scores(parts$backtest)))
  about <- provenance_columns(parts)
  notes <- c(if (!is.null(parts$routine)) format(parts$routine),
             if (there(parts$forecast)) trimws(format(parts$forecast)), paste0(about$what, ": ", about$value),
             source_notes(parts))
  sheets$notes <- notes_sheet(notes)
  sheets
}

block_words <- function(block) c(block$text, block$items)
