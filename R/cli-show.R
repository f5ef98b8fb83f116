# Where results go.

# Where a table goes: to a file, as CSV into a pipe, in words on a terminal.
# `book`: the result that a workbook shows in several sheets.
show_result <- function(object, table, options, words = format(object), book = NULL) {
  if (!is.null(options$figure)) write_figure(object, options)
  above <- if (is_timeline(table) && !isTRUE(options$plain)) header_lines(table)
  rows <- function() {
    columns <- plain_columns(as.data.frame(table))
    if (isTRUE(options$spreadsheet_safe) && !isTRUE(options$json)) safe_columns(columns) else columns
  }
  if (!is.null(options$output)) {
    # JSON stays an array of records, which is what programs expect.
    header <- length(above) > 0 && tolower(tools::file_ext(options$output)) != "json"
    if (!is.null(book) && format_by_ending(options$output) == "workbook") {
      write_timeline(book, options$output)
    } else {
      write_rows_as(if (is_timeline(table)) table else as.data.frame(table), options$output, header,
                    safe = isTRUE(options$spreadsheet_safe))
    }
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

write_figure <- function(object, options) {
  drawn_to(function() {
    if (is.null(options$figure_type)) autoplot(object) else autoplot(object, show = options$figure_type)
  }, options)
}

drawn_to <- function(draw, options) {
  path <- options$figure
  size <- figure_inches(options$figure_size)
  before <- if (isTRUE(options$dark)) figure_style("dark")
  tryCatch({
    # What is wrong with the call is told as it is, not as a file that cannot be written.
    made <- draw()
    draw_file(made, path, size)
  }, finally = if (isTRUE(options$dark)) do.call(figure_style, before))
  say("i Written: ", path)
}

# Said before anything is read.
check_outputs <- function(options, name, verb) {
  if (!is.null(options$output) && !isFALSE(verb$output) && name != "report") {
    rlang::try_fetch(format_by_ending(options$output),
                     kairon_error = function(cnd) abort_usage(verbatim(error_lines(cnd)), name))
  }
  figure <- options$figure
  if (!is.null(figure) && !tolower(tools::file_ext(figure)) %in% figure_endings) {
    abort_usage("a figure must end in .png, .svg or .pdf, not {.val {figure}}.", name)
  }
  figure_inches(options$figure_size)
}

figure_inches <- function(text) {
  if (is.null(text)) {
    return(NULL)
  }
  size <- suppressWarnings(as.numeric(strsplit(text, "[,x]")[[1]]))
  if (length(size) != 2 || anyNA(size) || any(size < 1 | size > 100)) {
    abort_usage("--figure-size must be width and height in inches, such as {.val 9,5}, not {.val {text}}.")
  }
  size
}
