# Which series of a timeline are sums of which: a total has the word of the record (`sums`) in the
# columns that it sums over.

# Pairs of a total and each of its parts, by their numbers among these keys: none where there are no
# totals.
sum_pairs <- function(keys, sums) {
  keys <- lapply(keys, as.character)
  over <- vapply(keys, function(v) v == sums$word, logical(length(keys[[1]])))
  over <- matrix(over, ncol = length(keys))
  parts <- which(rowSums(over) == 0)
  pattern <- apply(over, 1, paste, collapse = "")
  pairs <- lapply(setdiff(unique(pattern), pattern[parts]), function(p) {
    totals <- which(pattern == p)
    fixed <- which(!over[totals[1], ])
    own <- if (length(fixed)) {
      key_text(lapply(keys[fixed], `[`, totals))
    } else {
      rep("", length(totals))
    }
    of <- if (length(fixed)) key_text(lapply(keys[fixed], `[`, parts)) else rep("", length(parts))
    at <- match(of, own)
    data.frame(total = totals[at[!is.na(at)]], part = parts[!is.na(at)])
  })
  do.call(rbind, c(list(data.frame(total = integer(), part = integer())), pairs))
}

# The level of each of these keys, in words: "whole", "by place", "part"; levels from the top.
key_levels <- function(keys, sums) {
  over <- matrix(vapply(keys, function(v) as.character(v) == sums$word, logical(length(keys[[1]]))),
                 ncol = length(keys))
  pattern <- apply(over, 1, paste, collapse = " ")
  first <- which(!duplicated(pattern))
  words <- apply(over[first, , drop = FALSE], 1, function(o) {
    if (!any(o)) "part" else if (all(o)) "whole" else paste("by", word_list(names(keys)[!o]))
  })
  out <- words[match(pattern, pattern[first])]
  factor(out, unique(words[order(-rowSums(over[first, , drop = FALSE]), seq_along(first))]))
}

# Levels from the top: what they sum by, and how many series each has.
sum_levels <- function(keys, sums) {
  counts <- table(key_levels(keys, sums))
  data.frame(level = names(counts), series = as.integer(counts), stringsAsFactors = FALSE)
}

# Series in the order of their levels, from the top.
totals_first <- function(x) {
  meta <- timeline_meta(x)
  in_order <- row_order(as_plain(x)[meta$series], rows_of(x)$seconds, meta$sums$word)
  if (is.null(in_order)) {
    return(x)
  }
  data <- as_plain(x)[in_order, , drop = FALSE]
  rownames(data) <- NULL
  new_timeline(data, meta)
}

totals_line <- function(x) {
  meta <- timeline_meta(x)
  if (is.null(meta$sums) || !all(meta$series %in% names(x))) {
    return(NULL)
  }
  paste0("Totals: ", totals_words(x), ".")
}

# "1 whole, 3 by zone, 8 parts"
totals_words <- function(x) {
  levels <- sum_levels(rows_of(x)$keys, timeline_meta(x)$sums)
  several <- levels$level == "part" & levels$series != 1
  paste(levels$series, ifelse(several, "parts", levels$level), collapse = ", ")
}

# Rows of a table of series without those of totals.
parts_alone <- function(table, meta) {
  over <- Reduce(`|`, lapply(table[meta$series], function(v) as.character(v) == meta$sums$word))
  table[!over, , drop = FALSE]
}
