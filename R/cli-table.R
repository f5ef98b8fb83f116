# The table of the program's verbs.

# The verbs: what each does, its own options, an example, and its function.
cli_verbs <- function() {
  list(
    demo = list(
      what = "run the whole job on the demo data, with figures and a report",
      arguments = "[FOLDER]", sources = FALSE,
      options = list(cli_flag("quiet", "no notes on standard error")),
      example = "kairon demo demo-output", run = cli_demo
    ),
    inspect = list(
      what = "say what is in a file and what to look at",
      arguments = "FILE",
      options = list(cli_option("during", "only in an interval: 2031-03, \"last 90 days\"", "INTERVAL"),
                     remote_option()),
      example = "kairon inspect demand.csv.gz --series district --amounts demand", run = cli_inspect
    ),
    gaps = list(
      what = "list every gap with its start, end and length",
      arguments = "FILE", figure = FALSE,
      options = list(cli_option("during", "only in an interval: 2031-03, \"last 90 days\"", "INTERVAL")),
      example = "kairon gaps demand.csv.gz --series district --amounts demand", run = cli_gaps
    ),
    resample = list(
      what = "bring readings onto another grid",
      arguments = "FILE",
      options = list(
        cli_option("every", "the new cadence: \"1 day\", PT1H, monthly", "STEP"),
        cli_option("statistics", "statistics instead of the usual one: mean,sd,q90", "NAMES"),
        cli_option("at", "bins (summaries) or instants (the level at the stamps)", "MODE"),
        cli_option("between", "between readings: previous, next, nearest, linear, cubic, spline", "RULE"),
        cli_option("within", "how far apart readings may be to be joined: \"2 hours\"", "SPAN"),
        cli_option("stamp", "stamp of a bin: start, middle or end", "PLACE", "start"),
        cli_option("closed", "the edge that belongs to a bin: left or right", "SIDE", "left"),
        cli_option("at_least", "share (0 to 1) or number of readings that a bin needs", "SHARE", 0, "double"),
        cli_option("unfinished", "unfinished end bins: flag, drop or keep", "RULE", "flag"),
        cli_option("extent", "first and last bin: each series its own, or common", "RULE", "each"),
        cli_option("empty", "amounts of bins without a row: missing or zero", "RULE", "missing"),
        remote_option()
      ),
      example = paste(
        "kairon resample river.csv.gz --every \"1 day\" --zone Europe/London",
        "--missing=--- --repeats first"
      ),
      run = cli_resample
    ),
    align = list(
      what = "bring several files onto one grid",
      arguments = "FILE FILE ...",
      options = list(
        cli_option("every", "a cadence, coarsest, finest, or \"as first\" (its stamps)", "STEP", "coarsest"),
        cli_option("match", "with \"as first\": previous, next, nearest, linear or exact", "RULE",
          "previous"),
        cli_option("within", "how far a reading may be from a stamp: \"10 minutes\"", "SPAN"),
        cli_option("between", "levels on finer grids: previous, linear ... or flow=linear,price=previous",
                   "RULE"),
        cli_option("extent", "inner (what all have) or outer", "RULE", "inner"),
        cli_option("shift", "moves timelines first: \"2 hours\" or rain=\"2 hours\"", "SPAN"),
        cli_option("delay", "use values only from when they were known: \"0 days\"", "SPAN"),
        cli_flag("known_from", "keep when each value was known")
      ),
      example = paste(
        "kairon align demand.csv.gz rain.csv --series district --amounts demand,rain", "--every weekly"
      ),
      run = cli_align
    ),
    impute = list(
      what = "fill gaps, and say where",
      arguments = "FILE",
      options = list(
        cli_option("every", "first resample to this cadence", "STEP"),
        cli_option("with", paste(fill_rules, collapse = ", "), "RULE", "linear"),
        cli_option("longest", "the longest gap to fill, such as \"3 days\"", "SPAN"),
        cli_option("season", "for seasonal and model: week, year or steps", "SEASON"),
        cli_option("direction", "both, or past to use no later value", "RULE", "both")
      ),
      example = paste(
        "kairon impute demand.csv.gz --series district --amounts demand --with seasonal",
        "--longest \"2 weeks\""
      ),
      run = cli_impute
    ),
    `pool-series` = list(
      what = "pool series into groups",
      arguments = "FILE",
      options = list(
        cli_option("by", "series columns or attributes, with commas; all into one without", "COLUMNS"),
        cli_option("bands", "bands of an attribute: elevation=4 or elevation=0/100/400", "LIST"),
        cli_option("statistics", "statistics instead of the usual one: mean,sd,q90", "NAMES"),
        cli_option("weights", "a column of weights", "COLUMN"),
        cli_option("each", "a part of the calendar: \"month of year\", \"season of year\" ...", "PART"),
        cli_option("at_least", "share (0 to 1) or number of series that a value needs", "SHARE", 0, "double"),
        cli_flag("total", "add a group of all series"),
        remote_option()
      ),
      example = paste(
        "kairon pool-series soil.csv.gz --series cell --attributes elevation,area",
        "--bands elevation=3"
      ),
      run = cli_pool_series
    ),
    vet = list(
      what = "find spikes, stuck sensors, shifts and values outside of limits",
      arguments = "FILE",
      options = limit_options(),
      example = "kairon vet river.csv.gz --zone Europe/London --missing=--- --repeats first",
      run = cli_vet
    ),
    repair = list(
      what = "replace what vetting flags, keeping the raw values beside",
      arguments = "FILE",
      options = c(limit_options(), list(
        cli_option("with", "linear, previous, nearest, a number ...", "RULE", "linear"),
        cli_option("longest", "the longest stretch that is replaced, such as 3", "SPAN")
      )),
      example = "kairon repair river.csv.gz --zone Europe/London --missing=--- --repeats first --longest 3",
      run = cli_repair
    ),
    roll = list(
      what = "rolling statistics",
      arguments = "FILE",
      options = c(grid_options(), list(
        cli_option("window", "length: \"28 days\", \"12 months\", or a number of steps", "SPAN"),
        cli_option("side", "trailing, centred, leading, fading (half-life) or since-start", "SIDE",
                   "trailing"),
        cli_option("kernel", "weights of a centred mean: flat, triangular, gaussian, henderson", "NAME"),
        cli_option("statistics", "statistics instead of the usual one: mean,sd,q90,zscore", "NAMES"),
        cli_option("at_least", "values that a window needs", "COUNT", NULL, "integer"),
        cli_option("edges", "windows cut by an end: missing or partial", "RULE", "missing")
      )),
      example = paste(
        "kairon roll demand.csv.gz --series district --amounts demand --window \"28 days\"",
        "--statistics mean,sd"
      ),
      run = cli_roll
    ),
    change = list(
      what = "changes against earlier values",
      arguments = "FILE",
      options = c(grid_options(), list(
        cli_option("over", "steps, \"1 year\", or a date", "SPAN", "1"),
        cli_option("as", paste(change_words, collapse = ", "), "FORM", "difference"),
        cli_flag("align_weeks", "compare with the same weekday")
      )),
      example = "kairon change billed.csv --amounts volume --over \"1 year\" --as percent", run = cli_change
    ),
    rebase = list(
      what = "departures from the normals of a base period",
      arguments = "FILE",
      options = c(grid_options(), list(
        cli_option("against", "the base period: 2023/2027; all by default", "INTERVAL"),
        cli_option("each", "normals by a part of the calendar: \"month of year\"", "PART"),
        cli_option("as", paste(rebase_words, collapse = ", "), "FORM", "difference")
      )),
      example = paste(
        "kairon rebase billed.csv --amounts volume --against 2023/2027 --each \"month of year\" --as percent"
      ),
      run = cli_rebase
    ),
    stabilise = list(
      what = "make the spread the same at every level, by a power",
      arguments = "FILE",
      options = c(grid_options(), list(
        cli_option("power", "auto, likelihood, log, root or a number", "POWER", "auto"),
        cli_flag("compare", "a table of rivals instead")
      )),
      example = "kairon stabilise billed.csv --amounts volume --compare", run = cli_stabilise
    ),
    `remove-seasons` = list(
      what = "take seasons off, so that months or weekdays compare",
      arguments = "FILE",
      options = c(grid_options(), list(
        cli_option("seasons", "seasons with commas: week,year or numbers of steps", "SEASONS"),
        cli_option("combine", "add, multiply or auto", "RULE", "add"),
        cli_flag("robust", "outlying values count less")
      )),
      example = "kairon remove-seasons billed.csv --amounts volume --seasons year --combine multiply",
      run = cli_remove_seasons
    ),
    `season-profile` = list(
      what = "the typical hour, weekday or month",
      arguments = "FILE",
      options = c(grid_options(), list(
        cli_option("each", "a part of the calendar, or two with a comma: \"hour of day,day of week\"",
                   "PARTS"),
        cli_option("as", "difference or index", "FORM", "difference"),
        cli_flag("split", "each part's own history")
      )),
      example = paste(
        "kairon season-profile energy.csv.gz --series station --amounts energy --zone Europe/London",
        "--each \"hour of day\""
      ),
      run = cli_season_profile
    ),
    standing = list(
      what = "say whether a series is rising or falling, by its trailing year",
      arguments = "FILE",
      options = c(grid_options(), list(
        cli_option("better", "which way is better: higher or lower", "SIDE")
      )),
      example = "kairon standing billed.csv --amounts volume --units volume=Ml", run = cli_standing
    ),
    `find-seasons` = list(
      what = "find the season lengths that a series has, with evidence",
      arguments = "FILE",
      options = c(grid_options(), list(
        cli_option("between", "shortest and longest season: 20,50 or \"5 days,3 weeks\"", "RANGE"),
        cli_option("rivals", "season lengths to compare: 6,12 or week,year", "LIST"),
        cli_option("level", "how often noise may pass for a season", "SHARE", 0.002, "double")
      )),
      example = "kairon find-seasons energy.csv.gz --series station --amounts energy --zone Europe/London",
      run = cli_find_seasons
    ),
    correlogram = list(
      what = "how a series resembles its own past, lag by lag",
      arguments = "FILE",
      options = c(grid_options(), list(
        cli_option("lags", "the longest lag: steps or \"4 weeks\"", "SPAN"),
        cli_option("changes", "differences to show beside each other: 0,1,12", "STEPS", "0")
      )),
      example = "kairon correlogram billed.csv --amounts volume --lags \"3 years\"", run = cli_correlogram
    ),
    `lag-grid` = list(
      what = "a series against itself some steps before",
      arguments = "FILE",
      options = c(grid_options(), list(cli_option("lags", "lags in steps: 1,6,12", "STEPS"))),
      example = "kairon lag-grid billed.csv --amounts volume --lags 1,6,12", run = cli_lag_grid
    ),
    `lead-lag` = list(
      what = "which of two measures or series goes before the other",
      arguments = "FILE",
      options = c(grid_options(), list(
        cli_option("a", "a measure, or a series", "NAME"),
        cli_option("b", "the other one", "NAME"),
        cli_option("lags", "the longest shift: steps or \"2 days\"", "SPAN"),
        cli_flag("whiten", "take out what the first owes to its own past")
      )),
      example = paste(
        "kairon lead-lag energy.csv.gz --series station --amounts energy --zone Europe/London",
        "--a Highwell --b Millrace --lags \"1 day\""
      ),
      run = cli_lead_lag
    ),
    `power-spectrum` = list(
      what = "how much of a series swings at which period",
      arguments = "FILE",
      options = c(grid_options(), list(
        cli_option("method", "smoothed, raw, segments or irregular", "NAME"),
        cli_option("smooth", "ordinates that are averaged, an odd number", "COUNT", 5, "integer"),
        cli_option("segment", "length of a segment: steps or \"14 days\"", "SPAN"),
        cli_option("mark", "periods to mark: day,year or \"12 hours\"", "PERIODS"),
        cli_option("axis", "period or frequency", "AXIS", "period"),
        cli_flag("decibels", "the density as 10 log10")
      )),
      example = "kairon power-spectrum pressure.csv.gz --every \"1 hour\"", run = cli_power_spectrum
    ),
    stationarity = list(
      what = "tests of whether a series keeps its level, and what makes it do so",
      arguments = "FILE",
      options = c(grid_options(), list(
        cli_option("with", "constant, trend or none", "TERMS", "constant"),
        cli_option("lags", "earlier changes in the test; chosen by default", "COUNT", NULL, "integer"),
        cli_option("season", "the season: week, year or steps", "SEASON")
      )),
      example = "kairon stationarity billed.csv --amounts volume", run = cli_stationarity
    ),
    traits = list(
      what = "a few numbers on each series, to find odd ones by sorting",
      arguments = "FILE", figure = FALSE,
      options = grid_options(),
      example = "kairon traits demand.csv.gz --series district --amounts demand", run = cli_traits
    ),
    decomposition = list(
      what = "split series into trend, season and remainder",
      arguments = "FILE",
      options = c(grid_options(), list(
        cli_option("seasons", "seasons with commas: week,year or numbers of steps", "SEASONS"),
        cli_option("method", "loess, averages, henderson, regression or state", "NAME", "loess"),
        cli_option("combine", "add, multiply or auto", "RULE", "add"),
        cli_flag("robust", "outlying values count less"),
        cli_option("season_span", "cycles over which loess smooths the season, or fixed", "CYCLES"),
        cli_flag("extend", "averages reach the ends, by a forecast"),
        cli_option("events", "a calendar: an .ics or .csv file", "FILE"),
        cli_option("shifts", "dates of level shifts, with commas", "DATES"),
        cli_option("calendar", "working days, weekdays, leap year; with commas", "NAMES"),
        cli_option("compare", "other methods beside: averages,state", "NAMES")
      )),
      example = "kairon decomposition billed.csv --amounts volume --seasons year --combine multiply",
      run = cli_decomposition
    ),
    forecast = list(
      what = "continue series, with prediction intervals",
      arguments = "FILE",
      options = c(grid_options(), list(
        cli_option("horizon", "how far ahead: \"28 days\", 12, 2032-12-31", "SPAN"),
        cli_option("method", "methods, with commas: smoothing, theta, regression, naive ...", "NAMES"),
        cli_option("intervals", "levels of the intervals in percent", "LIST", "50,90"),
        cli_option("last", "an unfinished last bin: drop or keep", "RULE", "drop"),
        cli_option("limits", "lowest and highest value, such as 0,Inf", "RANGE"),
        cli_flag("whole", "whole numbers that keep the totals"),
        cli_flag("calibrate", "intervals adjusted by errors at past cutoffs"),
        cli_option("total", "sums over longer periods instead: \"1 month\", all", "SPAN")
      ), method_options()),
      example = "kairon forecast demand.csv.gz --series district --amounts demand --horizon \"28 days\"",
      run = cli_forecast
    ),
    backtest = list(
      what = "make forecasts in the past and score them",
      arguments = "FILE",
      options = c(grid_options(), list(
        cli_option("horizon", "how far each forecast reaches", "SPAN"),
        cli_option("methods", "methods, with commas; all baselines by default", "NAMES"),
        cli_option("cutoffs", "how many cutoffs (5 by default), \"all\" that fit, or their dates", "COUNT"),
        cli_option("spacing", "distance of cutoffs; the horizon by default", "SPAN"),
        cli_option("window", "learn from so long before each cutoff; all by default", "SPAN"),
        cli_option("embargo", "steps after each cutoff that are not scored", "SPAN"),
        cli_option("reserve", "the end to score the chosen method on, once: \"12 months\"", "SPAN"),
        cli_option("intervals", "levels of the intervals in percent", "LIST", "50,90"),
        cli_flag("calibrate", "intervals adjusted by errors before each cutoff"),
        cli_option("cache", "a folder to keep finished cutoffs in, to go on from", "FOLDER"),
        cli_option("workers", "processes to spread cutoffs over", "COUNT", NULL, "integer"),
        cli_option("show", "of --figure: scores, forecasts, ahead, coverage, calendar or ranks", "NAME",
                   "scores"),
        cli_flag("rows", "every forecast value instead of the scores")
      ), assess_options(), method_options()),
      example = "kairon backtest demand.csv.gz --series district --amounts demand --horizon \"14 days\"",
      run = cli_backtest
    ),
    scores = list(
      what = "score a file of forecasts against a file of what was observed",
      arguments = "FORECASTS OBSERVED",
      options = c(grid_options(), list(
        cli_option("value", "column of the forecasts", "COLUMN", "value")
      ), assess_options()),
      example = paste("kairon scores forecasts.csv billed.csv --amounts volume --units volume=Ml",
                      "--fail-above mase=1"),
      run = cli_scores
    ),
    `leak-check` = list(
      what = "prove that forecasts of the past saw no future; exit code 3 where they did",
      arguments = "FILE", figure = FALSE,
      options = c(grid_options(), list(
        cli_option("horizon", "how far each forecast reaches", "SPAN"),
        cli_option("methods", "methods, with commas; all baselines by default", "NAMES"),
        cli_option("cutoffs", "how many cutoffs (5 by default), \"all\" that fit, or their dates", "COUNT")
      ), method_options()),
      example = "kairon leak-check billed.csv --amounts volume --methods theta --horizon \"6 months\"",
      run = cli_leak_check
    ),
    diagnosis = list(
      what = "what is left after a fit, and what to try next",
      arguments = "FILE",
      options = c(grid_options(), list(cli_option("method", "the method; smoothing by default", "NAME")),
                  method_options()),
      example = "kairon diagnosis billed.csv --amounts volume --method theta --figure diagnosis.png",
      run = cli_diagnosis
    ),
    report = list(
      what = "write a report as one HTML page, or as Markdown with figures",
      arguments = "FILE", figure = FALSE,
      options = c(grid_options(), list(
        cli_option("title", "title of the page", "TEXT"),
        cli_option("plan", "a study whose routine, looks, methods and forecast are shown", "STUDY"),
        cli_option("sections", "sections to show: findings,readings,forecast ...; all by default", "NAMES"),
        cli_option("horizon", "how far to forecast", "SPAN"),
        cli_option("methods", "methods to compare, the first one forecasts; automatic by default", "NAMES")
      ), method_options()),
      example = "kairon report demand.csv.gz --series district --amounts demand --output report.html",
      run = cli_report
    ),
    `run-study` = list(
      what = "run a study: a YAML file that describes a whole analysis",
      arguments = "STUDY", sources = FALSE,
      options = list(
        cli_option("output", "folder of the outputs; the study says it by default", "FOLDER"),
        cli_flag("check", "only read and check the study"),
        cli_flag("fresh", "run every step again, and keep no cache"),
        cli_flag("json", "steps and files as JSON on standard output"),
        cli_flag("quiet", "no notes on standard error")
      ),
      example = "kairon run-study billed-study.yml --output billed-output", run = cli_run_study
    ),
    `new-study` = list(
      what = "write the first draft of a study from a look at a data file",
      arguments = "FILE", sources = "study",
      options = list(
        cli_option("output", "the study to write, such as study.yml; standard output by default", "FILE"),
        cli_flag("replace", "replace a study that is there"),
        cli_flag("quiet", "no notes on standard error")
      ),
      example = "kairon new-study demand.csv.gz --output demand.yml", run = cli_new_study
    ),
    manual = list(
      what = "the manual page, for man: kairon manual | man -l -",
      arguments = "", sources = FALSE, options = list(), example = "kairon manual", run = cli_manual
    ),
    completion = list(
      what = "a script that completes verbs and options in bash or zsh",
      arguments = "SHELL", sources = FALSE, options = list(),
      example = "kairon completion bash", run = cli_completion
    )
  )
}
