# Series whose column is called like something that is found about them.

looks <- list(
  inspect = inspect, gaps = gaps, traits = traits, seasons = find_seasons, profile = season_profile,
  correlogram = correlogram, stationarity = stationarity, spectrum = power_spectrum,
  vetted = function(x) findings(vet(x)), stabilised = stabilise,
  coefficients = function(x) coef(fit(x, by_regression())), decomposition = decomposition,
  forecast = function(x) forecast(x, 3, "theta"),
  total = function(x) total(forecast(x, 3, "theta", paths = 50)),
  ranking = function(x) ranking(backtest(x, 3, list(by_theta(), by_naive()), cutoffs = 3))
)

# What each gives for two gates whose column has this name: its columns, and its print.
seen_as <- function(key) {
  set.seed(3)
  data <- data.frame(gate = rep(c("Birchmoor", "Dunmere"), each = 60),
                     day = rep(seq(as.Date("2031-01-01"), by = 1, length.out = 60), 2),
                     flow = 100 + rnorm(120) + 5 * rep(sin(1:60 * 2 * pi / 7), 2))
  data$flow[c(20, 21, 100)] <- NA
  names(data)[1] <- key
  x <- quiet(timeline(data, day, series = key, levels = "flow"))
  lapply(looks, function(look) {
    set.seed(1)
    tryCatch(suppressWarnings(quiet({
      made <- look(x)
      list(table = as.data.frame(made), lines = utils::capture.output(print(made)))
    })), kairon_error = conditionMessage)
  })
}

test_that("a series column called like what is found changes no answer, or one message says what to do", {
  # Wide enough for every column.
  before <- options(width = 1000, cli.width = 1000)
  on.exit(options(before))
  neutral <- seen_as("zzgate")
  expect_equal(names(Filter(is.character, neutral)), character())
  neutral <- Filter(is.list, neutral)
  found <- setdiff(unlist(lapply(neutral, function(n) names(n$table))), c("zzgate", "day", "flow"))
  # Prints are the same but for the name, and for the room that it takes.
  words <- function(lines, key) {
    text <- gsub(paste0("(series_)?(", key, "|zzgate)"), "KEY", paste(lines, collapse = " "))
    gsub("[ -]+", " ", text)
  }
  plain <- function(table) lapply(unname(as.list(as.data.frame(table))), as.vector)
  for (key in unique(c("kind", "measure", "method", "share", "from", "level", "cutoff", sample(found, 12)))) {
    named <- seen_as(key)
    for (name in names(neutral)) {
      got <- named[[name]]
      if (is.character(got)) {
        expect_match(got, paste0("column '?", key, "'? of the timeline has the name of a column"),
                     info = paste(key, name))
        next
      }
      expect_equal(plain(got$table), plain(neutral[[name]]$table), info = paste(key, name))
      expect_equal(words(got$lines, key), words(neutral[[name]]$lines, key), info = paste(key, name))
    }
  }
})

test_that("effects refuse every name of their own table, and those of shifts move the right series", {
  data <- data.frame(gate = rep(c("Birchmoor", "Dunmere"), each = 120),
                     day = rep(as.Date("2031-01-01") + 0:119, 2), flow = rep(c(5, 9), each = 120))
  set.seed(6)
  data$flow <- data$flow + rnorm(240, 0, 0.1) + c(rep(0, 60), rep(3, 60), rep(0, 120))
  under <- function(key) {
    names(data)[1] <- key
    quiet(timeline(data, day, series = key, levels = "flow"))
  }
  own <- names(quiet(effect_of(under("gate"), "2031-02-10/2031-02-12", placebos = 20))$table)
  for (key in setdiff(own, "gate")) {
    said <- error_text(effect_of(under(key), "2031-02-10/2031-02-12", placebos = 20))
    expect_match(said, "a column of effects", info = key)
  }
  for (key in c("from", "size", "measure")) {
    mended <- function(key) quiet(remove_shifts(vet(under(key), shifts())))$flow
    expect_false(isTRUE(all.equal(mended(key), under(key)$flow)))
    expect_equal(mended(key), mended("gate"), info = key)
  }
})

test_that("the way out that the message names is one", {
  days <- rep(as.Date("2031-01-01") + 1:30, 2)
  data <- data.frame(method = rep(c("a", "b"), each = 30), day = days, flow = as.double(1:60))
  x <- quiet(timeline(data, day, series = method, levels = flow))
  said <- error_text(forecast(x, 3, "naive"))
  expect_match(said, "my_method", fixed = TRUE)
  names(x)[names(x) == "method"] <- "my_method"
  f <- quiet(forecast(x, 3, "naive"))$table
  expect_equal(unique(f$my_method), c("a", "b"))
  expect_equal(f$value, rep(c(30, 60), each = 3))
})
