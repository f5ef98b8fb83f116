# Blocks as Markdown, with figures in a folder beside it.

write_markdown <- function(sections, file, title, line) {
  folder <- paste0(tools::file_path_sans_ext(file), "-figures")
  if (file.exists(folder) && !dir.exists(folder)) {
    abort_file("{.file {folder}} stands where the folder of figures should be.", call = rlang::caller_env(2))
  }
  stage <- partial_name(dirname(file))
  if (!suppressWarnings(dir.create(stage))) {
    abort_file("There is no folder {.file {dirname(file)}} to write to.", call = rlang::caller_env(2))
  }
  on.exit(unlink(stage, recursive = TRUE))
  lines <- c(paste("#", plain_markdown(title)), "", plain_markdown(line), "")
  for (s in sections) {
    lines <- c(lines, paste("##", s$head), "", unlist(lapply(s$blocks, markdown_block, stage = stage,
                                                             folder = basename(folder))))
  }
  write_text(lines, file)
  dir.create(folder, showWarnings = FALSE)
  names <- list.files(stage)
  if (!all(file.rename(file.path(stage, names), file.path(folder, names)))) {
    abort_file("The figures cannot be moved to {.file {folder}}.", call = rlang::caller_env(2))
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
