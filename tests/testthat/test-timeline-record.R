# What a timeline knows of its columns stands in its record, never in their names.

for (name in c("companion", "companion_name", "coverage_of", "kind_of", "raw_column", "record_problem",
               "timeline_meta", "unit_of")) {
  assign(name, getFromNamespace(name, "kairon"))
}

own_table <- function() {
  data.frame(day = days_from("2031-01-01", 30), flow = c(1:27, 900, 29, 30) + 0.5,
             flow_flag = rep(c("ok", "bad"), 15), flow_raw = 100 + 1:30, flow_coverage = 10 * 1:30,
             flow_series = 7, flow_origin = "well")
}

test_that("columns of the user's own keep their names whatever these are, and no verb touches them", {
  own <- own_table()
  x <- quiet(timeline(own, day))
  expect_setequal(names(timeline_meta(x)$kinds), c("flow", "flow_raw", "flow_coverage", "flow_series"))
  same <- setdiff(names(own), c("day", "flow"))
  expect_equal(as.list(x)[same], as.list(own)[same])
  y <- quiet(repair(vet(x, spikes(), measures = flow), measures = flow))
  expect_equal(as.list(y)[same], as.list(own)[same])
  expect_equal(y$flow_raw_1[28], 900.5)
  expect_identical(as.character(companion(y, "flow", "origin")[28]), "repaired")
  expect_identical(companion_name(y, "flow", "origin"), "flow_origin_1")
  for (ending in c(".csv", ".json", ".parquet", ".xlsx")) {
    path <- tempfile(fileext = ending)
    quiet(write_timeline(y, path))
    again <- quiet(read_timeline(path))
    expect_identical(raw_column(again, "flow"), "flow_raw_1", label = ending)
    expect_equal(origins(again), origins(y), label = ending)
    expect_equal(as.character(again$flow_origin), own$flow_origin, label = ending)
  }
  names(y)[names(y) == "flow"] <- "use"
  expect_identical(raw_column(y, "use"), "flow_raw_1")
  x$flow_flag <- "mine"
  expect_identical(x$flow_flag, rep("mine", 30))
})

test_that("columns that are ours by their values are taken for what they are", {
  x <- quiet(impute(daily(c(1, NA, 3, 4)), "linear"))
  again <- quiet(timeline(as.data.frame(x), day))
  expect_equal(origins(again)$imputed, 1)
  weeks <- quiet(resample(daily(c(1:9, NA, 11:14)), "1 week"))
  expect_identical(coverage_of(quiet(timeline(as.data.frame(weeks), day)), "flow"), weeks$flow_coverage)
  expect_match(error_text(x$flow_origin <- "mine"), "where the origins of flow are kept")
})

# Two measures, each with companions of its own, and what is true of them by name.
marked_timeline <- function(seed) {
  set.seed(seed)
  n <- 40
  x <- quiet(timeline(data.frame(
    well = rep(c("a", "b"), each = n), day = rep(days_from("2031-01-01", n), 2),
    flow = round(rnorm(2 * n, 50, 5), 2),
    level = round(rnorm(2 * n, 3, 0.1), 3), note = rep(c("x", "y"), n)
  ), day, well, units = c(flow = "l/s", level = "m")))
  x$flow[sample(nrow(x), 9)] <- NA
  x$level[sample(nrow(x), 5)] <- NA
  x <- quiet(impute(x, list(flow = "linear", level = "previous")))
  x$flow[30] <- 500
  quiet(repair(vet(x, spikes(), measures = flow), measures = flow))
}

truth_of <- function(x, names = c(flow = "flow", level = "level")) {
  lapply(names, function(m) {
    list(origins = as.character(companion(x, m, "origin")), unit = unit_of(x, m), kind = kind_of(x, m),
         raw = x[[raw_column(x, m) %||% ""]])
  })
}

test_that("renaming by base R, dplyr and data.table keeps what is known of each measure", {
  skip_if_not_installed("dplyr")
  for (seed in 1:6) {
    x <- marked_timeline(seed)
    truth <- truth_of(x)
    to <- sample(c("use", "level_origin", "flow_coverage", "abc", "q_raw"), 2)
    now <- c(flow = to[1], level = to[2])
    swap <- function(names) replace(names, match(names(now), names), now)
    if (anyDuplicated(swap(names(x)))) next
    by_base <- x
    names(by_base) <- swap(names(x))
    one <- x
    names(one)[names(one) == "flow"] <- to[1]
    names(one)[names(one) == "level"] <- to[2]
    by_dplyr <- dplyr::rename(x, dplyr::all_of(stats::setNames(names(now), now)))
    to_new <- stats::setNames(names(now), now)
    grouped <- dplyr::ungroup(dplyr::rename(dplyr::group_by(x, well), dplyr::all_of(to_new)))
    table <- data.table::as.data.table(x)
    data.table::setnames(table, names(now), now)
    tibble <- tibble::as_tibble(x)
    names(tibble) <- swap(names(tibble))
    for (y in list(by_base, one, by_dplyr, grouped, quiet(as_timeline(table)), quiet(as_timeline(tibble)))) {
      expect_null(record_problem(timeline_meta(y), names(y)))
      expect_equal(truth_of(y, now), truth, ignore_attr = TRUE)
      expect_equal(unname(unlist(origins(y)[1:2, -1])), unname(unlist(origins(x)[1:2, -1])))
    }
  }
})

test_that("dropping, reordering and binding keep the record true or give a plain table, and say it", {
  skip_if_not_installed("dplyr")
  for (seed in 1:4) {
    x <- marked_timeline(seed)
    truth <- truth_of(x)
    for (y in list(x[sample(names(x))], dplyr::relocate(x, "note"),
                   quiet(as_timeline(data.table::setorderv(data.table::as.data.table(x), "flow"))),
                   rbind(x[x$well == "a", ], x[x$well == "b", ]), cbind(x, more = 1:80),
                   dplyr::bind_rows(x[1:10, ], x[-(1:10), ]), dplyr::arrange(x, well, day))) {
      y <- if (is_timeline(y)) y else as_timeline(y)
      expect_null(record_problem(timeline_meta(y), names(y)))
      expect_equal(truth_of(y), truth)
    }
    # The column that tells invented values apart.
    without <- setdiff(names(x), companion_name(x, "flow", "origin"))
    for (drop in list(function() x[without], function() dplyr::select(x, dplyr::all_of(without)),
                      function() `$<-`(x, "flow_origin", NULL))) {
      expect_message(plain <- drop(), "flow_origin is gone")
      expect_false(is_timeline(plain))
    }
    expect_error(as_timeline(tibble::as_tibble(x)[without]), class = "kairon_error_input")
    loose <- tibble::as_tibble(x)[sample(names(x))]
    names(loose)[names(loose) == "flow"] <- "use"
    expect_match(error_text(as_timeline(loose)), "flow is gone, and flow_origin holds its origins")
    # A measure that goes leaves no measure behind.
    less <- x[setdiff(names(x), "flow")]
    expect_setequal(names(timeline_meta(less)$kinds), c("level", "flow_raw"))
    expect_null(record_problem(timeline_meta(less), names(less)))
  }
})

test_that("rows bound from timelines with other names for the same keep every origin", {
  a <- quiet(impute(daily(c(1, NA, 3)), "linear"))
  b <- daily(c(NA, 5, 6), start = "2031-03-01")
  b$flow_origin <- "mine"
  b <- quiet(impute(b, "next"))
  expect_identical(companion_name(b, "flow", "origin"), "flow_origin_1")
  a <- a[seq_len(nrow(a)), ]
  both <- rbind(a, b[setdiff(names(b), "flow_origin")])
  expect_equal(as.character(companion(both, "flow", "origin")),
               c("observed", "imputed", "observed", "imputed", "observed", "observed"))
})

test_that("a table renamed behind our back is refused by every verb", {
  x <- quiet(impute(daily(c(1, NA, 3)), "linear"))
  attr(x, "names")[2] <- "use"
  expect_match(error_text(inspect(x)), "no longer whole: it has no column flow")
  x <- quiet(impute(daily(c(1, NA, 3)), "linear"))
  attr(x, "names")[3] <- "from"
  expect_match(error_text(inspect(x)), "the origins of flow stood in flow_origin")
})

test_that("a renamed measure on another scale still goes back", {
  set.seed(3)
  x <- daily(exp(rnorm(60, 3, 0.2)))
  y <- quiet(stabilise(x))
  plain <- quiet(forecast(y, 5, by_naive()))
  names(y)[names(y) == "flow"] <- "use"
  renamed <- quiet(forecast(y, 5, by_naive()))
  expect_equal(renamed$table$value, plain$table$value)
})
