# Tables of forecasts that come back through files and frames: what was forecast stays forecast.

cases <- function() {
  set.seed(8)
  months <- monthly(50 + rnorm(40), start = "2028-03-01")
  two <- quiet(timeline(data.frame(well = rep(c("a", "b"), each = 60),
                                   day = rep(days_from("2031-01-01", 60), 2),
                                   flow = rnorm(120, 9), level = rnorm(120, 3)), day, well))
  list(one = quiet(forecast(months, 6, by_naive())),
       several = quiet(forecast(two, 4, list(by_naive(), by_drift()), measures = flow)),
       measures = quiet(forecast(two, 4, by_mean())))
}

test_that("every form of file and frame keeps which values are forecasts", {
  made <- cases()
  for (name in names(made)) {
    f <- made[[name]]
    table <- as.data.frame(f)
    wanted <- sum(table$origin == "forecast")
    ways <- list(frame = quiet(timeline(table)))
    for (ending in c("csv", "csv.gz", "json", "jsonl", "parquet", "xlsx")) {
      path <- tempfile(fileext = paste0(".", ending))
      quiet(write_timeline(f, path))
      ways[[ending]] <- quiet(read_timeline(path))
    }
    plain <- tempfile(fileext = ".csv")
    utils::write.csv(table, plain, row.names = FALSE)
    ways$plain <- quiet(read_timeline(plain))
    for (way in names(ways)) {
      y <- ways[[way]]
      counts <- origins(y)
      expect_equal(sum(counts$forecast), wanted, label = paste(name, way))
      expect_equal(sum(counts$observed), sum(table$origin == "observed"), label = paste(name, way))
      expect_match(paste(format(inspect(y)), collapse = " "), paste(wanted / nrow(counts), "forecast values"))
    }
  }
  one <- quiet(timeline(as.data.frame(made$one)))
  expect_identical(names(kairon:::timeline_meta(one)$kinds), "volume")
  several <- quiet(timeline(as.data.frame(made$several)))
  expect_identical(kairon:::timeline_meta(several)$series, c("well", "method"))
  wide <- quiet(timeline(as.data.frame(made$measures)))
  expect_identical(names(kairon:::timeline_meta(wide)$kinds), c("flow", "level"))
  expect_equal(wide$level[wide$well == "b"][1:60], made$measures$history$level[61:120])
})

test_that("forecasts that come back are neither learnt from nor scored", {
  set.seed(9)
  x <- quiet(timeline(data.frame(day = days_from("2031-01-01", 90), flow = 20 + cumsum(rnorm(90))), day))
  back <- quiet(timeline(as.data.frame(forecast(x, 10, by_mean()))))
  expect_message(again <- forecast(back, 5, by_drift()), "10 values of flow are forecasts")
  expect_equal(again$table$value, quiet(forecast(x, 5, by_drift()))$table$value)
  b <- quiet(backtest(back, by_drift(), 5, cutoffs = 3))
  expect_equal(as.data.frame(b)[c("value", "observed")],
               as.data.frame(quiet(backtest(x, by_drift(), 5, cutoffs = 3)))[c("value", "observed")])
  expect_equal(quiet(coef(fit(back, by_drift()))), quiet(coef(fit(x, by_drift()))))
  only <- back[back$flow %in% again$table$value | kairon:::origin_codes(back, "flow") == 6, ]
  late <- only[only$day > as.Date("2031-04-01"), ]
  expect_match(error_text(quiet(backtest(late, by_naive(), 2))), "nothing measured")
})

test_that("a table of one's own with such columns is no table of forecasts", {
  own <- data.frame(day = days_from("2031-01-01", 4), measure = "a",
                    origin = c("well", "well", "lake", "lake"), value = 1:4)
  x <- quiet(timeline(own, day))
  expect_identical(names(kairon:::timeline_meta(x)$kinds), "value")
  expect_equal(origins(x)$observed, 4)
})
