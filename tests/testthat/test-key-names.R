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
      list(table = as.data.frame(made), lines = paste(utils::capture.output(print(made)), collapse = " "))
    })), kairon_error = conditionMessage)
  })
}

test_that("a series column called like what is found changes no answer, or one message says what to do", {
  neutral <- seen_as("zzgate")
  expect_equal(names(Filter(is.character, neutral)), character())
  neutral <- Filter(is.list, neutral)
  found <- setdiff(unlist(lapply(neutral, function(n) names(n$table))), c("zzgate", "day", "flow"))
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
      # Sentences that name the series name it.
      if (grepl("flow Birchmoor", neutral[[name]]$lines)) {
        expect_match(got$lines, "flow Birchmoor", info = paste(key, name))
      }
    }
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
