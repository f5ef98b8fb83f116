# The report says the numbers that the calls give.

page_lines <- function(x, ...) {
  path <- tempfile(fileext = ".html")
  quiet(report(x, path, ...))
  text <- paste(readLines(path, encoding = "UTF-8"), collapse = "\n")
  text <- gsub("<svg.*?</svg>", "", text)
  gsub("&#39;", "'", gsub("&quot;", "\"", text))
}

test_that("findings, verdict and forecast on the page are those of the calls", {
  x <- demo_timeline("billed")
  page <- page_lines(x, horizon = 12)
  for (finding in inspect(x)$findings) expect_on_page(page, finding, fixed = TRUE)
  b <- quiet(backtest(x, list(auto = by_auto(), by_naive(), by_seasonal_naive()), 12, cutoffs = 3))
  for (sentence in format(verdict(b))) expect_on_page(page, sentence, fixed = TRUE)
  f <- quiet(forecast(x, 12))
  expect_on_page(page, kairon:::show_number(mean(f$table$value)), fixed = TRUE)
  best <- scores(b)[1, ]
  expect_on_page(page, best$method, fixed = TRUE)
  expect_on_page(page, kairon:::show_percent(best$coverage_90), fixed = TRUE)
})

test_that("a routine is printed on the page, and its gaps are counted there", {
  cleaning <- routine() |> resample("1 week") |> impute("linear")
  page <- page_lines(demo_timeline("rain"), routine = cleaning, horizon = 4)
  expect_on_page(page, "1. resample (every = \"1 week\")", fixed = TRUE)
  expect_on_page(page, "2. impute (with = \"linear\")", fixed = TRUE)
})

test_that("tables on the page have as many rows as the data, and numbers to the right", {
  page <- as.character(kairon:::html_table(list(site = c("a", NA), flow = c(1.25, NA)), "Two sites"))
  expect_equal(lengths(regmatches(page, gregexpr("<tr>", page))), 3)
  expect_on_page(page, "<td class=\"number\">1.25</td>", fixed = TRUE)
  expect_on_page(page, "<td dir=\"auto\">-</td>", fixed = TRUE)
  folded <- as.character(kairon:::html_table(list(a = 1:3), "Three", folded = TRUE))
  expect_match(folded, "<summary>Three, 3 rows</summary>", fixed = TRUE)
})

test_that("bad calls of report are told before anything is written", {
  path <- tempfile(fileext = ".html")
  expect_error(report(mtcars, path), class = "kairon_error_input")
  expect_match(error_text(report(daily(1:30), path, title = 3)), "must be one text")
  expect_match(error_text(report(daily(1:30), path, routine = "no")), "must be a routine")
  expect_false(file.exists(path))
})

test_that("coefficients and what is left after the fit are on the page, of the method asked for", {
  x <- demo_timeline("billed")
  page <- page_lines(x, horizon = 6, methods = list(by_theta(), by_naive()))
  made <- fit(x, by_theta())
  expect_match(tolower(page), tolower(diagnosis(made)$table$advice), fixed = TRUE)
  for (term in coef(made)$term) expect_on_page(page, paste0("<td dir=\"auto\">", term, "</td>"), fixed = TRUE)
  expect_on_page(page, "Closest by distance", fixed = TRUE)
  expect_on_page(page, "error of volume by step ahead", fixed = TRUE)
  many <- page_lines(demo_timeline("demand"), horizon = 7, methods = by_seasonal_naive("week"))
  expect_match(many, "(the first 3 of 8 series)", fixed = TRUE)
})
