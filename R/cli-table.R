# The table of the program's verbs. A verb is an R function with dashes for underscores, and its options are
# the function's arguments: what stands here is what it is called for, an example, and where it differs from
# that rule.
#
#   fun       the function whose arguments are the options
#   leave     arguments that are none, since only code can give them
#   own       options of the program's own, see cli-options.R
#   grid      whether steps that prepare the data come first: --every, --impute, --routine, --during
#   methods   whether settings of methods are options, too
#   needs     options that must be given
#   common    of its own options, those that its short help tells; all by default
#   order     the argument that comes first
#   run       where reading, calling and showing is not all
#   arguments, sources, output, figure    what stands behind the verb, and which groups of options it has

cli_verbs <- function() {
  verb <- function(fun, what, example, ..., grid = TRUE) {
    list(fun = fun, what = what, example = paste("kairon", example), grid = grid, ...)
  }
  demand <- "demand.csv.gz --series district --amounts demand"
  energy <- "energy.csv.gz --series station --amounts energy --zone Europe/London"
  river <- "river.csv.gz --zone Europe/London --missing=--- --repeats first"
  billed <- "billed.csv --amounts volume"
  list(
    demo = verb(NULL, "run the whole job on the demo data, with figures and a report", "demo demo-output",
                arguments = "[FOLDER]", sources = FALSE, output = FALSE, own = "quiet", grid = FALSE,
                run = cli_demo),
    inspect = verb(inspect.kairon_timeline, "say what is in a file and what to look at", paste("inspect",
                                                                                               demand),
                   own = c("rejects", "remote"), run = cli_inspect),
    plot = verb(autoplot.kairon_timeline, "draw the readings: lines, the spread of many series, or a map",
                paste("plot", demand, "--highlight Birchmoor,Dunmere --figure demand.png"),
                leave = c("series", "panels"), own = c("only", "panels"), needs = "figure", run = cli_plot,
                output = "figure", common = c("only", "highlight", "panels", "page", "show", "each")),
    gaps = verb(gaps, "list every gap with its start, end and length", paste("gaps", demand),
                figure = FALSE, run = cli_gaps),
    origins = verb(origins, "count the values by where they came from", paste("origins", demand),
                   figure = FALSE),
    resample = verb(resample.kairon_timeline, "bring readings onto another grid",
                    paste("resample", river, "--every \"1 day\""), needs = "every",
                    own = c("statistics", "remote"), order = "every"),
    align = verb(align.kairon_timeline, "bring several files onto one grid",
                 "align demand.csv.gz rain.csv --series district --amounts demand,rain --every weekly",
                 arguments = "FILE FILE ...", leave = "zone", grid = FALSE, run = cli_align),
    impute = verb(impute.kairon_timeline, "fill gaps, and say where",
                  paste("impute", demand, "--with seasonal --longest \"2 weeks\"")),
    `pool-series` = verb(pool_series.kairon_timeline, "pool series into groups",
                         paste("pool-series soil.csv.gz --series cell --attributes elevation,area",
                               "--bands elevation=3"),
                         own = c("bands", "statistics", "remote")),
    `with-totals` = verb(with_totals.kairon_timeline, "add series that are sums of others",
                         paste("with-totals demand.csv.gz --series district --amounts demand --join",
                               "districts.csv --by zone"),
                         own = "by"),
    vet = verb(vet.kairon_timeline, "find spikes, stuck sensors, shifts and values outside of limits",
               paste("vet", river), own = c("min", "max"), run = cli_vet),
    repair = verb(repair.kairon_timeline, "replace what vetting flags, keeping the raw values beside",
                  paste("repair", river, "--longest 3"), own = c("rules", "min", "max"), run = cli_repair),
    roll = verb(roll.kairon_timeline, "rolling statistics",
                paste("roll", demand, "--window \"28 days\" --statistics mean,sd"), leave = "carry",
                own = c("side", "kernel", "statistics"), run = cli_roll),
    change = verb(change.kairon_timeline, "changes against earlier values",
                  paste("change", billed, "--over \"1 year\" --as percent")),
    rebase = verb(rebase.kairon_timeline, "departures from the normals of a base period",
                  paste("rebase", billed, "--against 2023/2027 --each \"month of year\" --as percent")),
    stabilise = verb(stabilise.kairon_timeline, "make the spread the same at every level, by a power",
                     paste("stabilise", billed, "--compare")),
    `remove-seasons` = verb(remove_seasons.kairon_timeline,
                            "take seasons off, so that months or weekdays compare",
                            paste("remove-seasons", billed, "--seasons year --combine multiply")),
    `remove-shifts` = verb(remove_shifts.kairon_timeline, "take level shifts off, so that years compare",
                           paste("remove-shifts", river, "--every \"1 day\""), run = cli_remove_shifts),
    `as-rate` = verb(as_rate.kairon_timeline, "amounts as rates",
                     paste("as-rate", billed, "--per \"1 day\"")),
    `as-amount` = verb(as_amount.kairon_timeline, "rates as amounts",
                       paste("as-amount", river, "--every \"1 hour\" --per \"1 second\" --measures flow")),
    `season-profile` = verb(season_profile, "the typical hour, weekday or month",
                            paste("season-profile", energy, "--each \"hour of day\"")),
    standing = verb(standing, "say whether a series is rising or falling, by its trailing year",
                    paste("standing", billed, "--units volume=Ml")),
    `find-seasons` = verb(find_seasons, "find the season lengths that a series has, with evidence",
                          paste("find-seasons", energy)),
    correlogram = verb(correlogram, "how a series resembles its own past, lag by lag",
                       paste("correlogram", billed, "--lags \"3 years\"")),
    `lag-grid` = verb(lag_grid, "a series against itself some steps before",
                      paste("lag-grid", billed, "--lags 1,6,12")),
    `lead-lag` = verb(lead_lag, "which of two measures or series goes before the other",
                      paste("lead-lag", energy, "--a Highwell --b Millrace --lags \"1 day\""),
                      needs = c("a", "b")),
    `effect-of` = verb(effect_of, "what an event did, and how often chance shows as much",
                       paste("effect-of", demand, "--when 2031-07-14/2031-07-27 --events holidays.ics")),
    `power-spectrum` = verb(power_spectrum, "how much of a series swings at which period",
                            "power-spectrum pressure.csv.gz --every \"1 hour\""),
    stationarity = verb(stationarity, "tests of whether a series keeps its level, and what makes it do so",
                        paste("stationarity", billed)),
    traits = verb(traits, "a few numbers on each series, to find odd ones by sorting", paste("traits",
                                                                                             demand),
                  figure = FALSE),
    decomposition = verb(decomposition, "split series into trend, season and remainder",
                         paste("decomposition", billed, "--seasons year --combine multiply")),
    forecast = verb(forecast.kairon_timeline, "continue series, with prediction intervals",
                    paste("forecast", demand, "--horizon \"28 days\""), leave = "routine", methods = TRUE,
                    own = c("total", "only", "workers"), needs = "horizon", run = cli_forecast,
                    common = c("horizon", "method", "intervals", "drivers", "whole", "total", "only")),
    backtest = verb(backtest, "make forecasts in the past and score them",
                    paste("backtest", demand, "--horizon \"14 days\""), leave = "routine", methods = TRUE,
                    own = c(assess_names, "workers", "show", "rows"), needs = "horizon", run = cli_backtest,
                    common = c("horizon", "methods", "cutoffs", "window", "reserve", "metrics", "by",
                               "fail_above",
                               "show", "rows")),
    `for-each-part` = verb(for_each_part, "forecasts of what does not fit into memory, file by file",
                           paste("for-each-part", demand, "--into made --horizon 12 --method theta"),
                           leave = c("source", "routine"), figure = FALSE, methods = TRUE,
                           own = c("workers", "metrics"), needs = "into", run = cli_for_each_part,
                           common = c("into", "verb", "horizon", "method", "by", "settings", "workers")),
    scores = verb(NULL, "score a file of forecasts against a file of what was observed",
                  "scores forecasts.csv billed.csv --amounts volume --units volume=Ml --fail-above mase=1",
                  arguments = "FORECASTS OBSERVED", own = c("value", assess_names), run = cli_scores),
    `leak-check` = verb(leak_check,
                        "prove that forecasts of the past saw no future; exit code 3 where they did",
                        paste("leak-check", billed, "--methods theta --horizon \"6 months\""), leave = "b",
                        figure = FALSE, methods = TRUE, own = c("horizon", "methods"), needs = "horizon",
                        run = cli_leak_check),
    diagnosis = verb(diagnosis, "what is left after a fit, and what to try next",
                     paste("diagnosis", billed, "--method theta --figure diagnosis.png"), methods = TRUE,
                     own = "method", run = cli_diagnosis),
    recursion = verb(NULL, "exponential smoothing step by step: level, slope and season",
                     paste("recursion", billed,
                           "--case holt"), figure = FALSE, methods = TRUE, own = "method",
                     run = cli_of_fit(recursion)),
    `search-path` = verb(NULL, "the orders that the search of an arima model went through",
                         paste("search-path", billed), figure = FALSE, methods = TRUE, own = "method",
                         run = cli_of_fit(search_path, "arima")),
    coefficients = verb(NULL, "the coefficients of a fit, with standard errors: sizes of events and drivers",
                        paste("coefficients", billed, "--method regression"), figure = FALSE, methods = TRUE,
                        own = "method", run = cli_of_fit(stats::coef, "regression")),
    `indices-of` = verb(NULL, "the typical months or weekdays of a regression, with standard errors",
                        paste("indices-of", billed, "--combine multiply"), figure = FALSE, methods = TRUE,
                        own = "method", run = cli_of_fit(indices_of, "regression")),
    report = verb(report, "write a report as one HTML page, or as Markdown with figures",
                  paste("report", demand, "--output report.html"),
                  leave = c("file", "routine", "looks"), figure = FALSE,
                  methods = TRUE, needs = "output", run = cli_report),
    `run-study` = verb(NULL, "run a study: a YAML file that describes a whole analysis",
                       "run-study billed-study.yml --output billed-output", arguments = "STUDY",
                       sources = FALSE,
                       output = FALSE, grid = FALSE, own = c("output", "check", "fresh", "json", "quiet"),
                       run = cli_run_study),
    `new-study` = verb(NULL, "write the first draft of a study from a look at a data file",
                       "new-study demand.csv.gz --output demand.yml", output = FALSE, grid = FALSE,
                       own = c("output", "replace", "quiet"), run = cli_new_study),
    methods = plain_verb("the forecasting methods, and what each does", "methods",
                         function(...) methods_page()),
    formats = plain_verb("the forms of files that are read and written", "formats",
                         function(...) formats_page()),
    version = plain_verb("the version, and those of what it rests on", "version",
                         function(...) version_page()),
    manual = plain_verb("the manual page, for man: kairon manual | man -l -", "manual",
                        function(...) manual_page()),
    completion = plain_verb("a script that completes verbs and options in bash or zsh", "completion bash",
                            function(files, options) completion_script(files), arguments = "SHELL")
  )
}

# Prints a page, and reads nothing.
plain_verb <- function(what, example, page, arguments = "") {
  list(what = what, example = paste("kairon", example), arguments = arguments, sources = FALSE,
       output = FALSE,
       run = function(files, options) show_lines(page(files, options)))
}

assess_names <- c("metrics", "by", "baseline", "flagged", "invented", "fail_above", "fail_below")
