# How far ahead, and how far back, a duration reaches: by counting the days.

shifted_date <- function(day, words, back = FALSE) {
  by <- if (words == "1 month") "1 month" else paste(as.integer(sub(" .*", "", words)) * if (grepl("week",
    words)) 7 else 1, "days")
  seq(day, by = if (back) paste0("-", by) else by, length.out = 2)[2]
}

test_that("durations on business days hold each open day, wherever they begin and end", {
  shut <- events(c(Midwinter = "25 December", Founders = "3 March"), years = 2030:2031)
  for (closed in list(NULL, shut)) {
    all <- stamp_sequence(as.Date("2030-08-05"), every = cadence("business day", events = closed),
      length = 200)
    for (n in 90:110) {
      x <- quiet(timeline(data.frame(day = all[1:n], flow = seq_len(n)), day, amounts = flow,
        events = closed))
      begin <- all[n + 1]
      for (words in c("1 day", "2 days", "1 week", "10 days", "1 month")) {
        end <- shifted_date(begin, words)
        f <- quiet(forecast(x, words, by_naive(), paths = 20))
        expect_equal(unique(f$table$day), all[all >= begin & all < end], label = paste(n, words))
        if (n %% 5 == 0) expect_equal(sum(total(f, "1 month")$steps), sum(all >= begin & all < end))
        from <- shifted_date(all[n] + 1, words, back = TRUE)
        expect_equal(as.data.frame(quiet(holdout(x, last = words))$test)$day,
          all[all >= from & all <= all[n]],
                     label = paste("the last", words, "of", n))
      }
    }
  }
})

test_that("steps that lie in two periods are split between them, as resample() splits amounts", {
  set.seed(2)
  cases <- list(c("1 week", "monday"), c("1 quarter", "february"), c("1 month", ""), c("2 weeks", "thursday"))
  for (case in cases) {
    every <- if (nzchar(case[2]) && case[1] != "1 quarter") cadence(case[1],
      starts = case[2]) else cadence(case[1])
    from <- if (case[1] == "1 quarter") as.Date("2020-02-01") else as.Date("2020-01-06")
    day <- if (case[1] == "1 quarter") seq(from, by = "3 months", length.out = 40) else
      stamp_sequence(from, every = every, length = 40)
    x <- quiet(timeline(data.frame(day = day, flow = 100 + rnorm(40)), day, amounts = flow))
    f <- quiet(forecast(x, 21, by_drift(), paths = 50))
    made <- quiet(timeline(f$table[c("day", "value")], day, amounts = value))
    for (every in c("1 month", "1 year")) {
      t <- quiet(total(f, every))
      binned <- as.data.frame(quiet(resample(made, every)))
      expect_equal(t$value, binned$value, label = paste(case[1], every))
      expect_equal(sum(t$steps), 21, tolerance = 1e-5)
    }
  }
})
