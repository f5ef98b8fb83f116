# The whole job on the demo data, and studies.

# The whole job on the demo data, told step by step.
cli_demo <- function(files, options, verb) {
  if (length(files) > 1) abort_usage("{.val demo} takes one folder.", "demo")
  folder <- if (length(files)) files else "demo-output"
  dir.create(folder, showWarnings = FALSE, recursive = TRUE)
  if (!dir.exists(folder)) {
    abort_file("The folder {.file {folder}} cannot be made.")
  }
  began <- proc.time()[["elapsed"]]
  step <- function(...) show_lines(paste0("\n== ", ...))
  draw <- function(plot, name) {
    path <- file.path(folder, name)
    draw_file(plot, path)
    show_lines(paste0("   figure: ", path))
  }
  before <- options(kairon.quiet = TRUE)
  on.exit(options(before))

  step("Reading the river gauge of Quillmere Water (irregular, with gaps and repeats)")
  river <- demo_timeline("river")
  print(river, rows = 0)
  step("Inspecting it: what deserves a look")
  print(inspect(river))
  step("Resampling to hours, then filling gaps of up to two days")
  hourly <- river |>
    resample("1 hour") |>
    impute("linear", longest = "2 days")
  print(origins(hourly))
  draw(autoplot(hourly), "river.png")

  step("Reading the demand of eight districts")
  demand <- demo_timeline("demand")
  card <- inspect(demand)
  print(card)
  draw(autoplot(card), "coverage.png")
  step("Rolling mean and spread of one district over 28 days")
  birchmoor <- demand[demand$district == "Birchmoor", ]
  rolled <- roll(birchmoor, trailing("28 days"), c("mean", "sd"))
  draw(autoplot(rolled), "rolling.png")

  step("Splitting ten years of billed volume into trend and season")
  parts <- decomposition(demo_timeline("billed"), "year", combine = "multiply")
  print(parts)
  draw(autoplot(parts), "decomposition.png")

  step("Forecasting four weeks of demand, beside what came true")
  held <- holdout(demand, last = "28 days")
  f <- forecast(held$train, "28 days", by_auto())
  print(f)
  draw(autoplot(f, observed = held$test, series = c("Alderbrook", "Dunmere")), "forecast.png")

  step("Backtesting: how wrong have such forecasts been?")
  b <- backtest(demand, list(by_auto(), by_seasonal_naive()), "14 days", cutoffs = 3)
  print(b)
  print(verdict(b))
  draw(autoplot(scores(b)), "scores.png")
  draw(autoplot(b), "backtest.png")

  step("Writing the report")
  page <- file.path(folder, "quillmere.html")
  report(demand, page, title = "Quillmere Water: demand of eight districts")
  show_lines(paste0("   report: ", page))
  took <- proc.time()[["elapsed"]] - began
  step("Done in ", round(took), " s. Open ", page, " in a browser.")
}

cli_run_study <- function(files, options, verb) {
  path <- one_file(files, "run-study")
  if (!file.exists(path)) abort_usage("there is no study {.file {path}}.", "run-study")
  study <- read_study(path)
  if (isTRUE(options$check)) {
    show_lines(format(study), "", "Nothing wrong with it; --check runs nothing.")
    return(invisible())
  }
  done <- run_study(study, options$output, cache = !isTRUE(options$fresh),
                    quiet = isTRUE(options$quiet))
  if (isTRUE(options$json)) {
    show_lines(as_json(list(steps = done$steps, files = done$files)))
  } else {
    show_lines(format(done))
  }
}

cli_new_study <- function(files, options, verb) {
  path <- one_file(files, "new-study")
  if (!file.exists(path) && !is_address(path)) {
    abort_usage("there is no file {.file {path}}.", "new-study")
  }
  known <- source_arguments(options, "new-study")
  draft <- rlang::inject(new_study(path, options$output, !!!known,
                                   replace = isTRUE(options$replace)))
  if (is.null(options$output)) {
    print(draft)
  } else {
    say("i Written: ", options$output)
    say("i Run it with: kairon run-study ", options$output)
  }
}
