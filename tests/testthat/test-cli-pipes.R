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
