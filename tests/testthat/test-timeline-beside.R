# Columns of the user's own under names that Kairon uses beside a measure.

own_table <- function() {
  data.frame(day = days_from("2031-01-01", 30), flow = c(1:27, 900, 29, 30) + 0.5,
    flow_flag = rep(c("ok", "bad"), 15),
             flow_raw = 100 + 1:30, flow_coverage = 10 * 1:30, flow_series = 7, flow_origin = "well")
}

test_that("they are kept under another name, with a word, and no verb touches them", {
  heard <- character()
  x <- withCallingHandlers(timeline(own_table(), day), kairon_note = function(n) {
    heard <<- c(heard, conditionMessage(n))
    invokeRestart("muffleMessage")
  })
  expect_match(paste(heard, collapse = " "), "flow_flag is called flow_flag_own here", fixed = TRUE)
  expect_identical(as.list(x)[c("flow_flag_own", "flow_raw", "flow_coverage_own", "flow_series_own",
    "flow_origin_own")],
                   lapply(rlang::set_names(as.list(own_table())[c("flow_flag", "flow_raw", "flow_coverage",
                     "flow_series", "flow_origin")],
                                           c("flow_flag_own", "flow_raw", "flow_coverage_own",
                                             "flow_series_own", "flow_origin_own")),
                          function(v) if (is.numeric(v)) as.double(v) else v))
  y <- quiet(repair(vet(x, spikes(), measures = flow), measures = flow))
  expect_identical(y$flow_raw, x$flow_raw)
  expect_equal(y$flow_raw_1[28], 900.5)
  expect_identical(y$flow_flag_own, x$flow_flag_own)
  expect_identical(as.character(y$flow_origin[28]), "repaired")
  path <- tempfile(fileext = ".csv")
  quiet(write_timeline(y, path))
  expect_identical(kairon:::raw_column(quiet(read_timeline(path)), "flow"), "flow_raw_1")
  names(y)[names(y) == "flow"] <- "use"
  expect_identical(kairon:::raw_column(y, "use"), "flow_raw_1")
  expect_identical(y$use, quiet(repair(vet(x, spikes(), measures = flow), measures = flow))$flow)
})

test_that("columns that are ours by their values are taken for what they are", {
  x <- quiet(impute(daily(c(1, NA, 3, 4)), "linear"))
  again <- quiet(timeline(as.data.frame(x), day))
  expect_equal(origins(again)$imputed, 1)
  weeks <- quiet(resample(daily(c(1:9, NA, 11:14)), "1 week"))
  expect_identical(quiet(timeline(as.data.frame(weeks), day))$flow_coverage, weeks$flow_coverage)
})

test_that("a column put in later under such a name is refused", {
  x <- daily(1:5)
  expect_match(error_text(x$flow_flag <- "mine"), "where the flags of flow are kept")
  expect_match(error_text(x[["flow_coverage"]] <- 55), "where the coverage of flow are kept")
  x$quality <- "mine"
  expect_identical(x$quality, rep("mine", 5))
})
