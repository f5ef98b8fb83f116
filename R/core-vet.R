# Finding faults in flat vectors of many series; `breaks` as in core-series.R. Each
# function gives a data frame of findings: from and to (rows), score (robust standard
# deviations, or how often a limit), off (how far from what was expected), expected.

no_findings <- data.frame(
  from = integer(), to = integer(), off = numeric(), expected = numeric(), score = numeric()
)

sliding_centred <- function(values, breaks, width, statistic) {
  half <- width %/% 2
  sliding_statistic(values, as.double(seq_along(values)), step_windows(breaks, half, half), breaks,
                    statistic)
}

# What is left after the season (medians by phase) and a local level (running median).
local_rest <- function(values, breaks, width, season) {
  expected <- 0
  if (season >= 2 && max(diff(breaks)) >= 3 * season) {
    wide <- sliding_centred(values, breaks, 2 * (season %/% 2) + 1, "median")
    expected <- phase_medians(values - wide, breaks, season)
  }
  expected <- expected + sliding_centred(values - expected, breaks, width, "median")
  list(rest = values - expected, expected = expected)
}

# The median of each phase of each series, centred, at every row. Series of under three
# cycles have none.
phase_medians <- function(rest, breaks, season) {
  owner <- series_index(breaks)
  phase <- (sequence(diff(breaks)) - 1) %% season + 1
  key <- (owner - 1) * season + phase
  order <- cpp_cell_order(as.integer(key), as.integer((length(breaks) - 1) * season))
  v <- rest[order$order]
  middle <- range_statistic(v, v, order$from, order$to, "median")
  middle <- matrix(middle, season)
  middle <- sweep(middle, 2, apply(middle, 2, stats::median, na.rm = TRUE))
  middle[, diff(breaks) < 3 * season] <- 0
  middle[is.na(middle)] <- 0
  as.vector(middle)[key]
}

# Values far from their surroundings, which are back after at most `most` readings. The
# spread is that of what is left nearby, no less than half of the series' own.
find_spikes <- function(values, breaks, threshold, season, width, most) {
  local <- local_rest(values, breaks, width, season)
  rest <- local$rest
  # A running median leaves many zeros: the spread is read off the 0.9 quantile.
  size <- abs(rest) / stats::qnorm(0.95)
  near <- sliding_centred(size, breaks, 201, "q90")
  whole <- range_statistic(size, size, breaks[-length(breaks)], breaks[-1], "q90")
  tiny <- range_statistic(abs(values), values, breaks[-length(breaks)], breaks[-1], "median") * 1e-6
  owner <- series_index(breaks)
  spread <- pmax(near, whole[owner] / 2, tiny[owner], 1e-12, na.rm = TRUE)
  score <- abs(rest) / spread
  runs <- runs_of(!is.na(score) & score > threshold, breaks)
  runs <- runs[runs$to - runs$from < most, , drop = FALSE]
  describe_runs(runs, rest, local$expected, score)
}

# Consecutive rows of a series at which `hit` is TRUE.
runs_of <- function(hit, breaks) {
  n <- length(hit)
  if (n == 0) {
    return(data.frame(from = integer(), to = integer()))
  }
  starts <- rep(FALSE, n)
  starts[breaks[-length(breaks)] + 1] <- TRUE
  begin <- hit & (c(TRUE, !hit[-n]) | starts)
  end <- hit & (c(!hit[-1], TRUE) | c(starts[-1], TRUE))
  data.frame(from = which(begin), to = which(end))
}

# The row of each run with the largest score speaks for it.
describe_runs <- function(runs, rest, expected, score) {
  if (nrow(runs) == 0) {
    return(no_findings)
  }
  top <- vapply(seq_len(nrow(runs)), function(i) {
    rows <- runs$from[i]:runs$to[i]
    rows[which.max(abs(score[rows]))]
  }, 1)
  data.frame(from = runs$from, to = runs$to, off = rest[top], expected = expected[top],
             score = score[top])
}

# Runs of one value (within half the resolution) that are longer than chance: with a share p
# of equal neighbours, a run of length L is expected n p^(L - 1) times.
find_stuck <- function(values, breaks, least, resolution, zeros) {
  out <- lapply(seq_len(length(breaks) - 1), function(s) {
    rows <- (breaks[s] + 1):breaks[s + 1]
    there <- rows[is.finite(values[rows])]
    if (length(there) < 3) {
      return(NULL)
    }
    v <- values[there]
    same <- abs(diff(v)) <= resolution / 2
    limit <- least
    if (is.na(limit)) {
      # Long runs themselves must not make long runs look usual.
      runs <- rle(same)
      usual <- sum(pmin(runs$lengths[runs$values], 3)) / max(1, length(same))
      p <- min(max(usual, 1 / length(v)), 0.9)
      limit <- max(6, ceiling(1 + log(1e-4 / length(v)) / log(p)))
    }
    runs <- rle(c(FALSE, same))
    end <- cumsum(runs$lengths)
    hit <- which(runs$values & runs$lengths + 1 >= limit)
    from <- there[end[hit] - runs$lengths[hit]]
    to <- there[end[hit]]
    if (length(hit) == 0) {
      return(NULL)
    }
    found <- data.frame(from = from, to = to, off = 0, expected = NA_real_,
                        score = (runs$lengths[hit] + 1) / limit)
    if (zeros) found else found[values[found$from] != 0, , drop = FALSE]
  })
  out <- do.call(rbind, out)
  if (is.null(out)) no_findings else out
}

find_outside <- function(values, breaks, min, max) {
  off <- ifelse(values < min, values - min, ifelse(values > max, values - max, 0))
  off[is.na(off)] <- 0
  runs <- runs_of(off != 0, breaks)
  nearest <- pmin(pmax(values, min), max)
  describe_runs(runs, off, nearest, abs(off))
}

# Changes between neighbours that are faster than `rate` a second, or without a rate over
# `threshold` robust standard deviations of all changes. The value after the change is named.
find_jumps <- function(values, times, breaks, rate, threshold) {
  owner <- series_index(breaks)
  there <- which(is.finite(values))
  n <- length(there)
  if (n < 2) {
    return(no_findings)
  }
  before <- there[-n]
  after <- there[-1]
  same <- owner[before] == owner[after]
  before <- before[same]
  after <- after[same]
  step <- values[after] - values[before]
  limit <- if (is.na(rate)) {
    spread <- vapply(split(step, owner[after]), function(d) 1.4826 * stats::median(abs(d)), 1)
    pmax(threshold * spread[as.character(owner[after])], 1e-12)
  } else {
    rate * (times[after] - times[before])
  }
  hit <- abs(step) > limit
  data.frame(
    from = after[hit], to = after[hit], off = step[hit], expected = values[before][hit],
    score = unname((abs(step) / limit)[hit])
  )
}

# Standard deviation by the 0.9 quantile of sizes.
robust_sd <- function(d) {
  max(stats::quantile(abs(d), 0.9, na.rm = TRUE, names = FALSE) / stats::qnorm(0.95), 1e-12)
}

# Shifts that stay: a step far larger than steps usually are, the levels of `width` readings before
# and after differ by as much, and far more than usual, and it lasts for `stay` readings.
find_shifts <- function(values, times, breaks, threshold, width, stay) {
  # A spike is a step too, and there would be another one back.
  spiky <- find_spikes(values, breaks, threshold, 0, 7, 3)
  values[sequence(spiky$to - spiky$from + 1, spiky$from)] <- NA_real_
  out <- lapply(seq_len(length(breaks) - 1), function(s) {
    rows <- (breaks[s] + 1):breaks[s + 1]
    there <- rows[is.finite(values[rows])]
    n <- length(there)
    if (n < 4 * width) {
      return(NULL)
    }
    v <- values[there]
    one <- c(0L, n)
    level <- function(back, ahead, w) {
      at <- step_windows(one, back, ahead)
      m <- sliding_statistic(v, as.double(seq_len(n)), at, one, "median")
      m[at$to - at$from < w / 2] <- NA_real_
      m
    }
    after <- level(0, width - 1, width)
    before <- c(NA, level(width - 1, 0, width)[-n])
    size <- after - before
    # What happened in a gap is no step.
    pause <- diff(times[there])
    step <- c(0, ifelse(pause > 3 * stats::median(pause), 0, diff(v)))
    quick <- robust_sd(step)
    hit <- !is.na(size) & step * size > 0 & abs(step) > threshold * quick &
      abs(step) > 0.5 * abs(size) &
      abs(size) > threshold / 4 * robust_sd(size - stats::median(size, na.rm = TRUE))
    if (!any(hit)) {
      return(NULL)
    }
    # Long levels: the shift must still be there when its surroundings are over.
    long_after <- level(0, stay - 1, stay)
    long_before <- c(NA, level(stay - 1, 0, stay)[-n])
    lasts <- (long_after - long_before) * sign(size) > 0.3 * abs(size)
    at <- which(hit & !is.na(lasts) & lasts)
    # Of several steps close by, the largest.
    at <- at[vapply(at, function(i) abs(step[i]) >= max(abs(step[at[abs(at - i) <= width]])), TRUE)]
    data.frame(from = there[at], to = there[at], off = size[at], expected = before[at],
               score = abs(step[at]) / quick)
  })
  out <- do.call(rbind, out)
  if (is.null(out)) no_findings else out
}
