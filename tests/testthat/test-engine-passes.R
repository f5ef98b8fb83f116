# What a few passes over files tell: repeats among whole cells, runs and pauses span by span.

# Rows that hold each step of their series once, but for what is planted among them, after the first rows.
planted <- function(kind, n, from) {
  steps <- lapply(c(c = 1, b = 5200, a = 500), function(size) from + n * (seq_len(size) - 1))
  # A clear outage, and one that ends inside a cell.
  steps$a <- steps$a[-(200:237)]
  at <- sample(20:150, 1)
  steps$a <- switch(kind,
    none = steps$a, pair = append(steps$a, steps$a[at]), three = append(steps$a, steps$a[c(at, at)]),
    # As many rows as steps, one of them twice and its neighbour not there.
    swapped = replace(steps$a, at, steps$a[at + 1]), off = replace(steps$a, at, steps$a[at] + n / 2)
  )
  data <- data.frame(site = rep(names(steps), lengths(steps)), time = unlist(steps, use.names = FALSE))
  data$flow <- round(stats::rnorm(nrow(data), 5), 3)
  data$time <- .POSIXct(data$time, "UTC")
  data
}

test_that("repeats, gaps and stamps off the grid are found among whole cells, wherever these begin", {
  skip_without_engine()
  skip_if_not_installed("nanoparquet")
  set.seed(31)
  for (n in c(0.5, 10, 420, 3600)) for (kind in c("none", "pair", "three", "swapped", "off")) {
    data <- planted(kind, n, 1.92e9 + sample(0:9, 1) * n / 8)
    path <- tempfile(fileext = ".parquet")
    nanoparquet::write_parquet(data, path)
    every <- paste(n * sample(c(6, 24, 50), 1), "seconds")
    closed <- sample(c("left", "right"), 1)
    whole <- function(repeats) {
      quiet(resample(timeline(data, time, site, levels = "flow", zone = "UTC", repeats = repeats), every,
                     c("mean", "count"), closed = closed))
    }
    far <- function(repeats) {
      x <- quiet(read_timeline(path, time, site, levels = "flow", remote = TRUE, repeats = repeats))
      list(bins = quiet(as_timeline(resample(x, every, c("mean", "count"), closed = closed))), x = x)
    }
    about <- paste(n, kind, every, closed)
    if (kind %in% c("none", "off")) {
      found <- far("refuse")
      expect_match(found$x$store$facts_sql, "kairon_low", info = about)
      expect_equal(as.data.frame(found$bins), as.data.frame(whole("refuse")), tolerance = 1e-9, info = about)
    } else {
      expect_match(error_text(far("refuse")), "repeat", info = about)
      expect_equal(as.data.frame(far("first")$bins), as.data.frame(whole("first")), tolerance = 1e-9,
                   info = about)
    }
  }
})

test_that("cards whose rows are put in order span by span are those of the whole", {
  skip_without_engine()
  skip_if_not_installed("nanoparquet")
  before <- options(kairon.rows_in_order = 60)
  on.exit(options(before))
  set.seed(32)
  # Runs of few values, zeros among them, over the edges of spans; pauses there; one value; none.
  runs <- function(n, long) rep(sample(c(0, 0.25, 3), n, TRUE), sample(long, n, TRUE))[seq_len(n)]
  for (round in 1:6) {
    sizes <- c(mill = 900, weir = 700, pond = 300, lock = 1)
    data <- do.call(rbind, lapply(names(sizes), function(site) {
      n <- sizes[[site]]
      at <- 1.92e9 + sample(0:50, 1) * 600 + 600 * (seq_len(n) - 1)
      if (round %% 3 == 0) at <- at + stats::runif(n, 0, 300)
      # Two runs of one value that a pause parts, and a constant.
      v <- switch(site, mill = runs(n, 1:80), weir = replace(runs(n, 1:3), 300:520, 7), pond = rep(4.5, n), 5)
      out <- data.frame(time = .POSIXct(round(at, 3), "UTC"), site = site, flow = v,
                        stage = replace(runs(n, 1:40), sample(n, n %/% 9), NA))
      out[sort(sample(n, ceiling(n * if (round %% 2) 0.97 else 1))), ]
    }))
    data$stage[data$site == "lock"] <- NA
    data <- data[!(data$site == "weir" & data$time > 1.92e9 + 600 * 420 & data$time < 1.92e9 + 600 * 470), ]
    if (round > 3) data <- data[order(data$time), ]
    path <- tempfile(fileext = ".parquet")
    nanoparquet::write_parquet(data, path)
    far <- quiet(inspect(read_timeline(path, time, site, levels = c("flow", "stage"), remote = TRUE)))
    near <- inspect(quiet(timeline(data, time, site, levels = c("flow", "stage"), zone = "UTC")))
    expect_equal(as.data.frame(far), as.data.frame(near), info = round)
    told <- c("findings", "line", "coverage")
    expect_equal(far[told], near[told], info = round)
  }
})
