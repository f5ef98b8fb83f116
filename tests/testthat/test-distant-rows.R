# Verbs with a row for each reading, of rows that lie elsewhere, are those of the rows in memory.

plain_rows <- function(x) {
  out <- as.data.frame(x)
  rownames(out) <- NULL
  out
}

# The same rows in a database and, where the engine is, in a file.
elsewhere <- function(x, check) {
  con <- open_sqlite()
  write_timeline(x, con, "rows")
  check(quiet(read_timeline(con, "rows", remote = TRUE)), "database")
  db_close(con)
  if (!is.null(kairon:::engine_way())) {
    path <- tempfile(fileext = ".csv")
    write_timeline(x, path)
    check(quiet(read_timeline(path, remote = TRUE)), "file")
  }
}

hours <- function(n = 24 * 60) {
  set.seed(3)
  at <- as.POSIXct("2031-03-10", tz = "UTC") + 3600 * seq_len(n)
  data <- data.frame(site = rep(c("mill", "weir"), each = n), time = rep(at, 2),
                     flow = round(cumsum(stats::rnorm(2 * n)) + 50, 3))
  quiet(timeline(data[-c(30:41, 700), ], time, series = site, levels = flow, zone = "Europe/London"))
}

test_that("rolling, changes and limits over a span see what lies around it", {
  x <- hours()
  span <- "2031-03-29/2031-04-02"
  calls <- list(
    function(x) roll(x, trailing("2 days"), c("mean", "max")),
    function(x) roll(x, centred(25)),
    function(x) roll(x, leading("1 day"), "q90"),
    function(x) roll(x, short = trailing(6), long = trailing("1 week"), at_least = 3),
    function(x) roll(x, fading(half_life = "1 day")),
    function(x) roll(x, since_start(), "max"),
    function(x) change(x, "1 week"),
    function(x) change(x, 24, as = "percent", times = 2),
    function(x) change(x, "2031-03-15"),
    function(x) vet(x, limits(min = 30, max = 60)),
    function(x) vet(x, list(spikes(), stuck()))
  )
  elsewhere(x, function(far, where) {
    for (i in seq_along(calls)) {
      noted <- calls[[i]](far)
      whole <- quiet(calls[[i]](x))
      label <- paste(where, i)
      expect_equal(plain_rows(quiet(as_timeline(noted))), plain_rows(whole), info = label)
      expect_equal(plain_rows(quiet(as_timeline(during(noted, span)))), plain_rows(during(whole, span)),
                   info = label)
    }
    expect_output(print(during(roll(far, trailing("2 days")), span)),
                  "Noted: roll\\(\\), of 2031-03-29 00:00.*not worked out yet")
    # A span that was said first is all there is, as in memory.
    early <- during(far, span)
    expect_equal(plain_rows(quiet(as_timeline(roll(early, trailing("2 days"))))),
                 plain_rows(quiet(roll(during(x, span), trailing("2 days")))))
  })
})

test_that("no more rows come than the verb reaches, and many are refused with the way out", {
  x <- hours()
  elsewhere(x, function(far, where) {
    old <- options(kairon.most_rows_here = 400)
    on.exit(options(old))
    near <- quiet(as_timeline(during(roll(far, trailing("1 day")), "2031-04-02")))
    expect_equal(nrow(near), 48, info = where)
    expect_error(quiet(as_timeline(roll(far, trailing("1 day")))),
                 "2,867 rows here.*during.*kairon.most_rows_here",
                 class = "kairon_error_state")
    expect_error(quiet(as_timeline(during(roll(far, since_start()), "2031-04-02"))),
                 class = "kairon_error_state")
  })
})

test_that("values at instants and finer grids come from the rows of the span", {
  x <- hours(24 * 12)
  elsewhere(x, function(far, where) {
    expect_equal(plain_rows(quiet(as_timeline(resample(far, "30 minutes", at = "instants",
                                                       between = "linear")))),
                 plain_rows(quiet(resample(x, "30 minutes", at = "instants", between = "linear"))),
                   info = where)
    expect_equal(plain_rows(quiet(as_timeline(resample(far, "15 minutes")))),
                 plain_rows(quiet(resample(x, "15 minutes"))),
                 info = where)
    day <- resample(during(far, "2031-03-14"), "20 minutes", at = "instants", between = "previous",
                    within = "2 hours")
    expect_equal(plain_rows(quiet(as_timeline(day))),
                 plain_rows(quiet(resample(during(x, "2031-03-14"), "20 minutes", at = "instants",
                                           between = "previous",
                                           within = "2 hours"))), info = where)
  })
})

test_that("profiles are made of a few series at a time", {
  x <- hours()
  old <- options(kairon.bundle_rows = 1000)
  on.exit(options(old))
  elsewhere(x, function(far, where) {
    profiles <- list(
      function(x) season_profile(x),
      function(x) season_profile(x, c("hour of day", "day of week")),
      function(x) season_profile(x, "day of week", split = TRUE, as = "index")
    )
    for (made in profiles) {
      got <- quiet(made(far))
      want <- made(x)
      expect_equal(got$table, want$table, info = where)
      expect_equal(got$history, want$history, ignore_attr = TRUE, info = where)
      expect_equal(got$line, want$line)
    }
  })
})

test_that("a figure of many rows is drawn of their extremes, and has all of these", {
  skip_without_engine()
  set.seed(4)
  n <- 120000
  at <- as.POSIXct("2031-01-01", tz = "UTC") + 30 * seq_len(n)
  data <- data.frame(site = rep(c("mill", "weir"), each = n), at = rep(at, 2),
                     flow = round(cumsum(stats::rnorm(2 * n)), 2))
  data <- data[-(50000:60000), ]
  path <- tempfile(fileext = ".csv")
  x <- quiet(timeline(data, at, series = site, levels = flow, units = c(flow = "l/s")))
  write_timeline(x, path)
  far <- quiet(read_timeline(path, remote = TRUE))
  facts <- quiet(kairon:::distant_facts(far))
  for (columns in c(200, 4800)) {
    sample <- kairon:::distant_sample(far, facts, columns)
    span <- range(as.numeric(x$at))
    cell <- function(v) floor((as.numeric(v) - span[1]) / (diff(span) / columns))
    ends <- function(x) {
      here <- cell(x$at) < columns
      key <- paste(x$site, cell(x$at))[here]
      cbind(tapply(x$flow[here], key, min), tapply(x$flow[here], key, max))
    }
    expect_equal(ends(sample), ends(x))
  }
  made <- quiet(ggplot2::autoplot(far))
  words <- "229,999 values, drawn as the range in each column of pixels; sand: no values"
  expect_equal(made$labels$subtitle, words)
  expect_match(made$labels$caption, "^2 series, every 30 seconds, 2031-01-01")
  # Stretches need not begin with a day; many series are drawn as what they are on average.
  days <- 500
  data <- data.frame(id = rep(sprintf("s%02d", 1:20), each = days),
                     day = rep(days_from("2031-01-01", days), 20),
                     v = round(stats::rnorm(20 * days, 50), 2))
  con <- open_sqlite()
  x <- quiet(timeline(data, day, series = id, levels = "v"))
  write_timeline(x, con, "days")
  far <- quiet(read_timeline(con, "days", remote = TRUE))
  facts <- kairon:::distant_facts(far)
  sample <- kairon:::distant_sample(far, facts, 300)
  for (best in list(min, max)) expect_equal(c(tapply(sample$v, sample$id, best)),
                                            c(tapply(data$v, data$id, best)))
  means <- kairon:::distant_means(far, facts, 100)
  expect_equal(nrow(means), 20 * 101)
  expect_equal(means$v[1], mean(data$v[1:5]))
  db_close(con)
  few <- quiet(read_timeline(demo_file("rain.csv"), amounts = "rain", remote = TRUE))
  expect_equal(quiet(ggplot2::autoplot(few))$data, quiet(ggplot2::autoplot(as_timeline(few)))$data)
})
