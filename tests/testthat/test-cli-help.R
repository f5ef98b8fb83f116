# Every verb of the program: its help, and its example run as it is printed.

table <- function() getFromNamespace("cli_verbs", "kairon")()
options_of <- function(name, verb = table()[[name]]) {
  unlist(unname(getFromNamespace("verb_options", "kairon")(name, verb)), recursive = FALSE)
}

test_that("the help of a verb names each option with words, and its example runs as printed", {
  folder <- tempfile()
  dir.create(folder)
  for (f in list.files(system.file("extdata", package = "kairon"), full.names = TRUE)) file.copy(f, folder)
  old <- setwd(folder)
  on.exit(setwd(old))
  verbs <- table()
  for (name in setdiff(names(verbs), "demo")) {
    verb <- verbs[[name]]
    help <- paste(kairon:::verb_help(name, verb, all = TRUE), collapse = "\n")
    for (o in options_of(name)) {
      flag <- gsub("_", "-", paste0("--", o$name))
      expect_match(help, paste0(flag, "( |\n)"), info = paste(name, flag))
      expect_gt(nchar(o$help), 8, label = paste(name, flag))
      if (!o$flag) expect_match(o$metavar, "^[A-Z]+$", info = paste(name, flag))
    }
    short <- kairon:::verb_help(name, verb)
    expect_lt(length(short), 48)
    expect_match(verb$example, paste0("^kairon ", name, "( |$)"), info = name)
    words <- scan(text = sub("^kairon ", "", verb$example), what = "", quiet = TRUE)
    run <- in_process(words)
    expect_equal(run$code, 0, info = paste(name, paste(run$err, collapse = " ")))
  }
  expect_gt(file.size(file.path(folder, "report.html")), 50000)
})

test_that("every argument of every verb's function is an option of the verb", {
  for (name in names(table())) {
    verb <- table()[[name]]
    fun <- gsub("-", "_", name)
    if (!fun %in% getNamespaceExports("kairon") || fun %in% c("run_study", "new_study", "scores")) next
    own <- paste0(fun, ".kairon_timeline")
    form <- if (exists(own, asNamespace("kairon"))) own else fun
    made <- get(form, asNamespace("kairon"))
    if (is.null(verb$fun)) next
    # What only code can give, or what the program gives itself.
    code <- c("x", "object", "fit", "b", "...", "carry", "routine", "file", "source", "zone", "looks")
    expect_equal(setdiff(names(formals(made)), c(code, names(options_of(name)))), character(), label = name)
  }
  settings <- unlist(lapply(kairon:::known_methods(), function(m) {
    names(formals(getExportedValue("kairon", paste0("by_", m))))
  }))
  expect_true(all(setdiff(settings, c("...", "method", "then",
                                      "drivers")) %in% names(options_of("forecast"))))
  for (source in c("time", "series", "amounts", "levels", "attributes", "cadence", "rename", "table",
                   "query")) {
    expect_true(source %in% names(options_of("inspect")))
  }
  # In a study, too.
  schema <- kairon:::study_rules()
  for (name in names(schema$definitions$step$anyOf[[2]]$properties)) {
    own <- names(schema$definitions$step$anyOf[[2]]$properties[[name]]$properties)
    known <- intersect(kairon:::argument_names(get(paste0(name, ".kairon_timeline"), asNamespace("kairon"))),
                       names(options_of(gsub("_", "-", name))))
    expect_true(all(setdiff(known, c("large", "compare")) %in% own), label = name)
  }
})

test_that("a verb that is added to the table is found everywhere", {
  twice <- function(x, times = 2, measures = NULL, loudly = FALSE) {
    x$rain <- x$rain * times
    if (loudly) message("loud")
    x
  }
  before <- table()
  more <- c(before, list(twice = list(fun = twice, what = "values several times",
                                      example = "kairon twice rain.csv",
                                      own = character(), grid = TRUE)))
  space <- asNamespace("kairon")
  kept <- space$cli_verbs
  replace <- function(value) {
    get("unlockBinding", baseenv())("cli_verbs", space)
    assign("cli_verbs", value, envir = space)
  }
  on.exit(replace(kept))
  replace(function() more)
  expect_true(any(grepl("twice +values several times", kairon:::main_help(kairon:::cli_verbs()))))
  help <- kairon:::verb_help("twice", more$twice)
  expect_true(any(grepl("--times COUNT .*2 by default", help)))
  expect_true(any(grepl("twice\\) options=.*--times", kairon:::completion_script("bash", more))))
  expect_true(any(grepl("twice FILE", kairon:::manual_page(more))))
  run <- in_process(c("twice", demo_file("rain.csv"), "--times", "3", "--quiet"))
  expect_equal(csv_of(run$out)$rain, 3 * demo_timeline("rain")$rain)
  expect_match(paste(in_process(c("twice", demo_file("rain.csv"), "--tims", "3"))$err, collapse = " "),
               "--times")
})

test_that("underscores and dashes are one in verbs and options", {
  file <- demo_file("soil.csv.gz")
  a <- kairon("pool_series", file, "--series", "cell", "--at_least", "2", "--quiet")
  b <- kairon("pool-series", file, "--series", "cell", "--at-least", "2", "--quiet")
  expect_equal(a$code, 0)
  expect_identical(a$out, b$out)
})
