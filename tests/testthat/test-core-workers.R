# Work over other processes gives what one process gives.

with_workers <- function(expr, kind = "multisession") {
  skip_if_not_installed("future")
  if (kind == "cluster") {
    # Processes of their own, reached over sockets as those of another host are.
    cluster <- parallel::makePSOCKcluster(2)
    on.exit(try(parallel::stopCluster(cluster), silent = TRUE))
    future::plan("cluster", workers = cluster)
  } else {
    future::plan(kind, workers = 2)
  }
  on.exit(future::plan("sequential"), add = TRUE, after = FALSE)
  expr
}

many_sites <- function(n, months = 40) {
  at <- seq(as.Date("2028-01-01"), by = "month", length.out = months)
  data <- do.call(rbind, lapply(seq_len(n), function(i) {
    data.frame(month = at, site = sprintf("s%03d", i),
               flow = 100 + i + 10 * sin(2 * pi * seq_along(at) / 12) + stats::rnorm(months))
  }))
  quiet(timeline(data, month, site, levels = flow))
}

test_that("data go to each worker once, however many items there are", {
  results <- numeric(20)
  work <- function(data, item) {
    Sys.sleep(0.02)
    sum(data$numbers) + item
  }
  for (kind in c("multisession", "cluster")) {
    told <- with_workers(kairon:::share_out(as.list(1:20), list(numbers = 1:10), work,
                                            function(i, v) results[i] <<- v, "Test"), kind)
    expect_equal(told, list(sent = 2, again = 0), info = kind)
    expect_equal(results, 55 + 1:20)
  }
})

test_that("what a dead worker had is done again", {
  main <- Sys.getpid()
  work <- function(data, item) {
    # Only a worker dies of its third item.
    if (item == 3 && Sys.getpid() != data$main) tools::pskill(Sys.getpid(), tools::SIGKILL)
    item^2
  }
  for (kind in c("multisession", "cluster")) {
    results <- numeric(8)
    told <- with_workers(quiet(kairon:::share_out(as.list(1:8), list(main = main), work,
                                                  function(i, v) results[i] <<- v, "Test")), kind)
    expect_equal(results, (1:8)^2, info = kind)
    expect_gte(told$again, 1)
  }
})

test_that("forecasts and decompositions are the same on workers, random draws too", {
  set.seed(4)
  x <- many_sites(50)
  demand <- demo_timeline("demand")
  holidays <- demo_file("holidays.ics")
  made <- function() {
    set.seed(9)
    quiet(list(
      forecast(x, 6, by_blend(by_theta(), bags = 2), paths = 3)[c("table", "paths", "forms")],
      forecast(x[x$site < "s043", ], 3, by_auto())[c("table", "forms")],
      decomposition(demand, c("week", "year"), events = holidays)[c("table", "effects", "profiles")],
      decomposition(demand, "week", method = "state")$table,
      decomposition(demand, "week", method = "regression")[c("table", "coefficients", "notes")]
    ))
  }
  here <- made()
  expect_equal(with_workers(made()), here)
  expect_equal(with_workers(made(), "cluster"), here)
})

test_that("methods of one's own are known to workers", {
  generics <- list(
    method_fit = function(method, batch) kairon::method_fit(kairon::by_drift(), batch),
    method_predict = function(method, model, horizon, levels) {
      kairon::method_predict(kairon::by_drift(), model, horizon, levels)
    },
    method_describe = function(method, context) "drift by another name"
  )
  for (g in names(generics)) {
    environment(generics[[g]]) <- globalenv()
    assign(paste0(g, ".kairon_by_lent"), generics[[g]], globalenv())
  }
  on.exit(rm(list = paste0(names(generics), ".kairon_by_lent"), envir = globalenv()))
  x <- demo_timeline("billed")
  lent <- with_workers(quiet(backtest(x, list(a = new_method("lent")), 3, cutoffs = 3)))
  drift <- quiet(backtest(x, list(a = by_drift()), 3, cutoffs = 3))
  expect_equal(lent$table, drift$table)
  expect_null(lent$failures)
})
