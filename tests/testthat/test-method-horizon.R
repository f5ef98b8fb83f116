# How far ahead, and how far back, a duration reaches: by counting the days.

shifted_date <- function(day, words, back = FALSE) {
  by <- if (words == "1 month") "1 month" else paste(as.integer(sub(" .*", "", words)) * if (grepl("week", words)) 7 else 1, "days")
  seq(day, by = if (back) paste0("-", by) else by, length.out = 2)[2]
}

test_that("durations on business days hold each open day, wherever they begin and end", {
  shut <- events(c(Midwinter = "25 December", Founders = "3 March"), years = 2030:2031)
  for (closed in list(NULL, shut)) {
    all <- stamp_sequence(as.Date("2030-08-05"), every = cadence("business day", events = closed), length = 200)
    for (n in 90:110) {
      x <- quiet(timeline(data.frame(day = all[1:n], flow = seq_len(n)), day, amounts = flow, events = closed))
      begin <- all[n + 1]
      for (words in c("1 day", "2 days", "1 week", "10 days", "1 month")) {
        end <- shifted_date(begin, words)
        f <- quiet(forecast(x, words, by_naive(), paths = 20))
        expect_equal(unique(f$table$day), all[all >= begin & all < end], label = paste(n, words))
        if (n %% 5 == 0) expect_equal(sum(total(f, "1 month")$steps), sum(all >= begin & all < end))
        from <- shifted_date(all[n] + 1, words, back = TRUE)
        expect_equal(as.data.frame(quiet(holdout(x, last = words))$test)$day, all[all >= from & all <= all[n]],
                     label = paste("the last", words, "of", n))
      }
    }
  }
})
