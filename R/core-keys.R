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

# The same to be read: "Alderbrook / north". A part that holds the mark between parts itself is quoted, so
# that different keys have different labels.
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

# Changes the words that match a pattern; most columns have few different words, and hardly ever one that
# does.
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
