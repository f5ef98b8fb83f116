# What options mean. An option is an argument of the verb's function, or one that the program has of
# its own; its help and its kind (see cli-settings.R) are written here once for all verbs, or under
# verb.option where a verb means something else by it. Nothing behind the help is a flag.

option_texts <- function() {
  list(
    # What the shell has of its own
    during = c("only in an interval: 2031-03, \"last 90 days\"", "INTERVAL"),
    remote = c("leave the rows in the file, for more than fit into memory (by DuckDB)", ""),
    routine = c("preparation steps from a file of write_routine()", "FILE"),
    every = c("first resample to this cadence", "STEP"),
    impute = c("then fill gaps", "RULE"),
    statistics = c("statistics instead of the usual one: mean,sd,q90, or flow=mean/sd,rain=sum",
                   "WORDS"),
    bands = c("bands of an attribute: elevation=4 or elevation=0/100/400", "BANDS"),
    min = c("the smallest possible value", "NUMBER"),
    max = c("the largest possible value", "NUMBER"),
    side = c("trailing, centred, leading, fading (half-life) or since-start", "SIDE"),
    kernel = c("weights of a centred mean: flat, triangular, gaussian, henderson", "NAME"),
    forecast.total = c("sums over longer periods instead: \"1 month\", all", "SPAN"),
    only = c("forecast (the rows to come alone) or choices (what each series got)", "ROWS"),
    workers = c("processes to spread cutoffs over", "COUNT"),
    into = c("a folder for the results; a second call goes on", "FOLDER"),
    for_each_part.verb = c("what is done: forecast, backtest or decomposition", "VERB"),
    for_each_part.by = c("a part: so many series, or those of a column; by default a file",
                         "COUNT"),
    for_each_part.workers = c("processes to spread parts over", "COUNT"),
    settings = c("more arguments of what is done: \"cutoffs=3,intervals=c(50,95)\"", "LIST"),
    plot.show = c("lines, or a map of series that have coordinates", "NAME"),
    plot.each = c(paste("of a map: one for each part of the calendar or period:",
                        "\"season of year\", \"1 year\""), "PARTS"),
    plot.only = c("labels of the series to draw, with commas", "SERIES"),
    highlight = c("labels of the series to draw as named lines over the others", "SERIES"),
    panels = c("each series in one of its own, all in one, their spread, or levels of totals",
               "RULE"),
    page = c("which dozen of series to draw in panels", "NUMBER"),
    common_scale = c("yes or no: whether all panels span as much", "ANSWER"),
    rows = c("every forecast value instead of the scores", ""),
    value = c("column of the forecasts", "COLUMN"),
    fail_above = c("exit code 3 when a score is above: mase=1,mape=0.1", "LIST"),
    fail_below = c("exit code 3 when a score is below: coverage_90=0.8", "LIST"),
    fresh = c("run every step again, and keep no cache", ""),
    check = c("only read and check the study", ""),
    replace = c("replace a study that is there", ""),
    rejects = c("the rows that could not be read instead, with their reasons", ""),
    # Changing the grid
    resample.every = c("the new cadence: \"1 day\", PT1H, monthly", "STEP"),
    at = c("bins (summaries) or instants (the level at the stamps)", "MODE"),
    between = c("between readings", "RULE"),
    within = c("how far apart readings may be to be joined: \"2 hours\"", "SPAN"),
    stamp = c("stamp of a bin: start, middle or end", "PLACE"),
    closed = c("the edge that belongs to a bin: left or right", "SIDE"),
    at_least = c("share (0 to 1) or number of values that one needs", "SHARE"),
    unfinished = c("unfinished end bins: flag, drop or keep", "RULE"),
    extent = c("first and last bin: each series its own, or in common", "RULE"),
    empty = c("amounts of bins without a row: missing or zero", "RULE"),
    large = c("whether a result of many million rows is meant", ""),
    align.every = c("a cadence, coarsest, finest, or \"as first\" (its stamps)", "STEP"),
    match = c("with \"as first\", the value at a stamp", "RULE"),
    align.within = c("how far a reading may be from a stamp: \"10 minutes\"", "SPAN"),
    align.between = c("levels on finer grids: previous, linear ... or flow=linear,price=previous",
                      "RULE"),
    align.extent = c("inner (what all have) or outer", "RULE"),
    shift = c("moves timelines first: \"2 hours\" or rain=\"2 hours\"", "SPAN"),
    delay = c("use values only from when they were known: \"0 days\"", "SPAN"),
    known_from = c("keep when each value was known", ""),
    by = c("series columns or attributes, with commas; all into one without", "GROUPS"),
    weights = c("a column of weights", "NAME"),
    each = c("a part of the calendar", "PARTS"),
    total = c("add a group of all series", ""),
    with_totals.by = c(paste("series columns or attributes to add up by, with commas; place:kind",
                             "crosses two"), "COLUMNS"),
    with_totals.all = c("no leaves the sum of all series out", "ANSWER"),
    word = c("what stands where a total sums over a column; all by default", "WORD"),
    agree = c("forecasts of totals that add up: errors, sizes, parts, shares or none", "RULE"),
    agree_over = c("longer periods that steps agree with: \"1 week,1 month\"", "PERIODS"),
    per = c("of a rate: \"1 day\", \"1 second\"", "STEP"),
    # Mending
    with = c("how gaps are filled", "RULE"),
    repair.with = c("what is put in: a number, or a rule", "RULE"),
    longest = c("the longest gap to fill, such as \"3 days\"", "SPAN"),
    repair.longest = c("the longest stretch that is replaced, such as 3", "SPAN"),
    direction = c("both, or past to use no later value", "RULE"),
    rules = c("rules with settings: \"spikes(threshold=10),limits(min=0),stuck\"", "RULES"),
    keep = c("keep the values themselves beside", ""),
    roll.keep = c("keep the measures beside their statistics: yes or no", "ANSWER"),
    remove_shifts.keep = c("keep the values before beside: yes or no", "ANSWER"),
    # Windows and scales
    window = c("length: \"28 days\", \"12 months\", or a number of steps", "WINDOW"),
    correlate = c("pairs of measures: flow/rain", "PAIRS"),
    edges = c("windows cut by an end", "RULE"),
    missing_too = c("steps without a value count in a window, too", ""),
    over = c("steps, \"1 year\", or a date", "SPAN"),
    as = c("form of the result", "FORM"),
    align_weeks = c("compare with the same weekday", ""),
    times = c("how many times to take the change", "COUNT"),
    against = c("the base period: 2023/2027; all by default", "INTERVAL"),
    power = c("auto, likelihood, log, root or a number", "POWER"),
    compare = c("other methods beside, with commas", "NAMES"),
    stabilise.compare = c("a table of rivals instead", ""),
    mean = c("forecasts go back to the mean, not the median", ""),
    # Looks
    split = c("each part's own history", ""),
    better = c("which way is better: higher or lower", "SIDE"),
    seasons = c("seasons with commas: week,year or numbers of steps", "SEASONS"),
    find_seasons.between = c("shortest and longest season: 20,50 or \"5 days,3 weeks\"", "LIST"),
    rivals = c("season lengths to compare: 6,12 or week,year", "LIST"),
    level = c("how often noise may pass for a season", "SHARE"),
    lags = c("the longest lag: steps or \"4 weeks\"", "SPAN"),
    lag_grid.lags = c("lags in steps: 1,6,12", "STEPS"),
    stationarity.lags = c("earlier changes in the test; chosen by default", "COUNT"),
    lead_lag.lags = c("the longest shift: steps or \"2 days\"", "SPAN"),
    changes = c("differences to show beside each other: 0,1,12", "STEPS"),
    partial = c("partial correlations too: yes or no", "ANSWER"),
    effect_of.when = c("the stretch: 2031-07-14/2031-07-27, or 2031-04-01/ where it goes on",
                       "SPAN"),
    controls = c("series that it did not touch, or others", "SERIES"),
    lingers = c("how long it may have worked after its end: \"2 weeks\"", "SPAN"),
    sides = c("learn from both sides of it, from before, or auto", "SIDE"),
    placebos = c("how many stretches without it to compare with", "COUNT"),
    interval = c("percent that intervals hold", "PERCENT"),
    effect_of.ended = c("an item that ended: where its demand went", "SERIES"),
    effect_of.within = c("columns that its group shares", "COLUMNS"),
    a = c("a measure, or a series", "NAME"),
    b = c("the other one", "NAME"),
    whiten = c("take out what the first owes to its own past", ""),
    power_spectrum.method = c("how it is estimated", "NAME"),
    smooth = c("ordinates that are averaged, an odd number", "COUNT"),
    segment = c("length of a segment: steps or \"14 days\"", "SPAN"),
    overlap = c("share of a segment that it has in common with the next", "SHARE"),
    power_spectrum.window = c("weights of a segment", "NAME"),
    detrend = c("what is taken off first", "RULE"),
    confidence = c("level of the band in percent", "NUMBER"),
    mark = c("periods to mark: day,year or \"12 hours\"", "PERIODS"),
    axis = c("what the axis counts", "AXIS"),
    decibels = c("the density as 10 log10", ""),
    stationarity.with = c("what it may keep to", "TERMS"),
    decomposition.method = c("how it is split", "NAME"),
    robust = c("outlying values count less", ""),
    season_span = c("cycles over which loess smooths the season, or fixed", "CYCLES"),
    trend_span = c("steps over which loess smooths the trend", "STEPS"),
    season_curve = c("what loess lays through a season's place over the cycles", "FORM"),
    extend = c("averages reach the ends, by a forecast", ""),
    shifts = c("dates of level shifts, with commas", "DATES"),
    calendar = c("working days, weekdays, leap year; with commas", "NAMES"),
    # Forecasts and backtests
    horizon = c("how far ahead: \"28 days\", 12, 2032-12-31", "SPAN"),
    method = c("methods, with commas; settings in brackets: \"smoothing(trend=damped),theta\"",
               "METHODS"),
    diagnosis.method = c("the method; smoothing by default", "METHODS"),
    methods = c("methods, with commas; settings in brackets: \"smoothing(trend=damped),theta\"",
                "METHODS"),
    intervals = c("levels of the intervals in percent", "LEVELS"),
    last = c("an unfinished last bin: drop or keep", "RULE"),
    limits = c("lowest and highest value, such as 0,Inf", "RANGE"),
    whole = c("whole numbers that keep the totals", ""),
    calibrate = c("intervals adjusted by errors at past cutoffs", ""),
    paths = c("how many possible futures to draw", "COUNT"),
    ended = c("series that have ended; own_end goes on from each one's end", "RULE"),
    drivers = c("a file with the future of known drivers", "FILE"),
    cutoffs = c("how many cutoffs (5 by default), \"all\" that fit, or their dates", "CUTOFFS"),
    spacing = c("distance of cutoffs; the horizon by default", "SPAN"),
    backtest.window = c("learn from so long before each cutoff; all by default", "WINDOW"),
    embargo = c("steps after each cutoff that are not scored", "SPAN"),
    reserve = c("the end to score the chosen method on, once: \"12 months\"", "SPAN"),
    cache = c("a folder to keep finished cutoffs in, to go on from", "FOLDER"),
    metrics = c("scores, with commas, or all: mae, mase, coverage, crps, skill ...", "NAMES"),
    backtest.by = c("scores apart by method, ahead, cutoff, series or a part of the calendar",
                    "NAMES"),
    scores.by = c("scores apart by method, ahead, cutoff, series or a part of the calendar",
                  "NAMES"),
    baseline = c("the method that skill compares with", "NAME"),
    flagged = c("score values that vetting flagged, too", ""),
    invented = c("score values that were put in, too", ""),
    tolerance = c("how far forecasts may differ, as a share", "SHARE"),
    # Settings of methods
    trend = c("of smoothing or regression", "FORM"),
    method.season = c("of smoothing: how seasons join", "FORM"),
    noise = c("of smoothing: how large errors are", "FORM"),
    case = c("of smoothing: a case by its name", "NAME"),
    shares = c("of smoothing: its weights, such as level=0.3,trend=0.1", "LIST"),
    initial = c("of smoothing: how the first values are found", "RULE"),
    minimise = c("of smoothing: what the fit minimises", "RULE"),
    warm_up = c("of smoothing: first steps that do not count", "STEPS"),
    update = c("of smoothing: when weights are found anew", "RULE"),
    combine = c("how seasons join", "RULE"),
    squares_of = c("of regression that multiplies: whose squares are made least", "SCALE"),
    season_form = c("of regression: the form of seasons", "FORM"),
    steps = c("of regression: dates at which the level may step", "DATES"),
    bends = c("dates at which the trend may bend, with commas", "DATES"),
    ceiling = c("of regression, limited growth: what it cannot pass", "NUMBER"),
    floor = c("of regression, limited growth: where it comes from", "NUMBER"),
    damped = c("of regression: a trend that dies out", "SHARE"),
    errors = c("of regression: errors that carry on", "RULE"),
    n = c("of moving_average: how many values", "N"),
    order = c("of arima: last values, differences, last shocks, such as 1,1,1", "ORDER"),
    season_order = c("of arima: the same at whole seasons", "ORDER"),
    intercept = c("of arima: with a constant, yes or no", "ANSWER"),
    search = c("of arima: how orders are looked for", "RULE"),
    most = c("of arima: the highest orders that are looked at, such as 5,5,2,2", "COUNTS"),
    seasonal = c("of theta: whether seasons are taken off first", "RULE"),
    theta = c("of theta: the line's theta", "NUMBER"),
    line = c("of theta: how its line is found", "RULE"),
    correct = c("of intermittent: without the bias of the usual form, yes or no", "ANSWER"),
    method.level = c("of intermittent: the weight of the last value", "SHARE"),
    choose = c("of auto: with how much care", "CARE"),
    blend = c("of blend: its methods; smoothing,theta,arima by default", "NAMES"),
    method.weights = c("of blend: equal, median, inverse or least_squares", "RULE"),
    bags = c("of blend: drawn copies to fit as well", "COUNT"),
    events = c("a calendar: an .ics or .csv file", "FILE"),
    known_ahead = c("driver columns whose future is known", "NAMES"),
    to_forecast = c("driver columns that are forecast themselves", "NAMES"),
    # Reading
    time = c("time column, or the parts of stamps: year=yr,week=wk; found when there is one only",
             "COLUMN"),
    series = c("columns that tell series apart, with commas", "COLUMNS"),
    measures = c("measures to work on, with commas; all by default", "COLUMNS"),
    amounts = c("measures that are amounts (rain, sales): summed, not averaged", "COLUMNS"),
    levels = c("measures that are levels (flow, price): averaged", "COLUMNS"),
    attributes = c("columns that describe a series", "COLUMNS"),
    units = c("units of measures: flow=l/s,rain=mm", "UNITS"),
    zone = c("time zone, such as Europe/London; UTC by default", "ZONE"),
    missing = c("texts that mean no value, with commas", "TEXTS"),
    repeats = c("repeated stamps: refuse, first, last or mean", "RULE"),
    decimal = c("decimal mark: auto, . or ,", "MARK"),
    separator = c("separator of the columns; found by default", "MARK"),
    day_first = c("of 03/04/2031: yes or no", "ANSWER"),
    epoch = c("numbers that count from 1970: seconds or milliseconds", "UNIT"),
    cadence = c("what stamps mean, such as \"1 week, stamped at its end\"", "STEP"),
    closures = c("a calendar of days without readings, for business days: .ics or .csv",
                 "CALENDAR"),
    layout = c("long, wide (a column a series) or across (periods across)", "SHAPE"),
    measure = c("for wide and across: what the numbers measure", "NAME"),
    join = c("a file of attributes to join by the series columns", "FILE"),
    rename = c("clean (lower case with underscores), or new=old names", "RENAMES"),
    format = c("form of the file, found by looking", "FORM"),
    sheet = c("of a workbook: name or number of the sheet", "SHEET"),
    range = c("of a workbook: the cells to read, such as B3:F40", "CELLS"),
    widths = c("columns of fixed width: day=10,flow=8", "WIDTHS"),
    records = c("of JSON: where the records are; of NetCDF: variables", "NAMES"),
    slab = c("of NetCDF: the part to read: latitude=50:52,time=2031-03", "RANGES"),
    time_as = c("of NetCDF: dates (of its calendar) or steps", "RULE"),
    member = c("of a zipped file with several tables: which one", "NAME"),
    skip = c("lines that stand above the header; found by default", "COUNT"),
    table = c("of a database file: the table to read", "NAME"),
    query = c("of a database file: the SQL whose rows are read", "SQL"),
    timeout = c("seconds that an address may be silent", "SECONDS"),
    # Output
    output = c(paste("-o: the file to write: .csv, .parquet, .json, .xlsx, .sqlite; folder/ is a",
                     "data package"),
               "FILE"),
    run_study.output = c("-o: folder of the outputs; the study says it by default", "FOLDER"),
    new_study.output = c("-o: the study to write, such as study.yml; standard output by default",
                         "FILE"),
    figure = c("write the figure to a .png, .svg or .pdf file", "FILE"),
    figure_size = c("width and height of the figure in inches: 9,5", "SIZE"),
    show = c("what the figure shows, where there are several", "NAME"),
    backtest.show = c("of --figure: scores, forecasts, ahead, coverage, calendar or ranks", "NAME"),
    dark = c("the figure on a dark ground", ""),
    json = c("the table as JSON on standard output", ""),
    spreadsheet_safe = c("in CSV, text that begins with = + - @ gets an apostrophe in front", ""),
    plain = c("no comment lines above a CSV table (they keep kinds, units, origins in pipes)", ""),
    quiet = c("no notes on standard error", ""),
    title = c("title of the page", "TEXT"),
    plan = c("a study whose routine, looks, methods and forecast are shown", "STUDY"),
    sections = c("sections to show: findings,readings,forecast ...; all by default", "NAMES")
  )
}

# Options by name, for a verb. A flag takes no value. `about`: the group whose meaning comes first.
cli_options <- function(names, flags = character(), about = "") {
  texts <- option_texts()
  rlang::set_names(lapply(names, function(name) {
    # An argument that nobody has put into words yet is its name.
    said <- texts[[paste0(about, ".", name)]] %||% texts[[name]] %||%
      c(gsub("_", " ", name), "VALUE")
    list(name = name, help = said[1], metavar = said[2], flag = name %in% flags ||
         identical(said[2], ""))
  }), names)
}

# Arguments of functions that are options: all but the data and what only code can give.
argument_names <- function(fun, leave = character()) {
  setdiff(names(formals(fun)), c("x", "object", "data", "source", "fit", "...", leave))
}

method_settings <- function() {
  makers <- lapply(known_methods(), function(name) getExportedValue("kairon", paste0("by_", name)))
  inner <- c("method", "then", "drivers", "lags")
  unique(unlist(lapply(makers, argument_names, leave = inner)))
}

source_names <- function() {
  read <- argument_names(read_timeline.default, c("missing", "remote"))
  unique(c("time", "series", "measures", "amounts", "levels", "attributes", "units", "zone",
           "missing",
           "repeats", setdiff(argument_names(timeline), "events"), "closures", "table", "query",
           read))
}

grid_names <- c("during", "routine", "every", "impute", "longest")

# All options of a verb, in the groups of its help.
verb_options <- function(name, verb) {
  about <- gsub("-", "_", name)
  own <- setdiff(c(if (!is.null(verb$fun)) argument_names(verb$fun, verb$leave), verb$own),
                 "measures")
  grid <- if (isTRUE(verb$grid)) setdiff(grid_names, own)
  settings <- if (isTRUE(verb$methods)) {
    setdiff(c(method_settings(), "blend", "known_ahead", "to_forecast"), c(own, grid))
  }
  taken <- c(own, grid, settings)
  sources <- if (!isFALSE(verb$sources)) setdiff(source_names(), taken)
  output <- if (identical(verb$output, "figure")) {
    c("figure", "figure_size", "dark", "quiet")
  } else if (!isFALSE(verb$output)) {
    c("output", if (!isFALSE(verb$figure)) c("figure", "figure_size", "show", "dark"),
      "json", "plain", "spreadsheet_safe",
      "quiet")
  }
  list(
    own = cli_options(own, flag_names(verb$fun), about), grid = cli_options(grid),
    settings = cli_options(settings, about = "method"), sources = cli_options(sources),
    output = cli_options(setdiff(output, taken), about = about)
  )
}

# Arguments whose default is yes or no take no value.
flag_names <- function(fun) {
  if (is.null(fun)) {
    return(character())
  }
  names(Filter(isFALSE, as.list(formals(fun))))
}
