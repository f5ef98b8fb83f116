# Sums over the cells of pieces, and how those of several pieces become one.

# Partial sums are put together whenever they have doubled.
new_sums <- function(needs, shift = NULL) {
  out <- new.env(parent = emptyenv())
  out$parts <- list()
  out$rows <- 0
  out$limit <- 5e5
  out$needs <- needs
  out$shift <- shift
  out
}

keep_sums <- function(sums, part) {
  sums$parts[[length(sums$parts) + 1]] <- part
  sums$rows <- sums$rows + nrow(part)
  if (sums$rows > sums$limit) {
    whole <- merge_sums(sums$parts, sums$needs, sums$shift)
    sums$parts <- list(whole)
    sums$rows <- nrow(whole)
    sums$limit <- max(5e5, 2 * sums$rows)
  }
}

# Sums of the cells of a piece, whose rows are sorted by series and time; `start` is where the cell of each
# row begins.
cell_sums <- function(rows, cell, start, needs, shift) {
  n <- length(cell)
  starts <- which(c(TRUE, rows$series[-1] != rows$series[-n] | cell[-1] != cell[-n]))
  from <- as.integer(starts - 1L)
  to <- as.integer(c(starts[-1] - 1L, n))
  out <- data.frame(series = rows$series[starts], cell = cell[starts], rows = to - from)
  if ("head" %in% unlist(needs)) {
    out$row_first <- rows$seconds[starts]
    out$row_last <- rows$seconds[to]
  }
  over <- function(v, how) range_statistic(v, rows$seconds, from, to, how)
  for (m in names(needs)) {
    v <- rows$values[[m]]
    there <- !is.na(v)
    columns <- list(n = over(v, "count"), sum = over(v, "sum"))
    rest <- if (any(c("t", "tt", "tv") %in% needs[[m]])) rows$seconds - start
    for (word in setdiff(needs[[m]], c("first", "last"))) {
      columns[[word]] <- switch(word,
        square = over((v - shift[[m]])^2, "sum"),
        t = over(ifelse(there, rest, NA), "sum"), tt = over(ifelse(there, rest^2, NA), "sum"),
        tv = over(rest * v, "sum"), weight = over(ifelse(there, rows$weight, NA), "sum"),
        weighted = over(rows$weight * v, "sum"), head = v[starts],
        held = over(held_until_next(v - shift[[m]], rows$seconds, starts), "sum"), over(v, word)
      )
    }
    # When first and last values were read, since pieces may come in any order.
    at <- ifelse(there, rows$seconds, NA)
    if ("head" %in% needs[[m]]) {
      since <- c(0, diff(rows$seconds))
      since[starts] <- 0
      columns$long <- over(ifelse(there, since, 0), "sum")
    }
    for (word in edge_words(needs[[m]])) {
      columns[[word]] <- over(v, word)
      columns[[paste0(word, "_at")]] <- over(at, word)
    }
    names(columns) <- paste0(m, ".", names(columns))
    out <- cbind(out, as.data.frame(columns, optional = TRUE))
  }
  out
}

edge_words <- function(needs) {
  words <- c("first", "last")
  if ("held" %in% needs) words else intersect(words, needs)
}

# Each value times the seconds up to the next one that is there in its cell; without a next one missing.
held_until_next <- function(v, seconds, starts) {
  there <- which(!is.na(v))
  out <- rep(NA_real_, length(v))
  n <- length(there)
  if (n < 2) {
    return(out)
  }
  cell <- findInterval(there, starts)
  followed <- there[-n][cell[-1] == cell[-n]]
  following <- there[-1][cell[-1] == cell[-n]]
  out[followed] <- v[followed] * (seconds[following] - seconds[followed])
  out
}

# Partial sums of the same cell, from several pieces, in one.
merge_sums <- function(parts, needs, shift = NULL) {
  all <- as.data.frame(data.table::rbindlist(parts))
  in_order <- row_order(list(all$series), all$cell)
  if (!is.null(in_order)) all <- all[in_order, , drop = FALSE]
  n <- nrow(all)
  starts <- which(c(TRUE, all$series[-1] != all$series[-n] | all$cell[-1] != all$cell[-n]))
  if (length(starts) == n) {
    rownames(all) <- NULL
    return(all)
  }
  from <- as.integer(starts - 1L)
  to <- as.integer(c(starts[-1] - 1L, n))
  out <- data.frame(series = all$series[starts], cell = all$cell[starts])
  over <- function(v, how) range_statistic(as.double(v), all$cell, from, to, how)
  out$rows <- over(all$rows, "sum")
  if (!is.null(all$row_first)) {
    out$row_first <- over(all$row_first, "min")
    out$row_last <- over(all$row_last, "max")
  }
  group <- rep(seq_along(from), to - from)
  for (m in names(needs)) {
    of <- function(word) all[[paste0(m, ".", word)]]
    for (word in c("n", "sum", setdiff(needs[[m]], c("first", "last")))) {
      out[[paste0(m, ".", word)]] <- switch(word,
        min = , max = over(of(word), word),
        head = edge_values(of(word), all$row_first, group, "first"),
        held = merge_held(of, group, shift[[m]]),
        over(of(word), "sum")
      )
    }
    if ("head" %in% needs[[m]]) out[[paste0(m, ".long")]] <- merge_long(all, of, group)
    for (word in edge_words(needs[[m]])) {
      at <- of(paste0(word, "_at"))
      out[[paste0(m, ".", word)]] <- edge_values(of(word), at, group, word)
      out[[paste0(m, ".", word, "_at")]] <- over(at, if (word == "first") "min" else "max")
    }
  }
  out
}

# Between two parts of a cell the last value of the one holds until the first of the other.
merge_held <- function(of, group, shift) {
  in_order <- order(group, of("first_at"), na.last = NA)
  n <- length(in_order)
  held <- of("held")[in_order]
  held[is.na(held)] <- 0
  same <- which(group[in_order][-1] == group[in_order][-n])
  gap <- of("first_at")[in_order][same + 1] - of("last_at")[in_order][same]
  if (any(gap < 0)) abort_disorder("How long readings hold")
  held[same] <- held[same] + (of("last")[in_order][same] - shift) * gap
  out <- rep(NA_real_, max(group))
  sums <- rowsum(held, group[in_order])
  out[as.integer(rownames(sums))] <- sums
  out
}

# The first row of a later part came since the last of the part before.
merge_long <- function(all, of, group) {
  in_order <- order(group, all$row_first)
  n <- length(in_order)
  long <- of("long")[in_order]
  same <- which(group[in_order][-1] == group[in_order][-n])
  gap <- all$row_first[in_order][same + 1] - all$row_last[in_order][same]
  if (any(gap < 0)) abort_disorder("Since when an amount came together")
  long[same] <- long[same] + ifelse(is.na(of("head")[in_order][same + 1]), 0, gap)
  as.vector(rowsum(long, group[in_order]))
}
