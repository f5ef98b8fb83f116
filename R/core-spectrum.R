# Spectra of plain vectors: densities by frequency in cycles a step (or a second), one-sided, so
# that their integral over the frequencies is the variance.

detrended <- function(v, how, t = seq_along(v)) {
  switch(how,
    none = v,
    mean = v - mean(v),
    line = if (length(v) > 2) stats::.lm.fit(cbind(1, t - t[1]), v)$residuals else v - mean(v)
  )
}

# The periodogram at k / n, smoothed by means over `span` neighbours (Daniell).
smoothed_spectrum <- function(v, detrend, span) {
  n <- length(v)
  raw <- cpp_squared_spectrum(detrended(v, detrend), n)[-1]
  k <- seq_along(raw)
  density <- 2 * raw / n
  # The frequency of a half has no mirror image.
  if (n %% 2 == 0) density[length(density)] <- density[length(density)] / 2
  if (span > 1) {
    half <- as.integer((span - 1) / 2)
    density <- cpp_kernel_means(density, c(0L, length(density)), rep(1, 2 * half + 1), half,
                                1L)$value
  }
  list(frequency = k / n, density = density, freedom = 2 * max(1, span))
}

taper_weights <- function(name, n) {
  t <- (seq_len(n) - 0.5) / n
  switch(name,
    none = rep(1, n), hann = 0.5 - 0.5 * cos(2 * pi * t), hamming = 0.54 - 0.46 * cos(2 * pi * t),
    blackman = 0.42 - 0.5 * cos(2 * pi * t) + 0.08 * cos(4 * pi * t)
  )
}

# Means of the periodograms of overlapping tapered segments (Welch, 1967).
segment_spectrum <- function(v, detrend, segment, overlap, window) {
  step <- max(1, round(segment * (1 - overlap)))
  starts <- seq(1, length(v) - segment + 1, by = step)
  w <- taper_weights(window, segment)
  sums <- 0
  for (a in starts) sums <- sums +
    cpp_squared_spectrum(w * detrended(v[a - 1 + seq_len(segment)], detrend),
      segment)
  density <- (2 * sums / length(starts) / sum(w^2))[-1]
  if (segment %% 2 == 0) density[length(density)] <- density[length(density)] / 2
  # Overlapping segments share values (Percival and Walden, 1993, section 6.17).
  m <- seq_len(length(starts) - 1)
  shared <- vapply(m * step, function(d) {
    if (d < segment) sum(w[seq_len(segment - d)] * w[d + seq_len(segment - d)]) else 0
  }, 1)
  freedom <- 2 * length(starts) / (1 + 2 * sum((1 - m / length(starts)) * (shared / sum(w^2))^2))
  list(frequency = seq_along(density) / segment, density = density, freedom = freedom)
}

# By least squares at multiples of 1 / span (Lomb and Scargle), t in seconds; frequency a second.
irregular_spectrum <- function(t, v, detrend, span, oversample = 1) {
  ok <- is.finite(v)
  t <- t[ok]
  v <- detrended(v[ok], detrend, t)
  length <- (t[length(t)] - t[1]) * length(t) / (length(t) - 1)
  step <- stats::median(diff(t))
  count <- floor(oversample * length / (2 * step))
  f <- 1 / (oversample * length)
  power <- cpp_least_squares_periodogram(t, v, f, as.integer(count))
  density <- 2 * power * length / length(t)
  # At odd times frequencies are not independent, and there may be more of them than half the
  # values.
  total <- sum(density) * f
  if (is.finite(total) && total > 0) density <- density * mean((v - mean(v))^2) / total
  out <- density
  if (span > 1) {
    half <- as.integer((span - 1) / 2)
    out <- cpp_kernel_means(density, c(0L, length(density)), rep(1, 2 * half + 1), half, 1L)$value
  }
  list(frequency = seq_len(count) * f, density = out, freedom = 2 * max(1, span), power = power)
}

# Lines that stand out from their background: frequency, ratio and p-value among all.
spectral_lines <- function(power, per_bin, frequency, level) {
  background <- cpp_spectral_background(c(0, power), per_bin)[-1]
  ratio <- power / background
  n <- length(ratio)
  # Peaks among the ordinates that are not independent of them.
  reach <- ceiling(2 * per_bin)
  top <- rep(TRUE, n)
  for (d in seq_len(reach)) top <- top & ratio >= c(ratio[-seq_len(d)],
      rep(-Inf, d)) & ratio >= c(rep(-Inf, d), ratio[seq_len(n - d)])
  p <- -expm1(n / per_bin * log1p(-exp(-ratio)))
  keep <- which(top & p < level)
  out <- data.frame(frequency = frequency[keep], ratio = ratio[keep], p_value = p[keep])
  out[order(-out$ratio), ]
}

# Lines of an evenly spaced series, missing values as their mean; frequency a step.
even_lines <- function(v, level) {
  ok <- is.finite(v)
  if (sum(ok) < 8) {
    return(data.frame(frequency = numeric(), ratio = numeric(), p_value = numeric()))
  }
  t <- seq_along(v)
  v[ok] <- detrended(v[ok], "line", t[ok])
  v[!ok] <- 0
  n <- length(v)
  size <- 2^ceiling(log2(2 * n))
  power <- cpp_squared_spectrum(v * taper_weights("hann", n), size)[-1]
  lines <- spectral_lines(power, size / n, seq_along(power) / size, level)
  lines[lines$frequency > 2 / n, ]
}

# Multiples of a frequency are told with it: the fundamental of each line (a row of `lines`) and
# which multiple it is. Lines of the calendar (`known`, exact) stand for themselves, and have more
# harmonics; `year` is the frequency of a year, which shifts the harmonics of days and weeks that it
# modulates.
join_lines <- function(lines, resolution, known, year = NA) {
  n <- nrow(lines)
  base <- seq_len(n)
  times <- rep(1, n)
  for (i in order(lines$frequency)) {
    if (known[i]) next
    f <- lines$frequency[i]
    own <- which(lines$frequency < f & base == seq_len(n))
    k <- round(f / lines$frequency[own])
    off <- abs(f - k * lines$frequency[own])
    # A change of the clocks puts sidelines up to some cycles a year beside a stronger line.
    beside <- any(abs(lines$frequency - f) < 10.5 * year & lines$ratio > lines$ratio[i])
    shifted <- year * if (isTRUE(beside)) 10.5 else 2.2
    exact <- pmax(1.5 * resolution, ifelse(lines$frequency[own] > 20 * year, shifted, 0),
                  na.rm = TRUE)
    near <- off < ifelse(known[own], exact, pmax(1.2 * resolution * sqrt(k), 0.003 * f * (k <= 12)))
    # High harmonics are weaker than what they are harmonics of, and do not come alone: 8 hours are
    # no harmonic of a faint week, nor is an instrument's half hour one of the day.
    accompanied <- vapply(seq_along(own), function(j) {
      multiple <- lines$frequency[-i] / lines$frequency[own[j]]
      whole <- abs(multiple - round(multiple)) * lines$frequency[own[j]] < exact[j]
      any(whole & multiple > max(1.5, k[j] / 2 - 0.5) & multiple < max(k[j] + 2.5, 1.7 * k[j]))
    }, TRUE)
    weaker <- vapply(own, function(j) lines$ratio[i] <= max(lines$ratio[base == j]), TRUE)
    fits <- k >= 2 & k <= ifelse(known[own], 150, 12) & near & (k <= 4 | (weaker & accompanied))
    if (any(fits)) {
      best <- which(fits)[which.min(k[fits])]
      base[i] <- own[best]
      times[i] <- k[best]
    }
  }
  list(base = base, times = times)
}

# Frequencies where a grid of step `grid` and readings every `reading` beat against each other.
beat_frequencies <- function(reading, grid, most = 3) {
  pairs <- expand.grid(j = seq_len(most), k = 0:most)
  f <- abs(pairs$j / reading - pairs$k / grid)
  f <- f[f > 1e-9 / grid & f <= 0.5 / grid * (1 + 1e-6)]
  sort(unique(signif(f, 8)))
}

# Seasons by local regression, as numbers.

# Over how many cycles each season is smoothed; 0: the same in each.
loess_spans <- function(seasons, longest, span = NULL) {
  if (identical(span, "fixed")) {
    return(rep(0L, length(seasons)))
  }
  if (!is.null(span)) {
    return(rep(as.integer(span), length(seasons)))
  }
  cycles <- longest / as.numeric(seasons)
  odd <- 2 * floor(cycles / 8) + 1
  as.integer(ifelse(cycles < 6, 0, pmax(7, odd)))
}

# Trend, seasons (one column each) and weights of flat series; of logarithms where parts multiply.
loess_parts <- function(values, breaks, exact, spans, multiply = FALSE, robust = FALSE, degree = 1L,
                        trend_span = NULL, everywhere = FALSE) {
  v <- if (multiply) log(values) else as.double(values)
  made <- call_core(cpp_loess_seasons(
    v, breaks, exact, spans, as.integer(trend_span %||% 0), as.integer(degree), isTRUE(everywhere),
    if (robust) 10L else 0L, core_threads()
  ))
  if (multiply) {
    list(trend = exp(made$trend), seasons = exp(made$seasons), weights = made$weights)
  } else {
    made
  }
}
