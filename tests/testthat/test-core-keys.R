# Different keys have different texts, whatever stands in them.

test_that("texts of several columns are the same for the same values only", {
  set.seed(42)
  bits <- c("x", "y", " ", "/", " / ", "\"", "\r", "\\", "", "r")
  for (round in 1:60) {
    word <- function() paste(sample(bits, sample(0:4, 1), replace = TRUE), collapse = "")
    keys <- data.frame(a = replicate(40, word()), b = replicate(40, word()), c = replicate(40, word()))
    for (columns in list(1:2, 1:3)) {
      identity <- match(as.list(as.data.frame(t(keys[columns]))), as.list(as.data.frame(t(keys[columns]))))
      for (text in list(kairon:::key_text(keys[columns]), kairon:::label_text(keys[columns]))) {
        expect_equal(match(text, text), identity)
      }
    }
  }
  expect_equal(kairon:::label_text(list("Alderbrook", "north/east")), "Alderbrook / north/east")
  expect_equal(kairon:::label_text(list("x / y", "z")), "\"x / y\" / z")
  expect_equal(anyDuplicated(kairon:::label_text(list(c(0.3, 0.1 + 0.2)))), 0)
})

test_that("series whose words run into each other are scored apart", {
  n <- 40
  pairs <- list(c("x / y", "z"), c("x", "y / z"))
  value <- list(sin(seq_len(n)) + 10, 1000 + 300 * cos(seq_len(n)))
  data <- do.call(rbind, lapply(1:2, function(i) {
    data.frame(a = pairs[[i]][1], b = pairs[[i]][2], day = days_from("2031-01-01", n), flow = value[[i]])
  }))
  x <- quiet(timeline(data, day, c(a, b)))
  expect_equal(anyDuplicated(kairon:::series_labels(kairon:::rows_of(x)$keys)), 0)
  b <- quiet(backtest(x, by_naive(), 2, cutoffs = 4))
  both <- as.data.frame(scores(b, c("mae", "mase"), by = c("method", "series")))
  for (i in 1:2) {
    own <- quiet(backtest(x[x$a == pairs[[i]][1], ], by_naive(), 2, cutoffs = 4))
    alone <- as.data.frame(scores(own, c("mae", "mase")))
    row <- which(abs(both$mae - alone$mae) < 1e-9)
    expect_length(row, 1)
    expect_equal(both$mase[row], alone$mase)
  }
  told <- quiet(track(forecast(x[x$day <= "2031-01-30", ], 5, by_naive()), x[x$day > "2031-01-30", ]))
  expect_equal(nrow(unique(as.data.frame(told)[c("a", "b")])), 2)
  logs <- quiet(forecast(stabilise(x, "log"), 3, by_naive()))
  last <- tapply(x$flow, x$a, function(v) v[n])
  expect_equal(logs$table$value, rep(as.vector(last[c("x", "x / y")]), each = 3), tolerance = 1e-6)
})

test_that("columns that are spread by labels have names of their own", {
  rain <- quiet(timeline(data.frame(day = rep(days_from("2031-01-01", 5), 2),
    gauge = rep(c("North A", "north-a"), each = 5),
                                    rain = 1:10), day, gauge))
  made <- quiet(align(daily(1:5), rain))
  expect_equal(made$rain_north_a, 1:5)
  expect_equal(made$rain_north_a_1, 6:10)
})
