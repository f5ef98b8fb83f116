# A level that moved shortly before a series ends, and stayed.

# The move of one series: `place` of the first value after it, `size`, and whether this is a `ratio` (of
# values that are all above zero it is, since they grow in proportion); NULL where none stands out. It stands
# out where the mean after it is further from the mean before than such means ever were: 5 times what is
# usual, and half as much again as the most. What a series does all the time, a walk or a wave, is no move by
# this measure.
recent_move <- function(y, seasons = integer()) {
  y[!is.finite(y)] <- NA
  ratio <- all(y > 0, na.rm = TRUE)
  if (ratio) y <- log(y)
  at <- which(!is.na(y))
  n <- length(at)
  most <- min(24, n %/% 6)
  if (most < moved_least || !may_have_moved(y, seasons, most)) {
    return(NULL)
  }
  x <- without_seasons(y, seasons)[at]
  # It begins with a step.
  steps <- diff(x)
  usual <- max(stats::mad(steps), stats::mad(utils::tail(steps, max(12, n %/% 3))))
  after <- n - which(abs(steps) > 2 * usual)
  after <- after[after >= moved_least & after <= most]
  sums <- cumsum(c(0, x - stats::median(x)))
  best <- list(score = 0)
  for (k in after) {
    before <- max(k, min(2 * k, 12))
    first <- (before + 1):(n - k + 1)
    contrast <- (sums[first + k] - sums[first]) / k - (sums[first] - sums[first - before]) / before
    # Those that the move itself has no part in.
    past <- utils::head(contrast, -2 * k - 1)
    if (length(past) < 8) next
    size <- contrast[length(contrast)] - stats::median(past)
    spread <- stats::mad(past)
    furthest <- max(abs(past - stats::median(past)))
    step <- steps[n - k] - stats::median(steps)
    # Sums of huge values are no numbers.
    clear <- isTRUE(spread > 0 && abs(size) > 5 * spread && abs(size) > 1.5 * furthest)
    # Of several places the one that parts the values best.
    score <- size^2 * k * before / (k + before)
    if (clear && step / size > 1 / 3 && score > best$score) {
      best <- list(score = score, place = at[n - k + 1], size = size, ratio = ratio)
    }
  }
  if (best$score > 0) best
}

moved_least <- 3

# A quick look that most series do not pass: the last values stand apart from what was whole seasons before.
may_have_moved <- function(y, seasons, most) {
  season <- if (length(seasons)) seasons[[1]] else 1
  lag <- season * ceiling(most / season)
  if (length(y) < lag + 8) {
    lag <- most
  }
  change <- diff(y, lag)
  change <- change[!is.na(change)]
  if (length(change) < 8) {
    return(FALSE)
  }
  off <- change - stats::median(change)
  last <- utils::tail(off, moved_least)
  isTRUE(abs(sum(sign(last))) == moved_least && mean(abs(last)) > 1.5 * stats::mad(off))
}

# Less the usual deviation at each place of a season from the mean of a season around it: medians, for two
# seasons at most.
without_seasons <- function(y, seasons) {
  n <- length(y)
  for (m in utils::head(seasons[seasons > 1 & 2 * seasons <= n], 2)) {
    sums <- cumsum(c(0, ifelse(is.na(y), 0, y)))
    counts <- cumsum(c(0, !is.na(y)))
    from <- pmin(pmax(0, seq_len(n) - m %/% 2 - 1), n - m)
    level <- (sums[from + m + 1] - sums[from + 1]) / pmax(1, counts[from + m + 1] - counts[from + 1])
    place <- (seq_len(n) - 1) %% m + 1
    usual <- vapply(split(y - level, place), stats::median, 1, na.rm = TRUE)
    usual[is.na(usual)] <- 0
    y <- y - unname(usual)[place]
  }
  y
}
