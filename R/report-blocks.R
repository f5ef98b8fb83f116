# What a report is made of: blocks of text, lists, tables, figures and code, and the reason where
# one failed.

or_reason <- function(expr) {
  tryCatch(expr, kairon_error = function(e) e)
}

failed <- function(part) inherits(part, "error")

block_text <- function(..., note = FALSE) {
  list(kind = "text", text = visible(paste(..., collapse = " ")), note = note)
}

# Many series have many lines: the first ones, and how many more. `lead`: what is to be read first.
block_list <- function(items, most = 14, lead = FALSE) {
  items <- visible(as.character(items))
  left <- length(items) - most
  list(kind = "list",
       items = if (left > 1) c(utils::head(items, most), paste("and", left, "more")) else items,
       lead = lead)
}

block_code <- function(lines, name = NULL) list(kind = "code", lines = visible(lines), name = name)

# `data`: what is behind the figure, a data frame; `name`: of the file it is saved to; `live`: the
# same for a figure that can be asked (report-page.R). Drawn at once, since several forms of a
# report share it.
block_figure <- function(plot, alt, name, data = NULL, height = 5.2, live = NULL) {
  svg <- svglite::svgstring(
    width = 8.2, height = height, standalone = TRUE, fix_text_size = FALSE,
    system_fonts = list(sans = "DejaVu Sans")
  )
  tryCatch(suppressMessages(print(plot)), finally = grDevices::dev.off())
  list(kind = "figure", svg = visible(paste(svg(), collapse = "\n"), "\n\t"), alt = visible(alt),
    name = name, data = data, live = live)
}

most_table_rows <- 400

# `lines`: values for a small line in each row.
block_table <- function(columns, caption, name, folded = FALSE, lines = NULL) {
  count <- length(columns[[1]])
  if (count > most_table_rows) {
    caption <- paste0(caption, " (the first ", most_table_rows, " of ", show_number(count, 9),
                      " rows)")
    columns <- lapply(columns, utils::head, most_table_rows)
  }
  columns <- lapply(columns, function(v) {
    if (is.character(v) || is.factor(v)) visible(as.character(v)) else v
  })
  names(columns) <- visible(names(columns))
  list(kind = "table", columns = columns, caption = visible(caption), name = name, folded = folded,
    lines = lines)
}

block_reason <- function(e) {
  why <- sub("\\.$", "", cli::ansi_strip(first_words(e)))
  block_text(paste0("Not possible with these data: ", why, "."), note = TRUE)
}
