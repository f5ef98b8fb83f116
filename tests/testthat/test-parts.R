# The same work for each part of what does not fit into memory.

# Monthly readings of some sites, as a table.
sites <- function(ids, months = 48) {
  do.call(rbind, lapply(ids, function(id) {
    set.seed(sum(utf8ToInt(id)))
    data.frame(site = id, month = seq(as.Date("2028-01-01"), by = "month", length.out = months),
               flow = 100 + cumsum(stats::rnorm(months)))
  }))
}

as_sites <- function(data) quiet(timeline(data, month, series = site, levels = "flow"))

parts_folder <- function(groups, ending = "csv") {
  folder <- tempfile("parts-")
  dir.create(folder)
  for (g in names(groups)) {
    quiet(write_timeline(as_sites(sites(groups[[g]])), file.path(folder, paste0(g, ".", ending))))
  }
  folder
}

in_order <- function(t) {
  t <- t[order(t$site, t$method, t$ahead), c("site", "month", "method", "ahead", "value", "lower_90",
                                             "upper_90")]
  t$site <- as.character(t$site)
  rownames(t) <- NULL
  t
}

test_that("forecasts of files, part by part, are those of all of them; a second call goes on", {
  skip_if_not_installed("nanoparquet")
  groups <- list(a = c("Aston", "Birch"), b = c("Cole", "Dene"), c = "Elm")
  whole <- quiet(forecast(as_sites(sites(unlist(groups))), 6, "theta"))$table
  for (ending in c("csv", "parquet")) {
    folder <- parts_folder(groups, ending)
    into <- file.path(folder, "made")
    run <- function(...) {
      all <- file.path(folder, paste0("*.", ending))
      quiet(for_each_part(all, into, horizon = 6, method = "theta", ...))
    }
    made <- run()
    expect_equal(made$table$state, rep("done", 3))
    expect_equal(made$table$series, c(2, 2, 1))
    expect_equal(in_order(as.data.frame(made)), in_order(whole), info = ending)
    expect_equal(run()$table$state, rep("kept", 3))
    # What was cut off, what has changed and what was half written is done again, and nothing else.
    unlink(file.path(into, "part-00001.rds"))
    writeBin(as.raw(1:20), file.path(into, "part-00001.parquet"))
    quiet(write_timeline(as_sites(sites("Fern")), file.path(folder, paste0("c.", ending))))
    Sys.setFileTime(file.path(folder, paste0("c.", ending)), Sys.time() + 60)
    again <- run()
    expect_equal(again$table$state, c("done", "kept", "done"))
    expect_setequal(unique(as.data.frame(again)$site), c("Aston", "Birch", "Cole", "Dene", "Fern"))
    expect_equal(quiet(parts_in(into))$table$rows, again$table$rows)
    expect_setequal(list.files(into), c("run.json", paste0("part-0000", rep(1:3, each = 2),
                                                           c(".parquet", ".rds"))))
    expect_error(run(settings = list(intervals = 80)), "keeps another run", class = "kairon_error_state")
    expect_error(for_each_part(file.path(folder, "*.*"), folder, horizon = 6), "holds other files",
                 class = "kairon_error_state")
  }
})

test_that("series of a table are dealt out, for every kind of database, and scores are put together", {
  skip_if_not_installed("nanoparquet")
  x <- as_sites(sites(c("Aston", "O'Dene", "Cole", "Dene", "Elm")))
  methods <- list(by_naive(), by_theta())
  whole <- quiet(backtest(x, 6, methods, cutoffs = 3))
  metrics <- c("mae", "rmse", "mase", "rmsse", "coverage", "crps", "worst_error", "skill", "mape")
  for (which in c("sqlite", if (!is.null(kairon:::engine_way())) "duckdb")) {
    path <- tempfile(fileext = if (which == "sqlite") ".sqlite" else ".duckdb")
    if (which == "sqlite") {
      con <- open_sqlite(path)
      write_timeline(x, con, "flows")
      db_close(con)
    } else {
      write_timeline(x, path, table = "flows")
    }
    into <- tempfile("into-")
    made <- quiet(for_each_part(path, into, "backtest", horizon = 6, method = methods, by = 2,
                                table = "flows",
                                settings = list(cutoffs = 3)))
    expect_equal(made$table$series, c(2, 2, 1), info = which)
    expect_equal(in_order(as.data.frame(made)), in_order(whole$table), info = which)
    for (by in list("method", c("method", "ahead"))) {
      expect_equal(as.data.frame(scores(made, metrics, by)), as.data.frame(scores(whole, metrics, by)),
                   ignore_attr = TRUE, info = which)
    }
    expect_error(scores(made, "median_error"), "cannot be put together", class = "kairon_error_state")
    each <- quiet(for_each_part(path, tempfile("into-"), "decomposition", by = "site", table = "flows",
                                settings = list(seasons = "year")))
    expect_setequal(each$table$part, unique(as.character(x$site)))
    expect_equal(sum(each$table$rows), nrow(as.data.frame(quiet(decomposition(x, seasons = "year")))))
    expect_error(scores(each), "Only backtests", class = "kairon_error_input")
    # A table in a file that has changed is worked on again.
    run <- function() {
      quiet(for_each_part(path, into, "backtest", horizon = 6, method = methods, by = 2, table = "flows",
                          settings = list(cutoffs = 3)))
    }
    expect_equal(run()$table$state, rep("kept", 3), info = which)
    Sys.setFileTime(path, Sys.time() + 60)
    expect_equal(run()$table$state, rep("done", 3), info = which)
  }
  opened <- 0
  open <- function() {
    opened <<- opened + 1
    con <- open_sqlite()
    write_timeline(x, con, "flows")
    con
  }
  made <- quiet(for_each_part(open, tempfile("into-"), horizon = 6, method = methods, by = 3,
                              table = "flows"))
  expect_equal(in_order(as.data.frame(made)), in_order(quiet(forecast(x, 6, methods))$table))
  expect_equal(opened, 2)
})

test_that("parts without rows, of errors, and locked folders are told", {
  skip_if_not_installed("nanoparquet")
  folder <- parts_folder(list(a = c("Aston", "Birch"), b = "Cole"))
  writeLines("site,month,flow", file.path(folder, "c.csv"))
  file.create(file.path(folder, "d.csv"))
  writeLines(c("site,month,flow", "Elm,2028-01-01,much"), file.path(folder, "e.csv"))
  into <- file.path(folder, "made")
  loud <- function() {
    for_each_part(file.path(folder, "*.csv"), into, horizon = 3, method = "naive", time = month,
                  series = site,
                  levels = flow)
  }
  run <- function() quiet(loud())
  expect_warning(made <- loud(), "1 part of 5 failed")
  expect_equal(made$table$state, c("done", "done", "empty", "empty", "failed"))
  expect_match(made$table$reason[5], "should hold numbers")
  expect_match(paste(format(made), collapse = " "), "2 done, 2 without rows and 1 failed")
  quiet(write_timeline(as_sites(sites("Elm")), file.path(folder, "e.csv")))
  expect_equal(run()$table$state, c("kept", "kept", "empty", "empty", "done"))
  dir.create(file.path(into, "at-work"))
  writeLines(paste(kairon:::machine_mark(), Sys.getpid()), file.path(into, "at-work", "who"))
  expect_error(run(), "Another run is at work", class = "kairon_error_state")
  # What a killed run has left keeps nobody out.
  writeLines(paste(kairon:::machine_mark(), 4194305), file.path(into, "at-work", "who"))
  expect_equal(run()$table$rows, made$table$rows + c(0, 0, 0, 0, 3))
  expect_false(file.exists(file.path(into, "at-work")))
  all <- file.path(folder, "*.csv")
  expect_error(for_each_part(all, tempfile(), method = "naive"), "horizon.* is missing")
  expect_error(for_each_part(all, tempfile(), "decomposition", horizon = 3), "has no `horizon`")
  expect_error(for_each_part(all, tempfile(), horizon = 3, settings = list(colour = 1)), "settings")
  expect_error(for_each_part(all, tempfile(), horizon = 3, remote = TRUE), "leave `remote` out")
  expect_error(for_each_part(file.path(folder, "nothing*"), tempfile(), horizon = 3), "No file fits")
  expect_error(parts_in(folder), "holds no run")
})

test_that("the shell goes part by part, too", {
  skip_if_not_installed("nanoparquet")
  folder <- parts_folder(list(a = c("Aston", "Birch"), b = "Cole"))
  into <- file.path(folder, "made")
  run <- kairon("for-each-part", file.path(folder, "*.csv"), "--into", into, "--verb", "backtest",
                "--horizon", "6",
                "--method", "naive,theta", "--settings", "cutoffs=2,intervals=c(50,80)", "--metrics",
                  "mae,coverage")
  expect_equal(run$code, 0)
  b <- quiet(backtest(as_sites(sites(c("Aston", "Birch", "Cole"))), 6, list(by_naive(), by_theta()),
                      cutoffs = 2,
                      intervals = c(50, 80)))
  expect_equal(utils::read.csv(text = run$out), as.data.frame(scores(b, c("mae", "coverage"))),
               ignore_attr = TRUE)
  expect_equal(kairon("for-each-part", file.path(folder, "*.csv"), "--horizon", "6")$code, 2)
  other <- kairon("for-each-part", file.path(folder, "*.csv"), "--into", into, "--horizon", "6")
  expect_match(paste(other$err, collapse = " "), "keeps another run.*as --into")
})

test_that("workers that die, and none at all, make the same parts", {
  skip_if_not_installed("nanoparquet")
  skip_if_not_installed("future")
  skip_on_os("windows")
  folder <- parts_folder(stats::setNames(as.list(paste0("s", 1:8)), paste0("f", 1:8)))
  main <- Sys.getpid()
  flag <- tempfile()
  deadly <- by_smoothing(case = "simple", minimise = eval(bquote(function(o, e) {
    if (Sys.getpid() != .(main) && !file.exists(.(flag))) {
      file.create(.(flag))
      tools::pskill(Sys.getpid(), tools::SIGKILL)
    }
    mean((o - e)^2, na.rm = TRUE)
  })))
  run <- function() {
    quiet(for_each_part(file.path(folder, "*.csv"), tempfile("into-"), horizon = 3,
                        method = list(deadly, by_blend(by_theta(), by_naive(), bags = 3))))
  }
  set.seed(1)
  alone <- run()
  future::plan("multisession", workers = 2)
  on.exit(future::plan("sequential"))
  set.seed(1)
  shared <- run()
  expect_true(file.exists(flag))
  expect_equal(shared$table$state, rep("done", 8))
  expect_equal(in_order(as.data.frame(shared)), in_order(as.data.frame(alone)))
})

test_that("parts of paths say what belongs together", {
  skip_if_not_installed("nanoparquet")
  skip_without_engine()
  root <- tempfile("paths-")
  for (year in 2031:2032) {
    folder <- file.path(root, paste0("year=", year))
    dir.create(folder, recursive = TRUE)
    for (id in paste0(c("a", "b"), year)) {
      nanoparquet::write_parquet(sites(id), file.path(folder, paste0(id, ".parquet")))
    }
  }
  made <- quiet(for_each_part(file.path(root, "*/*.parquet"), tempfile("into-"), by = "year", horizon = 3,
                              method = "naive", time = month, series = site, levels = "flow"))
  expect_equal(made$table$part, c("year=2031", "year=2032"))
  expect_equal(made$table$series, c(2, 2))
  expect_equal(unique(as.data.frame(made)$measure), "flow")
})
