# Vetting and repairing: planted faults, false alarms, rules by hand.

instant_of <- function(text) {
  as.numeric(as.POSIXct(sub("(..):(..)$", "\\1\\2", text), format = "%Y-%m-%dT%H:%M:%S%z"))
}

test_that("faults planted in the river are found, with hardly a false alarm", {
  planted <- truth()$river
  river <- demo_timeline("river")
  v <- quiet(vet(river))
  flagged <- round(as.numeric(river$time[!is.na(v$flow_flag)]))
  spikes_at <- instant_of(planted$spikes$time)
  expect_gte(mean(spikes_at %in% flagged), 0.95)
  expect_lt(sum(!flagged %in% spikes_at), 0.001 * nrow(river))
  f <- findings(v)
  stuck <- f[f$rule == "stuck", ]
  expect_equal(as.numeric(stuck$from), instant_of(planted$stuck$from), tolerance = 1e-9)
  expect_equal(as.numeric(stuck$to), instant_of(planted$stuck$to), tolerance = 1e-9)
  expect_equal(stuck$readings, planted$stuck$readings)
  shift <- f[f$rule == "shift" & f$measure == "level", ]
  expect_equal(as.numeric(shift$from), instant_of(planted$level_shift$from), tolerance = 1e-9)
  expect_equal(shift$off, planted$level_shift$size, tolerance = 0.15)
  expect_equal(sum(f$rule == "shift"), 1)
})

test_that("what varies by season is no fault in the clean demo data", {
  for (name in c("demand", "energy", "billed", "soil", "accounts")) {
    x <- demo_timeline(name)
    expect_lt(nrow(findings(quiet(vet(x)))), 0.001 * nrow(x) + 1, label = name)
  }
  # A sharp daily peak, the same each day.
  at <- as.POSIXct("2031-03-01", tz = "UTC") + 3600 * 0:(24 * 40 - 1)
  set.seed(92)
  peaky <- data.frame(at = at, v = 10 + 50 * (as.POSIXlt(at)$hour == 7) + rnorm(960))
  peaky$v[c(300, 500)] <- c(200, -80)
  f <- findings(quiet(vet(quiet(timeline(peaky, at)), spikes())))
  expect_equal(f$from, at[c(300, 500)])
  expect_equal(f$off, c(190, -90), tolerance = 0.05)
})

test_that("random noise of many kinds hardly ever raises an alarm, spikes in it always do", {
  set.seed(93)
  alarms <- found <- 0
  for (kind in list(rnorm, function(n) cumsum(rnorm(n)),
                    function(n) 20 + 5 * sin(2 * pi * (1:n) / 7) + rnorm(n))) {
    v <- kind(2000)
    at <- c(200, 700, 1500)
    v[at] <- v[at] + 25 * mad(diff(v)) * c(1, -1, 1)
    f <- findings(quiet(vet(daily(v), list(spikes(), stuck(), shifts()))))
    hit <- match(days_from("2031-01-01", 2000)[at], f$from)
    found <- found + sum(!is.na(hit))
    alarms <- alarms + nrow(f) - sum(!is.na(hit))
  }
  expect_equal(found, 9)
  expect_lte(alarms, 6)
})

test_that("limits, jumps, stuck stretches and shifts by hand", {
  x <- daily(c(1, 2, 9, 9, 9, 9, 30, 5, NA, 6))
  f <- findings(quiet(vet(x, list(limits(max = 20), stuck(least = 4), jumps(10, "1 day")))))
  expect_equal(f$rule, c("stuck", "limit", "jump", "jump"))
  expect_equal(f$off[f$rule == "limit"], 10)
  expect_equal(f$readings[1], 4)
  expect_equal(f$off[f$rule == "jump"], c(21, -25))
  v <- quiet(vet(x, list(limits(max = 20), stuck(least = 4))))
  expect_equal(as.character(v$flow_flag), c(NA, NA, rep("stuck", 4), "limit", NA, NA, NA))
  expect_equal(v$flow, x$flow)
  rough <- daily(c(1, 5.01, 5.02, 5, 5.01, 5.02, 7))
  expect_equal(findings(quiet(vet(rough, stuck(least = 5, resolution = 0.05))))$readings, 5)
  dry <- daily(c(rep(0, 30), 4, 2, rep(0, 30)), amounts = "flow")
  expect_equal(nrow(findings(quiet(vet(dry, stuck(least = 10))))), 0)
  set.seed(94)
  s <- c(rnorm(200), 12 + rnorm(200))
  shift <- findings(quiet(vet(daily(s), shifts())))
  expect_equal(shift$from, as.Date("2031-01-01") + 200)
  expect_equal(shift$off, 12, tolerance = 0.1)
})

test_that("repair replaces flagged values only, keeps the raw ones, and says when there is nothing", {
  x <- daily(c(1, 2, 90, 4, NA, 6, 7))
  v <- quiet(vet(x, limits(max = 50)))
  r <- quiet(repair(v))
  expect_equal(r$flow, c(1, 2, 3, 4, NA, 6, 7))
  expect_equal(r$flow_raw, x$flow)
  expect_equal(as.character(r$flow_origin[3]), "repaired")
  expect_null(r$flow_flag)
  table <- as.data.frame(ledger(r))
  expect_equal(c(table$before, table$after), c(90, 3))
  expect_message(repair(quiet(vet(x, limits(max = 500)))), "Nothing needed repair")
  expect_match(error_text(repair(x)), "no flags to go by")
  long <- quiet(vet(daily(c(1, 80, 80, 80, 5)), limits(max = 50)))
  expect_equal(quiet(repair(long, longest = 2))$flow, c(1, NA, NA, NA, 5))
  expect_match(error_text(repair(quiet(vet(irregular(50), limits(max = 10))), "seasonal")),
               "needs a regular cadence")
})

test_that("flagged readings are not scored, and a routine vets and repairs at each cutoff", {
  set.seed(95)
  v <- 50 + rnorm(80)
  v[c(40, 76)] <- c(500, 400)
  x <- daily(v)
  cleaning <- routine() |> vet(spikes()) |> repair()
  b <- quiet(backtest(x, by_naive(), horizon = 5, cutoffs = 2, routine = cleaning))
  expect_lt(max(abs(b$table$value - 50)), 10)
  vetted <- quiet(vet(x, spikes()))
  b <- quiet(backtest(vetted, by_naive(), horizon = 8, cutoffs = 1))
  expect_equal(which(is.na(b$table$observed)), 4)
})

test_that("rules that cannot be meant are refused", {
  expect_match(error_text(spikes(threshold = -1)), "above 0")
  expect_match(error_text(spikes(width = 8)), "must be odd")
  expect_match(error_text(spikes(width = 5, most = 3)), "below half")
  expect_match(error_text(limits(5, 1)), "first below the second")
  expect_match(error_text(vet(daily(1:9), "spikes")), "must be rules")
  expect_match(error_text(jumps(5, per = "1M")), "ambiguous")
  expect_match(error_text(findings(daily(1:3))), "not been vetted")
  expect_equal(format(limits(0, 5)), "limit (min = 0, max = 5)")
  expect_output(print(findings(quiet(vet(daily(1:30))))), "Nothing was found")
})

test_that("the score with flagged readings is kept beside the one without", {
  set.seed(12)
  v <- 50 + rnorm(200)
  v[195] <- 400
  x <- quiet(vet(daily(v, levels = "flow")))
  b <- quiet(backtest(x, by_mean(), horizon = 10, cutoffs = 1))
  plain <- scores(b)
  with <- scores(b, flagged = TRUE)
  expect_equal(c(plain$n, with$n), c(9, 10))
  expect_equal(with$mae, (plain$mae * 9 + abs(400 - b$table$value[5])) / 10)
  expect_match(paste(format(b), collapse = " "), "1 forecast value met readings flagged as faults")
})

put_missing <- function(x) {
  x$flow[30:32] <- NA
  x$flow_raw[30:32] <- NA
  x
}

test_that("a repaired measure is drawn with what stood there before", {
  v <- 20 + sin(1:200)
  v[c(50, 120)] <- c(90, -40)
  r <- quiet(repair(vet(daily(v, levels = "flow"))))
  p <- autoplot(r)
  before <- Filter(function(l) inherits(l$geom, "GeomSegment"), p$layers)[[1]]$data
  expect_equal(before$before, c(90, -40))
  expect_equal(before$after, r$flow[c(50, 120)])
  expect_match(unwrapped(p$labels$subtitle), "pale cross: before the repair")
  # What stood there before is no measure to fill or to forecast.
  holes <- put_missing(r)
  filled <- quiet(impute(holes))
  expect_equal(is.na(filled$flow_raw), is.na(holes$flow_raw))
  expect_false(anyNA(filled$flow))
  expect_equal(quiet(forecast(r, 3, by_naive()))$measures, "flow")
  expect_equal(quiet(forecast(r, 3, by_naive(), measures = "flow_raw"))$measures, "flow_raw")
  # Values on another scale are no repair.
  changed <- quiet(change(daily(v, levels = "flow"), keep = TRUE))
  expect_equal(length(unique(autoplot(changed)$data$panel)), 2)
})

test_that("no season is taken off for spikes where there is to be none", {
  v <- rep(c(rep(0, 13), 60), 12) + rep(c(0.1, -0.2, 0.3), length.out = 168)
  x <- daily(v, levels = "flow")
  expect_equal(nrow(findings(quiet(vet(x, spikes(seasons = 14))))), 0)
  expect_gt(nrow(findings(quiet(vet(x, spikes(seasons = NA))))), 10)
  expect_match(error_text(spikes(seasons = TRUE)), "must name seasons")
})
