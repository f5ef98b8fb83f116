# The report in its forms: a page that needs nothing, Markdown with figures, parts by a plan; and bad input.

page_text <- function(path) paste(readLines(path, encoding = "UTF-8", warn = FALSE), collapse = "\n")

test_that("data behind figures and tables can be saved from the page, and are the data", {
  x <- demo_timeline("billed")
  path <- tempfile(fileext = ".html")
  quiet(report(x, path, sections = c("readings", "forecast", "method"), horizon = 6))
  page <- page_text(path)
  links <- regmatches(page, gregexpr("download=\"[^\"]+\" href=\"data:[^\"]+\"", page))[[1]]
  names <- sub("download=\"([^\"]+)\".*", "\\1", links)
  expect_true(all(c("readings.csv", "health.csv", "forecast.csv", "study.yml") %in% names))
  saved <- function(name) {
    code <- sub(".*base64,([^\"]+)\"", "\\1", links[match(name, names)])
    rawToChar(jsonlite::base64_dec(code))
  }
  expect_equal(utils::read.csv(text = saved("readings.csv"))$volume, x$volume)
  values <- utils::read.csv(text = saved("forecast.csv"))
  expect_equal(sum(values$origin == "forecast"), 6)
  # The study in the report runs.
  folder <- tempfile()
  dir.create(folder)
  write_timeline(x, file.path(folder, "data.csv"))
  writeLines(saved("study.yml"), file.path(folder, "study.yml"))
  again <- quiet(run_study(file.path(folder, "study.yml"), quiet = TRUE))
  expect_equal(again$forecast$table$value, quiet(forecast(x, 6))$table$value)
  expect_on_page(page, kairon:::data_digest(x), fixed = TRUE)
})

test_that("series that need attention stand first, each with a small line that breaks at gaps", {
  v <- c(1:50, rep(NA, 20), 71:100)
  data <- data.frame(day = rep(days_from("2031-01-01", 100), 3), site = rep(c("a", "b", "c"), each = 100),
                     flow = c(1:100, v, 1:100))
  x <- quiet(timeline(data[!(data$site == "c" & data$day > as.Date("2031-03-01")), ], day, site))
  table <- kairon:::attention_table(list(x = x, inspection = inspect(x)))
  expect_equal(table$columns$site, c("c", "b", "a"))
  expect_equal(table$columns$attention, c(1, 0.2, 0))
  svg <- vapply(table$lines, kairon:::small_svg, "")
  expect_equal(lengths(regmatches(svg, gregexpr("M", svg))), c(1, 2, 1))
})

test_that("a report in Markdown has its figures and data beside it, and no markup of the data's", {
  hostile <- "<script>alert(1)</script>|*x*_y_\n# head [l](u)"
  data <- data.frame(s = rep(c(hostile, "\u0645\u064a\u0627\u0647", strrep("long ", 60)), each = 40),
                     day = rep(days_from("2031-01-01", 40), 3), v = round(rnorm(120, 50), 2))
  x <- quiet(timeline(data, day, s))
  path <- file.path(tempfile(), "r.md")
  dir.create(dirname(path))
  quiet(report(x, path, sections = c("findings", "readings", "pattern", "forecast")))
  text <- readLines(path, encoding = "UTF-8")
  expect_no_match(text, "<script", fixed = TRUE)
  expect_no_match(text, "^# head")
  row <- grep("&lt;script", text, fixed = TRUE, value = TRUE)
  expect_true(any(grepl("\\|\\*x\\*\\_y\\_\\\\n\\# head \\[l\\](u)", row, fixed = TRUE)))
  figures <- sub(".*\\]\\((.*\\.svg)\\)", "\\1", grep("^!\\[", text, value = TRUE))
  expect_gte(length(figures), 4)
  expect_true(all(file.size(file.path(dirname(path), figures)) > 1000))
  saved <- file.path(dirname(path), "r-figures", "readings.csv")
  expect_equal(utils::read.csv(saved, encoding = "UTF-8")$v, x$v)
  heads <- grep("^## ", text, value = TRUE)
  expect_equal(heads, paste("##", kairon:::report_heads[c("findings", "readings", "pattern", "forecast")]))
})

test_that("long names are cut in figures and wrapped in tables; sentences keep their direction", {
  long <- strrep("long ", 30)
  expect_equal(kairon:::short_names(c(long, "a\nb"), 20), c(paste0(substr(long, 1, 17), "..."), "a b"))
  table <- as.character(kairon:::html_table(list(s = c(long, "b"), v = 1:2), "Two"))
  expect_match(table, "<td dir=\"auto\" class=\"long\">long", fixed = TRUE)
  expect_match(table, "<td dir=\"auto\">b</td>", fixed = TRUE)
  item <- as.character(kairon:::html_block(kairon:::block_list("\u0645\u064a: highest on Monday")))
  expect_no_match(item, "dir=", fixed = TRUE)
})

test_that("a plan decides what is shown of any timeline", {
  path <- tempfile(fileext = ".html")
  plan <- demo_file("billed-study.yml")
  quiet(report(demo_timeline("billed"), path, plan = plan))
  page <- page_text(path)
  expect_on_page(page, "Billed volume of Quillmere Water", fixed = TRUE)
  expect_on_page(page, "How much will be billed next year", fixed = TRUE)
  expect_on_page(page, "<section id=\"looks\">", fixed = TRUE)
  expect_not_on_page(page, "<section id=\"repairs\">", fixed = TRUE)
  half <- demo_timeline("billed")
  quiet(report(half[1:60, ], path, plan = read_study(plan)))
  expect_match(page_text(path), "2022-07-01 to 2027-06-01", fixed = TRUE)
  expect_match(error_text(report(half, path, plan = 3)), "must be a study")
  expect_match(error_text(report(half, path, plan = plan, horizon = 3)), "cannot be given together")
})

test_that("a report that cannot be written is refused before the work, and leaves nothing", {
  x <- daily(1:60)
  expect_match(error_text(report(x, tempfile(fileext = ".doc"))), "ends in .*html")
  expect_match(error_text(report(x, tempfile(fileext = ".html"), sections = "findigns")),
               "Did you mean .findings")
  folder <- tempfile(fileext = ".html")
  dir.create(folder)
  expect_match(error_text(report(x, folder)), "is a folder")
  expect_match(error_text(report(x, file.path(tempfile(), "x.html"))), "no folder")
})

test_that("nothing half-written stays on a disk that is full", {
  small <- tempfile("small-")
  dir.create(small)
  mounted <- suppressWarnings(system2("mount", c("-t", "tmpfs", "-o", "size=60k", "tmpfs", small),
                                      stdout = NULL,
                                      stderr = NULL))
  skip_if(mounted != 0, "a small disk cannot be mounted here")
  on.exit(system2("umount", small))
  full <- function(expr) {
    expect_error(quiet(expr), class = "kairon_error_file")
    expect_equal(list.files(small, all.files = TRUE, no.. = TRUE, recursive = TRUE), character())
  }
  # Digits that nothing makes shorter.
  set.seed(1)
  long <- daily(stats::runif(20000))
  for (file in c("t.csv", "t.csv.gz", "t.parquet", "t.json", "t.xlsx", "folder/")) {
    full(write_timeline(long, file.path(small, file)))
  }
  full(report(demo_timeline("demand"), file.path(small, "r.html"), sections = "readings"))
  full(report(demo_timeline("demand"), file.path(small, "r.md"), sections = "readings"))
  full(run_study(demo_file("billed-study.yml"), file.path(small), cache = FALSE, quiet = TRUE))
  # A table whose end does not fit, though its writer says nothing.
  writeBin(raw(40000), file.path(small, "filler"))
  for (n in c(900, 1100, 1500)) {
    data <- data.frame(a = seq_len(n) / 7)
    path <- file.path(small, paste0(n, ".csv"))
    done <- tryCatch(kairon:::write_whole(path, function(p) kairon:::write_rows(data, p)),
                     kairon_error = function(e) NULL)
    if (is.null(done)) expect_false(file.exists(path)) else expect_equal(nrow(utils::read.csv(path)), n)
    unlink(path)
  }
})

test_that("the page has no console error and asks no network, in a browser", {
  browser <- Sys.which("chromium")
  skip_if(browser == "", "chromium is not installed")
  path <- tempfile(fileext = ".html")
  quiet(report(demo_timeline("billed"), path, horizon = 6, methods = by_theta()))
  log <- tempfile()
  folder <- tempfile()
  said <- system2(browser, c(
    "--headless", "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--enable-logging=stderr", "--v=0",
    paste0("--user-data-dir=", folder), paste0("--log-net-log=", log), "--dump-dom", paste0("file://", path)
  ), stdout = TRUE, stderr = TRUE, timeout = 90)
  expect_true(any(grepl("In short", said, fixed = TRUE)))
  expect_false(any(grepl("CONSOLE|Uncaught|Refused to", said)))
  # Requests that the page itself makes; the browser's own go elsewhere.
  dom <- paste(said, collapse = "\n")
  expect_no_match(dom, "(src|href|srcset|action)=[\"'](http|//)")
  expect_no_match(dom, "url\\([\"']?http|@import")
})

test_that("ten thousand series make a table of those that need attention", {
  set.seed(8)
  m <- 10000
  data <- data.frame(day = rep(days_from("2031-01-01", 20), m), meter = rep(sprintf("m%05d", 1:m), each = 20),
                     use = rgamma(20 * m, 2))
  data$use[data$meter == "m07000"][3:8] <- NA
  x <- quiet(timeline(data[!(data$meter == "m00042" & data$day > as.Date("2031-01-10")), ], day, meter))
  table <- kairon:::attention_table(list(x = x, inspection = inspect(x)))
  expect_equal(table$columns$meter[1:2], c("m00042", "m07000"))
  expect_length(table$lines, 400)
  expect_equal(table$hidden, 9600)
  block <- kairon:::block_table(list(a = 1:1000), "Numbers", "numbers")
  expect_equal(block$caption, "Numbers (the first 400 of 1,000 rows)")
})
