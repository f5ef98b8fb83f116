# Blocks as one HTML page: everything is in it, nothing comes from any network.

write_html <- function(sections, file, title, line) {
  write_text(html_page(sections, title, line), file)
}

html_page <- function(sections, title, line) {
  body <- htmltools::tagList(
    htmltools::tags$h1(dir = "auto", title),
    htmltools::tags$p(class = "span", line),
    htmltools::tags$nav(`aria-label` = "Contents", htmltools::tags$ul(lapply(sections, function(s) {
      htmltools::tags$li(htmltools::tags$a(href = paste0("#", s$id), s$head))
    }))),
    lapply(sections, function(s) {
      htmltools::tags$section(id = s$id, htmltools::tags$h2(s$head),
                              lapply(s$blocks, html_block))
    })
  )
  live <- any(vapply(sections, function(s) {
    any(vapply(s$blocks, function(b) !is.null(b$live), TRUE))
  }, TRUE))
  scripts <- c(if (live) report_file("uPlot.iife.min.js"), report_file("live.js"))
  style <- c(if (live) report_file("uPlot.min.css"), report_file("report.css"))
  paste0(
    "<!DOCTYPE html>\n<html lang=\"en-GB\">\n<head>\n<meta charset=\"utf-8\">\n",
    # Whatever the data hold, the page asks for nothing.
    "<meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; img-src data:; ",
    "style-src 'unsafe-inline'; script-src 'unsafe-inline'\">\n",
    "<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n",
    "<title>", htmltools::htmlEscape(title), "</title>\n<style>\n", paste(style, collapse = "\n"),
    "\n</style>\n</head>\n<body>\n<main>\n", as.character(body), "\n</main>\n",
    paste0("<script>\n", scripts, "\n</script>\n", collapse = ""), "</body>\n</html>"
  )
}

html_block <- function(block) {
  switch(block$kind,
    text = htmltools::tags$p(class = if (block$note) "note", block$text),
    list = htmltools::tags$ul(class = if (block$lead) "findings",
                              lapply(block$items, htmltools::tags$li)),
    code = htmltools::tagList(
      htmltools::tags$pre(paste(block$lines, collapse = "\n")),
      if (!is.null(block$name)) {
        htmltools::tags$p(class = "save",
                          save_link(paste(block$lines, collapse = "\n"), block$name, "text/yaml"))
      }
    ),
    figure = html_figure(block$svg, block$alt, block$data, block$name, block$live),
    table = html_table(block$columns, block$caption, block$folded, block$lines, block$name)
  )
}

html_figure <- function(svg, alt, data = NULL, name = "figure", live = NULL) {
  text <- sub("^<\\?xml[^>]*>\\s*", "", svg)
  text <- sub("<svg ", paste0(
    "<svg role=\"img\" aria-label=\"", htmltools::htmlEscape(alt, attribute = TRUE), "\" "
  ), text, fixed = TRUE)
  htmltools::tags$figure(
    `data-live` = if (!is.null(live)) name,
    htmltools::tags$div(class = "drawn", htmltools::HTML(unique_ids(text))),
    if (!is.null(live)) {
      htmltools::tagList(
        htmltools::tags$div(class = "live", hidden = NA),
        htmltools::tags$script(type = "application/json", htmltools::HTML(live_json(live)))
      )
    },
    htmltools::tags$figcaption(alt, if (!is.null(data)) data_link(data, name))
  )
}

# Clip paths of several figures on one page must not share their names.
figure_count <- new.env(parent = emptyenv())

unique_ids <- function(svg) {
  figure_count$n <- (figure_count$n %||% 0) + 1
  mark <- paste0("f", figure_count$n, "-")
  svg <- gsub("id='cp", paste0("id='", mark, "cp"), svg, fixed = TRUE)
  gsub("url(#cp", paste0("url(#", mark, "cp"), svg, fixed = TRUE)
}

most_saved_rows <- 20000

# The rows behind a figure, in the page itself.
data_link <- function(data, name) {
  if (nrow(data) > most_saved_rows) {
    return(paste0(" The ", show_number(nrow(data), 9),
                  " rows behind it are too many for this page."))
  }
  rounded <- data
  numbers <- vapply(rounded, is.double, TRUE) & !vapply(rounded, is.object, TRUE)
  # Fifteen digits of computed numbers would make the page several times as heavy.
  rounded[numbers] <- lapply(rounded[numbers], saved_numbers)
  out <- tempfile(fileext = ".csv")
  on.exit(unlink(out))
  data.table::fwrite(plain_columns(rounded), out, na = "")
  text <- paste(readLines(out, encoding = "UTF-8", warn = FALSE), collapse = "\n")
  htmltools::tagList(" ",
                     save_link(text, paste0(name, ".csv"), "text/csv", "Save the data behind it"))
}

save_link <- function(text, name, type, label = paste("Save", name)) {
  code <- jsonlite::base64_enc(charToRaw(enc2utf8(paste0(text, "\n"))))
  htmltools::tags$a(class = "save", download = name,
                    href = paste0("data:", type, ";charset=utf-8;base64,", gsub("\n", "", code)),
                    label)
}

# Numbers of a column alike, dashes where there is nothing.
table_cells <- function(columns) {
  lapply(columns, function(v) {
    if (is.numeric(v)) show_column(v) else ifelse(is.na(v), "-", as.character(v))
  })
}

html_table <- function(columns, caption, folded = FALSE, lines = NULL, name = NULL) {
  number <- vapply(columns, function(v) is.numeric(v) || all(grepl("^([-+]?[0-9.,]+ %|-)?$", v)),
                   TRUE)
  cells <- table_cells(columns)
  head <- Map(function(name, n) {
    htmltools::tags$th(class = if (n) "number", scope = "col", name)
  }, names(cells), number)
  small <- lapply(lines, small_svg)
  count <- length(cells[[1]])
  # One string a row: thousands of tags one by one take their time.
  safe <- lapply(cells, htmltools::htmlEscape)
  open <- function(i) {
    long <- nchar(vapply(cells, `[`, "", i)) > 48
    text <- ifelse(long, "<td dir=\"auto\" class=\"long\">", "<td dir=\"auto\">")
    ifelse(number, "<td class=\"number\">", text)
  }
  body <- vapply(seq_len(count), function(i) {
    row <- paste0(open(i), vapply(safe, `[`, "", i), "</td>", collapse = "")
    paste0("<tr>", row, if (length(small)) paste0("<td>", small[[i]], "</td>"), "</tr>")
  }, "")
  table <- htmltools::tags$div(class = "wide", htmltools::tags$table(
    htmltools::tags$caption(caption),
    htmltools::tags$thead(htmltools::tags$tr(
      unname(head), if (length(small)) htmltools::tags$th(scope = "col", "over time")
    )),
    htmltools::tags$tbody(htmltools::HTML(paste(body, collapse = "\n")))
  ), if (!is.null(name)) {
    htmltools::tags$p(class = "save", data_link(as.data.frame(columns, check.names = FALSE), name))
  })
  if (!folded) {
    return(table)
  }
  htmltools::tags$details(htmltools::tags$summary(paste0(caption, ", ", plural(count, "row"))),
                          table)
}

# A line of 140 by 26 pixels; it breaks where nothing was measured.
small_svg <- function(values) {
  range <- range(values, na.rm = TRUE, finite = TRUE)
  if (!all(is.finite(range))) {
    return("")
  }
  x <- (seq_along(values) - 1) / max(1, length(values) - 1) * 138 + 1
  y <- 24 - (values - range[1]) / max(range[2] - range[1], 1e-300) * 22 + 1
  if (range[1] == range[2]) y[!is.na(values)] <- 13
  there <- !is.na(values)
  run <- cumsum(c(TRUE, diff(there) != 0))
  parts <- vapply(split(seq_along(values)[there], run[there]), function(i) {
    if (length(i) == 1) i <- c(i, i)
    paste0("M", paste(sprintf("%.1f %.1f", x[i], y[i]), collapse = "L"))
  }, "")
  paste0("<svg class=\"small\" width=\"140\" height=\"26\" viewBox=\"0 0 140 26\" ",
         "aria-hidden=\"true\"><path d=\"",
         paste(parts, collapse = ""), "\" fill=\"none\" stroke=\"", ink("observed"), "\"/></svg>")
}

# Blocks as Markdown, with figures in a folder beside it.

write_markdown <- function(sections, file, title, line) {
  folder <- paste0(tools::file_path_sans_ext(file), "-figures")
  if (file.exists(folder) && !dir.exists(folder)) {
    abort_file("{.file {folder}} stands where the folder of figures should be.")
  }
  stage <- partial_name(dirname(file))
  if (!suppressWarnings(dir.create(stage))) {
    abort_file("There is no folder {.file {dirname(file)}} to write to.")
  }
  on.exit(unlink(stage, recursive = TRUE))
  lines <- c(paste("#", plain_markdown(title)), "", plain_markdown(line), "")
  for (s in sections) {
    lines <- c(lines, paste("##", s$head), "",
               unlist(lapply(s$blocks, markdown_block, stage = stage,
                                                             folder = basename(folder))))
  }
  write_text(lines, file)
  dir.create(folder, showWarnings = FALSE)
  names <- list.files(stage)
  if (!all(file.rename(file.path(stage, names), file.path(folder, names)))) {
    abort_file("The figures cannot be moved to {.file {folder}}.")
  }
  invisible(file)
}

markdown_block <- function(block, stage, folder) {
  switch(block$kind,
    text = c(plain_markdown(block$text), ""),
    list = c(paste("-", plain_markdown(block$items)), ""),
    code = c("```", gsub("```", "` ` `", block$lines, fixed = TRUE), "```", ""),
    figure = markdown_figure(block, stage, folder),
    table = markdown_table(block, stage, folder)
  )
}

markdown_figure <- function(block, stage, folder) {
  write_text(block$svg, file.path(stage, paste0(block$name, ".svg")))
  saved <- if (!is.null(block$data)) markdown_data(block$data, block$name, stage, folder)
  alt <- plain_markdown(gsub("[][\n]", " ", block$alt))
  c(paste0("![", alt, "](", folder, "/", block$name, ".svg)"), "", saved)
}

markdown_data <- function(data, name, stage, folder) {
  write_whole(file.path(stage, paste0(name, ".csv")),
              function(partial) write_rows(plain_columns(data), partial))
  c(paste0("[The data behind it](", folder, "/", name, ".csv)"), "")
}

markdown_table <- function(block, stage, folder) {
  cells <- lapply(table_cells(block$columns), plain_markdown)
  number <- vapply(block$columns, is.numeric, TRUE)
  most <- if (block$folded) 20 else 200
  rows <- do.call(paste, c(unname(cells), sep = " | "))
  shown <- utils::head(rows, most)
  c(
    paste0("*", plain_markdown(block$caption), "*"), "",
    paste0("| ", paste(plain_markdown(names(cells)), collapse = " | "), " |"),
    paste0("| ", paste(ifelse(number, "---:", "---"), collapse = " | "), " |"),
    paste0("| ", shown, " |"), "",
    if (length(rows) > most) c(paste0("The first ", most, " of ", length(rows), " rows."), ""),
    if (length(rows) > most) {
      markdown_data(as.data.frame(block$columns, check.names = FALSE), block$name, stage, folder)
    }
  )
}

# Text that stays text: no markup of the data's comes through, no line is broken.
plain_markdown <- function(text) {
  text <- gsub("[\r\n]+", " ", enc2utf8(as.character(text)))
  text <- gsub("&", "&amp;", text, fixed = TRUE)
  text <- gsub("<", "&lt;", text, fixed = TRUE)
  text <- gsub("([\\\\`*_{}\\[\\]|#])", "\\\\\\1", text, perl = TRUE)
  # What would begin a list or a quotation.
  text <- sub("^([-+] |>)", "\\\\\\1", text)
  sub("^([0-9]+)([.)])( |$)", "\\1\\\\\\2\\3", text)
}

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
             if (there(parts$forecast)) trimws(format(parts$forecast)),
             paste0(about$what, ": ", about$value), source_notes(parts))
  sheets$notes <- notes_sheet(notes)
  sheets
}

block_words <- function(block) c(block$text, block$items)

report_file <- function(name) {
  path <- system.file("report", name, package = "kairon", mustWork = TRUE)
  paste(readLines(path, encoding = "UTF-8", warn = FALSE), collapse = "\n")
}
