# The one order of methods, which scores, ranking, best, verdict, reserve and report share.

# Losses of the methods in a scored table (see scored_rows(); `series` are its key columns) on the
# rows that they have in common:
# * `losses`: series, method, cutoff, ahead, loss (scaled), plain (in the measure's unit);
# * `methods`: method, score, plain, ordered from the best; then those set aside, whose score is
#   missing;
# * `basis`: "scaled", or "habit" where some series had to be measured by what a habit was off;
# * `rows`, `whole`: how many forecasts were compared, and how many the fullest method has;
#   `series`, how many; `aside`: methods with too few rows to be compared; `left`: series in which
#   nothing is ever off by anything.
method_order <- function(table, series, measure, metric = "mae") {
  losses <- loss_table(table, series, measure, metric)
  names <- unique(losses$method)
  together <- common_losses(losses, names)
  own <- together$losses
  units <- loss_units(own, metric)
  own$loss <- own$plain / units$size
  kept <- own[is.finite(own$loss), ]
  # Nothing is off by anything anywhere.
  if (nrow(kept) == 0 && nrow(own) > 0) {
    own$loss <- own$plain
    kept <- own
    units$basis <- "scaled"
  }
  mean_of <- function(v) vapply(names, function(m) mean(v[kept$method == m]), 1)
  score <- mean_of(kept$loss)
  score[!is.finite(score)] <- NA_real_
  methods <- data.frame(method = names, score = score, plain = mean_of(kept$plain),
                        row.names = NULL)
  methods <- methods[order(methods$score, methods$method != habit_of(names), methods$method), ]
  rownames(methods) <- NULL
  list(losses = kept[setdiff(names(kept), "scale")], methods = methods, basis = units$basis,
       rows = sum(kept$method == kept$method[1]), whole = together$whole,
       series = length(unique(kept$series)), aside = together$aside,
       left = length(setdiff(unique(own$series), unique(kept$series))))
}

# One row a forecast that meets a measured value.
loss_table <- function(table, series, measure, metric) {
  t <- table[table$measure == measure, ]
  e <- t$value - t$observed
  e[abs(e) <= 1e-10 * (abs(t$value) + abs(t$observed))] <- 0 # rounding is no error
  out <- data.frame(
    series = if (length(series)) series_labels(t[series]) else rep("", nrow(t)),
    method = t$method, cutoff = to_seconds(t$cutoff), ahead = t$ahead,
    plain = if (metric == "mae") abs(e) else e^2,
    scale = if (metric == "mse") t$rms %||% t$scale else t$scale
  )
  out[is.finite(out$plain), ]
}

# Rows that all methods have. A method without half of what the fullest has is set aside, since it
# would leave too little of the others.
common_losses <- function(losses, names) {
  at <- group_rows(losses, c("series", "cutoff", "ahead"))
  method <- match(losses$method, names)
  once <- !duplicated(at$index + (method - 1) * length(at$first))
  counts <- tabulate(method[once], length(names))
  whole <- max(0, counts)
  aside <- which(counts < whole / 2)
  repeat {
    here <- !method %in% aside
    shared <- tabulate(at$index[here & once], length(at$first)) == length(names) - length(aside)
    rest <- setdiff(seq_along(names), aside)
    if (sum(shared) >= whole / 2 || length(rest) <= 1) break
    aside <- c(aside, rest[which.min(counts[rest])])
  }
  keep <- here & shared[at$index]
  list(losses = losses[keep, ], whole = whole, aside = names[aside])
}

# What a loss is measured in: the scale of its row; where a series has rows without one (a constant
# history, or one shorter than a season), what a naive habit was off there, else what all methods
# were.
loss_units <- function(losses, metric) {
  scale <- losses$scale
  if (metric == "mse") scale <- scale^2
  size <- ifelse(is.finite(scale) & scale > 0, scale, NA)
  lacking <- losses$series %in% losses$series[is.na(size)]
  if (!any(lacking)) {
    return(list(size = size, basis = "scaled"))
  }
  own <- losses$series[lacking]
  plain <- losses$plain[lacking]
  by_habit <- losses$method[lacking] %in% habit_of(losses$method)
  mean_in <- function(keep) as.vector(tapply(plain[keep], factor(own[keep], unique(own)), mean))
  habit <- mean_in(by_habit)
  off <- ifelse(is.na(habit) | habit == 0, mean_in(rep(TRUE, length(own))), habit)
  off[off == 0] <- NA
  size[lacking] <- off[match(own, unique(own))]
  list(size = size, basis = "habit")
}

# The naive habit among methods, or NA.
habit_of <- function(methods) intersect(c("seasonal naive", "naive"), methods)[1]

# Codes of the groups, in the order in which they come, and the first row of each.
group_rows <- function(table, by) {
  code <- rep(1L, nrow(table))
  most <- 1
  for (name in by) {
    own <- value_codes(table[[name]])
    if (most * own$most > 1e7) {
      # Too many pairs to count through: numbered anew first.
      made <- cpp_group_codes(code, most)
      code <- made$index
      most <- length(made$first)
    }
    if (most * own$most > 1e9) {
      pairs <- paste(code, own$code)
      own <- value_codes(pairs)
      code <- own$code
      most <- own$most
    } else {
      code <- if (most == 1) own$code else (code - 1L) * own$most + own$code
      most <- most * own$most
    }
  }
  cpp_group_codes(code, most)
}

# Whole numbers from 1 for the values of a column.
value_codes <- function(v) {
  if (is.factor(v) && !anyNA(v)) {
    return(list(code = as.integer(v), most = nlevels(v)))
  }
  if (is.integer(v) && length(v) && !anyNA(v)) {
    ends <- range(v)
    if (as.numeric(ends[2]) - ends[1] < 1e5) {
      return(list(code = v - ends[1] + 1L, most = as.integer(ends[2] - ends[1] + 1L)))
    }
  }
  values <- unique(v)
  list(code = match(v, values), most = length(values))
}

# Whether two methods differ by more than chance: by ranks from 20 series on, else by the paired
# differences of their losses at each cutoff. (Steps of a cutoff are no values of their own: with
# their autocovariances in the variance, methods that are alike were told apart in 6 to 21 of 100
# simulated backtests at 5 %.)
rank_series <- 20

order_pair <- function(o, first, second, overlap = 1, ranks = loss_ranks(o)) {
  if (o$series >= rank_series) {
    k <- ncol(ranks)
    gap <- abs(mean(ranks[, first]) - mean(ranks[, second])) / sqrt(k * (k + 1) / (6 * nrow(ranks)))
    return(list(statistic = gap,
                p_value = stats::ptukey(gap * sqrt(2), k, Inf, lower.tail = FALSE)))
  }
  diebold_mariano(paired_differences(o$losses, first, second), overlap)
}

# Losses of the first less those of the second, averaged over series and steps at each cutoff:
# errors of one cutoff go together, those of cutoffs that do not overlap hardly.
paired_differences <- function(losses, first, second) {
  mean_of <- function(m) {
    own <- losses$method == m
    tapply(losses$loss[own], factor(losses$cutoff[own], sort(unique(losses$cutoff))), mean)
  }
  d <- as.vector(mean_of(first) - mean_of(second))
  d[is.finite(d)]
}

# Ranks of the methods within each series, a row a series.
loss_ranks <- function(o) {
  names <- o$methods$method[!is.na(o$methods$score)]
  each <- tapply(o$losses$loss, list(o$losses$series, factor(o$losses$method, names)), mean)
  out <- t(apply(each, 1, rank))
  matrix(out, nrow(each), dimnames = list(rownames(each), names))
}

# Methods that are as close as the first, within rounding.
tied_with_first <- function(o) {
  score <- o$methods$score
  o$methods$method[-1][is.finite(score[-1]) & score[-1] <= score[1] * (1 + 1e-9) + 1e-300]
}

# The steps that a backtest scores at each cutoff, and how many cutoffs have steps in common.
scored_steps <- function(b) b$plan$steps - (b$plan$embargo %||% 0)

overlapping <- function(b) {
  apart <- diff(sort(unique(b$plan$cutoffs)))
  if (length(apart)) max(1, ceiling(scored_steps(b) / stats::median(apart))) else 1
}

# What was compared, where it is not all that there is; NULL where it is.
order_notes <- function(o) {
  c(
    if (o$rows < o$whole) {
      paste0("compared on the ", show_number(o$rows, 9), " of ", show_number(o$whole, 9),
             " forecasts that all methods have")
    },
    if (length(o$aside)) paste0(word_list(o$aside), " left out of the order for want of forecasts"),
    if (o$basis == "habit") "series without a scale are measured by the naive habit's error there",
    if (o$left > 0) {
      paste0(plural(o$left, "series", "series"), " left out in which every forecast was exact")
    }
  )
}
