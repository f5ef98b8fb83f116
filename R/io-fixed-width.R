# Columns that begin and end at fixed places of each line.

# `widths`: characters of each column, named, or unnamed with the names in the first line; a negative one is
# skipped.
read_fixed_width <- function(path, name, widths, call) {
  good <- is.numeric(widths) && length(widths) > 0 && all(is.finite(widths)) &&
    all(widths == round(widths)) &&
    all(widths != 0)
  if (!good) {
    abort_input(c("{.arg widths} must be whole numbers, the characters of each column.",
                  i = "Such as {.code widths = c(day = 10, flow = 8)}; a negative one is skipped."),
              call = call)
  }
  lines <- mend_bytes(readLines(path, warn = FALSE))
  at <- which(nzchar(trimws(lines)) & !startsWith(lines, "#"))
  ends <- cumsum(abs(widths))
  starts <- ends - abs(widths) + 1
  kept <- which(widths > 0)
  cells <- function(i) lapply(kept, function(j) trimws(substr(lines[i], starts[j], ends[j])))
  names <- names(widths)[kept]
  if (is.null(names)) {
    names <- unlist(cells(at[1]))
    at <- at[-1]
  }
  if (length(at) == 0 || !all(nzchar(names))) {
    abort_input(c("{.file {name}} does not give a name to every column.",
                  i = "Name the widths: {.code widths = c(day = 10, flow = 8)}."), call = call,
                .envir = environment())
  }
  # A line that ends within a column that others fill is told, not read as a shorter number.
  length <- nchar(lines[at])
  last <- starts[utils::tail(kept, 1)]
  short <- length < last
  data <- rlang::set_names(lapply(cells(at[!short]), function(v) replace(v, v %in% c("", "NA"), NA)), names)
  rejects <- if (any(short)) {
    data.frame(line = at[short], reason = paste0("ends after ", length[short], " characters"),
               text = lines[at[short]])
  }
  list(data = as.data.frame(data, optional = TRUE), lines = at[!short], where = "line", rejects = rejects)
}
