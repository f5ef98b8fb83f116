# Fourier transforms, correlations and spectra of plain vectors against slow references and closed forms.

test_that("transforms of any length are those of the definition", {
  set.seed(1)
  for (n in c(1, 2, 3, 4, 5, 8, 30, 64, 97, 128, 210, 1000, 1024, 1009)) {
    v <- rnorm(n)
    expect_equal(kairon:::cpp_squared_spectrum(v, n), Mod(fft(v))[seq_len(n %/% 2 + 1)]^2, info = n)
  }
  # With zeros behind.
  v <- rnorm(50)
  expect_equal(kairon:::cpp_squared_spectrum(v, 128), Mod(fft(c(v, rep(0, 78))))[1:65]^2)
})

test_that("autocorrelations agree with base R's, short and long, and with pairs where values are missing", {
  set.seed(2)
  for (n in c(40, 3000, 70000)) {
    v <- cumsum(rnorm(n)) + 1e4
    lags <- min(n - 2, 600)
    got <- kairon:::cpp_autocorrelation(v, c(0L, as.integer(n)), as.integer(lags), TRUE, 1L)
    expect_equal(got$correlation[, 1], as.numeric(acf(v, lags, plot = FALSE)$acf), tolerance = 1e-7)
    expect_equal(got$partial[-1, 1], as.numeric(pacf(v, lags, plot = FALSE)$acf), tolerance = 1e-5)
  }
  v <- rnorm(500)
  v[c(3, 100:140, 499)] <- NA
  d <- v - mean(v, na.rm = TRUE)
  slow <- vapply(0:30, function(k) {
    pairs <- d[seq_len(500 - k)] * d[k + seq_len(500 - k)]
    mean(pairs, na.rm = TRUE) * (500 - k) / 500 / mean(d^2, na.rm = TRUE)
  }, 1)
  got <- kairon:::cpp_autocorrelation(v, c(0L, 500L), 30L, FALSE, 1L)$correlation[, 1]
  expect_equal(got, slow)
  # Two series in one call, one shorter than the lags, one constant.
  both <- kairon:::cpp_autocorrelation(c(d[1:6], rep(5, 9)), c(0L, 6L, 15L), 8L, TRUE, 2L)
  expect_true(all(is.na(both$correlation[7:9, 1])))
  expect_true(all(is.na(both$correlation[, 2])))
})

test_that("the autocorrelations of a first-order autoregression fade as powers", {
  set.seed(3)
  v <- as.numeric(stats::filter(rnorm(2e5), 0.8, "recursive"))
  got <- kairon:::cpp_autocorrelation(v, c(0L, 200000L), 10L, TRUE, 1L)
  expect_equal(got$correlation[, 1], 0.8^(0:10), tolerance = 0.03)
  expect_lt(max(abs(got$partial[3:11, 1])), 0.01)
})

test_that("cross-correlations agree with base R's in both directions", {
  set.seed(4)
  a <- rnorm(400)
  b <- c(0, 0, 0, a[1:397]) + 0.2 * rnorm(400)
  got <- kairon:::cpp_cross_correlation(a, b, 12L)
  # Base R's lag k is a(t + k) with b(t).
  expect_equal(rev(got), as.numeric(ccf(a, b, 12, plot = FALSE)$acf))
  expect_equal(which.max(got) - 13, 3)
})

test_that("a spectrum sums up to the variance, and a sine's to half its squared amplitude", {
  set.seed(5)
  for (n in c(200, 201, 997)) {
    v <- rnorm(n, 5, 3)
    s <- kairon:::smoothed_spectrum(v, "mean", 1)
    expect_equal(sum(s$density) / n, sum((v - mean(v))^2) / n)
  }
  t <- 1:1200
  s <- kairon:::smoothed_spectrum(4 * sin(2 * pi * t / 24), "mean", 1)
  near <- abs(s$frequency - 1 / 24) < 1e-9
  expect_equal(sum(s$density[near]) / 1200, 8)
  expect_lt(max(s$density[!near]), 1e-10)
  w <- kairon:::segment_spectrum(rnorm(40000, 0, 2), "mean", 256, 0.5, "hann")
  expect_equal(sum(w$density) / 256, 4, tolerance = 0.03)
  expect_equal(mean(w$density), 8, tolerance = 0.03)
})

test_that("the degrees of freedom of overlapping segments give the spread that is seen", {
  set.seed(6)
  means <- replicate(300, kairon:::segment_spectrum(rnorm(1024), "mean", 128, 0.5, "hann")$density[20])
  freedom <- kairon:::segment_spectrum(rnorm(1024), "mean", 128, 0.5, "hann")$freedom
  expect_equal(2 * mean(means)^2 / var(means), freedom, tolerance = 0.25)
})

test_that("the least-squares periodogram is that of fitting sines one by one", {
  set.seed(7)
  t <- sort(runif(250, 0, 90))
  v <- sin(2 * pi * t / 7) + rnorm(250, 0, 0.5)
  got <- kairon:::cpp_least_squares_periodogram(t, v, 1 / 180, 200L)
  slow <- vapply(c(1, 7, 26, 100, 200), function(k) {
    x <- cbind(cos(2 * pi * k / 180 * t), sin(2 * pi * k / 180 * t))
    f <- lm.fit(x, v)
    (sum(v^2) - sum(f$residuals^2)) / 2
  }, 1)
  expect_equal(got[c(1, 7, 26, 100, 200)], slow, tolerance = 1e-6)
  expect_equal(which.max(got), 26)
})

test_that("the background follows red noise and is not lifted by lines", {
  set.seed(8)
  v <- as.numeric(stats::filter(rnorm(4096), 0.9, "recursive"))
  p <- kairon:::cpp_squared_spectrum(v, 4096)
  b <- kairon:::cpp_spectral_background(p, 1)
  true <- 4096 / (1 - 1.8 * cos(2 * pi * (0:2048) / 4096) + 0.81)
  ratio <- b[20:2000] / true[20:2000]
  expect_true(all(ratio > 0.5 & ratio < 2.2))
  lined <- p
  lined[1 + 170 * (1:12)] <- 1e7
  expect_lt(max(abs(log(kairon:::cpp_spectral_background(lined, 1)[-1] / b[-1]))), 0.5)
})

test_that("readings and grid beat where arithmetic says", {
  expect_equal(kairon:::beat_frequencies(20, 15), c(1 / 60, 1 / 30), tolerance = 1e-6)
  # A grid that the readings fall onto has nothing to beat with.
  expect_length(kairon:::beat_frequencies(20, 60), 0)
})
