# A call of every exported function that works, by its arguments, on data small enough for thousands of calls.
usual_calls <- function() {
  day <- as.Date("2031-01-01") + 0:89
  set.seed(8)
  table <- data.frame(day = rep(day, 2), site = rep(c("Dunmere", "Highwell"), each = 90),
                      flow = 50 + 10 * rep(sin(2 * pi * 1:90 / 7), 2) + stats::rnorm(180))
  both <- quiet(timeline(table, day, series = site, amounts = "flow"))
  one <- both[both$site == "Dunmere", ]
  other <- quiet(timeline(data.frame(day = day, rain = stats::rexp(90)), day, amounts = "rain"))
  file <- tempfile(fileext = ".csv")
  quiet(write_timeline(one, file))
  wish <- routine() |> resample("1 week")
  yaml <- tempfile(fileext = ".yml")
  write_routine(wish, yaml)
  f <- quiet(forecast(one, 5, "theta"))
  b <- quiet(backtest(one, 5, c("theta", "naive"), cutoffs = 2))
  smooth <- quiet(fit(one, "smoothing"))
  lines <- quiet(fit(one, "regression"))
  orders <- quiet(fit(one, by_arima(c(1, 0, 0))))
  d <- quiet(decomposition(one, 7))
  first <- as.Date("2031-01-05")
  event <- events(data.frame(name = "fair", start = first))
  c(list(
    add_steps = list(first, 1, "1 month"), adjusted = list(d), align = list(one, other),
    append_rows = list(one, as.data.frame(one)[90, ]), as_amount = list(one),
    as_backtest = list(as.data.frame(f), one), as_rate = list(one), as_timeline = list(table),
    back_transform = list(one), backtest = list(one, 5, "theta", cutoffs = 1), bands = list(1:9, 2),
    best = list(b), breakdown = list(smooth), by_blend = list(by_theta(), by_naive()),
    cadence = list("1 day"), cadence_of = list(one), ceiling_to = list(first, "1 month"),
    centred = list(5), change = list(one), choices = list(f), correlogram = list(one),
    date_marks = list(first, "fair"), decomposition = list(one, 7), demo_timeline = list("rain"),
    diagnosis = list(smooth), during = list(one, "2031"),
    effect_of = list(one, when = "2031-02-01/2031-02-05"), events = list(event), fading = list(5),
    find_seasons = list(one), findings = list(vet(one)), fit = list(one, "theta"),
    floor_to = list(first, "1 month"), for_each_part = list(file, into = tempfile()),
    forecast = list(one, 3, "theta"), gaps = list(one), holdout = list(one, 5),
    impute = list(one, "linear"), indices_of = list(lines), inspect = list(one),
    is_timeline = list(one), known_ahead = list("rain"), lag_grid = list(one),
    lead_lag = list(align(one, other), "flow", "rain"), leading = list(5), leak_check = list(b),
    ledger = list(one), limits = list(0, 1), noise_check = list(one), origins = list(one),
    pool_series = list(both), power_spectrum = list(one), ranking = list(b),
    read_routine = list(yaml), read_timeline = list(file), rebase = list(one, "2031"),
    recursion = list(smooth), rejects = list(one), remove_seasons = list(one),
    remove_shifts = list(one), repair = list(vet(one)), replay = list(wish, one),
    report = list(b, tempfile(fileext = ".md")), resample = list(one, "1 week"),
    roll = list(one, trailing(7)), roots = list(orders), scores = list(b),
    search_path = list(orders), season_profile = list(one),
    shaded_spans = list("2031-01-01/2031-02-01"), stabilise = list(one),
    stamp_sequence = list(first, first + 60, "1 month"), standing = list(one),
    stationarity = list(one), steps_between = list(first, first + 60, "1 month"),
    strength = list(d), timeline = list(table, "day", series = "site", amounts = "flow"),
    to_forecast = list("rain"), total = list(f, "1 week"), track = list(f, one),
    trailing = list(5), traits = list(one), verdict = list(b), vet = list(one),
    with_totals = list(both), write_routine = list(wish, tempfile(fileext = ".yml")),
    write_timeline = list(one, tempfile(fileext = ".csv"))
  ), sapply(c("by_arima", "by_auto", "by_decomposition", "by_drift", "by_intermittent", "by_mean",
              "by_moving_average", "by_naive", "by_regression", "by_seasonal_naive", "by_smoothing",
              "by_theta", "figure_style", "jumps", "routine", "shifts", "since_start", "spikes",
              "stuck"), function(name) list(), simplify = FALSE))
}

# What nobody means, for every argument in turn.
hostile_values <- list(
  missing = NA, nothing = NULL, empty = "", `no text` = character(), `no number` = numeric(),
  infinite = Inf, negative = -1, huge = 1e12, half = 0.5, list = list(), `function` = function(x) x,
  nonsense = "nonsense", two = c("a", "b"), holed = c(1, NA), yes = TRUE, day = as.Date("2030-01-01"),
  table = data.frame(a = 1), `not a number` = NaN, complex = 1i, environment = new.env(),
  factor = factor("a"), zero = 0, long = strrep("x", 10000), braces = "\033[31m{x}"
)

# The arguments of a function and of its methods.
arguments_of <- function(name) {
  own <- names(formals(get(name, asNamespace("kairon"))))
  methods <- grep(paste0("^", name, "[.](kairon|default)"), ls(asNamespace("kairon")), value = TRUE)
  more <- unlist(lapply(methods, function(m) names(formals(get(m, asNamespace("kairon"))))))
  setdiff(unique(c(own, more)), c("...", "call"))
}

# A usual call with one argument replaced.
with_hostile <- function(args, name, argument, value) {
  named <- names(args)
  if (is.null(named)) named <- rep("", length(args))
  own <- setdiff(names(formals(get(name, asNamespace("kairon")))), "...")
  at <- which(named == argument)
  if (length(at) == 0) {
    place <- match(argument, setdiff(own, named))
    at <- which(!nzchar(named))[place]
  }
  at <- at[!is.na(at)]
  if (length(at)) {
    args[at] <- list(value)
    return(args)
  }
  c(args, stats::setNames(list(value), argument))
}

# What went wrong in the words of something else than this package; "" where nothing did.
raw_trouble <- function(work, seconds = 20) {
  raw <- ""
  made <- tryCatch(
    withCallingHandlers({
      setTimeLimit(elapsed = seconds, transient = TRUE)
      utils::capture.output(suppressMessages(work()))
      NULL
    }, warning = function(w) {
      if (!inherits(w, "kairon_warning")) raw <<- conditionMessage(w)
      invokeRestart("muffleWarning")
    }),
    error = function(e) e,
    finally = setTimeLimit(elapsed = Inf)
  )
  if (!is.null(made) && !inherits(made, "kairon_error")) conditionMessage(made) else raw
}

# Troubles of a function with each of its arguments and each of some values.
argument_troubles <- function(name, args, values) {
  out <- list()
  for (argument in arguments_of(name)) {
    for (value in names(values)) {
      said <- raw_trouble(function() {
        print(do.call(get(name, asNamespace("kairon")),
                      with_hostile(args, name, argument, values[[value]])))
      })
      if (nzchar(said)) {
        out[[length(out) + 1]] <- data.frame(fun = name, argument, value, said = substr(said, 1, 200))
      }
    }
  }
  do.call(rbind, out)
}
