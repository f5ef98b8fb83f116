# Where results go.

# Where a table goes: to a file, as CSV into a pipe, in words on a terminal.
show_result <- function(object, table, options, words = format(object)) {
  if (!is.null(options$figure)) write_figure(object, options$figure, isTRUE(options$dark))
  above <- if (is_timeline(table) && !isTRUE(options$plain)) header_lines(table)
  rows <- function() plain_columns(as.data.frame(table))
  if (!is.null(options$output)) {
    # JSON stays an array of records, which is what programs expect.
    header <- length(above) > 0 && tolower(tools::file_ext(options$output)) != "json"
    write_rows_as(if (is_timeline(table)) table else as.data.frame(table), options$output, header)
    say("i Written: ", options$output)
  } else if (isTRUE(options$json)) {
    show_lines(as_json(rows()))
  } else if (isatty(stdout())) {
    show_lines(words)
  } else {
    if (length(above)) writeLines(above, useBytes = TRUE)
    data.table::fwrite(rows(), "", na = "")
  }
}

# As printed in R, with the way on that a shell user has.
printed <- function(object) {
  sub(": as.data.frame()", "; --output writes all", utils::capture.output(print(object)), fixed = TRUE)
}

write_figure <- function(object, path, dark = FALSE) {
  ending <- tolower(tools::file_ext(path))
  if (!ending %in% c("png", "svg", "pdf")) {
    abort_usage("a figure must end in .png, .svg or .pdf, not {.val {path}}.")
  }
  before <- if (dark) figure_style("dark")
  tryCatch(draw_file(autoplot(object), path), finally = if (dark) do.call(figure_style, before))
  say("i Written: ", path)
}
