test_that("inspection finds what was planted in the demo", {
  demand <- inspect(demo_timeline("demand"))
  text <- paste(format(demand), collapse = " ")
  expect_match(text, "Hartsfell (demand): stopped on 2031-05-31", fixed = TRUE)
  expect_match(text, "Goosegate (demand): began only on 2030-09-01", fixed = TRUE)
  table <- as.data.frame(demand)
  expect_equal(sum(table$missing), nrow(truth()$demand$missing))
  river <- inspect(demo_timeline("river"))
  expect_match(paste(format(river), collapse = " "), "level: the same value 120 times in a row")
  expect_equal(as.data.frame(river)$missing[1], truth()$river$missing)
})

test_that("the card agrees with base R", {
  set.seed(30)
  v <- c(rnorm(50), NA, 0, 0, -3)
  card <- as.data.frame(inspect(daily(v)))
  expect_equal(c(card$min, card$median, card$mean, card$max, card$sd),
               c(min(v, na.rm = TRUE), median(v, na.rm = TRUE), mean(v, na.rm = TRUE),
                 max(v, na.rm = TRUE), sd(v, na.rm = TRUE)))
  expect_equal(c(card$missing, card$zeros, card$gaps, card$longest_gap), c(1, 2, 1, 1))
  expect_equal(card$last_value, -3)
})

test_that("infinite and negative amounts, far values and silence are told", {
  x <- daily(c(rep(1:9, 10), Inf, -2, 5000), amounts = "flow")
  text <- paste(format(inspect(x)), collapse = " ")
  expect_match(text, "infinite values")
  expect_match(text, "negative amounts")
  expect_match(text, "very far from the rest")
  expect_match(paste(format(inspect(daily(1:30))), collapse = " "), "Nothing stands out")
})

test_that("gaps are listed one by one, in regular and irregular timelines", {
  g <- gaps(daily(c(1, NA, NA, 4, 5, NA))[-5, ])
  expect_equal(g$steps, c(2, 2))
  expect_equal(g$start, as.Date(c("2031-01-02", "2031-01-05")))
  expect_equal(g$end, as.Date(c("2031-01-03", "2031-01-06")))
  expect_equal(g$seconds, c(2, 2) * 86400)
  lost <- gaps(demo_timeline("demand"))
  longest <- lost[which.max(lost$steps), ]
  expect_equal(format(c(longest$start, longest$end)), c("2031-10-06", "2031-10-15"))
  planted <- truth()$river$gaps
  river <- gaps(demo_timeline("river"), measures = level)
  expect_equal(nrow(river), 2)
  from <- as.POSIXct(sub("(..):(..)$", "\\1\\2", planted$from), format = "%Y-%m-%dT%H:%M:%S%z")
  expect_equal(as.numeric(river$start), as.numeric(from))
})

test_that("components are recovered and add up to the values", {
  season <- c(5, -2, 0, 1, -1, -4, 1)
  y <- 100 + 0.3 * (1:140) + rep(season, 20)
  d <- as.data.frame(decomposition(daily(y), "week", "averages"))
  inside <- !is.na(d$trend)
  expect_equal(d$week_effect[1:7], season)
  expect_equal((d$trend + d$week_effect + d$remainder)[inside], y[inside])
  expect_equal(d$adjusted, y - rep(season, 20))
  expect_equal(sum(!inside), 6)
})

test_that("the monthly index planted in the billed volume is found, multiplied", {
  d <- decomposition(demo_timeline("billed"), "year", combine = "multiply")
  planted <- truth()$billed$month_index
  found <- d$profiles
  expect_equal(found$effect[match(month.name, found$label)], planted, tolerance = 0.02)
  t <- as.data.frame(d)
  expect_equal(t$trend * t$year_effect * t$remainder, ifelse(is.na(t$trend), NA, t$value))
  expect_match(format(d)[2], "highest in August")
  expect_gt(min(strength(d)$strength), 0.95)
})

test_that("a season is found in each series on its own, gaps and all", {
  demand <- demo_timeline("demand")
  d <- decomposition(demand, "week")
  shape <- truth()$demand$week_shape
  shape <- shape - mean(shape)
  base <- truth()$demand$base_per_head * 33800 * truth()$demand$week_share
  one <- d$profiles[d$profiles$district == "Dunmere", ]
  weekday <- match(one$label, c("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"))
  expect_equal(one$effect, base * shape[weekday], tolerance = 0.06)
  expect_equal(nrow(adjusted(d)), nrow(as.data.frame(d)))
})

test_that("decomposition refuses what it cannot do", {
  expect_match(error_text(decomposition(daily(c(-1, 1:30)), "week", combine = "multiply")),
               "zero or negative")
  expect_match(error_text(decomposition(irregular(50))), "needs a regular cadence")
  expect_match(error_text(decomposition(daily(rep(NA_real_, 30)), "week")), "is missing")
  expect_match(error_text(decomposition(daily(1:30), c("week", "month"), "averages")), "one season at a time")
  expect_error(strength(1), class = "kairon_error_input")
})

test_that("numbers that mark missing values are suspected, on reading and inspecting", {
  path <- file_of(c("day,flow", paste0(days_from("2031-01-01", 40), ",", c(rep(-9999, 3), rnorm(37, 10)))))
  expect_message(x <- read_timeline(path, levels = flow), "-9999 in 3 rows")
  expect_match(paste(format(inspect(x)), collapse = " "), "-9999 stands 3 times")
  expect_equal(origins(quiet(read_timeline(path, missing = "-9999")))$missing, 3)
})

test_that("a last value far below the others is suspected to be unfinished", {
  x <- monthly(c(rep(c(100, 120, 110), 12), 20), amounts = "volume")
  expect_match(paste(format(inspect(x)), collapse = " "), "the last value is 1[0-9] % of the usual one")
  expect_no_match(paste(format(inspect(monthly(rep(100, 30), amounts = "volume"))), collapse = " "),
                  "unfinished")
})

test_that("the card tells each series' own cadence and the age of its last value", {
  x <- rbind(data.frame(s = "a", day = days_from("2031-01-01", 60), v = 1),
             data.frame(s = "b", day = seq(as.Date("2031-01-01"), by = 7, length.out = 5), v = 2))
  card <- as.data.frame(inspect(quiet(timeline(x, day, s))))
  expect_equal(card$cadence, c("every day", "every week from Wednesday"))
  expect_equal(card$last_age, c(0, 31 * 86400))
})

test_that("repeats that were settled are counted in the card", {
  expect_equal(as.data.frame(inspect(demo_timeline("river")))$repeats[1], length(truth()$river$repeats))
  data <- data.frame(s = c("a", "a", "b", "b"), day = as.Date("2031-01-01") + c(0, 0, 0, 1), v = 1:4)
  card <- as.data.frame(inspect(quiet(timeline(data, day, s, repeats = "last"))))
  expect_equal(card$repeats, c(1, 0))
})
