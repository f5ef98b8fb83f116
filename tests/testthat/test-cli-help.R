# Every verb of the program: its help, and its example run as it is printed.

test_that("the help of a verb names each option with words, and its example runs as printed", {
  folder <- tempfile()
  dir.create(folder)
  for (f in list.files(system.file("extdata", package = "kairon"), full.names = TRUE)) file.copy(f, folder)
  old <- setwd(folder)
  on.exit(setwd(old))
  verbs <- kairon:::cli_verbs()
  for (name in setdiff(names(verbs), "demo")) {
    verb <- verbs[[name]]
    help <- paste(kairon:::verb_help(name, verb), collapse = "\n")
    for (o in kairon:::verb_options(verb)) {
      flag <- gsub("_", "-", o@long_flag)
      expect_match(help, paste0(flag, "( |\n)"), info = paste(name, flag))
      expect_gt(nchar(o@help), 8)
    }
    expect_match(verb$example, paste0("^kairon ", name, "( |$)"), info = name)
    words <- scan(text = sub("^kairon ", "", verb$example), what = "", quiet = TRUE)
    run <- do.call(kairon, as.list(words))
    expect_equal(run$code, 0, info = paste(name, paste(run$err, collapse = " ")))
  }
  expect_gt(file.size(file.path(folder, "report.html")), 50000)
})

test_that("underscores and dashes are one in verbs and options", {
  file <- demo_file("soil.csv.gz")
  a <- kairon("pool_series", file, "--series", "cell", "--at_least", "2", "--quiet")
  b <- kairon("pool-series", file, "--series", "cell", "--at-least", "2", "--quiet")
  expect_equal(a$code, 0)
  expect_identical(a$out, b$out)
})
