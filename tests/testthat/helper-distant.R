# Timelines whose rows lie elsewhere, against the rows in memory.

orders <- c("median", "q10", "q90", "q33.3", "mad", "mean", "last", "time_mean")

# The bins of a timeline in each place where its rows may lie, against those of the rows in memory.
expect_everywhere <- function(x, every, info, ..., where = c("file", "sqlite", "postgres", "duckdb")) {
  near <- as.data.frame(quiet(resample(x, every, ...)))
  rownames(near) <- NULL
  if (is.null(kairon:::engine_way())) where <- setdiff(where, c("file", "duckdb"))
  for (place in where) {
    con <- if (place != "file") open_empty(place)
    if (place == "file") {
      path <- tempfile(fileext = ".csv")
      write_timeline(x, path)
    } else {
      write_timeline(x, con, "rows")
    }
    before <- options(kairon.head_bytes = 3000)
    far <- quiet(if (place == "file") read_timeline(path, remote = TRUE) else
      read_timeline(con, "rows", remote = TRUE))
    # Asked once before anything is known of the series, and once after.
    for (time in 1:2) {
      expect_equal(as.data.frame(quiet(as_timeline(resample(far, every, ...)))), near, tolerance = 1e-9,
                   info = paste(place, info, format(every)))
    }
    options(before)
    if (place != "file") db_close(con)
  }
}

# A level and an amount of two sites, at stamps that `stamps` makes for each, with holes.
two_sites <- function(stamps, zone = "UTC") {
  data <- do.call(rbind, lapply(c("weir", "mill"), function(site) {
    at <- stamps()
    n <- length(at)
    data.frame(time = at, site = site, flow = replace(round(1000 + stats::rnorm(n), 1), sample(n, 9), NA),
               rain = replace(stats::rexp(n), sample(n, 9), NA))
  }))
  quiet(timeline(data, time, site, levels = "flow", amounts = "rain", zone = zone))
}

# Rows that lie elsewhere: in a file or a database.
lying_in <- function(place, x) {
  if (place == "file") {
    path <- tempfile(fileext = ".csv")
    write_timeline(x, path)
    return(list(far = quiet(read_timeline(path, remote = TRUE)), close = function() NULL))
  }
  con <- open_empty(place)
  write_timeline(x, con, "rows")
  list(far = quiet(read_timeline(con, "rows", remote = TRUE)), close = function() db_close(con))
}

places <- function() {
  c("sqlite", "postgres", if (!is.null(kairon:::engine_way())) c("file", "duckdb"))
}

short_head_of <- function(bytes, expr) {
  before <- options(kairon.head_bytes = bytes, kairon.quiet = TRUE)
  on.exit(options(before))
  expr
}
