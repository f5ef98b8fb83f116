# The words of a verdict, from tables made by hand.

made_backtest <- function(error, habit = 2 * abs(error), observed = 100, inside = TRUE, cutoffs = 4,
                          series = NULL, unit = "l/s") {
  n <- length(error)
  table <- data.frame(
    cutoff = rep(rep(days_from("2031-03-01", cutoffs), each = max(1, length(series))), length.out = n),
    ahead = rep(1:2, each = n / 2),
    measure = "flow", method = "good", value = observed + error, observed = observed, scale = 1
  )
  table$lower_90 <- table$observed - ifelse(inside, 1, -1)
  table$upper_90 <- table$observed + 5
  other <- table
  other$method <- "naive"
  other$value <- other$observed + habit
  table <- rbind(table, other)
  meta <- list(series = character(), units = c(flow = unit), type = "step")
  if (!is.null(series)) {
    table$site <- rep_len(series, nrow(table))
    meta$series <- "site"
  }
  plan <- list(cutoffs = 2 * seq_len(cutoffs), steps = 2)
  structure(list(table = table, levels = 90, meta = meta, plan = plan), class = "kairon_backtest")
}

said <- function(...) paste(verdict(made_backtest(...)), collapse = " ")

test_that("the error is told in the unit and as a share of the usual value", {
  expect_match(said(rep(c(4, -4), 8)),
               "^Forecasts of flow by good are typically 4 l/s off, 4 % of the usual value.")
  expect_match(said(rep(c(4, -4), 8), unit = ""), "typically 4 off, 4 %")
})

test_that("the gain over the naive habit is a share of its error", {
  expect_match(said(rep(c(3, -3), 8), habit = rep(4, 16)),
    "That is 25 % closer than the naive habit, which may be chance (p 0.12).",
               fixed = TRUE)
  expect_match(said(rep(c(4, -4), 8), habit = rep(4, 16)),
               "no closer than the naive habit|No other method came closer")
  expect_match(said(rep(c(4, -4), 8), habit = rep(1, 16)), "by naive are typically 1 l/s off")
})

test_that("a lean is told when it is over a third of the error", {
  expect_match(said(rep(2, 16)), "They lean high, by 2 l/s on average.", fixed = TRUE)
  expect_match(said(rep(-2, 16)), "They lean low, by 2 l/s on average.", fixed = TRUE)
  expect_match(said(rep(c(2, -2), 8)), "They lean neither high nor low.", fixed = TRUE)
})

test_that("intervals held, were too narrow or too wide", {
  held <- function(share) {
    said(rep(c(1, -1), 50), inside = rep(c(TRUE, FALSE), round(100 * c(share, 1 - share))))
  }
  expect_match(held(0.9), "The 90 % intervals held 90 % of the time: as they should.", fixed = TRUE)
  expect_match(held(0.7), "held 70 % of the time: too narrow", fixed = TRUE)
  expect_match(held(1), "held 100 % of the time: too wide", fixed = TRUE)
})

test_that("no share is parted from its sign, at any width, and no word is lost", {
  before <- options(width = 80)
  on.exit(options(before))
  v <- verdict(made_backtest(rep(c(4, -4), 8)))
  for (width in seq(20, 120, by = 7)) {
    options(width = width)
    lines <- capture.output(print(v))
    expect_false(any(grepl("^ *%", lines)))
    expect_equal(paste(lines, collapse = " "), paste(v, collapse = " "))
    expect_lte(max(nchar(lines)), max(width, 16))
  }
})

test_that("it says where the error is largest: in a series, or far ahead", {
  error <- rep(c(1, 1, 9, 1), 8)
  expect_match(said(error, series = c("N", "E", "S", "W")), "It fails most in S (scaled error 9",
               fixed = TRUE)
  expect_match(said(c(rep(c(1, -1), 8), rep(c(5, -5), 8))),
               "grows with the distance: 1 l/s .* 5 l/s in the second")
  expect_no_match(said(rep(c(1, -1), 16)), "grows with the distance|fails most")
})

test_that("few cutoffs and missing truth are admitted", {
  expect_match(said(rep(c(1, -1), 8), cutoffs = 2), "This rests on 2 cutoffs")
  empty <- made_backtest(rep(1, 8))
  empty$table$observed <- NA_real_
  expect_match(paste(verdict(empty), collapse = " "), "no forecast falls on a measured value")
  v <- verdict(made_backtest(rep(c(1, -1), 8)))
  expect_equal(as.data.frame(v)$sentence, format(v))
  expect_output(print(v), "Forecasts of flow")
})
