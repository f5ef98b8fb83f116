# What a report says first is what the calls say: totals, intervals, a year before, how wrong, what to look
# at.

answer_of <- function(x, ...) {
  page <- tempfile(fileext = ".md")
  quiet(report(x, page, sections = "findings", ...))
  readLines(page)
}

test_that("totals, intervals and the year before are those of total() and of the data", {
  x <- demo_timeline("demand")
  f <- quiet(kairon:::with_seed(1, forecast(x, 14, by_theta(), paths = 400)))
  a <- kairon:::answer_table(f, "demand")
  t <- total(f, across = TRUE)
  expect_equal(c(a$expected[1], a$lower[1], a$upper[1]), c(t$value, t$lower_90, t$upper_90))
  each <- total(f)
  expect_equal(a$expected[-1], each$value)
  expect_equal(c(a$lower[-1], a$upper[-1]), c(each$lower_90, each$upper_90))
  expect_equal(a$each, a$expected / 14)
  # The same weekdays 52 weeks before, by hand.
  days <- unique(f$table$day) - 364
  shown <- unique(as.character(f$table$district))
  before <- sum(x$demand[x$day %in% days & x$district %in% shown])
  expect_equal(a$before[1], before)
  expect_equal(a$change[1], a$expected[1] / before - 1)
  lines <- answer_of(x, horizon = 14, methods = by_theta())
  said <- grep("^- Demand of 7 series is expected to be", lines, value = TRUE)
  numbers <- vapply(c(t$value, t$lower_90, t$upper_90, t$value / 14, before), kairon:::show_number, "", 4)
  for (n in numbers) expect_match(said, n, fixed = TRUE)
  expect_match(said, "m3 a day from 2032-07-01 to 2032-07-14, 3.3 % less than 52 weeks before", fixed = TRUE)
  expect_no_match(paste(lines, collapse = " "), "\\bauto\\b|naive habit|step [0-9]")
})

test_that("months, levels, one step, no year before, and years ahead", {
  x <- demo_timeline("billed")
  f <- quiet(forecast(x, 24, by_smoothing(), paths = 200))
  a <- kairon:::answer_table(f, "volume")
  expect_equal(a$before, sum(utils::tail(x$volume, 12)))
  expect_equal(a$change, sum(f$table$value[1:12]) / a$before - 1)
  expect_match(kairon:::answer_sentence(f, "volume", a),
               "a month from 2032-07-01 to 2034-06-01; its first year is")
  one <- quiet(forecast(x, 1, by_smoothing()))
  expect_match(kairon:::answer_sentence(one, "volume", kairon:::answer_table(one, "volume")),
               "expected to be [0-9.]+ Ml \\(90 %: [0-9.]+ to [0-9.]+\\) for 2032-07-01, ")
  soil <- demo_timeline("soil")
  f <- quiet(forecast(soil, 6, by_seasonal_naive(), paths = 200))
  a <- kairon:::answer_table(f, "moisture")
  expect_equal(a$expected[1], mean(f$table$value))
  expect_match(kairon:::answer_sentence(f, "moisture", a), "on average .*as much as a year before")
  short <- daily(c(5, 6, 7, 5, 6, 7, 5, 6, 7, 5))
  f <- quiet(forecast(short, 3, by_mean(), paths = 200))
  expect_match(kairon:::answer_sentence(f, f$measures, kairon:::answer_table(f, f$measures)),
               "; in the 3 days before it was 6 on average", fixed = TRUE)
  # Without paths there is no interval of a sum, and none is invented.
  f <- quiet(forecast(demo_timeline("demand"), 7, by_naive()))
  a <- kairon:::answer_table(f, "demand")
  expect_true(all(is.na(a$lower)))
  expect_match(kairon:::answer_sentence(f, "demand", a), "m3 in all, ")
  # Filled values are no year before.
  filled <- quiet(impute(timeline(data.frame(day = days_from("2030-01-01", 400)[-(37:50)], v = 100),
                                  day, amounts = v, cadence = "1 day"), "linear"))
  f <- quiet(forecast(filled, 14, by_naive()))
  expect_true(is.na(kairon:::answer_table(f, "v")$before))
})

test_that("totals come first, and the whole is not counted twice", {
  x <- quiet(with_totals(demo_timeline("demand")))
  f <- quiet(kairon:::with_seed(1, forecast(x, 7, by_theta(), paths = 200)))
  a <- kairon:::answer_table(f, "demand")
  whole <- f$table[f$table$district == "all", ]
  expect_equal(a$expected[1], sum(whole$value))
  expect_equal(a$expected[1], sum(a$expected[-1]))
  expect_match(kairon:::answer_sentence(f, "demand", a), "^Demand of all together is expected")
})

test_that("at most five lines say what to look at first, worst first, and no series is told of alone", {
  x <- demo_timeline("demand")
  lines <- answer_of(x, horizon = 7, methods = by_naive())
  first <- which(grepl("What to look at first", lines))
  after <- lines[(first + 1):(which(grepl("^Besides", lines)) - 1)]
  expect_equal(sub("^- ", "", after[nzchar(after)]), inspect(x)$findings)
  parts <- list(x = x, grid = x, inspection = list(findings = paste("finding", 1:9)))
  blocks <- kairon:::findings_blocks(parts)
  items <- blocks[[2]]$items
  expect_length(items, 5)
  expect_match(items[5], "finding 5 And 4 more.", fixed = TRUE)
  strong <- strength(quiet(decomposition(x)))
  said <- grep("Strength, from 0", lines, value = TRUE)
  for (part in unique(strong$component)) {
    v <- range(strong$strength[strong$component == part])
    expect_match(said, paste0(part, " ", kairon:::show_number(v[1], 2), " ("), fixed = TRUE)
    expect_match(said, paste0("to ", kairon:::show_number(v[2], 2), " ("), fixed = TRUE)
  }
})

test_that("studies and horizons in words have intervals of their sums, too", {
  x <- demo_timeline("demand")
  expect_equal(kairon:::horizon_count(x, "2 weeks"), 14)
  expect_equal(kairon:::horizon_count(x, 9), 9)
  expect_equal(kairon:::answer_paths(x, "2 weeks"), 400)
  # As many as memory bears, and none where that would be too few.
  expect_equal(kairon:::answer_paths(x, 5000), 0)
  lines <- answer_of(x, horizon = "1 week", methods = "theta")
  expect_match(grep("is expected to be", lines, value = TRUE), "in all \\(90 %: ")
  folder <- tempfile()
  dir.create(folder)
  study <- file.path(folder, "small.yml")
  file.copy(system.file("extdata", "billed.csv", package = "kairon"), folder)
  writeLines(c("kairon_study: 1", "data:", "  source: billed.csv", "  time: month", "  amounts: volume",
               "forecast:", "  method: theta", "  horizon: 1 year"), study)
  page <- tempfile(fileext = ".md")
  quiet(report(demo_timeline("billed"), page, plan = study))
  expect_match(grep("is expected to be", readLines(page), value = TRUE)[1], "in all \\(90 %: ")
})

test_that("methods are named as people say them", {
  said <- kairon:::plain_methods(c(
    "Forecasts of v by auto are 3 off.", "That is 5 % closer than the seasonal naive habit.",
    "Seasonal naive came just as close.", "Auto: weighed"
  ))
  expect_equal(said, c("Forecasts of v by the automatic choice are 3 off.",
                       "That is 5 % closer than repeating the last season.",
                       "Repeating the last season came just as close.", "The automatic choice: weighed"))
})

test_that("titles of forecasts say the span", {
  span <- function(x, h) {
    meta <- kairon:::timeline_meta(x)
    stamps <- quiet(forecast(x, h, by_naive()))$table[[meta$time]]
    kairon:::span_title(range(kairon:::to_seconds(stamps)), meta)
  }
  expect_equal(span(demo_timeline("billed"), 12), "July 2032 to June 2033")
  expect_equal(span(demo_timeline("demand"), 14), "1 to 14 July 2032")
  expect_equal(span(demo_timeline("demand"), 40), "1 July to 9 August 2032")
  expect_equal(span(demo_timeline("demand"), 1), "1 July 2032")
  expect_equal(span(daily(1:365), 3), "1 to 3 January 2032")
  expect_equal(autoplot(quiet(forecast(demo_timeline("billed"), 12, "naive")))$labels$title,
               "volume (Ml), July 2032 to June 2033")
})
