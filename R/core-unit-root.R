# Tests of plain vectors: unit roots, level shifts of the mean, what is left in a remainder.

# MacKinnon's (1994) approximations of the asymptotic p-values of the t statistic of a unit root,
# one series: normal quantiles as polynomials of the statistic, below and above `star`.
unit_root_tables <- list(
  none = list(star = -1.04, low = -19.04, high = Inf, small = c(0.6344, 1.2378, 0.032496),
              large = c(0.4797, 0.93557, -0.06999, 0.033066)),
  constant = list(star = -1.61, low = -18.83, high = 2.74, small = c(2.1659, 1.4412, 0.038269),
                  large = c(1.7339, 0.93202, -0.12745, -0.010368)),
  trend = list(star = -2.89, low = -16.18, high = 0.7, small = c(3.2512, 1.6047, 0.049588),
               large = c(2.5261, 0.61654, -0.37956, -0.060285))
)

# MacKinnon's (2010) critical values at 1, 5 and 10 %: b0 + b1 / T + b2 / T^2 + b3 / T^3.
unit_root_values <- list(
  none = rbind(c(-2.56574, -2.2358, -3.627, 0), c(-1.941, -0.2686, -3.365, 31.223),
               c(-1.61682, 0.2656, -2.714, 25.364)),
  constant = rbind(c(-3.43035, -6.5393, -16.786, -79.433), c(-2.86154, -2.8903, -4.234, -40.04),
                   c(-2.56677, -1.5384, -2.809, 0)),
  trend = rbind(c(-3.95877, -9.0531, -28.428, -134.155), c(-3.41049, -4.3904, -9.036, -45.374),
                c(-3.12705, -2.5856, -3.925, -22.38))
)

unit_root_p <- function(tau, n, with) {
  b <- unit_root_values[[with]]
  # What the critical values move by in a short series, at this statistic.
  moved <- b[, 2] / n + b[, 3] / n^2 + b[, 4] / n^3
  tau <- tau - stats::approx(b[, 1] + moved, moved, tau, rule = 2)$y
  t <- unit_root_tables[[with]]
  if (tau >= t$high) {
    return(1)
  }
  if (tau <= t$low) {
    return(0)
  }
  k <- if (tau <= t$star) t$small else t$large
  stats::pnorm(sum(k * tau^(seq_along(k) - 1)))
}

critical_values <- function(n, with) {
  b <- unit_root_values[[with]]
  stats::setNames(b[, 1] + b[, 2] / n + b[, 3] / n^2 + b[, 4] / n^3, c("1 %", "5 %", "10 %"))
}

# Augmented Dickey and Fuller: the change on the level before, a constant, a trend, and `lags`
# changes before. Without `lags`, as many as Akaike's corrected criterion takes of 12 (n /
# 100)^(1/4) (Schwert, 1989): his first one takes so many in short series that walks are rejected
# twice as often as they may.
unit_root_test <- function(v, with = "constant", lags = NULL) {
  v <- unbroken_run(v)
  n <- length(v)
  most <- lags %||% min(floor(12 * (n / 100)^0.25), n %/% 3 - 3)
  if (n < 10 || most < 0 || stats::sd(v) == 0) {
    return(NULL)
  }
  # Beside a constant a high level is one itself, and hides what the values say.
  if (with != "none") {
    v <- v - v[1]
    v <- v - mean(v)
  }
  change <- diff(v)
  # One sample for all numbers of lags, so that their criteria compare.
  rows <- (most + 1):length(change)
  y <- change[rows]
  fixed <- cbind(v[rows], if (with != "none") 1, if (with == "trend") rows)
  before <- vapply(seq_len(most), function(k) change[rows - k], numeric(length(rows)))
  fit <- function(p) {
    x <- cbind(fixed, before[, seq_len(p), drop = FALSE])
    out <- stats::.lm.fit(x, y)
    out$x <- x
    out
  }
  p <- most
  if (is.null(lags)) {
    criterion <- vapply(0:most, function(p) {
      f <- fit(p)
      k <- ncol(f$x) + 1
      length(y) * log(sum(f$residuals^2) / length(y)) +
        2 * k * length(y) / max(1, length(y) - k - 1)
    }, 1)
    p <- which.min(criterion) - 1
    rows <- (p + 1):length(change)
    y <- change[rows]
    fixed <- cbind(v[rows], if (with != "none") 1, if (with == "trend") rows)
    before <- vapply(seq_len(p), function(k) change[rows - k], numeric(length(rows)))
  }
  f <- fit(p)
  free <- length(y) - ncol(f$x)
  if (free < 2 || f$rank < ncol(f$x)) {
    return(NULL)
  }
  sigma <- sum(f$residuals^2) / free
  r <- f$qr[seq_len(f$rank), , drop = FALSE]
  r[lower.tri(r)] <- 0
  se <- sqrt(sigma * sum(backsolve(r, diag(ncol(r)))[1, ]^2))
  tau <- f$coefficients[1] / se
  list(statistic = tau, p_value = unit_root_p(tau, length(y), with), lags = p, n = length(y),
       with = with, critical = critical_values(length(y), with))
}

# Critical values of Kwiatkowski and others (1992), table 1, at 10, 5, 2.5 and 1 %.
kpss_values <- list(constant = c(0.347, 0.463, 0.574, 0.739), trend = c(0.119, 0.146, 0.176, 0.216))

# Is the level (or the trend) constant? The core knows how many autocovariances count; the search
# for orders takes the same test.
level_test <- function(v, with = "constant", lags = NULL) {
  v <- unbroken_run(v)
  n <- length(v)
  if (n < 10 || stats::sd(v) == 0) {
    return(NULL)
  }
  e <- detrended(v, if (with == "trend") "line" else "mean")
  made <- cpp_level_test(e, as.integer(lags %||% -1))
  statistic <- made[[1]]
  if (is.na(statistic)) {
    return(NULL)
  }
  at <- kpss_values[[with]]
  level <- c(0.1, 0.05, 0.025, 0.01)
  p <- stats::approx(at, level, statistic, rule = 2)$y
  bound <- if (statistic < at[1]) "above" else if (statistic > at[4]) "below" else ""
  list(statistic = statistic, p_value = p, bound = bound, lags = made[[2]], n = n, with = with,
       critical = stats::setNames(at, c("10 %", "5 %", "2.5 %", "1 %")))
}

# Tests of a unit root need values without gaps: the longest run of them.
unbroken_run <- function(v) {
  ok <- is.finite(v)
  if (all(ok)) {
    return(as.double(v))
  }
  runs <- rle(ok)
  runs$lengths[!runs$values] <- 0
  best <- which.max(runs$lengths)
  if (!any(ok)) {
    return(numeric())
  }
  end <- cumsum(rle(ok)$lengths)[best]
  as.double(v[(end - runs$lengths[best] + 1):end])
}

# Ljung and Box (1978): are the first `lags` autocorrelations together zero? `fitted` parameters
# are taken off the degrees of freedom.
left_correlation_test <- function(v, lags, fitted = 0) {
  n <- sum(is.finite(v))
  size <- length(v)
  lags <- lags[lags <= size - 2]
  pairs <- pairs_apart(v, lags)
  lags <- lags[pairs > 1]
  pairs <- pairs[pairs > 1]
  free <- length(lags) - fitted
  if (n < 8 || free < 1) {
    return(NULL)
  }
  r <- cpp_autocorrelation(as.double(v), c(0L, size), max(lags), FALSE, 1L)$correlation[lags + 1, 1]
  if (anyNA(r)) {
    return(NULL)
  }
  # Each square over its variance, which rests on the pairs that are there.
  q <- (n + 2) / n * sum(r^2 * pairs * (size / (size - lags))^2)
  list(statistic = q, lags = lags, freedom = free,
       p_value = stats::pchisq(q, free, lower.tail = FALSE))
}

# How many pairs so far apart are both there.
pairs_apart <- function(v, lags) {
  there <- is.finite(v)
  if (all(there)) {
    return(length(v) - lags)
  }
  left <- pmax(length(there) - lags, 0)
  vapply(left, function(n) sum(utils::head(there, n) & utils::tail(there, n)), 1)
}

# Which lags a test of what is left looks at: the first ones, as many as the logarithm of the number
# of values (Tsay, R. S., 2010, Analysis of financial time series, 3rd ed., section 2.2: more of
# them only dilute the test), and those of a season and of two, where the values hold it four times.
# At least two more than what was fitted.
usual_lags <- function(n, season = 1, fitted = 0) {
  near <- max(ceiling(log(max(n, 2))), fitted + 2)
  far <- if (season > 1 && n >= 4 * season) round(season * 1:2)
  lags <- sort(unique(c(seq_len(near), far)))
  lags[lags <= max(1, n - 2)]
}

# Wald and Wolfowitz (1940): are there too few or too many runs above and below the median?
runs_test <- function(v) {
  v <- v[is.finite(v)]
  side <- v > stats::median(v)
  side <- side[v != stats::median(v)]
  a <- as.double(sum(side))
  b <- as.double(sum(!side))
  if (a < 2 || b < 2) {
    return(NULL)
  }
  runs <- 1 + sum(diff(side) != 0)
  n <- a + b
  mean <- 1 + 2 * a * b / n
  sd <- sqrt(2 * a * b * (2 * a * b - n) / (n^2 * (n - 1)))
  z <- (runs - mean) / sd
  list(statistic = z, runs = runs, expected = mean, p_value = 2 * stats::pnorm(-abs(z)))
}

# A level that moved shortly before a series ends, and stayed.

# The move of one series: `place` of the first value after it, `size`, and whether this is a `ratio`
# (of values that are all above zero it is, since they grow in proportion); NULL where none stands
# out. It stands out where the mean after it is further from the mean before than such means ever
# were: 5 times what is usual, and half as much again as the most. What a series does all the time,
# a walk or a wave, is no move by this measure.
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

# A quick look that most series do not pass: the last values stand apart from what was whole seasons
# before.
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

# Less the usual deviation at each place of a season from the mean of a season around it: medians,
# for two seasons at most.
without_seasons <- function(y, seasons) {
  n <- length(y)
  for (m in utils::head(seasons[seasons > 1 & 2 * seasons <= n], 2)) {
    sums <- cumsum(c(0, ifelse(is.na(y), 0, y)))
    counts <- cumsum(c(0, !is.na(y)))
    from <- pmin(pmax(0, seq_len(n) - m %/% 2 - 1), n - m)
    level <- (sums[from + m + 1] - sums[from + 1]) /
      pmax(1, counts[from + m + 1] - counts[from + 1])
    place <- (seq_len(n) - 1) %% m + 1
    usual <- vapply(split(y - level, place), stats::median, 1, na.rm = TRUE)
    usual[is.na(usual)] <- 0
    y <- y - unname(usual)[place]
  }
  y
}
