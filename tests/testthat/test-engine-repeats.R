# Repeats among whole cells, in files whose rows stay where they are.

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
