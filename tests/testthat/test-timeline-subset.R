filled <- function() quiet(impute(daily(c(1, NA, 3, 4, NA, 6)), "linear"))

test_that("subsetting rows and columns keeps kinds, origins and cadence", {
  x <- filled()
  part <- x[2:4, ]
  expect_true(is_timeline(part))
  expect_equal(as.character(part$flow_origin), c("imputed", "observed", "observed"))
  expect_equal(cadence_of(part), cadence_of(x))
  expect_true(is_timeline(x[x$flow > 2, ]))
  expect_true(is_timeline(x[c("day", "flow", "flow_origin")]))
})

test_that("a table that can no longer hold its promises becomes a plain data frame", {
  x <- filled()
  expect_false(is_timeline(x["flow"]))
  expect_false(is_timeline(x[rev(seq_len(nrow(x))), ]))
  expect_false(is_timeline(x[c(1, 1, 2), ]))
  expect_identical(class(x["flow"]), "data.frame")
  expect_equal(x[2, "flow"], 2)
  expect_equal(x[["flow"]][2], 2)
})

test_that("new and renamed columns keep the table a timeline", {
  x <- filled()
  x$double <- 2 * x$flow
  expect_true(is_timeline(x))
  expect_equal(kairon:::kind_of(x, "double"), "level")
  y <- daily(1:4, amounts = "flow")
  names(y)[2] <- "volume"
  expect_true(is_timeline(y))
  expect_equal(kairon:::kind_of(y, "volume"), "amount")
})

test_that("binding joins rows in order and knows the origins of both", {
  x <- filled()
  later <- daily(7:9, start = "2031-01-07")
  both <- rbind(x, later)
  expect_true(is_timeline(both))
  expect_equal(both$flow, as.double(1:9))
  expect_equal(as.character(both$flow_origin)[c(2, 7)], c("imputed", "observed"))
  expect_false(is_timeline(rbind(x, x)))
})

test_that("dplyr verbs keep a timeline or let it go honestly", {
  skip_if_not_installed("dplyr")
  x <- filled()
  expect_equal(nrow(dplyr::filter(x, flow > 2)), 4)
  expect_true(is_timeline(dplyr::filter(x, flow > 2)))
  expect_true(is_timeline(dplyr::mutate(x, twice = 2 * flow)))
  expect_false(is_timeline(dplyr::select(x, flow)))
  expect_false(is_timeline(dplyr::arrange(x, -flow)))
})

test_that("as a data frame the origins are a factor beside the measure", {
  d <- as.data.frame(filled())
  expect_identical(class(d), "data.frame")
  expect_s3_class(d$flow_origin, "factor")
  expect_equal(levels(d$flow_origin), kairon:::origin_levels)
  expect_false("flow_origin" %in% names(as.data.frame(daily(1:3))))
})

test_that("merging attributes keeps a timeline, merging its key away does not", {
  demand <- demo_timeline("demand")
  places <- read.csv(demo_file("districts.csv"))
  both <- merge(demand, places)
  expect_true(is_timeline(both))
  expect_equal(both$demand, demand$demand)
  expect_equal(cadence_of(both), cadence_of(demand))
  # What is the same for all rows of a series is an attribute; what changes is a measure.
  expect_setequal(timeline_meta(both)$attributes, setdiff(names(places), "district"))
  expect_equal(names(timeline_meta(both)$kinds), "demand")
  prices <- data.frame(day = unique(demand$day))
  prices$price <- seq_along(prices$day)
  expect_equal(names(timeline_meta(quiet(merge(demand, prices)))$kinds), c("demand", "price"))
  doubled <- merge(demand, rbind(places, places))
  expect_false(is_timeline(doubled))
})

test_that("a data.table of a timeline keeps the origins as a column", {
  table <- data.table::as.data.table(filled())
  expect_equal(as.character(table$flow_origin)[2], "imputed")
  expect_false(is_timeline(table))
  back <- quiet(timeline(table, day))
  expect_equal(origins(back)$imputed, 2)
})

test_that("adding a second series by rows finds the cadence anew", {
  a <- quiet(timeline(data.frame(s = "a", day = days_from("2031-01-01", 10), v = 1:10), day, s))
  b <- quiet(timeline(data.frame(s = "b", day = as.Date("2031-01-01") + 7 * 0:5, v = 1:6), day, s))
  both <- rbind(b, a)
  expect_equal(format(cadence_of(both)), "every day")
  expect_equal(both$s, rep(c("a", "b"), c(10, 6)))
  expect_identical(rbind(a, b), both)
})
