demand <- c(demo_file("demand.csv.gz"), "--series", "district", "--amounts", "demand")

test_that("help is there at both levels, with an example", {
  top <- kairon("--help")
  expect_equal(top$code, 0)
  for (verb in names(kairon:::cli_verbs())) expect_true(any(grepl(verb, top$out)), info = verb)
  own <- kairon("forecast", "--help")
  expect_equal(own$code, 0)
  expect_true(any(grepl("--horizon SPAN", own$out)))
  expect_true(any(grepl("Example:", own$out)))
})

test_that("piped tables are CSV on standard output, notes on standard error", {
  r <- kairon("inspect", demand)
  expect_equal(r$code, 0)
  table <- csv_of(r$out)
  expect_equal(table$district[8], "Hartsfell")
  expect_equal(table$missing[2], sum(truth()$demand$missing$district == "Birchmoor"))
  r <- kairon("resample", demand, "--every", "1 month")
  month <- csv_of(r$out)
  expect_equal(sum(month$demand, na.rm = TRUE), sum(demo_timeline("demand")$demand, na.rm = TRUE))
})

test_that("forecast, backtest and decomposition give the numbers of R", {
  r <- kairon("forecast", demand, "--horizon", "7 days", "--method", "seasonal_naive", "--intervals", "80")
  expect_equal(r$code, 0)
  table <- csv_of(r$out)
  ours <- as.data.frame(quiet(forecast(demo_timeline("demand"), 7, by_seasonal_naive(), intervals = 80)))
  expect_equal(table$upper_80, ours$upper_80)
  r <- kairon("backtest", demand, "--horizon", "7 days", "--methods", "naive,drift", "--cutoffs", "2")
  b <- quiet(backtest(demo_timeline("demand"), list(by_naive(), by_drift()), "7 days", cutoffs = 2))
  expect_equal(csv_of(r$out)$mae, scores(b)$mae)
  r <- kairon("decomposition", demo_file("billed.csv"), "--amounts", "volume", "--seasons", "year",
              "--combine", "multiply")
  expect_equal(csv_of(r$out)$trend, as.data.frame(
    decomposition(demo_timeline("billed"), "year", combine = "multiply")
  )$trend)
})

test_that("figures, tables and reports are written where they are asked for", {
  folder <- tempfile()
  dir.create(folder)
  at <- function(name) file.path(folder, name)
  r <- kairon("forecast", demand, "--horizon", "7 days", "--figure", at("f.svg"), "--output", at("f.csv"))
  expect_equal(c(r$code, length(r$out)), c(0, 0))
  expect_gt(file.size(at("f.svg")), 1000)
  expect_true("upper_90" %in% names(read.csv(at("f.csv"))))
  r <- kairon("report", demo_file("billed.csv"), "--amounts", "volume", "--output", at("r.html"))
  expect_equal(r$code, 0)
  expect_gt(file.size(at("r.html")), 50000)
})

test_that("a wrong call exits with 2 and suggests the nearest right word", {
  expect_call <- function(..., says) {
    r <- kairon(...)
    expect_equal(r$code, 2, info = says)
    expect_equal(r$out, character(), info = says)
    expect_match(paste(r$err, collapse = " "), says, fixed = TRUE)
  }
  expect_call("inspct", says = "Did you mean \"inspect\"")
  expect_call("forecast", demand, "--horizn", "7 days", says = "Did you mean \"--horizon\"")
  expect_call("forecast", demand, says = "needs \"--horizon\"")
  expect_call("forecast", demand, "--horizon", "7 days", "--method", "niave", says = "Did you mean \"naive\"")
  expect_call("inspect", says = "needs one file")
  expect_call("inspect", "no-such-file.csv", says = "There is no file")
  expect_call("backtest", demand, "--horizon", "7 days", "--cutoffs", "many", says = "cutoffs are a number")
})

test_that("data that cannot be processed exit with 1, and no file is left", {
  folder <- tempfile()
  dir.create(folder)
  out <- file.path(folder, "out.csv")
  bad <- list(
    list(file_of(c("day,flow", "2031-01-01,x", "2031-01-02,y")), "no measures"),
    list(file_of(c("when,flow", "soon,1", "later,2")), "No column holds stamps"),
    list(file_of("day,flow"), "header only"),
    list(file_of(c("day,flow", "2031-01-01,1", "2031-01-02,NA.")), "no number")
  )
  for (case in bad) {
    r <- kairon("inspect", case[[1]], "--output", out)
    expect_equal(r$code, 1, info = case[[2]])
    expect_match(paste(r$err, collapse = " "), case[[2]], fixed = TRUE)
  }
  r <- kairon("decomposition", demo_file("billed.csv"), "--seasons", "70", "--output", out)
  expect_equal(r$code, 1)
  expect_match(paste(r$err, collapse = " "), "two full cycles")
  expect_equal(list.files(folder, all.files = TRUE, no.. = TRUE), character())
})

test_that("rows that cannot be read are told on standard error", {
  path <- file_of(c("day,flow", "2031-01-01,1", "2031-01-02,2", "total,3"))
  r <- kairon("inspect", path)
  expect_equal(r$code, 0)
  expect_match(paste(r$err, collapse = " "), "1 row could not be read")
  expect_equal(kairon("inspect", path, "--quiet")$err, character())
})

test_that("gaps and intervals are at hand in the shell", {
  r <- kairon("gaps", demand, "--during", "2031")
  table <- csv_of(r$out)
  expect_equal(nrow(table), nrow(gaps(during(demo_timeline("demand"), "2031"))))
  expect_equal(table$steps[table$district == "Birchmoor"], 10)
  r <- kairon("inspect", demand, "--during", "2031-02")
  expect_equal(unique(csv_of(r$out)$rows), 28)
  expect_equal(kairon("gaps", demand, "--during", "2040")$code, 1)
})

test_that("options of reading do what the arguments of R do", {
  river <- c(demo_file("river.csv.gz"), "--zone", "Europe/London", "--missing=---", "--repeats", "first")
  r <- kairon("resample", river, "--every", "1 day", "--statistics", "mean,max", "--at-least", "0.5")
  expect_equal(r$code, 0)
  ours <- quiet(resample(demo_timeline("river"), "1 day", c("mean", "max"), at_least = 0.5))
  expect_equal(csv_of(r$out)$flow_max, ours$flow_max)
  wide <- file_of(c("Day;North;South", "03/04/2031;1,5;2", "04/04/2031;1,7;2,25"))
  r <- kairon("inspect", wide, "--layout", "wide", "--series", "site", "--measure", "flow",
              "--day-first", "yes", "--units", "flow=l/s")
  table <- csv_of(r$out)
  expect_equal(table$site, c("North", "South"))
  expect_equal(table$max, c(1.7, 2.25))
  expect_equal(table$first, rep("2031-04-03", 2))
  expect_equal(kairon("inspect", wide, "--layout", "wide", "--day-first", "maybe")$code, 2)
  counted <- file_of(c("t,v", "1900000000,1", "1900003600,2"))
  r <- kairon("inspect", counted, "--time", "t", "--epoch", "seconds")
  # 1900000000 seconds after 1970 are 17:46:40 on a clock in UTC.
  expect_match(csv_of(r$out)$cadence, "^every hour plus 2,?800 seconds|^every hour plus 46")
})

test_that("a routine is built from options, and its result scored", {
  river <- c(demo_file("river.csv.gz"), "--zone", "Europe/London", "--missing=---", "--repeats", "first",
             "--measures", "flow", "--every", "1 day", "--impute", "linear", "--longest", "3 days")
  r <- kairon("backtest", river, "--horizon", "5 days", "--cutoffs", "2", "--methods", "naive", "--rows")
  cleaning <- routine() |> resample("1 day") |> impute("linear", longest = "3 days")
  b <- quiet(backtest(demo_timeline("river"), by_naive(), "5 days", cutoffs = 2, routine = cleaning,
                      measures = flow))
  table <- csv_of(r$out)
  expect_equal(table$value, b$table$value)
  expect_equal(table$observed, b$table$observed)
  r <- kairon("forecast", river, "--horizon", "3", "--method", "drift", "--intervals", "80,95")
  expect_equal(sum(csv_of(r$out)$origin == "forecast"), 3)
  expect_true(all(c("lower_95", "upper_80") %in% names(csv_of(r$out))))
  expect_equal(kairon("forecast", river, "--horizon", "3", "--intervals", "many")$code, 2)
})

test_that("the version and the demo's folder are told", {
  expect_match(kairon("--version")$out, "^kairon [0-9.]+")
  expect_equal(kairon("demo", "a", "b")$code, 2)
})

test_that("files of different cadences are aligned, gaps filled, and the account is told", {
  demand <- demo_file("demand.csv.gz")
  rain <- demo_file("rain.csv")
  run <- kairon("align", demand, rain, "--series", "district", "--amounts", "demand,rain", "--every",
                "weekly")
  expect_equal(run$code, 0)
  table <- csv_of(run$out)
  expect_equal(sum(table$demand[table$district == "Dunmere"], na.rm = TRUE),
               sum(demo_timeline("demand")$demand[demo_timeline("demand")$district == "Dunmere"],
                   na.rm = TRUE))
  expect_match(paste(run$err, collapse = " "), "2 timelines aligned to every week")
  filled <- kairon("impute", demand, "--series", "district", "--amounts", "demand", "--with", "seasonal",
                   "--longest", "3 days")
  expect_match(paste(filled$err, collapse = " "),
               "imputed \\(seasonal\\) in 19 gaps; 1 gap left, the longest of 10 steps")
  origin <- csv_of(filled$out)$demand_origin
  expect_equal(sum(origin == "imputed"), 21)
  expect_equal(kairon("align", demand)$code, 2)
  wrong <- kairon("impute", demand, "--series", "district", "--with", "linaer")
  expect_equal(wrong$code, 1)
  expect_match(paste(wrong$err, collapse = " "), "Did you mean \"linear\"")
})
