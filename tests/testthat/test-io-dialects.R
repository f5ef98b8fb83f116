# One table written in many dialects reads back to one timeline.

table_of <- function(seed) {
  set.seed(seed)
  n <- 24
  data.frame(day = days_from("2031-02-20", n), site = rep(c("north", "south"), length.out = n),
             flow = round(rnorm(n, 1500, 400), 2), rain = ifelse(runif(n) < 0.2, NA, round(rexp(n), 1)))
}

written <- function(data, separator, decimal, marker, quote, date, header = names(data)) {
  text <- lapply(data, function(v) {
    out <- if (inherits(v, "Date")) format(v, date) else if (is.numeric(v)) format(v, trim = TRUE,
        nsmall = 2) else v
    if (is.numeric(v)) out <- sub(".", decimal, out, fixed = TRUE)
    out[is.na(v)] <- marker # an empty cell or a word
    if (quote) paste0("\"", out, "\"") else out
  })
  file_of(c(paste(header, collapse = separator), do.call(paste, c(unname(text), sep = separator))))
}

test_that("separators, decimal marks, markers, quotes and forms of dates do not matter", {
  plain <- NULL
  for (seed in 1:2) {
    data <- table_of(seed)
    plain <- quiet(timeline(data, day, site))
    dialects <- expand.grid(separator = c(",", ";", "\t", "|"), decimal = c(".", ","), marker = c("", "---"),
                            quote = c(FALSE, TRUE), date = c("%Y-%m-%d", "%d.%m.%Y", "%d %b %Y"),
                            stringsAsFactors = FALSE)
    # A comma cannot separate columns and decimals at once without quotes.
    dialects <- dialects[!(dialects$separator == "," & dialects$decimal == ","), ]
    for (i in sample(nrow(dialects), 24)) {
      d <- as.list(dialects[i, ])
      path <- do.call(written, c(list(data), d))
      x <- quiet(read_timeline(path, day, site, missing = "---", decimal = d$decimal, day_first = TRUE))
      label <- paste(unlist(d), collapse = " ")
      expect_equal(x$flow, plain$flow, info = label)
      expect_equal(x$rain, plain$rain, info = label)
      expect_equal(x$day, plain$day, info = label)
    }
  }
})

test_that("the demo files written and read again are the same timelines", {
  for (name in demo_timeline()$name) {
    x <- demo_timeline(name)
    meta <- kairon:::timeline_meta(x)
    path <- tempfile(fileext = ".csv")
    write_timeline(x, path)
    back <- quiet(read_timeline(
      path, time = meta$time, series = meta$series, attributes = meta$attributes,
        zone = if (meta$type == "instant") meta$zone,
      amounts = names(meta$kinds)[meta$kinds == "amount"], units = meta$units
    ))
    expect_equal(cadence_of(back), cadence_of(x), info = name)
    expect_equal(as.data.frame(back), as.data.frame(x), info = name)
    expect_equal(kairon:::timeline_meta(back)$kinds, meta$kinds, info = name)
  }
})

test_that("long, wide and across hold the same numbers", {
  set.seed(3)
  months <- seq(as.Date("2031-01-01"), by = "month", length.out = 12)
  v <- matrix(round(runif(36, 10, 99), 1), 12, dimnames = list(NULL, c("pumps", "mains", "meters")))
  wide <- file_of(c("month,pumps,mains,meters", paste(months, apply(v, 1, paste, collapse = ","), sep = ",")))
  across <- file_of(c(paste(c("item", format(months, "%b %Y")), collapse = ","),
                      paste(colnames(v), apply(v, 2, paste, collapse = ","), sep = ",")))
  a <- quiet(read_timeline(wide, month, "item", layout = "wide", measure = "cost", amounts = "cost"))
  b <- quiet(read_timeline(across, series = item, layout = "across", measure = "cost", amounts = "cost"))
  expect_equal(a$cost[a$item == "mains"], unname(v[, "mains"]))
  expect_equal(b$cost[b$item == "mains"], unname(v[, "mains"]))
  expect_equal(sort(unique(a$item)), sort(unique(b$item)))
  expect_equal(format(cadence_of(a)), format(cadence_of(b)))
})
