# How the automatic choice judges its candidates: cutoffs, sizes of errors, weights, factors of
# intervals.

# Cutoffs as far back as the horizon. The past is a third of the series at least, and holds the
# seasons that the series holds.
auto_plan <- function(batch, horizon, cutoffs, near = FALSE) {
  size <- stats::median(diff(batch$breaks))
  seen <- seen_steps(batch)
  late <- max(0, floor(stats::median(seen$waited[seen$steps > 0])), na.rm = TRUE)
  n <- size - late
  h <- max(1, min(horizon, floor(n / 3)))
  seasons <- batch$context$seasons
  cycles <- ifelse(seasons > longest_states, 1.5, 2) * seasons + 2
  least <- max(4, ceiling(n / 3), cycles[cycles <= n - max(1, min(horizon, floor(n / 6)))])
  h <- max(1, min(h, n - least))
  step <- max(1, min(h, floor((n - h - least) / max(1, cutoffs - 1))))
  cuts <- late + h + step * (seq_len(cutoffs) - 1)
  # One more near the end, where the last change of level has been seen.
  if (near && h >= 3) cuts <- c(late + ceiling(h / 3), cuts)
  list(horizon = as.integer(h), cuts = as.integer(cuts[cuts <= size - min(4, size - 1)]))
}

# Sizes of errors of all candidates in each third of the horizon: an array of thirds, series and
# candidates. `e`: steps, series, cutoffs, candidates.
error_sizes <- function(e, aim, thirds = 3) {
  power <- c(roots = 0.5, sizes = 1, squares = 2)[[aim]]
  steps <- dim(e)[1]
  part <- pmin(thirds, 1 + floor(thirds * (seq_len(steps) - 1) / steps))
  # The mean of logarithms over cutoffs, so that one with a jump that nobody saw coming hides no
  # other; of squares the plain mean, since zeros alone say little about a rate.
  size_of <- function(rows) {
    if (aim == "squares") {
      flat <- matrix(aperm(e[rows, , , , drop = FALSE]^2, c(1, 3, 2, 4)), length(rows) * dim(e)[3])
      return(matrix(sqrt(colMeans(flat, na.rm = TRUE)), dim(e)[2]))
    }
    total <- count <- matrix(0, dim(e)[2], dim(e)[4])
    for (c in seq_len(dim(e)[3])) {
      flat <- matrix(abs(e[rows, , c, ])^power, length(rows))
      own <- matrix(log(colMeans(flat, na.rm = TRUE)) / power, dim(e)[2])
      many <- sqrt(matrix(colSums(!is.na(flat)), dim(e)[2]))
      # A perfect forecast is no better than a hundredth of the worst.
      own[is.nan(own)] <- NA
      worst <- suppressWarnings(apply(own, 1, max, na.rm = TRUE))
      own <- pmax(own, ifelse(is.finite(worst), worst, 0) - log(100))
      seen <- !is.na(own)
      total[seen] <- total[seen] + (many * own)[seen]
      count[seen] <- count[seen] + many[seen]
    }
    exp(total / count)
  }
  whole <- log(size_of(seq_len(steps)))
  out <- array(NA_real_, c(thirds, dim(e)[2], dim(e)[4]))
  for (p in seq_len(thirds)) {
    own <- if (any(part == p)) log(size_of(which(part == p))) else whole
    own[!is.finite(own)] <- whole[!is.finite(own)]
    out[p, , ] <- (own + whole) / 2
  }
  out
}

# Weights from logarithms of sizes of errors, relative to each other: an array as `sizes`. `count`:
# errors that a series has; `penalty`: of a candidate, in logarithms.
choice_weights <- function(sizes, count, penalty, power) {
  thirds <- dim(sizes)[1]
  k <- dim(sizes)[3]
  usual <- matrix(0, thirds, k)
  relative <- sizes
  for (p in seq_len(thirds)) {
    own <- matrix(sizes[p, , ], ncol = k)
    # A perfect past is no more than a hundredth of the usual error.
    own[is.infinite(own)] <- NA
    middle <- rowMeans(own, na.rm = TRUE)
    own <- pmax(own - middle, log(0.01))
    relative[p, , ] <- own
    # What is usual, as if eight more series had shown no difference.
    seen <- colSums(!is.na(own))
    usual[p, ] <- colSums(own, na.rm = TRUE) / (seen + 8)
  }
  trust <- count / (count + 6)
  out <- relative
  for (p in seq_len(thirds)) {
    own <- matrix(relative[p, , ], ncol = k)
    common <- matrix(usual[p, ], nrow(own), k, byrow = TRUE)
    # Who failed in the past is not worse than usual only because nobody saw it.
    mixed <- ifelse(is.na(own), common + 0.1, trust * own + (1 - trust) * common)
    w <- exp(-power * sweep(mixed, 2, penalty, "+"))
    w <- w / pmax(rowSums(w), 1e-300)
    w[w < 0.02] <- 0
    out[p, , ] <- w / pmax(rowSums(w), 1e-300)
  }
  out
}

# A third of the horizon for each step ahead; steps beyond what was judged have the last third's
# weights.
third_of <- function(horizon, judged) {
  pmin(3, 1 + floor(3 * (seq_len(horizon) - 1) / max(horizon, judged)))
}

# The first step by itself, which most methods know best.
block_of <- function(horizon, judged) {
  third <- third_of(horizon, judged)
  ifelse(seq_len(horizon) == 1 & max(horizon, judged) > 3, 1, third + 1)
}

# The blend of errors or widths at the inner cutoffs, each with weights from the other cutoffs.
blended_at_cutoffs <- function(seen, aim, count, penalty, weights, power) {
  e <- seen$error
  d <- dim(e)
  error <- width <- array(NA_real_, d[1:3])
  third <- third_of(d[1], d[1])
  for (c in seq_len(d[3])) {
    others <- setdiff(seq_len(d[3]), c)
    w <- if (length(others)) {
      choice_weights(error_sizes(e[, , others, , drop = FALSE], aim), count * length(others) / d[3],
                     penalty, power)
    } else {
      weights
    }
    own <- array(e[, , c, ], d[c(1, 2, 4)])
    half <- array(seen$width[, , c, ], d[c(1, 2, 4)])
    by_step <- w[third, , , drop = FALSE]
    by_step[is.na(own)] <- 0
    own[is.na(own)] <- half[is.na(half)] <- 0
    total <- rowSums(by_step, dims = 2)
    mix <- function(v) rowSums(v * by_step, dims = 2) / total
    error[, , c] <- middle <- mix(own)
    # Methods that disagree make the blend less sure.
    between <- mix((own - as.vector(middle))^2)
    width[, , c] <- sqrt(mix(half)^2 + stats::qnorm(0.95)^2 * between)
  }
  list(error = array(error, c(d[1:3], 1)), width = array(width, c(d[1:3], 1)))
}

# How far intervals have to be moved at the first step and in each third of the horizon, by errors
# at inner cutoffs against the half-widths that were given there: a column for each series, drawn
# towards what is usual in the collection (as if that had been seen in 12 errors), and that towards
# none. The errors of a cutoff go together: each block counts for four at the most. Many series may
# say that intervals are far too wide, few only that they are so somewhat.
block_factors <- function(blend) {
  z <- abs(blend$error) / pmax(blend$width, 1e-12) * stats::qnorm(0.95)
  z[!is.finite(z)] <- NA
  d <- dim(z)
  block <- block_of(d[1], d[1])
  out <- vapply(1:4, function(p) {
    rows <- if (any(block == p)) which(block == p) else seq_len(d[1])
    flat <- matrix(aperm(pmin(z[rows, , , , drop = FALSE], 6)^2, c(1, 3, 2, 4)),
                   length(rows) * d[3])
    size <- colMeans(flat, na.rm = TRUE)
    count <- pmin(colSums(!is.na(flat)) / 3, 4 * d[3])
    size[count == 0] <- 1
    usual <- (12 + sum(count * size)) / (12 + sum(count))
    sqrt((12 * usual + count * size) / (12 + count))
  }, numeric(d[2]))
  least <- 0.8 - 0.3 * d[2] / (d[2] + 20)
  pmin(pmax(t(matrix(out, d[2])), least), 2.5)
}

# Levels that moved near the end, for the automatic choice. Cutoffs in the past do not know of such
# a move, and nobody knows whether it stays: half of the weight takes it to stay, as if the past had
# been at that level.

# With half of it, moves that stay are followed as closely as by the best method, and for those in
# real series, many of which go back, little is lost (docs/automatic.md).
stay_share <- 0.5

level_moves <- function(batch) {
  series <- seq_len(length(batch$breaks) - 1)
  found <- lapply(series, function(s) {
    own <- recent_move(batch$values[seq_len(batch$breaks[s + 1] - batch$breaks[s]) +
                                    batch$breaks[s]],
                       batch$context$seasons)
    if (is.null(own)) {
      return(NULL)
    }
    data.frame(series = s, stamp = batch$context$stamps[batch$breaks[s] + own$place],
               size = own$size, ratio = own$ratio)
  })
  do.call(rbind, found)
}

# The rows before the move of each series, and what they are moved by: numbers to add to values, or
# to logarithms.
rows_before <- function(batch, moves) {
  by <- rep(0, length(batch$values))
  ratio <- rep(FALSE, length(by))
  for (i in seq_len(nrow(moves))) {
    rows <- batch$breaks[i] + seq_len(batch$breaks[i + 1] - batch$breaks[i])
    rows <- rows[batch$context$stamps[rows] < moves$stamp[i]]
    by[rows] <- moves$size[i]
    ratio[rows] <- moves$ratio[i]
  }
  list(by = by, ratio = ratio)
}

# The series that moved, with their past at the new level; and fitted values back from there.
levelled <- function(batch, moves) {
  own <- some_series(batch, moves$series)
  shift <- rows_before(own, moves)
  own$values <- ifelse(shift$ratio, own$values * exp(shift$by), own$values + shift$by)
  own
}

unlevelled <- function(values, batch, moves) {
  shift <- rows_before(some_series(batch, moves$series), moves)
  ifelse(shift$ratio, values / exp(shift$by), values - shift$by)
}

moves_of <- function(model, member) model$moves[match(member$which, model$moves$series), ]

# Members whose past is at the new level, by the numbers that their series have in the whole.
moved_members <- function(choices, moved, moves) {
  members <- unlist(lapply(choices, fitted_members, batch = moved), recursive = FALSE)
  lapply(members, function(m) {
    m$which <- moves$series[m$which]
    m$name <- paste(m$name, "after the move")
    m$weights <- m$weights * stay_share
    m$moved <- TRUE
    m
  })
}

# What is left for members that go by the past as it was.
less_weighed <- function(members, series) {
  lapply(members, function(m) {
    less <- m$which %in% series
    m$weights[, less] <- m$weights[, less] * (1 - stay_share)
    m
  })
}

# What has a weight, fitted.
fitted_members <- function(choice, batch) {
  out <- lapply(seq_along(choice$methods), function(m) {
    used <- which(colSums(matrix(choice$weights[, , m], 3)) > 0)
    if (length(used) == 0) {
      return(NULL)
    }
    which <- choice$which[used]
    fitted <- tryCatch(method_fit(choice$methods[[m]], some_series(batch, which)),
                       kairon_error = function(e) NULL)
    if (!is.null(fitted)) {
      list(name = names(choice$methods)[m], method = choice$methods[[m]], which = which,
           model = fitted, weights = matrix(choice$weights[, used, m], 3), moved = FALSE)
    }
  })
  Filter(Negate(is.null), out)
}
