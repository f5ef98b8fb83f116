# What an event did: planted effects, hand-worked parts of the calculation, and what cannot be told.

daily_amounts <- function(n = 500, seed = 1, start = "2031-01-06", noise = 0.02, wells = "w1") {
  set.seed(seed)
  t <- seq_len(n)
  week <- c(0, 0.03, 0.02, 0, 0.01, -0.08, -0.06)
  v <- unlist(lapply(seq_along(wells), function(i) {
    exp(log(100 * i) + week[(t - 1) %% 7 + 1] + rnorm(n, 0, noise) + cumsum(rnorm(n, 0, noise / 10)))
  }))
  data.frame(day = rep(days_from(start, n), length(wells)), well = rep(wells, each = n), v = v)
}

amounts_of <- function(data, ...) quiet(timeline(data, day, well, amounts = v, cadence = "1 day", ...))

planted <- function(x, from, to, share) {
  here <- x$day >= as.Date(from) & x$day <= as.Date(to)
  x$v[here] <- x$v[here] * (1 + share)
  x
}

test_that("planted effects are found, held and put into words", {
  held <- found <- numeric()
  for (seed in 1:25) {
    x <- planted(amounts_of(daily_amounts(seed = seed)), "2032-03-01", "2032-03-07", 0.1)
    e <- as.data.frame(quiet(effect_of(x, "2032-03-01/2032-03-07")))
    held[seed] <- e$share_lower <= 0.1 && e$share_upper >= 0.1
    found[seed] <- e$p_value <= 0.05
  }
  # Of 25 intervals of 90 % fewer than 18 hold one time in a thousand.
  expect_gte(sum(held), 18)
  expect_equal(sum(found), 25)
  e <- quiet(effect_of(x, "2032-03-01/2032-03-07"))
  t <- as.data.frame(e)
  here <- x$day >= as.Date("2032-03-01") & x$day <= as.Date("2032-03-07")
  expect_equal(t$observed, sum(x$v[here]))
  expect_equal(t$expected, sum(e$steps$expected))
  expect_equal(c(t$effect, t$share), c(t$observed - t$expected, t$observed / t$expected - 1))
  expect_match(format(e)[1],
               "above what was to be expected, (8|9|1[0-2])( |\\.).*Of [0-9]+ stretches without it none")
  expect_s3_class(autoplot(e), "patchwork")
  # The way back: the event is taken off, and says so.
  calm <- adjusted(e)
  expect_equal(calm$v[here], e$steps$expected)
  expect_equal(calm$v[!here], x$v[!here])
  expect_equal(origins(calm)$repaired, 7)
})

test_that("no effect is rarely told as one, whatever the series", {
  told <- vapply(1:40, function(seed) {
    x <- amounts_of(daily_amounts(seed = 100 + seed))
    as.data.frame(quiet(effect_of(x, "2032-02-10/2032-02-12")))$p_value <= 0.05
  }, TRUE)
  expect_lte(sum(told), 6)
})

test_that("the parts of the calculation are what they should be", {
  # Between two known levels the bridge is a straight line where levels move freely, their mean where they
  # hardly do.
  r <- c(rep(0, 50), rep(NA, 4), rep(10, 50))
  block <- 51:54
  expect_equal(bridged_level(r, block, 0.99, FALSE), c(2, 4, 6, 8), tolerance = 0.02)
  expect_equal(bridged_level(r, block, 0.001, FALSE), rep(5, 4), tolerance = 0.02)
  expect_equal(bridged_level(r, block, 0.3, TRUE), rep(0, 4))
  expect_equal(faded_level(c(4, NA, 2), 0.5), (4 + 2 * 0.5) / 1.5)
  # Weights of controls against brute force over a grid.
  set.seed(2)
  z <- matrix(rnorm(300), 100)
  y <- z %*% c(0.7, 0.2, 0) - 0.4 * z[, 3] + rnorm(100, 0, 0.1)
  w <- control_weights(as.vector(y), z, shrink = 0)
  grid <- as.matrix(expand.grid(seq(0, 1, 0.02), seq(0, 1, 0.02), 0))
  loss <- apply(grid, 1, function(g) sum((y - mean(y) - sweep(z, 2, colMeans(z)) %*% g)^2))
  expect_equal(w, unname(grid[which.min(loss), ]), tolerance = 0.03)
  # Conformal: the distance of 9 errors that holds 80 % of 10 is the eighth.
  expect_equal(held_distance(c(-9, 1:8), 80), 8)
  expect_equal(held_distance(1:9, 95), Inf)
  x <- cbind(1, 1:10, 2 * (1:10))
  expect_equal(as.vector(x %*% least_squares(x, 3 + 1:10, rep(TRUE, 10))), 3 + 1:10)
})

test_that("scale, other series and the stretch itself do not move what was to be expected", {
  x <- amounts_of(daily_amounts(wells = c("a", "b")))
  share <- function(x, ...) as.data.frame(quiet(effect_of(x, "2032-01-05/2032-01-18", ...)))
  base <- share(x)
  twice <- x
  twice$v <- 1000 * x$v
  expect_equal(share(twice)$share, base$share, tolerance = 1e-8)
  changed <- share(planted(x, "2032-01-05", "2032-01-18", 5))
  expect_equal(changed$expected, base$expected)
  expect_equal(share(x[x$well == "b", ])$share, base$share[base$well == "b"], tolerance = 1e-8)
  expect_equal(base$effect[base$well == "together"], sum(base$effect[base$well != "together"]))
  # From before alone what came later does not count.
  late <- x
  late$v[x$day > as.Date("2032-02-01")] <- late$v[x$day > as.Date("2032-02-01")] * 3
  expect_equal(share(late, sides = "before")$expected, share(x, sides = "before")$expected, tolerance = 1e-8)
  # With any method of forecasts.
  by <- share(x[x$well == "a", ], method = "theta", placebos = 5)
  expect_equal(by$share, base$share[1], tolerance = 0.2)
  expect_equal(by$placebos, 5)
})

test_that("controls narrow the interval, and one that moved, too, is told", {
  set.seed(4)
  shared <- rep(as.vector(stats::filter(rnorm(500, 0, 0.03), 0.9, "recursive")), 4)
  data <- daily_amounts(wells = c("a", "b", "c", "d"), noise = 0.01)
  data$v <- data$v * exp(shared)
  x <- amounts_of(data)
  hit <- x
  here <- x$well == "a" & x$day >= as.Date("2032-02-02") & x$day <= as.Date("2032-02-08")
  hit$v[here] <- hit$v[here] * 1.06
  when <- "2032-02-02/2032-02-08"
  width <- function(e) diff(unlist(as.data.frame(e)[1, c("share_lower", "share_upper")]))
  alone <- quiet(effect_of(hit[hit$well == "a", ], when))
  helped <- quiet(effect_of(hit, when, controls = c("b", "c", "d")))
  expect_lt(width(helped), 2 / 3 * width(alone))
  expect_equal(as.data.frame(helped)$share[1], 0.06, tolerance = 0.3)
  expect_equal(nrow(as.data.frame(helped)), 1)
  moved <- hit
  moved$v[x$well == "b" & x$day %in% x$day[here]] <- moved$v[x$well == "b" & x$day %in% x$day[here]] * 1.3
  expect_match(quiet(effect_of(moved, when, controls = c("b", "c")))$notes,
               "controls moved with the event, too: b")
  expect_equal(length(unique(as.data.frame(quiet(effect_of(hit, when, controls = "others")))$well)), 5)
  expect_match(error_text(effect_of(hit, when, controls = "a2")), "controls")
  expect_match(error_text(effect_of(hit, when, controls = c("a", "b", "c", "d"))), "series itself")
  both <- quiet(with_totals(x))
  expect_match(error_text(effect_of(both, when, controls = "all")), "is a sum")
  expect_match(error_text(effect_of(both, when, controls = "others")), "totals")
})

test_that("events that come back, days after, and calendars", {
  x <- amounts_of(daily_amounts(n = 700))
  sales <- data.frame(name = "sale", start = as.Date(c("2031-10-06", "2032-01-12", "2032-04-05", "2032-06-07",
                                                       "2032-08-02")))
  sales$end <- sales$start + 2
  for (i in seq_len(5)) x <- planted(x, sales$start[i], sales$end[i], 0.05 * i)
  e <- quiet(effect_of(x, "sale", events = sales))
  t <- as.data.frame(e)
  expect_equal(t$occasion, 1:5)
  expect_equal(t$share, 0.05 * 1:5, tolerance = 0.25)
  expect_match(format(e)[6], "mean of 5 occasions 1[3-7].* It grows by [4-6]")
  # Demand that was brought forward is missed after it.
  x <- planted(planted(amounts_of(daily_amounts()), "2032-03-01", "2032-03-03", 0.2), "2032-03-04",
               "2032-03-06", -0.2)
  t <- as.data.frame(quiet(effect_of(x, "2032-03-01/2032-03-03", lingers = "3 days")))
  expect_equal(t$phase, c("during", "after", "net"))
  expect_equal(t$effect[3], t$effect[1] + t$effect[2])
  expect_lt(max(abs(t$share - c(0.2, -0.2, 0))), 0.03)
})

test_that("other cadences, levels, counts with zeros and gaps", {
  set.seed(3)
  months <- quiet(timeline(data.frame(month = seq(as.Date("2020-01-01"), by = "month", length.out = 120),
                                      v = 100 + 10 * sin(2 * pi * (1:120) / 12) + rnorm(120)), month,
                                      amounts = v))
  months$v[100] <- months$v[100] * 1.3
  t <- as.data.frame(quiet(effect_of(months, "2028-04")))
  expect_equal(c(t$steps, t$share), c(1, 0.3), tolerance = 0.05)
  # Two days of a month are told of with the month.
  short <- quiet(effect_of(months, "2028-04-10/2028-04-11"))
  expect_equal(as.data.frame(short)$share, t$share)
  expect_match(short$notes, "shorter than a step", all = FALSE)
  n <- 24 * 90
  at <- as.POSIXct("2031-01-10", tz = "Europe/London") + 3600 * seq_len(n)
  warm <- quiet(timeline(data.frame(at, level = -2 + sin(2 * pi * seq_len(n) / 24) + rnorm(n, 0, 0.2)), at,
                         levels = level))
  # The clocks change within.
  spell <- at >= as.POSIXct("2031-03-29", tz = "Europe/London") & at < as.POSIXct("2031-04-01",
                                                                                  tz = "Europe/London")
  warm$level[spell] <- warm$level[spell] + 2
  warm$level[which(spell)[5:9]] <- NA
  e <- quiet(effect_of(warm, "2031-03-29/2031-03-31", placebos = 8))
  expect_equal(as.data.frame(e)$effect, 2, tolerance = 0.1)
  expect_equal(as.data.frame(e)$steps, sum(spell) - 5)
  expect_match(format(e)[1], "was on average [12].*too few to be sure")
  expect_match(e$notes, "there are only [1-8] stretch")
  counts <- daily_amounts()
  counts$v <- rpois(500, 1.5)
  t <- as.data.frame(quiet(effect_of(amounts_of(counts), "2032-02-02/2032-02-08")))
  expect_true(all(is.finite(unlist(t[c("effect", "lower", "upper")]))))
  flat <- daily_amounts()
  flat$v <- 7
  expect_identical(as.data.frame(quiet(effect_of(amounts_of(flat), "2032-02-02/2032-02-08")))$effect, 0)
  flat$v <- rnorm(500)
  expect_true(is.na(as.data.frame(quiet(effect_of(amounts_of(flat), "2032-02-02/2032-02-08")))$share))
  flat$v <- 0
  expect_equal(as.data.frame(quiet(effect_of(amounts_of(flat), "2032-02-02/2032-02-08")))$effect, 0)
})

test_that("what cannot be told is refused or said", {
  x <- amounts_of(daily_amounts(n = 60))
  expect_match(error_text(effect_of(x, "2033-01")), "no row in")
  expect_match(error_text(effect_of(x, "soon")), "names no interval")
  expect_match(error_text(effect_of(x, 3)), "intervals such as")
  expect_match(error_text(effect_of(x, "2031-01/2031-03")), "too little is left to learn from")
  e <- quiet(effect_of(x, "2031-01-06/2031-01-08"))
  expect_match(e$notes, "no stretch before it can be compared with")
  expect_match(format(e)[1], "cannot be told")
  end <- quiet(effect_of(x, "2031-03-01/"))
  expect_equal(as.data.frame(end)$to, max(x$day))
  gone <- x
  gone$v[10:12] <- NA
  expect_match(format(quiet(effect_of(gone, "2031-01-15/2031-01-17"))), "nothing was measured", all = FALSE)
  odd <- quiet(timeline(data.frame(at = as.POSIXct("2031-01-01", tz = "UTC") + cumsum(runif(50, 10, 999)),
                                   v = 1), at))
  expect_match(error_text(effect_of(odd, "2031-01-01")), "regular|cadence|step")
  expect_match(error_text(effect_of(x, "2031-02-01", interval = c(50, 90))), "one percentage")
})

# Six items in two places; "ash" ends, and so much of what it would have sold goes to two others of its place.
moving_items <- function(seed, moved, n = 800, cut = 700) {
  set.seed(seed)
  t <- seq_len(n)
  week <- c(0, 0.05, 0.03, 0, 0.02, 0.2, 0.25)
  base <- vapply(1:6, function(i) 20 * i * exp(week[(t - 1) %% 7 + 1] + rnorm(n, 0, 0.05)), numeric(n))
  gone <- base[, 2] * (t > cut)
  base[, 3] <- base[, 3] + 0.7 * moved * gone
  base[, 1] <- base[, 1] + 0.3 * moved * gone
  base[t > cut, 2] <- NA
  d <- data.frame(day = rep(days_from("2031-01-06", n), 6),
                  item = rep(c("oak", "ash", "elm", "fir", "yew", "bay"), each = n),
                  place = rep(c("A", "B"), each = 3 * n), sold = as.vector(base))
  list(data = d[!is.na(d$sold), ], lost = sum(gone[t > cut & t <= cut + 28]))
}

items_of <- function(data) {
  quiet(timeline(data, day, item, attributes = place, amounts = sold, cadence = "1 day"))
}

test_that("where the demand of an item that ended went", {
  held <- vapply(1:12, function(seed) {
    made <- moving_items(seed, 0.6)
    e <- quiet(effect_of(items_of(made$data), ended = "ash", within = "place"))
    t <- as.data.frame(e)
    # What was to be expected of it is what it would have sold.
    expect_equal(sum(e$gone$expected$sold$value), made$lost, tolerance = 0.1)
    t <- t[t$item == "together", ]
    c(t$of_ended_lower <= 0.6 && t$of_ended_upper >= 0.6, t$p_value <= 0.05)
  }, c(TRUE, TRUE))
  # Of 12 intervals of 90 % fewer than 8 hold four times in a thousand.
  expect_gte(sum(held[1, ]), 8)
  expect_equal(sum(held[2, ]), 12)
  none <- vapply(1:12, function(seed) {
    e <- quiet(effect_of(items_of(moving_items(seed, 0)$data), ended = "ash", within = "place"))
    grepl("cannot be told from chance", format(e)[1])
  }, TRUE)
  expect_gte(sum(none), 9)

  x <- items_of(moving_items(1, 0.6)$data)
  e <- quiet(effect_of(x, ended = "ash", within = "place"))
  t <- as.data.frame(e)
  expect_equal(t$item, c("elm", "oak", "together"))
  expect_equal(t$effect[3], sum(t$effect[1:2]))
  expect_equal(t$of_ended, t$effect / sum(e$gone$expected$sold$value))
  expect_equal(unique(c(t$from, t$to)), as.Date(c("2032-12-06", "2033-01-02")))
  expect_match(format(e)[1], "ash ended after .*about [5-7][0-9] % of it .*2 others of the same place")
  # Steps of the sum are the sums of steps.
  s <- e$steps
  expect_equal(s$observed[s$item == "together"], s$observed[s$item == "elm"] + s$observed[s$item == "oak"])
  expect_equal(s$expected[s$item == "together"], s$expected[s$item == "elm"] + s$expected[s$item == "oak"])
  expect_equal(sum(s$observed[s$item == "together"]), t$observed[3])
  # Totals know the group, with the same result.
  both <- quiet(with_totals(x, place))
  expect_equal(as.data.frame(quiet(effect_of(both, ended = "A / ash")))$effect, t$effect)
  asked <- quiet(effect_of(both, "2032-12-06/2033-01-02", ended = "A / ash"))
  expect_equal(as.data.frame(asked)$effect, t$effect)
  expect_equal(nrow(as.data.frame(quiet(effect_of(x, ended = "ash", placebos = 20)))), 6)
  # What took its place is no neighbour, and is told.
  heir <- data.frame(day = days_from("2032-12-06", 60), item = "asp", place = "A", sold = 30)
  grown <- quiet(effect_of(items_of(rbind(moving_items(1, 0.6)$data, heir)), ended = "ash", within = "place"))
  expect_match(grown$notes, "asp began after the end", all = FALSE)
  expect_equal(as.data.frame(grown)$effect, t$effect)
  # Steps that a neighbour lacks count on neither side; one that ends, too, is told.
  holes <- x
  holes$sold[x$item == "elm" & x$day %in% (as.Date("2032-12-10") + 0:9)] <- NA
  part <- as.data.frame(quiet(effect_of(holes, ended = "ash", within = "place")))
  expect_equal(part$steps[part$item == "together"], 28 - 10)
  expect_equal(part$of_ended[3], t$of_ended[3], tolerance = 0.1)
  short <- x[x$item != "elm" | x$day < as.Date("2032-12-09"), ]
  short <- quiet(effect_of(short, ended = "ash", within = "place"))
  expect_match(short$notes, "elm ended within the stretch", all = FALSE)
  expect_equal(unique(as.data.frame(short)$item), "oak")
  # Zeros after the end are an end, too; the group of one neighbour is that neighbour.
  zeros <- moving_items(1, 0.6)$data
  zeros <- rbind(zeros, data.frame(day = days_from("2032-12-06", 50), item = "ash", place = "A", sold = 0))
  asked <- quiet(effect_of(items_of(zeros), ended = "ash", within = "place"))
  expect_equal(as.data.frame(asked)$effect, t$effect)
  two <- x[x$item %in% c("ash", "elm"), ]
  expect_match(format(quiet(effect_of(two, ended = "ash")))[1], "the other( cannot|[.]|:)")
  expect_s3_class(autoplot(e), "patchwork")
  expect_equal(origins(adjusted(e))$repaired, 2 * 28)
  # After a short history fewer steps are looked at, so that there are stretches to compare with.
  late <- as.data.frame(quiet(effect_of(items_of(moving_items(1, 0.6, 420, 360)$data), ended = "ash")))
  expect_equal(unique(late$steps), 7)
  expect_gte(min(late$placebos), 19)
})

test_that("an item that cannot be asked about is refused", {
  x <- items_of(moving_items(1, 0.6, 300, 250)$data)
  expect_match(error_text(effect_of(x, ended = "elm")), "has not ended")
  expect_match(error_text(effect_of(x, ended = "ahs")), "ash")
  expect_match(error_text(effect_of(x, ended = "ash", within = "plce")), "place")
  expect_match(error_text(effect_of(x, "2031-01", ended = "ash")), "must lie after the end")
  expect_match(error_text(effect_of(x, "2031-01", within = "place")), "ended")
  expect_match(error_text(effect_of(x[x$item == "ash" | x$item == "bay", ], ended = "ash", within = "place")),
               "No other series has the same")
  expect_match(error_text(effect_of(x[x$item == "ash", ], ended = "ash")), "no other series|has not ended")
  dead <- x
  dead$sold[x$item == "ash"] <- 0
  expect_match(error_text(effect_of(dead, ended = "ash")), "never had a value")
  levels <- quiet(timeline(as.data.frame(x), day, item, levels = sold, cadence = "1 day"))
  expect_match(error_text(effect_of(levels, ended = "ash")), "Only amounts")
  expect_match(error_text(effect_of(quiet(with_totals(x)), ended = "all")), "total|not ended")
})

test_that("other events in the same days are named, and controls are placebos", {
  x <- planted(amounts_of(daily_amounts(n = 700)), "2032-03-01", "2032-03-07", 0.2)
  calendar <- data.frame(name = c("fair", "fair", "fair", "flood"),
                         start = as.Date(c("2031-06-02", "2031-10-06", "2032-03-02", "2032-03-05")))
  calendar$end <- calendar$start + 2
  e <- quiet(effect_of(x, "2032-03-01/2032-03-07", events = calendar))
  expect_match(e$notes, "taken off as at other times: fair$", all = FALSE)
  expect_match(e$notes, "at no other time.*flood$", all = FALSE)
  expect_false(any(grepl("same days", quiet(effect_of(x, "flood", events = calendar[4, ]))$notes)))
  data <- daily_amounts(wells = c("a", "b", "c", "d"))
  hit <- amounts_of(data)
  here <- hit$well == "a" & hit$day >= as.Date("2032-03-01") & hit$day <= as.Date("2032-03-07")
  hit$v[here] <- 1.3 * hit$v[here]
  t <- as.data.frame(quiet(effect_of(hit, "2032-03-01/2032-03-07", controls = c("b", "c", "d"))))
  expect_equal(c(t$controls, t$controls_as_large), c(3, 0))
  # Where all moved as much, the account says so.
  all <- amounts_of(data)
  here <- all$day >= as.Date("2032-03-01") & all$day <= as.Date("2032-03-07")
  all$v[here] <- 1.3 * all$v[here]
  e <- quiet(effect_of(all, "2032-03-01/2032-03-07", controls = c("b", "c", "d")))
  expect_equal(as.data.frame(e)$controls_as_large, 3)
  expect_match(format(e)[1], "Of 3 controls at the same time 3 moved as much")
})

test_that("a report has a section of what events did", {
  x <- items_of(moving_items(1, 0.6, 400, 300)$data)
  e <- quiet(effect_of(x, ended = "ash", within = "place", placebos = 20))
  page <- tempfile(fileext = ".md")
  quiet(report(x, page, sections = c("findings", "effects", "looks"),
               looks = list(end_of_ash = e, card = gaps(x))))
  text <- paste(readLines(page), collapse = "\n")
  expect_match(text, "What happened, and what it did")
  expect_match(text, "End of ash:")
  expect_match(text, "A closer look")
  lead <- sub("\\.$", "", format(e)[1])
  # Once among the findings, once in its section.
  expect_length(gregexpr(gsub("[*]", "", lead), gsub("[*\\\\]", "", text), fixed = TRUE)[[1]], 2)
  expect_match(error_text(report(x, page, looks = list(1))), "results by name")
})
