page_of <- function(x, ...) {
  path <- tempfile(fileext = ".html")
  quiet(report(x, path, ...))
  paste(readLines(path, encoding = "UTF-8"), collapse = "\n")
}

test_that("the report is one page with findings first, figures with alt texts and tables", {
  page <- page_of(demo_timeline("billed"), title = "Billed <volume> & more")
  expect_on_page(page, "Billed &lt;volume&gt; &amp; more", fixed = TRUE)
  heads <- regmatches(page, gregexpr("<h2>[^<]+</h2>", page))[[1]]
  expect_equal(heads[1], "<h2>In short</h2>")
  expect_equal(length(heads), 8)
  # The contents list leads to every section.
  links <- sub(".*#([a-z]+)\".*", "\\1", regmatches(page, gregexpr("<a href=\"#[a-z]+\"", page))[[1]])
  sections <- regmatches(page, gregexpr("<section id=\"[a-z]+", page))[[1]]
  expect_equal(links, sub(".*\"", "", sections))
  svg <- gregexpr("<svg (?!class=\"small\")", page, perl = TRUE)[[1]]
  alt <- gregexpr("<svg role=\"img\" aria-label=\"[^\"]+\"", page)[[1]]
  expect_gte(length(svg), 5)
  expect_equal(length(alt), length(svg))
  # Scripts stand in the page; nothing is asked of any other place.
  expect_not_on_page(page, "<link |src=|href=\"http|url\\(http|@import|fetch\\(|XMLHttp|WebSocket|import\\(")
  ids <- regmatches(page, gregexpr(" id='[^']+'", page))[[1]]
  expect_equal(anyDuplicated(ids), 0)
})

test_that("an irregular timeline is reported on a daily grid, and that is said", {
  page <- page_of(demo_timeline("river")[1:4000, ])
  expect_on_page(page, "The readings are irregular")
  expect_on_page(page, "1. resample \\(every = &quot;1 day&quot;\\)|1. resample \\(every = \"1 day\"\\)")
})

test_that("what the data do not allow is left out with the reason", {
  page <- page_of(daily(1:6))
  expect_on_page(page, "Not possible with these data: A decomposition needs at least two full cycles")
})

test_that("names from the data are escaped everywhere", {
  hostile <- "<img src=x onerror=alert(1)>"
  data <- data.frame(s = rep(c(hostile, "b"), each = 30), day = rep(days_from("2031-01-01", 30), 2),
                     v = rnorm(60))
  page <- page_of(quiet(timeline(data, day, s)))
  expect_not_on_page(page, "<img src=x", fixed = TRUE)
  expect_on_page(page, "&lt;img src=x", fixed = TRUE)
})

test_that("nothing is left when the page cannot be written", {
  path <- file.path(tempfile(), "page.html")
  expect_error(quiet(report(daily(1:40), path)), class = "kairon_error_file")
  expect_false(file.exists(path))
})
