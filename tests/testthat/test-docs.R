# The documents that come with the package are true: vignettes run, the program's printed help is its help.

vignettes <- function() {
  here <- c("../../vignettes", system.file("doc", package = "kairon"))
  list.files(here[dir.exists(here)][1], "\\.Rmd$", full.names = TRUE)
}

test_that("every vignette is built, with figures and without an error that it does not show on purpose", {
  skip_if_not_installed("rmarkdown")
  skip_if(Sys.which("pandoc") == "", "pandoc is not installed")
  files <- vignettes()
  expect_gte(length(files), 13)
  out <- tempfile()
  dir.create(out)
  before <- options(kairon.figure_width = NULL)
  on.exit(options(before))
  for (file in files) {
    page <- suppressWarnings(quiet(rmarkdown::render(
      file, output_dir = out, intermediates_dir = out, quiet = TRUE, envir = new.env(parent = globalenv())
    )))
    text <- paste(readLines(page, encoding = "UTF-8"), collapse = "\n")
    shown <- lengths(regmatches(text, gregexpr("#&gt; Error", text, fixed = TRUE)))
    meant <- sum(grepl("error = TRUE", readLines(file)))
    expect_equal(shown, meant, info = basename(file))
    figures <- lengths(regmatches(text, gregexpr("<img [^>]*src=\"data:image/png", text)))
    expect_equal(figures, sum(grepl("fig.alt = ", readLines(file))), info = basename(file))
    expect_no_match(gsub("src=\"data:[^\"]*\"", "", text), "Coordinate system already present|NaN|Inf %")
  }
})

test_that("every help page leads on, and the package's own page leads to each stage", {
  pages <- tools::Rd_db("kairon")
  text <- vapply(pages, function(p) paste(as.character(p), collapse = ""), "")
  alone <- sub("\\.Rd$", "", names(text)[!grepl("\\seealso", text, fixed = TRUE)])
  expect_setequal(alone, c("kairon-conditions", "kairon-package", "method-contract", "reexports"))
  map <- text[["kairon-package.Rd"]]
  stages <- c("read_timeline", "inspect", "vet", "resample", "roll", "effect_of", "decomposition", "backtest",
              "verdict", "report", "routine", "with_totals", "write_timeline", "breakdown")
  for (verb in stages) {
    expect_match(map, paste0("=", verb, "]"), fixed = TRUE)
  }
})

test_that("the help that is printed without loading the package is the help of the verbs", {
  verbs <- kairon:::cli_verbs()
  printed <- function(name) {
    readLines(system.file("cli-help", paste0(name, ".txt"), package = "kairon", mustWork = TRUE))
  }
  expect_equal(printed("kairon"), unname(kairon:::main_help(verbs)))
  for (name in names(verbs)) expect_equal(printed(name), unname(kairon:::verb_help(name, verbs[[name]])),
                                          info = name)
  run <- kairon("standing", "--help")
  expect_equal(run$out, printed("standing"))
  expect_equal(kairon("--help")$out, printed("kairon"))
  lines <- unlist(lapply(c("kairon", names(verbs)), printed))
  expect_lte(max(nchar(lines[!startsWith(lines, "  kairon ")])), 100)
})

test_that("the manual page names every verb and option, and man can read it", {
  page <- kairon:::manual_page(kairon:::cli_verbs())
  plain <- gsub("\\", "", page, fixed = TRUE)
  for (name in names(kairon:::cli_verbs())) expect_true(any(startsWith(plain, paste0(".SS ", name))),
                                                        info = name)
  expect_true(any(grepl("--at-least", plain, fixed = TRUE)))
  skip_if(Sys.which("groff") == "", "groff is not installed")
  file <- tempfile(fileext = ".1")
  writeLines(page, file)
  said <- system2("groff", c("-man", "-Tutf8", "-ww", file), stdout = TRUE, stderr = TRUE)
  expect_gt(length(said), 300)
  expect_no_match(paste(said, collapse = "\n"), "warning:|error:")
})

test_that("tables are cut to the width of the terminal, and what is hidden is named", {
  wide <- stats::setNames(as.list(as.data.frame(matrix(123456, 2, 30))), paste0("column_", 1:30))
  before <- options(width = 80)
  on.exit(options(before))
  lines <- kairon:::text_table(wide)
  expect_lte(max(nchar(lines[1:3])), 80)
  expect_match(lines[4], "more columns: column_")
  shown <- lengths(regmatches(lines[1], gregexpr("column_", lines[1])))
  expect_match(lines[4], paste0("... ", 30 - shown, " more columns"), fixed = TRUE)
  expect_length(kairon:::text_table(wide[1:3]), 3)
  expect_gt(max(nchar(kairon:::text_table(wide, fit = FALSE))), 300)
})
