# Numbers and lists as people write them.

# Text from outside may hold what steers a terminal: escapes, line breaks, marks that turn the
# direction of writing. It is shown as what it is, `\\x1b`, never sent.
control_marks <- "[\\x{01}-\\x{1f}\\x{7f}-\\x{9f}\\x{202a}-\\x{202e}\\x{2066}-\\x{2069}]"

# `keep`: characters that may stay, such as line breaks in running text.
has_controls <- function(text, keep = "") {
  text <- enc2utf8(as.character(text))
  ok <- validUTF8(text)
  out <- !ok
  out[ok] <- grepl(control_class(keep), text[ok], perl = TRUE)
  out
}

control_class <- function(keep) {
  paste0("(*UTF)", if (nzchar(keep)) paste0("(?![", keep, "])"), control_marks)
}

visible <- function(text, keep = "") {
  hit <- which(has_controls(text, keep) & !is.na(text))
  if (length(hit) == 0) {
    return(text)
  }
  bad <- enc2utf8(as.character(text[hit]))
  broken <- !validUTF8(bad)
  bad[broken] <- iconv(bad[broken], "latin1", "UTF-8")
  marks <- gregexpr(control_class(keep), bad, perl = TRUE)
  regmatches(bad, marks) <- lapply(regmatches(bad, marks), escape_controls)
  text[hit] <- bad
  text
}

escape_controls <- function(marks, short = "\\x%02x") {
  known <- c("\n" = "\\n", "\t" = "\\t", "\r" = "\\r")
  vapply(marks, function(m) {
    code <- utf8ToInt(m)
    if (m %in% names(known)) known[[m]] else sprintf(if (code < 256) short else "\\u%04x", code)
  }, "", USE.NAMES = FALSE)
}

# In JSON they have a form of their own, which reads back to the same text.
json_controls <- function(json) {
  if (!has_controls(json, "\n\t")) {
    return(json)
  }
  marks <- gregexpr(control_class("\n\t"), json, perl = TRUE)
  regmatches(json, marks) <- lapply(regmatches(json, marks), escape_controls, short = "\\u%04x")
  json
}

# What every print goes through: lines to standard output.
show_lines <- function(...) {
  lines <- c(...)
  if (length(lines)) cat(paste0(visible(lines, "\n"), "\n"), sep = "")
}

# About `digits` significant digits, thousands marked, no exponent in the
# range that people read.
show_number <- function(x, digits = 3) {
  out <- vapply(x, function(v) {
    if (is.na(v)) {
      return("-")
    }
    if (is.infinite(v)) {
      return(if (v > 0) "inf" else "-inf")
    }
    size <- abs(v)
    if (size != 0 && (size >= 1e12 || size < 1e-4)) {
      return(format(v, digits = digits))
    }
    places <- if (size == 0) 0 else max(0, digits - 1 - floor(log10(size)))
    v <- if (places == 0 && size < 10^digits) signif(v, digits) else v
    # Marks between thousands take ten times as long.
    text <- if (size < 999) {
      sprintf("%.*f", as.integer(places), v)
    } else {
      formatC(v, format = "f", digits = places, big.mark = ",")
    }
    if (grepl(".", text, fixed = TRUE)) {
      text <- sub("\\.?0+$", "", text)
    }
    text
  }, character(1))
  unname(out)
}

show_percent <- function(share) {
  if (is.na(share)) {
    return("-")
  }
  percent <- 100 * share
  if (percent > 0 && percent < 0.1) {
    return("under 0.1 %")
  }
  if (percent < 100 && percent > 99.9) {
    return("over 99.9 %")
  }
  places <- if (abs(percent) < 10) 1 else 0
  paste0(sub("\\.0$", "", formatC(percent, format = "f", digits = places)), " %")
}

# "1 gap", "2 gaps"
plural <- function(n, one, many = paste0(one, "s")) {
  paste(show_number(n, 9), if (n == 1) one else many)
}

# "a, b and c"; long lists are cut with the rest counted.
word_list <- function(x, most = 8, last = " and ") {
  x <- visible(as.character(x))
  if (length(x) > most) {
    more <- length(x) - most + 1
    return(paste0(
      paste(x[seq_len(most - 1)], collapse = ", "), " and ", more, " more"
    ))
  }
  if (length(x) < 2) {
    return(paste(x, collapse = ""))
  }
  n <- length(x)
  paste0(paste(x[-n], collapse = ", "), last, x[n])
}

# A length of time in the largest unit that keeps it readable.
show_duration <- function(seconds) {
  if (is.na(seconds)) {
    return("-")
  }
  size <- c(
    year = 365.25 * 86400, day = 86400, hour = 3600, minute = 60, second = 1
  )
  fits <- which(seconds >= 2 * size | (seconds >= size & seconds %% size == 0))
  unit <- if (length(fits)) fits[1] else length(size)
  plural(signif(seconds / size[[unit]], 3), names(size)[unit])
}

# Numbers under each other: as many decimals as the usual value needs for four
# digits, or three digits of what they differ by, and no more than any of them has.
# `measured`: what is not nothing is not shown as 0, unless it is what rounding leaves of the
# others.
show_column <- function(x, digits = 4, measured = FALSE) {
  sizes <- abs(x[is.finite(x) & x != 0])
  if (length(sizes) == 0 || max(sizes) >= 1e12 || max(sizes) < 1e-4) {
    return(show_number(x, digits))
  }
  places <- digits - 1 - floor(log10(stats::median(sizes)))
  spread <- diff(range(x[is.finite(x)]))
  # Beyond 15 digits there is nothing but rounding.
  if (spread > 0) {
    places <- max(places, min(2 - floor(log10(spread)), 14 - floor(log10(max(sizes)))))
  }
  places <- max(0, min(8, places))
  while (places > 0 && all(abs(x - round(x, places - 1)) < 1e-13 * abs(x) + 1e-12, na.rm = TRUE)) {
    places <- places - 1
  }
  text <- trimws(formatC(x, format = "f", digits = places, big.mark = ","))
  lost <- is.finite(x) & round(x, places) == 0 & x != 0
  told <- lost & measured & abs(x) > 1e-15 * max(sizes)
  text[told] <- show_number(x[told], 2)
  text[lost & !told] <- sub("-", "", text[lost & !told], fixed = TRUE)
  ifelse(is.na(x), "-", text)
}

# Numbers to be saved: what was measured exactly; what was computed to seven digits of what it
# varies by.
saved_numbers <- function(x) {
  v <- x[is.finite(x)]
  if (length(v) == 0) {
    return(x)
  }
  as_written <- signif(x, 12)
  if (all(abs(as_written - x) <= 4e-16 * abs(x), na.rm = TRUE)) {
    return(x)
  }
  spread <- diff(range(v))
  if (spread == 0) {
    return(as_written)
  }
  # Small values beside large ones keep digits of their own.
  ifelse(abs(x) < spread, signif(x, 7), round(x, 6 - floor(log10(spread))))
}

# Text in columns: numbers to the right, words to the left.
# Columns that do not fit the width are named below; `fit = FALSE` lets lines run on.
text_table <- function(columns, indent = "  ", right = character(), fit = TRUE) {
  cells <- lapply(columns, function(x) {
    if (is.numeric(x)) show_column(x) else visible(ifelse(is.na(x), "-", as.character(x)))
  })
  right <- vapply(columns, is.numeric, logical(1)) | names(columns) %in% right
  names(columns) <- visible(names(columns))
  padded <- Map(function(cell, name, to_right) {
    all <- c(name, cell)
    gap <- strrep(" ", max(nchar(all, "width")) - nchar(all, "width"))
    if (to_right) paste0(gap, all) else paste0(all, gap)
  }, cells, names(columns), right)
  reach <- nchar(indent) + cumsum(vapply(padded, function(p) nchar(p[1], "width") + 2, 1)) - 2
  shown <- if (fit) max(2, sum(reach <= getOption("width"))) else length(padded)
  hidden <- names(columns)[-seq_len(min(shown, length(padded)))]
  lines <- do.call(paste, c(unname(padded[seq_len(min(shown, length(padded)))]), sep = "  "))
  more <- if (length(hidden)) {
    paste0("... ", plural(length(hidden), "more column"), ": ", word_list(hidden, 8))
  }
  paste0(indent, sub(" +$", "", c(lines, more)))
}

# Lines as wide as the console; those that begin with spaces keep their place.
wrap_lines <- function(lines) {
  unlist(lapply(lines, function(line) {
    indent <- nchar(line) - nchar(sub("^ +", "", line))
    if (nzchar(line)) fold_words(line, indent = indent, exdent = indent + 2) else ""
  }))
}

# Lines nearly as wide as the console, as strwrap() makes them. Numbers keep their "%" beside them.
fold_words <- function(text, ..., width = 0.95 * getOption("width"), fold = strwrap) {
  held <- gsub("([0-9]) %", "\\1\001%", text)
  gsub("\001", " ", fold(held, width, ...), fixed = TRUE)
}

# Small results ----

# A data frame that prints as the rest of the package does.
result_table <- function(table) {
  rownames(table) <- NULL
  structure(table, class = c("kairon_table", "data.frame"))
}

#' @export
print.kairon_table <- function(x, rows = 24, ...) {
  shown <- utils::head(x, rows)
  show_lines(if (nrow(x)) text_table(lapply(as.list(shown), readable)) else "No rows.")
  more <- nrow(x) - nrow(shown)
  if (more > 0) show_lines(paste0("  ... and ", plural(more, "more row"), ": as.data.frame()"))
  invisible(x)
}

readable <- function(v) if (is.numeric(v) && !is.object(v)) v else format(v)

#' @export
as.data.frame.kairon_table <- function(x, row.names = NULL, optional = FALSE, ...) {
  class(x) <- "data.frame"
  x
}

# Bytes that are no UTF-8: western text of one byte a sign.
mend_bytes <- function(text, from = "CP1252") {
  bad <- !validUTF8(text)
  if (any(bad)) {
    made <- iconv(text[bad], from, "UTF-8")
    # Five bytes are no sign there.
    made[is.na(made)] <- iconv(text[bad][is.na(made)], "latin1", "UTF-8")
    text[bad] <- made
  }
  text
}

# Texts that stand for several values at once, and never for two different sets of them.

# One text for each row of some columns (a list or data frame), to match rows by; never shown.
key_text <- function(columns, rows = nrow(columns)) {
  if (length(columns) == 0) {
    return(rep("", rows))
  }
  escape <- function(odd) gsub("\r", "\\r", gsub("\\", "\\\\", odd, fixed = TRUE), fixed = TRUE)
  parts <- lapply(columns, function(v) in_words(exact_words(v), "[\\\\\r]", escape))
  if (length(parts) == 1) parts[[1]] else do.call(paste, c(unname(parts), sep = "\r"))
}

# The same to be read: "Alderbrook / north". A part that holds the mark between parts itself is
# quoted, so that different keys have different labels.
label_text <- function(columns) {
  if (length(columns) == 1) {
    return(exact_words(columns[[1]]))
  }
  quote <- function(odd) paste0("\"", gsub("\"", "\"\"", odd, fixed = TRUE), "\"")
  parts <- lapply(columns, function(v) in_words(exact_words(v), "(^|\\s)/|/(\\s|$)|^\"|^$", quote))
  do.call(paste, c(unname(parts), sep = " / "))
}

# Values as text; numbers with all the digits that tell them apart.
exact_words <- function(v) {
  words <- as.character(v)
  if (!is.double(v) || is.object(v)) {
    return(words)
  }
  cut <- which(is.finite(v) & as.numeric(words) != v)
  words[cut] <- sprintf("%.17g", v[cut])
  words
}

# Changes the words that match a pattern; most columns have few different words, and hardly ever one
# that does.
in_words <- function(words, pattern, change) {
  distinct <- unique(words)
  odd <- grepl(pattern, distinct, perl = TRUE) & !is.na(distinct)
  if (!any(odd)) {
    return(words)
  }
  new <- distinct
  new[odd] <- change(distinct[odd])
  new[match(words, distinct)]
}

weekday_names <- c(
  "monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"
)

capitalise <- function(text) {
  paste0(toupper(substr(text, 1, 1)), substring(text, 2))
}
