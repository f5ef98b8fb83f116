# Studies: what they may say, what mistakes are told, and that a run does what the calls do.

study_file <- function(..., name = "study.yml", folder = tempfile("study-")) {
  dir.create(folder, showWarnings = FALSE)
  for (f in c("billed.csv", "rain.csv")) file.copy(demo_file(f), folder)
  path <- file.path(folder, name)
  writeLines(c(...), path)
  path
}

billed_lines <- c(
  "kairon_study: 1", "data:", "  source: billed.csv", "  time: month", "  amounts: volume",
  "  units: {volume: Ml}"
)

test_that("a run gives what the calls give, and writes it whole", {
  path <- study_file(
    billed_lines, "routine:", "  - resample: {every: 1 quarter, statistics: {volume: [sum, max]}}",
    "looks: [inspect, {season_profile: {each: quarter of year, measures: volume_sum}}]",
    "decomposition: {seasons: year, combine: multiply, measures: volume_sum}",
    "methods:", "  own: {smoothing: {trend: damped}}",
    "backtest:", "  methods: [own, naive]", "  horizon: 2", "  cutoffs: 2", "  measures: volume_sum",
    "  window: {trailing: 6 years}", "  scores: {metrics: mae}",
    "forecast: {horizon: 4, method: theta, intervals: [80]}",
    "outputs: {tables: json, figures: none, prepared: true}"
  )
  done <- quiet(run_study(path, quiet = TRUE))
  x <- demo_timeline("billed")
  steps <- routine() |> resample("1 quarter", volume = c("sum", "max"))
  grid <- quiet(replay(steps, x))
  expect_equal(done$prepared$volume_sum, grid$volume_sum)
  expect_equal(done$forecast$table, quiet(forecast(x, 4, list(theta = by_theta()), intervals = 80,
                                                   routine = steps))$table)
  b <- quiet(backtest(x, list(own = by_smoothing(trend = "damped"), naive = by_naive()), 2, cutoffs = 2,
                      routine = steps, measures = volume_sum, window = trailing("6 years")))
  expect_equal(done$scores$mae, scores(b, "mae")$mae)
  expect_equal(names(done$looks), c("inspect", "season_profile"))
  folder <- file.path(dirname(path), "study-output")
  expect_setequal(basename(done$files), setdiff(list.files(folder), ".cache"))
  read <- jsonlite::fromJSON(file.path(folder, "forecast.json"))
  expect_equal(sum(read$origin == "forecast"), 8)
  expect_equal(nrow(quiet(read_timeline(file.path(folder, "prepared.csv")))), nrow(grid))
  made <- jsonlite::fromJSON(file.path(folder, "provenance.json"))
  expect_equal(made$data$md5, unname(tools::md5sum(file.path(dirname(path), "billed.csv"))))
})

test_that("steps come from the cache until something they rest on changes", {
  lines <- c(billed_lines, "looks: [standing]", "forecast: {horizon: 3, method: theta}",
             "outputs: {figures: none}")
  path <- study_file(lines)
  cached <- function(...) {
    s <- quiet(run_study(path, quiet = TRUE, ...))$steps
    stats::setNames(s$from_cache, s$step)
  }
  expect_false(any(cached()))
  expect_true(all(cached()))
  writeLines(sub("horizon: 3", "horizon: 4", lines), path)
  expect_equal(cached(), c(data = TRUE, standing = TRUE, forecast = FALSE))
  data <- file.path(dirname(path), "billed.csv")
  rows <- readLines(data)
  writeLines(utils::head(rows, -1), data)
  expect_false(any(cached()))
  # A cut cache file is no result.
  kept <- list.files(file.path(dirname(path), "study-output", ".cache"), full.names = TRUE)
  expect_length(kept, 3)
  for (f in kept) writeBin(readBin(f, "raw", 40), f)
  expect_false(any(cached()))
  expect_false(any(cached(cache = FALSE)))
})

test_that("every mistake is told with its line and the nearest right word, all at once", {
  path <- study_file(
    "kairon_study: 1", "data:", "  source: billed.csv", "  repeats: frist", "routin:", "  - vet",
    "routine:", "  - resampel: 1 day", "  - impute: {wiht: linear}", "looks:", "  - standing", "  - inspct",
    "backtest:", "  methods: [theta]", "  horizon: 3", "  cutofs: 2"
  )
  says <- error_text(read_study(path))
  for (part in c(
    "Line 4: repeats must be one of refuse, first, last and mean, not \"frist\". Did you mean \"first\"?",
    "Line 5: A study has no key \"routin\". Did you mean \"routine\"?",
    "Line 8:.*Did you mean \"resample\"?", "Line 9:.*no key \"wiht\". Did you mean \"with\"?",
    "Line 12:.*Did you mean \"inspect\"?", "Line 16:.*\"cutofs\". Did you mean \"cutoffs\"?", "has 6 mistakes"
  )) {
    expect_match(gsub("\\s+", " ", says), gsub("([?{}])", "\\\\\\1", part))
  }
})

test_that("studies that cannot be are refused with what to do", {
  refuse <- function(lines, pattern, class = "kairon_error") {
    path <- study_file(lines)
    expect_error(read_study(path), class = class)
    expect_match(gsub("\\s+", " ", error_text(read_study(path))), pattern)
  }
  refuse(c("kairon_study: 2", "data: {}"), "written for a newer Kairon.*format 2", "kairon_error_file")
  refuse(c("kairon_studie: 1"), "Line 1 says.*kairon_studie")
  refuse(c("kairon_study: 1", "data: {source: [}"), "Line 2 of .* is not valid YAML", "kairon_error_file")
  refuse(c("kairon_study: 1", "data:", "\tsource: a"), "Line 3 of .* indented by a tab", "kairon_error_file")
  refuse(c("kairon_study: 1", "looks: [gaps]"), "needs the key")
  refuse(c(billed_lines, "forecast: {method: theta}"), "Line 7 of .* says no .horizon")
  refuse(c(billed_lines, "looks: inspect: 3"), "not valid YAML")
  refuse("just words", "holds no keys")
  refuse(c(billed_lines, "seed: soon"), "Line 7: seed must be a whole number, not text")
  expect_match(error_text(read_study(tempfile(fileext = ".yml"))), "There is no study")
})

test_that("a study may rest on another one, but not in a circle", {
  folder <- tempfile()
  base <- study_file(billed_lines, "forecast: {horizon: 6, method: theta}", "outputs: {figures: none}",
                     name = "base.yml", folder = folder)
  top <- study_file("kairon_study: 1", "based_on: base.yml", "forecast: {method: naive}", name = "top.yml",
                    folder = folder)
  v <- read_study(top)$value
  expect_equal(v$forecast, list(horizon = 6L, method = "naive"))
  expect_equal(basename(v$data$source), "billed.csv")
  expect_equal(unique(quiet(run_study(top, quiet = TRUE))$forecast$table$method), "naive")
  writeLines(c("kairon_study: 1", "based_on: top.yml"), base)
  expect_match(gsub("\\s+", " ", error_text(read_study(top))), "top.yml -> base.yml -> top.yml")
})

test_that("a step that fails is told with its line, and the folder stays as it was", {
  path <- study_file(billed_lines, "looks:", "  - standing", "  - lag_grid: {lags: 500}",
                     "outputs: {figures: none}")
  says <- gsub("\\s+", " ", error_text(run_study(path, quiet = TRUE)))
  expect_match(says, "Line 9 of .*looks.* cannot be done")
  expect_equal(list.files(file.path(dirname(path), "study-output")), character())
  path <- study_file(billed_lines, "routine:", "  - impute: {with: {volume: linera}}")
  expect_match(gsub("\\s+", " ", error_text(run_study(path, quiet = TRUE))), "Line 8 of .*linera.*linear")
  path <- study_file(billed_lines, "looks:", "  - season_profile: {each: month of yeer}")
  expect_match(error_text(run_study(path, quiet = TRUE)),
               "Line 8: each must be one of.*Did you mean .month of year")
  path <- study_file(billed_lines, "forecast: {horizon: 3, method: best}")
  expect_match(error_text(run_study(path, quiet = TRUE)), "needs a backtest")
  path <- study_file(billed_lines, "backtest: {horizon: 3, methods: [thta]}")
  expect_match(gsub("\\s+", " ", error_text(run_study(path, quiet = TRUE))),
               "Line 7 of .*Did you mean .theta")
})

test_that("the studies that come along are valid", {
  files <- list.files(system.file("extdata", package = "kairon"), "study.*[.]ya?ml$", full.names = TRUE)
  expect_gt(length(files), 1)
  for (file in files) expect_s3_class(read_study(file), "kairon_study")
})

test_that("a first draft of each demo file finds its columns, is valid and runs", {
  guesses <- list(
    demand.csv.gz = list(time = "day", series = "district", amounts = "demand"),
    river.csv.gz = list(time = "time", missing = "---", repeats = "first", levels = c("flow", "level")),
    soil.csv.gz = list(time = "month", series = "cell", attributes = c("elevation", "area"))
  )
  for (name in names(guesses)) {
    file <- tempfile(fileext = ".yml")
    draft <- quiet(new_study(demo_file(name), file))
    expect_identical(readLines(file), unclass(draft)[seq_along(draft)])
    data <- read_study(file)$value$data
    for (key in names(guesses[[name]])) expect_equal(unlist(data[[key]]), guesses[[name]][[key]], info = name)
    expect_match(error_text(new_study(demo_file(name), file)), "is there already")
  }
  file <- tempfile(fileext = ".yml")
  quiet(new_study(demo_file("accounts.csv"), file, units = c(revenue = "million")))
  done <- quiet(run_study(file, quiet = TRUE))
  expect_s3_class(done$forecast, "kairon_forecast")
  expect_equal(done$data$cost, demo_timeline("accounts")$cost)
  expect_true(file.exists(file.path(dirname(done$files[1]), "report.html")))
  nothing <- tempfile(fileext = ".csv")
  writeLines(c("a,b", "x,1", "y,2"), nothing)
  expect_match(error_text(new_study(nothing)), "No column holds stamps")
})

test_that("hostile names make the round trip from data to draft to run", {
  name <- "flow: \"#1\" {it's}"
  data <- data.frame(day = days_from("2031-01-01", 60), v = round(rnorm(60, 10), 2))
  names(data)[2] <- name
  folder <- tempfile()
  dir.create(folder)
  utils::write.csv(data, file.path(folder, "odd, file.csv"), row.names = FALSE)
  study <- file.path(folder, "s.yml")
  quiet(new_study(file.path(folder, "odd, file.csv"), study))
  v <- read_study(study)$value
  expect_equal(v$data$levels, name)
  expect_equal(quiet(run_study(study, quiet = TRUE))$data[[name]], data[[2]])
})

test_that("windows, rules, bands, members and drivers are what their words say", {
  window <- kairon:::study_window
  expect_equal(window(list(trailing = "28 days")), trailing("28 days"))
  expect_equal(window(list(centred = list(length = 7L, kernel = "gaussian"))), centred(7, "gaussian"))
  expect_equal(window("since_start"), since_start())
  expect_equal(kairon:::study_rules_of(list("stuck", list(limits = list(min = 0L)))),
               list(stuck(), limits(min = 0)))
  blend <- list(blend = list(members = c("theta", "naive"), weights = "inverse"))
  expect_equal(kairon:::study_method(blend), by_blend(by_theta(), by_naive(), weights = "inverse"))
  driven <- list(regression = list(drivers = list(known_ahead = c("price", "tariff"), to_forecast = "heat")))
  expect_equal(kairon:::study_method(driven),
               by_regression(drivers = c(known_ahead(c("price", "tariff")), to_forecast("heat"))))
  steps <- kairon:::study_routine(list(list(pool_series = list(by = list(list(bands = list(
    column = "elevation", n = 3L))), weights = "area"))))
  soil <- demo_timeline("soil")
  expect_equal(quiet(replay(steps, soil)), quiet(pool_series(soil, bands(elevation, 3), weights = area)),
               ignore_attr = TRUE)
})

test_that("the schema holds the arguments of the functions as they are", {
  schema <- jsonlite::fromJSON(study_schema(), simplifyVector = FALSE)
  own <- function(part, name) {
    setdiff(names(part$anyOf[[2]]$properties[[name]]$properties), c("statistics", "with", "members"))
  }
  for (step in names(schema$definitions$step$anyOf[[2]]$properties)) {
    fun <- get(paste0(step, ".kairon_timeline"), asNamespace("kairon"))
    expect_true(all(own(schema$definitions$step, step) %in% names(formals(fun))), info = step)
  }
  for (look in names(schema$definitions$look$anyOf[[2]]$properties)) {
    given <- setdiff(names(formals(getExportedValue("kairon", look))), c("x", "..."))
    held <- names(schema$definitions$look$anyOf[[2]]$properties[[look]]$properties)
    expect_setequal(as.character(held), given)
  }
  methods <- schema$definitions$method$anyOf[[2]]$properties
  exported <- sub("^by_", "", grep("^by_", getNamespaceExports("kairon"), value = TRUE))
  expect_setequal(names(methods), exported)
  for (m in exported) {
    given <- setdiff(names(formals(getExportedValue("kairon", paste0("by_", m)))), "...")
    expect_setequal(as.character(own(schema$definitions$method, m)), as.character(given))
  }
  expect_setequal(setdiff(names(schema$properties$backtest$properties), "scores"),
                  setdiff(names(formals(backtest)), c("x", "routine", "cache", "...")))
})

# What the functions are called with to be asked for the words that an argument takes.
work_of <- function() {
  billed <- demo_timeline("billed")
  demand <- demo_timeline("demand")
  own <- list(
    resample = list(billed, "1 year"), align = list(billed, demo_timeline("rain")),
    impute = list(billed, "linear"),
    repair = list(quiet(vet(billed))), roll = list(billed, trailing(3)), rebase = list(billed, NULL),
    remove_seasons = list(billed, "year"), remove_shifts = list(quiet(vet(demand, shifts()))),
    lead_lag = list(demand, "Birchmoor", "Dunmere"), effect_of = list(demand, "2031-07-14/2031-07-27"),
    backtest = list(billed, by_naive(), 3), forecast = list(billed, 3, by_naive())
  )
  function(name) own[[name]] %||% list(billed)
}

test_that("the words of the schema are those that the functions take, and all that they take", {
  work <- work_of()
  known <- kairon:::known_words()
  checked <- 0
  for (key in grep("^(data|grid)[.]|calendar$", names(known), value = TRUE, invert = TRUE)) {
    name <- sub("[.].*", "", key)
    argument <- sub(".*[.]", "", key)
    makers <- if (name == "method") {
      Filter(function(by) argument %in% names(formals(by)), paste0("by_", kairon:::known_methods()))
    } else {
      name
    }
    told <- unlist(lapply(makers, function(fun) {
      first <- if (name == "method") list() else work(name)
      ask <- function(word) {
        tryCatch(quiet(do.call(fun, c(first, rlang::set_names(list(word), argument)))), error = identity)
      }
      # None of them is answered as a word that does not exist.
      own <- ask("no such word")$choices
      for (word in if (argument != "then") utils::head(own, 2)) {
        expect_false(identical(ask(word)$argument, argument), info = paste(fun, argument, word))
      }
      own
    }))
    checked <- checked + 1
    expect_setequal(known[[key]], unique(told))
  }
  expect_gt(checked, 40)
})

test_that("what the shell reads by its kind is right in a study", {
  schema <- jsonlite::fromJSON(study_schema(), simplifyVector = FALSE)
  known <- kairon:::known_words()
  typed <- c(
    ANSWER = "no", COLUMN = "flow", COLUMNS = "flow,rain", COUNT = "3", COUNTS = "5,5,2,2", CUTOFFS = "4",
    CYCLES = "fixed", DATES = "2031-04-01,2031-05-01", GROUPS = "district", INTERVAL = "2031-03/2032-02",
    LEVELS = "50,90", NAMES = "volume", NUMBER = "0.5", N = "3", ORDER = "1,0,1", PERCENT = "90",
    PERIODS = "1 week,1 month", POWER = "0.5", RANGE = "0,Inf", RULES = "spikes(threshold=10),stuck",
    SEASONS = "week,12", SECONDS = "20", SERIES = "Dunmere,Highwell", SHARE = "0.5", SHEET = "2",
    SPAN = "2 days", STEP = "1 day", STEPS = "1,6,12", TEXTS = "-,NA", UNITS = "flow=l/s",
    WIDTHS = "day=10,flow=8"
  )
  parts <- c(lapply(schema$definitions[c("step", "look")], function(d) d$anyOf[[2]]$properties),
             list(schema$properties[c("decomposition", "backtest", "forecast")]))
  rules <- unlist(unname(parts), recursive = FALSE)
  verbs <- kairon:::cli_verbs()
  seen <- 0
  for (name in names(rules)) {
    dashed <- gsub("_", "-", name)
    options <- kairon:::verb_options(dashed, verbs[[dashed]])$own
    for (o in options[intersect(names(options), names(rules[[name]]$properties))]) {
      words <- known[[paste0(name, ".", o$name)]]
      text <- words[1] %||% if (o$metavar %in% names(typed)) typed[[o$metavar]]
      # Maps of their own, windows and methods are tried elsewhere.
      if (is.null(text) || o$metavar == "RULES") next
      value <- kairon:::option_value(o, text, dashed)
      if (is.null(value) || o$flag) next
      if (length(value) > 1 || !is.null(names(value))) value <- as.list(value)
      rule <- rules[[name]]$properties[[o$name]]
      wrong <- kairon:::schema_problems(value, rule, schema, o$name)
      expect_equal(vapply(wrong, `[[`, "", "text"), character(), info = paste(name, o$name, text))
      seen <- seen + 1
      # A map means nothing here, but where values go by measure.
      types <- unlist(c(rule$type, lapply(rule$anyOf, `[[`, "type")))
      if (!"object" %in% types && is.null(rule[["$ref"]])) {
        expect_length(kairon:::schema_problems(list(a = list(b = 1)), rule, schema, o$name), 1)
      }
    }
  }
  expect_gt(seen, 70)
})

test_that("settings that are maps, names of methods within looks and years as numbers run in a study", {
  folder <- tempfile()
  dir.create(folder)
  file.copy(demo_file("billed.csv"), folder)
  study <- file.path(folder, "settings.yml")
  writeLines(c(
    "kairon_study: 1", "data: {source: billed.csv, amounts: volume, during: 2031}",
    "routine: [{rebase: {against: 2031}}]", "looks: [{power_spectrum: {method: segments, window: hamming}}]",
    "decomposition: {seasons: 4, method: averages}",
    "forecast: {horizon: 3, method: {smoothing: {shares: {level: 0.3}, initial: {level: 4, trend: 0}}}}",
    "outputs: {figures: none}"
  ), study)
  ran <- quiet(run_study(study, folder = file.path(folder, "made")))
  x <- quiet(rebase(during(demo_timeline("billed"), "2031"), "2031"))
  expect_equal(ran$prepared$volume, x$volume)
  expect_equal(as.data.frame(ran$looks$power_spectrum),
               as.data.frame(power_spectrum(x, method = "segments", window = "hamming")))
  by <- by_smoothing(shares = list(level = 0.3), initial = list(level = 4, trend = 0))
  expect_equal(ran$forecast$table$value, quiet(forecast(x, 3, by))$table$value)
  writeLines(sub("hamming", "hamning", readLines(study)), study)
  expect_match(error_text(read_study(study)), "Line 4.*window must be one of.*Did you mean \"hamming\"")
})

test_that("the program drafts, checks and runs a study, and says it as JSON", {
  folder <- tempfile()
  dir.create(folder)
  file.copy(demo_file("billed.csv"), folder)
  study <- file.path(folder, "billed.yml")
  drafted <- kairon("new-study", file.path(folder, "billed.csv"), "--output", study, "--units", "volume=Ml")
  expect_equal(drafted$code, 0)
  expect_match(paste(drafted$err, collapse = " "), "Run it with: kairon run-study")
  checked <- kairon("run-study", study, "--check")
  expect_equal(checked$code, 0)
  expect_false(dir.exists(file.path(folder, "billed-output")))
  ran <- kairon("run-study", study, "--json", "--quiet")
  expect_equal(ran$code, 0)
  steps <- jsonlite::fromJSON(ran$out)$steps
  expect_true(all(c("data", "backtest", "forecast") %in% steps$step))
  wrong <- file.path(folder, "wrong.yml")
  writeLines(sub("^looks:", "lokks:", readLines(study)), wrong)
  told <- kairon("run-study", wrong)
  expect_equal(told$code, 1)
  expect_match(paste(told$err, collapse = " "),
               "Line [0-9]+: A study has no key \"lokks\". Did you mean \"looks\"")
  expect_equal(kairon("run-study", file.path(folder, "none.yml"))$code, 2)
})

test_that("what looks right and cannot be run is told with its line too, and nothing is written elsewhere", {
  told <- function(lines, pattern) {
    path <- study_file(billed_lines, lines)
    expect_match(gsub("\\s+", " ", error_text(run_study(path, quiet = TRUE))), pattern)
    left <- setdiff(list.files(dirname(path)), "study-output")
    expect_setequal(left, c("study.yml", "billed.csv", "rain.csv"))
  }
  told(c("routine:", "  - resample"), "Line 8 of .*routine.*every.* missing")
  told(c("routine:", "  - vet: 3"), "Line 8 of .*3.* is no name")
  told("outputs: {report: ../out.html}", "Line 7 of .*is no name of a report")
  told("outputs: {report: out.pdf}", "is no name of a report")
  told("forecast: {horizon: 3, method: {theta: {thta: 2}}}", "Line 7: theta has no key .thta.*Did you mean")
  told("forecast: {horizon: 3, drivers: heat}", "Line 7 of .*none of .other_data")
  told(c("routine:", "  - align: [rain]"), "Line 8 of .*align.* needs")
  told("outputs: {folder: /proc/none}", "no folder below the study's own")
  expect_match(error_text(run_study(study_file(billed_lines, "looks: [standing]"), "/proc/none",
    quiet = TRUE)), "cannot be written")
})

test_that("a study runs again over its own outputs, folders of figures among them", {
  path <- study_file(billed_lines, "forecast: {horizon: 3, method: theta}",
                     "outputs: {figures: none, report: [r.html, r.md]}")
  folder <- file.path(dirname(path), "study-output")
  quiet(run_study(path, quiet = TRUE))
  writeLines("old", file.path(folder, "r-figures", "left-over.svg"))
  again <- quiet(run_study(path, quiet = TRUE))
  expect_true(all(again$steps$from_cache))
  expect_false(file.exists(file.path(folder, "r-figures", "left-over.svg")))
  expect_true(file.exists(file.path(folder, "r-figures", "forecast.svg")))
  expect_length(list.files(folder, "^\\.partial", all.files = TRUE), 0)
})

test_that("what an address holds is read each time, and only what changed is done again", {
  rows <- paste(readLines(demo_file("billed.csv")), collapse = "\n")
  lines <- function(address) {
    c("kairon_study: 1", "data:", paste0("  source: ", address), "  time: month", "  amounts: volume",
      "looks: [standing]", "outputs: {figures: none}")
  }
  address <- serve("ok", rows)
  path <- study_file(lines(address))
  expect_false(any(quiet(run_study(path, quiet = TRUE))$steps$from_cache))
  expect_equal(quiet(run_study(path, quiet = TRUE))$steps$from_cache, c(FALSE, TRUE))
})

test_that("methods with names of their own may rest on each other, and never without end", {
  own <- list(a = "theta", mix = list(blend = list(members = c("a", "naive"))), x = "y", y = "x")
  expect_equal(kairon:::study_method("mix", own), by_blend(by_theta(), by_naive()))
  expect_match(error_text(kairon:::study_method("x", own)), "no method .x")
})

test_that("every look runs in a study, and other data may have any name", {
  folder <- tempfile()
  dir.create(folder)
  file.copy(demo_file("energy.csv.gz"), folder)
  path <- study_file(
    "kairon_study: 1",
    "data: {source: energy.csv.gz, time: time, series: station, amounts: energy, during: 2032-03/2032-04}",
    "other_data:", "  2031: {source: billed.csv, time: month, amounts: volume}",
    "looks:", "- inspect", "- gaps", "- origins", "- find_seasons", "- traits",
    "- correlogram: {lags: 1 day}",
    "- lag_grid: {lags: [1, 24]}", "- lead_lag: {a: Highwell, b: Millrace, lags: 6 hours}",
    "- power_spectrum", "- stationarity", "- season_profile: {each: [hour of day, day of week]}",
    folder = folder
  )
  done <- quiet(run_study(path, quiet = TRUE))
  expect_length(done$looks, 11)
  written <- basename(done$files)
  expect_true(all(paste0(c("lead-lag", "power-spectrum", "traits", "origins"), ".csv") %in% written))
  expect_true(all(paste0(c("lag-grid", "stationarity", "season-profile"), ".svg") %in% written))
  expect_named(done$other_data, "2031")
})
