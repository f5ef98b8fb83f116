# Standard input, JSON and completion.

shell <- function(...) {
  program <- system.file("exec", "kairon", package = "kairon")
  kairon <- paste(shQuote(file.path(R.home("bin"), "Rscript")), shQuote(program))
  line <- gsub("KAIRON", kairon, paste0(...), fixed = TRUE)
  suppressWarnings(system(line, intern = TRUE, ignore.stderr = TRUE))
}

test_that("verbs read standard input, and work in a pipe of two", {
  skip_on_os("windows")
  direct <- kairon("resample", demo_file("rain.csv"), "--amounts", "rain", "--every", "1 month")$out
  rain <- shQuote(demo_file("rain.csv"))
  piped <- shell("cat ", rain, " | KAIRON resample - --amounts rain --every '1 month'")
  expect_equal(piped, direct)
  two <- shell("KAIRON resample ", shQuote(demo_file("rain.csv")), " --amounts rain --every '1 month' | ",
               "KAIRON forecast - --amounts rain --measures rain --horizon 2 --method naive")
  expect_match(two[1], "value,lower_50")
  expect_equal(sum(grepl("forecast", two)), 2)
  # A change of scale in between is undone.
  billed <- shQuote(demo_file("billed.csv"))
  plain <- shell("KAIRON forecast ", billed, " --amounts volume --horizon 2 --method naive")
  logs <- shell("KAIRON stabilise ", billed, " --amounts volume --power log | KAIRON forecast - --horizon 2 ",
                "--method naive")
  value <- function(lines) as.numeric(vapply(strsplit(lines[grepl("forecast", lines)], ","), `[`, "", 4))
  expect_equal(value(logs), value(plain), tolerance = 1e-6)
})

test_that("tables come as JSON on request, with the same numbers", {
  run <- kairon("forecast", demo_file("billed.csv"), "--amounts", "volume", "--horizon", "2", "--method",
                "drift", "--json")
  rows <- jsonlite::fromJSON(run$out)
  f <- quiet(forecast(demo_timeline("billed"), 2, by_drift()))
  expect_equal(rows$value[rows$origin == "forecast"], f$table$value)
  expect_equal(rows$month[rows$origin == "forecast"], as.character(f$table$month))
})

test_that("completion knows every verb and every option, and bash can load it", {
  skip_on_os("windows")
  run <- kairon("completion", "bash")
  expect_equal(run$code, 0)
  path <- tempfile(fileext = ".bash")
  writeLines(run$out, path)
  complete <- function(words) {
    script <- paste0("source ", path, "; COMP_WORDS=(", words, "); ",
                     "COMP_CWORD=$((${#COMP_WORDS[@]} - 1)); _kairon; ",
                     "printf '%s\\n' \"${COMPREPLY[@]}\"")
    system2("bash", c("-c", shQuote(script)), stdout = TRUE)
  }
  expect_equal(complete("kairon back"), "backtest")
  expect_setequal(complete("kairon backtest --res"), "--reserve")
  expect_true(all(c("--horizon", "--help") %in% complete("kairon forecast --h")))
  expect_setequal(complete("kairon resample x.csv --stamp ''"), c("start", "middle", "end"))
  expect_equal(complete("kairon decomposition x.csv --method l"), "loess")
  expect_equal(complete("kairon forecast x.csv --method th"), "theta")
  expect_setequal(complete("kairon report x.csv --minimise m"), c("mae", "mape", "median_error"))
  expect_equal(kairon("completion", "fish")$code, 2)
  expect_match(kairon("completion", "zsh")$out, "bashcompinit", all = FALSE)
})

test_that("any verb writes into a file of a database, which later verbs read", {
  billed <- demo_file("billed.csv")
  for (ending in c("sqlite", if (!is.null(kairon:::engine_way())) "duckdb")) {
    path <- tempfile(fileext = paste0(".", ending))
    table <- function(name) paste0(path, "?table=", name)
    ahead <- function(to) {
      kairon("forecast", billed, "--amounts", "volume", "--during", "2020/2030-06", "--horizon", "6",
             "--method", "theta", "--output", to)
    }
    ahead(table("ahead"))
    kairon("traits", billed, "--amounts", "volume", "--output", table("traits"))
    for (i in 1:2) {
      kairon("resample", billed, "--amounts", "volume", "--every", "1 year", "--output", table("years"))
    }
    years <- kairon("inspect", table("years"), "--json")
    expect_equal(jsonlite::fromJSON(years$out)$kind, "amount", info = ending)
    text <- tempfile(fileext = ".csv")
    ahead(text)
    expect_equal(kairon("scores", table("ahead"), billed, "--amounts", "volume")$out,
                 kairon("scores", text, billed, "--amounts", "volume")$out, info = ending)
    expect_equal(kairon("scores", table("behind"), billed, "--amounts", "volume")$code, 1)
    expect_match(kairon("scores", path, billed, "--amounts", "volume")$err, "holds 3 tables", all = FALSE)
  }
  expect_equal(kairon("traits", billed, "--output", tempfile(fileext = ".db"))$code, 2)
})
