# Series that are sums of others, and forecasts of them that agree.

sales <- function(items = 6, n = 140, seed = 1, start = "2031-01-01") {
  set.seed(seed)
  place <- rep(c("north", "south"), length.out = items)
  kind <- rep(c("x", "y", "z"), each = ceiling(items / 3))[seq_len(items)]
  v <- vapply(seq_len(items), function(i) {
    pmax(0, 10 * i + 3 * i * sin(2 * pi * seq_len(n) / 7) + rnorm(n, 0, i))
  }, numeric(n))
  data <- data.frame(day = rep(days_from(start, n), items), item = rep(paste0("i", seq_len(items)), each = n),
                     place = rep(place, each = n), kind = rep(kind, each = n), sold = as.vector(v))
  quiet(timeline(data, day, item, amounts = sold, attributes = c(place, kind)))
}

# Largest distance of a total from the sum of its parts, over all steps.
apart <- function(table, columns = c("place", "kind", "item"), value = "value", step = "ahead") {
  table <- as.data.frame(table)
  over <- as.matrix(table[columns]) == "all"
  parts <- table[rowSums(over) == 0, ]
  max(vapply(which(rowSums(over) > 0), function(i) {
    same <- parts[[step]] == table[[step]][i]
    for (c in columns[!over[i, ]]) same <- same & parts[[c]] == table[[c]][i]
    abs(table[[value]][i] - sum(parts[[value]][same]))
  }, 1))
}

test_that("totals by columns, crossings and of all are the sums of their parts", {
  x <- sales()
  y <- quiet(with_totals(x, place, kind, place:kind))
  meta <- kairon:::timeline_meta(y)
  expect_equal(meta$series, c("place", "kind", "item"))
  expect_equal(meta$attributes, character())
  expect_lt(apart(y, value = "sold", step = "day"), 1e-9)
  labels <- unique(paste(y$place, y$kind, y$item))
  expect_equal(length(labels), 6 + 1 + 2 + 3 + length(unique(paste(x$place, x$kind))))
  expect_match(format(y), "Totals: 1 whole, 2 by place, 3 by kind, 6 by place and kind, 6 parts", all = FALSE)
  expect_equal(as.data.frame(quiet(with_totals(x, "place", "place:kind"))),
               as.data.frame(quiet(with_totals(x, place, place:kind))))
  expect_equal(length(unique(quiet(with_totals(x, place, all = FALSE))$item)), 7)
  # The text of the word, and a routine.
  z <- quiet(with_totals(x, place, word = "sum"))
  expect_true(all(c("sum", "north") %in% z$place))
  expect_equal(as.data.frame(quiet(replay(routine() |> with_totals(place), x))),
               as.data.frame(quiet(with_totals(x, place))))
})

test_that("missing parts show in the coverage, members that come and go do not", {
  x <- sales()
  x$sold[5] <- NA
  y <- quiet(with_totals(x, place))
  whole <- y[y$place == "all", ]
  expect_equal(whole$sold_coverage[5], 5 / 6)
  expect_true(all(whole$sold_coverage[-5] == 1))
  expect_equal(unique(as.character(whole$sold_origin)), "summarised")
  part <- quiet(with_totals(x, place, at_least = 1))
  expect_true(is.na(part$sold[part$place == "all"][5]))
  # An item that begins later is not missed before.
  late <- x[!(x$item == "i1" & x$day < as.Date("2031-03-01")), ]
  expect_true(all(quiet(with_totals(late, place))$sold_coverage == 1, na.rm = TRUE))
})

test_that("levels become weighted means, and what cannot be added up is refused with the way out", {
  x <- sales()
  hot <- x
  hot$heat <- seq_len(nrow(hot)) / 10
  hot$share <- match(hot$item, unique(hot$item))
  expect_match(error_text(with_totals(hot, place)), "heat.*levels?.*weights")
  data <- as.data.frame(hot)
  y <- quiet(timeline(data[c("day", "item", "place", "sold", "heat", "share")], day, item, amounts = sold,
                      attributes = c(place, share)))
  made <- quiet(with_totals(y, place, weights = share))
  first <- data[data$day == as.Date("2031-01-01"), ]
  expect_equal(made$heat[made$place == "all"][1], sum(first$heat * first$share) / sum(first$share))
  expect_equal(made$sold[made$place == "all"][1], sum(first$sold))
  expect_match(error_text(with_totals(x, plce)), "no series column or attribute plce.*mean .*place")
  expect_match(error_text(with_totals(x, place, word = "north")), "called \"north\" in place, as totals are")
  expect_match(error_text(with_totals(quiet(with_totals(x)), place)), "totals already")
  expect_match(error_text(with_totals(daily(1:30, amounts = "flow"))), "one series")
  lost <- as.data.frame(x)
  lost$place[lost$item == "i2"] <- NA
  expect_match(error_text(with_totals(quiet(timeline(lost, day, item, amounts = sold,
                                                     attributes = c(place, kind))), place)),
                                                     "i2.* has no place")
  expect_match(error_text(with_totals(demo_timeline("demand"), district, all = FALSE)),
               "nothing to add up by")
  expect_message(with_totals(sales(), item), "item tells all series apart")
  expect_error(with_totals(1), class = "kairon_error_input")
})

test_that("forecasts agree at every step in every way, whatever the data, and paths too", {
  x <- sales(n = 120)
  zero <- x
  zero$sold[zero$item == "i3"] <- 0
  short <- x[!(x$item == "i5" & x$day < as.Date("2031-04-10")), ]
  for (data in list(x, zero, short)) {
    y <- quiet(with_totals(data, place, kind))
    for (agree in c("errors", "sizes", "parts", "shares")) {
      f <- quiet(forecast(y, 9, c("theta", "naive"), agree = agree))
      for (m in c("theta", "naive")) expect_lt(apart(f$table[f$table$method == m, ]), 1e-8)
      expect_true(all(f$table$value >= 0))
      expect_true(all(f$table$lower_90 <= f$table$upper_90))
    }
  }
  y <- quiet(with_totals(x, place, kind))
  none <- quiet(forecast(y, 9, "theta", agree = "none"))
  expect_gt(apart(none$table), 1e-3)
  expect_match(none$notes, "add up to .* its own to", all = FALSE)
  parts <- quiet(forecast(y, 9, "theta", agree = "parts"))$table
  own <- rowSums(as.matrix(parts[c("place", "kind", "item")]) == "all") == 0
  expect_equal(parts$value[own], none$table$value[own])
  paths <- quiet(forecast(y, 5, "theta", paths = 40))$paths
  for (p in c(1, 17)) expect_lt(apart(paths[paths$path == p, ]), 1e-8)
  # The order of series, all values doubled, and a dead series more change nothing.
  twice <- y
  twice$sold <- 2 * twice$sold
  one <- quiet(forecast(y, 4, "theta"))$table
  expect_equal(quiet(forecast(twice, 4, "theta"))$table$value, 2 * one$value, tolerance = 1e-6)
  whole <- quiet(forecast(y, 4, "theta", whole = TRUE))$table
  expect_true(all(whole$value == round(whole$value)))
  expect_lt(apart(whole), 1e-8)
})

test_that("a timeline without some of its parts is not taken for whole", {
  y <- quiet(with_totals(sales(), place))
  some <- y[y$item != "i2", ]
  expect_match(error_text(forecast(some, 4, "naive")), "is not the sum of its parts.*with_totals")
  expect_s3_class(quiet(forecast(some, 4, "naive", agree = "none")), "kairon_forecast")
  log <- quiet(stabilise(quiet(with_totals(sales(), place)), power = 0.5))
  expect_message(suppressWarnings(forecast(log, 4, "naive")), "sums are none")
})

test_that("a backtest makes its forecasts agree, and scores them", {
  y <- quiet(with_totals(sales(), place))
  b <- quiet(backtest(y, 7, "theta", cutoffs = 3))
  for (cutoff in unique(as.character(b$table$cutoff))) {
    expect_lt(apart(b$table[as.character(b$table$cutoff) == cutoff, ], c("place", "item")), 1e-8)
  }
  apart_ones <- quiet(backtest(y, 7, "theta", cutoffs = 3, agree = "none"))
  expect_gt(apart(apart_ones$table[apart_ones$table$cutoff == max(apart_ones$table$cutoff), ],
                  c("place", "item")), 1e-6)
  by_step <- quiet(backtest(sales(), 7, "theta", cutoffs = 3, routine = routine() |> with_totals(place)))
  expect_equal(sort(by_step$table$value), sort(b$table$value), tolerance = 1e-8)
})

test_that("intervals of totals hold what they say, and errors do not grow", {
  held <- error <- list()
  for (seed in 1:12) {
    set.seed(seed)
    n <- 240
    shared <- matrix(rnorm(2 * n), n)
    v <- vapply(1:10, function(i) {
      50 + 10 * sin(2 * pi * seq_len(n) / 7) + 6 * (0.7 * shared[, 1 + i %% 2] + 0.7 * rnorm(n))
    }, numeric(n))
    data <- data.frame(day = rep(days_from("2031-01-01", n), 10), item = rep(letters[1:10], each = n),
                       place = rep(rep(c("q", "p"), length.out = 10), each = n), sold = as.vector(v))
    y <- quiet(with_totals(timeline(data, day, item, amounts = sold, attributes = place), place))
    cut <- as.Date("2031-01-01") + n - 15
    truth <- as.data.frame(y[y$day > cut, ])
    for (agree in c("errors", "parts", "none")) {
      t <- quiet(forecast(y[y$day <= cut, ], 14, "theta", agree = agree))$table
      o <- truth$sold[match(paste(t$place, t$item, t$day), paste(truth$place, truth$item, truth$day))]
      total <- t$item == "all"
      held[[agree]] <- c(held[[agree]], (o >= t$lower_90 & o <= t$upper_90)[total])
      error[[agree]] <- c(error[[agree]], abs(o - t$value))
    }
  }
  for (agree in c("errors", "parts")) expect_true(abs(mean(held[[agree]]) - 0.9) < 0.05, label = agree)
  expect_lt(mean(error$errors), 1.005 * mean(error$none))
})

test_that("totals go through files, the shell and a pipe", {
  y <- quiet(with_totals(sales(), place))
  for (ending in c(".csv", ".parquet", ".json", ".xlsx")) {
    path <- tempfile(fileext = ending)
    write_timeline(y, path)
    back <- quiet(read_timeline(path))
    expect_equal(kairon:::timeline_meta(back)$sums, list(word = "all"), info = ending)
  }
  path <- tempfile(fileext = ".csv")
  write_timeline(sales(), path)
  added <- tempfile(fileext = ".csv")
  out <- kairon("with-totals", path, "--by", "place,place:kind", "-o", added, "--quiet")
  expect_equal(out$code, 0)
  f <- csv_of(kairon("forecast", added, "--horizon", "3", "--method", "theta", "--only", "forecast",
                     "--quiet")$out)
  expect_lt(apart(transform(f, ahead = match(day, unique(day))), c("place", "kind", "item")), 1e-6)
  no_whole <- csv_of(kairon("with-totals", path, "--by", "place", "--all", "no", "--quiet")$out)
  expect_false(any(no_whole$place == "all"))
})

test_that("sums over series count no total twice, and the forecast says that it agrees", {
  x <- sales()
  y <- quiet(with_totals(x, place))
  f <- quiet(forecast(y, 5, "theta", paths = 60))
  whole <- sum(f$table$value[f$table$place == "all"])
  expect_equal(quiet(total(f, across = TRUE))$value, whole, tolerance = 1e-9)
  # By one column alone: as the totals of it, with bounds from the same paths.
  by <- quiet(total(f, by = "place"))
  each <- quiet(total(f))
  each <- each[each$item == "all" & each$place != "all", ]
  expect_equal(by$value, each$value[match(by$place, each$place)], tolerance = 1e-9)
  expect_equal(by$lower_90, each$lower_90[match(by$place, each$place)], tolerance = 1e-9)
  expect_match(error_text(total(f, by = "nowhere")), "by")
  expect_match(format(f), "Totals are the sums of their parts", all = FALSE)
  expect_match(format(quiet(forecast(y, 5, "theta", agree = "none"))), "do not agree", all = FALSE)
})

test_that("totals that the data give are compared with the sums of their parts", {
  x <- sales()
  data <- as.data.frame(x)
  sums <- stats::aggregate(sold ~ day, data, sum)
  own <- rbind(data, data.frame(item = "all", day = sums$day, sold = sums$sold, place = NA,
                                kind = NA)[names(data)])
  y <- quiet(timeline(own, day, item, amounts = sold, attributes = c(place, kind)))
  expect_message(made <- with_totals(y), "are the sums of their parts")
  expect_equal(as.data.frame(made), as.data.frame(quiet(with_totals(x))))
  expect_equal(as.data.frame(quiet(with_totals(y, place))), as.data.frame(quiet(with_totals(x, place))))
  off <- y
  off$sold[which(y$item == "all")[7]] <- 1
  expect_match(error_text(with_totals(off)),
               "1 of 140 values of sold differ, the first at 2031-01-07: 1, and the parts")
  expect_match(error_text(with_totals(y, place, all = FALSE)), "none of those that are asked for")
  expect_match(error_text(with_totals(y[y$item == "all", ])), "Every series is called")
  # As a series of its own, under another word.
  kept <- quiet(with_totals(y, word = "sum"))
  expect_equal(as.vector(tapply(kept$sold, kept$item, sum)[c("all", "sum")]), sum(sums$sold) * c(1, 2))
})

test_that("levels stand from the top, in files and after binding, too", {
  x <- sales()
  x$item <- sub("i", "", x$item)
  x <- quiet(timeline(as.data.frame(x), day, item, amounts = sold, attributes = c(place, kind)))
  y <- quiet(with_totals(x, place, kind))
  order_of <- function(z) unique(paste(z$place, z$kind, z$item))
  expect_equal(order_of(y)[1:6], c("all all all", "north all all", "south all all", "all x all", "all y all",
                                   "all z all"))
  expect_equal(order_of(y), order_of(rbind(y[y$day > as.Date("2031-03-01"), ],
                                           y[y$day <= as.Date("2031-03-01"), ])))
  path <- withr::local_tempfile(fileext = ".csv")
  write_timeline(y, path)
  expect_equal(order_of(quiet(read_timeline(path))), order_of(y))
  f <- as.data.frame(quiet(forecast(y, 7, "theta")))
  expect_equal(order_of(f), order_of(y))
  # Scores by level, and what agreement did to each.
  set.seed(8)
  parts <- y$place != "all" & y$kind != "all" & y$item != "all"
  loud <- as.data.frame(y)[parts, c("item", "place", "kind", "day", "sold")]
  loud$sold <- loud$sold * exp(rnorm(nrow(loud), 0, 0.6))
  y <- quiet(with_totals(timeline(loud, day, item, amounts = sold, attributes = c(place, kind)), place, kind))
  b <- quiet(backtest(y, 7, "smoothing", cutoffs = 3))
  s <- scores(b, "mae", by = c("method", "level"))
  expect_equal(as.character(s$level), c("whole", "by place", "by kind", "part"))
  t <- b$table
  whole <- t$place == "all" & t$kind == "all"
  expect_equal(s$mae[1], mean(abs(t$value - t$observed)[whole]))
  expect_equal(sum(t$alone[whole] == t$value[whole]), 0)
  words <- verdict(b)
  expect_match(words[1], "off for the whole .*off for a part")
  gain <- 1 - mean(abs(t$value - t$observed)[whole]) / mean(abs(t$alone - t$observed)[whole])
  expect_match(words[2], paste0("brought the whole ", kairon:::show_percent(abs(gain)),
                                if (gain > 0) " closer" else " further"))
  none <- quiet(backtest(y, 7, "smoothing", cutoffs = 3, agree = "none"))
  expect_equal(none$table$value, t$alone, tolerance = 1e-8)
  expect_true(all(quiet(leak_check(b))$passed))
  p <- autoplot(y)
  expect_s3_class(p, "patchwork")
  expect_match(error_text(autoplot(x, panels = "levels")), "no totals to draw")
})
