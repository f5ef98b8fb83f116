# From what was typed to arguments.

setting <- function(text) getFromNamespace("setting_value", "kairon")(text)
calls <- function(text) getFromNamespace("setting_calls", "kairon")(text, "methods", "forecast")
said <- function(run) paste(run$err, collapse = " ")
billed <- function() c(demo_file("billed.csv"), "--amounts", "volume", "--quiet")

# Width and height as they stand in a PNG.
png_size <- function(path) {
  bytes <- as.integer(readBin(path, "raw", 24))
  c(sum(bytes[17:20] * 256^(3:0)), sum(bytes[21:24] * 256^(3:0)))
}

test_that("words are numbers, answers, vectors, pairs and calls", {
  expect_identical(setting("3"), 3)
  expect_identical(setting("-2.5"), -2.5)
  expect_identical(setting("0,Inf"), c(0, Inf))
  expect_identical(setting("28 days"), "28 days")
  expect_identical(setting("yes"), TRUE)
  expect_identical(setting("week,12"), c("week", "12"))
  expect_identical(setting("flow=linear,rain=0"), c(flow = "linear", rain = "0"))
  expect_identical(setting("a=1,b=2"), c(a = 1, b = 2))
  expect_identical(calls("theta,smoothing(trend=damped,season=add)"),
                   list("theta", list(smoothing = list(trend = "damped", season = "add"))))
  expect_identical(calls("arima(order=[1, 0, 1])")[[1]], list(arima = list(order = c(1, 0, 1))))
  expect_identical(calls("arima(order=c(1,0,1))"), calls("arima(order=[1,0,1])"))
})

test_that("options are read with values that begin with a dash, in any spelling, once each", {
  parse <- function(...) getFromNamespace("read_call", "kairon")(c(...), "vet", kairon:::cli_verbs()$vet)
  expect_identical(parse("f.csv", "--min", "-5")$options$min, "-5")
  expect_identical(parse("--missing", "---", "f.csv")$options$missing, "---")
  expect_identical(parse("-o", "x.csv", "--", "--odd.csv")$files, "--odd.csv")
  expect_identical(parse("--day_first=no", "f.csv"), parse("f.csv", "--day-first", "no"))
  for (case in list(list(c("--min"), "needs a value"), list(c("--min", "--max", "3"), "needs a value"),
                    list(c("--min", "1", "--min", "2"), "given twice"), list("-x", "has no option"),
                    list(c("--quiet=3"), "takes no value"), list(c("--mni", "3"),
                                                                 "Did you mean \"--min\""))) {
    expect_match(error_text(parse("f.csv", case[[1]])), case[[2]], fixed = TRUE)
  }
})

test_that("calls give what the functions give with the same arguments", {
  x <- demo_timeline("billed")
  r <- kairon("forecast", billed(), "--horizon", "4", "--only", "forecast", "--method",
              "smoothing(trend=damped,season=multiply),theta")
  want <- quiet(forecast(x, 4, list(by_smoothing(trend = "damped", season = "multiply"), by_theta())))$table
  expect_equal(csv_of(r$out)$value, want$value)
  r <- kairon("decomposition", billed(), "--seasons", "year", "--method", "henderson", "--combine",
              "multiply")
  expect_equal(csv_of(r$out)$trend,
               as.data.frame(decomposition(x, "year", "henderson", combine = "multiply"))$trend)
  r <- kairon("roll", billed(), "--window", "centred(5, kernel=triangular)", "--keep", "no")
  expect_equal(csv_of(r$out)$volume_mean, quiet(roll(x, centred(5, "triangular"), keep = FALSE))$volume_mean)
  r <- kairon("change", billed(), "--times", "2", "--over", "12")
  expect_equal(csv_of(r$out)$volume, as.data.frame(quiet(change(x, 12, times = 2)))$volume)
  r <- kairon("vet", billed(), "--rules", "limits(min=500,max=800),jumps(threshold=3)")
  expect_equal(csv_of(r$out)$rule, as.character(quiet(findings(vet(x, list(limits(500, 800),
                                                                          jumps(threshold = 3)))))$rule))
  soil <- c(demo_file("soil.csv.gz"), "--series", "cell", "--attributes", "elevation,area", "--quiet")
  r <- kairon("pool-series", soil, "--by", "bands(elevation,3)", "--weights", "area")
  expect_equal(csv_of(r$out)$moisture,
               quiet(pool_series(demo_timeline("soil"), bands(elevation, 3), weights = area))$moisture)
  r <- kairon("coefficients", billed(), "--method", "regression", "--combine", "multiply")
  expect_equal(csv_of(r$out)$estimate, coef(fit(x, by_regression(combine = "multiply")))$estimate)
  r <- kairon("forecast", billed(), "--horizon", "3", "--only", "choices")
  expect_equal(csv_of(r$out)$method, choices(quiet(forecast(x, 3)))$method)
  r <- kairon("forecast", billed(), "--horizon", "3", "--during", "2022/2030", "--method", "naive", "--only",
              "forecast")
  expect_match(csv_of(r$out)$month[1], "2031-01")
})

test_that("stamps from parts, renaming, levels and rejected rows are at hand", {
  path <- file_of(c("Year,Wk,Flow (l/s)", "2031,5,3.5", "2031,6,4", "2031,7,4.5", "2031,8,x"))
  r <- kairon("inspect", path, "--time", "year=Year,week=Wk", "--missing", "x", "--rename", "flow=Flow (l/s)",
              "--levels", "flow")
  expect_equal(c(r$code, csv_of(r$out)$rows), c(0, 4))
  expect_equal(said(r), "")
  expect_match(said(kairon("inspect", path, "--time", "yaer=Year,week=Wk")), "Did you mean \"year\"")
  bad <- file_of(c("day,flow", "2031-01-01,1", "2031-01-02,2", "total,3"))
  expect_equal(csv_of(kairon("inspect", bad, "--rejects", "--quiet")$out)$line, 4)
})

test_that("a database file is a source", {
  skip_if_not_installed("RSQLite")
  path <- tempfile(fileext = ".sqlite")
  con <- DBI::dbConnect(RSQLite::SQLite(), path)
  x <- demo_timeline("billed")
  quiet(write_timeline(x, con, "billed"))
  expect_equal(csv_of(kairon("inspect", path, "--quiet")$out)$rows, 120)
  DBI::dbWriteTable(con, "other", data.frame(day = c("2031-01-01", "2031-01-02"), v = 1:2))
  DBI::dbDisconnect(con)
  expect_match(said(kairon("inspect", path)), "Choose one with --table", fixed = TRUE)
  for (r in list(kairon("inspect", path, "--table", "billed", "--quiet"),
                 kairon("inspect", paste0(path, "?table=billed"), "--quiet"))) {
    expect_equal(csv_of(r$out)$mean, mean(x$volume, na.rm = TRUE))
  }
  r <- kairon("inspect", path, "--query", "SELECT * FROM other WHERE v > 1", "--quiet")
  expect_equal(csv_of(r$out)$rows, 1)
  expect_equal(quiet(read_timeline(path, table = "billed"))$volume, x$volume)
  expect_error(read_timeline(demo_file("rain.csv"), table = "x"), class = "kairon_error_input")
})

test_that("tables and figures take the form of their ending, and other endings are refused before any work", {
  folder <- tempfile()
  dir.create(folder)
  at <- function(name) file.path(folder, name)
  for (name in c("x.docx", "x.xls", "x.db", "x.csv.zip")) {
    r <- kairon("resample", demo_file("rain.csv"), "--every", "1 month", "-o", at(name))
    expect_equal(c(r$code, file.exists(at(name))), c(2, 0), info = name)
    expect_match(said(r), "No table is written in the form")
    expect_error(write_timeline(demo_timeline("rain"), at(name)), class = "kairon_error_input")
  }
  for (name in c("x.csv", "x.tsv", "x.tsv.gz", "x.txt", "x.json", "plain")) {
    r <- kairon("resample", demo_file("rain.csv"), "--every", "1 month", "-o", at(name), "--quiet")
    expect_equal(r$code, 0, info = name)
    expect_equal(nrow(quiet(read_timeline(at(name)))), 42, info = name)
  }
  expect_match(readLines(at("x.tsv"))[8], "\t", fixed = TRUE)
  r <- kairon("standing", billed(), "--figure", at("f.png"), "--figure-size", "5,4")
  expect_equal(png_size(at("f.png")), c(550, 440))
  for (size in c("5", "0,3", "big")) {
    expect_equal(kairon("standing", billed(), "--figure", at("g.png"), "--figure-size", size)$code, 2)
  }
  expect_equal(kairon("backtest", billed(), "--horizon", "3", "--figure", at("f.gif"))$code, 2)
})

test_that("what cannot be meant is refused: windows since the start have no length, kernels are centred", {
  rain <- demo_file("rain.csv")
  expect_match(said(kairon("roll", rain, "--side", "since-start", "--window", "3")), "has no length")
  expect_match(said(kairon("roll", rain, "--window", "3", "--kernel", "gaussian")), "--side centred")
  r <- kairon("roll", rain, "--side", "since-start", "--statistics", "max", "--quiet")
  values <- demo_timeline("rain")$rain
  expect_equal(csv_of(r$out)$rain_max, cummax(replace(values, is.na(values), 0)))
})

test_that("version, methods and formats are pages", {
  expect_match(kairon("-v")$out, "^kairon [0-9.]+$")
  expect_match(paste(kairon("version")$out, collapse = " "), "data.table +[0-9]")
  methods <- kairon("methods")$out
  for (m in gsub("_", "-", kairon:::known_methods())) {
    expect_true(any(grepl(paste0("^  ", m, " "), methods)), info = m)
  }
  expect_match(paste(kairon("formats")$out, collapse = " "), "SQLite")
})

test_that("a value is read by its kind, the word that stands for it in the help, in every verb", {
  read <- getFromNamespace("option_value", "kairon")
  verbs <- kairon:::cli_verbs()
  for (name in names(verbs)) {
    for (o in unlist(unname(kairon:::verb_options(name, verbs[[name]])), recursive = FALSE)) {
      where <- paste(name, o$name)
      if (o$metavar %in% c("ANSWER", "NUMBER", "COUNT", "SECONDS")) {
        wrong <- tryCatch(read(o, "perhaps", name), kairon_error_usage = conditionMessage)
        expect_match(wrong, gsub("_", "-", o$name), info = where)
      }
      if (o$metavar == "ANSWER") expect_identical(read(o, "no", name), FALSE, info = where)
      if (o$metavar %in% c("NUMBER", "COUNT")) expect_identical(read(o, "1e3", name), 1000, info = where)
      if (o$metavar %in% kairon:::text_kinds) expect_identical(read(o, "2031", name), "2031", info = where)
      if (o$metavar %in% kairon:::list_kinds) {
        expect_identical(read(o, "7, no", name), c("7", "no"), info = where)
      }
    }
  }
})

test_that("what only a figure heeds is refused without one", {
  for (idle in list(c("--show", "cycles"), c("--figure-size", "5,4"), "--dark")) {
    r <- kairon("decomposition", billed(), idle)
    expect_equal(r$code, 2)
    expect_match(said(r), paste0(idle[1], ".*--figure"))
  }
  made <- vapply(c("parts", "cycles"), function(show) {
    path <- tempfile(fileext = ".png")
    r <- kairon("decomposition", billed(), "--figure", path, "--show", show)
    if (r$code == 0) unname(tools::md5sum(path)) else paste(said(r), show)
  }, "")
  expect_match(made, "^[0-9a-f]{32}$")
  expect_false(made[1] == made[2])
})
