# Options of the command line. Their names are the arguments' names; their
# help is written here once for all verbs.

cli_option <- function(name, help, metavar = "TEXT", default = NULL, type = "character") {
  optparse::make_option(
    paste0("--", name), help = help, metavar = metavar, default = default, type = type
  )
}

cli_flag <- function(name, help) {
  optparse::make_option(paste0("--", name), action = "store_true", default = FALSE, help = help)
}

# Settings of forecasting methods; each takes those that it knows.
method_options <- function() {
  list(
    cli_option("seasons", "seasons with commas: week,year or numbers of steps", "SEASONS"),
    cli_option("trend", "of smoothing or regression: none, damped, straight, bending ...", "FORM"),
    cli_option("season", "of smoothing: none, add or multiply", "FORM"),
    cli_option("noise", "of smoothing: constant or proportional", "FORM"),
    cli_option("combine", "of regression and theta: add or multiply", "RULE"),
    cli_option("squares_of", "of regression that multiplies: logarithms or values", "SCALE"),
    cli_option("bends", "of regression: dates at which the trend may bend", "DATES"),
    cli_option("ceiling", "of regression, limited growth: what it cannot pass", "NUMBER", NULL, "double"),
    cli_option("floor", "of regression, limited growth: where it comes from", "NUMBER", NULL, "double"),
    cli_option("values", "of moving_average: how many", "N"),
    cli_option("order", "of arima: last values, differences, last shocks, such as 1,1,1", "ORDER"),
    cli_option("season_order", "of arima: the same at whole seasons", "ORDER"),
    cli_option("choose", "of auto: fast or thorough", "CARE"),
    cli_option("blend", "of blend: its methods; smoothing,theta,arima by default", "NAMES"),
    cli_option("weights", "of blend: equal, median, inverse or least_squares", "RULE"),
    cli_option("bags", "of blend: drawn copies to fit as well", "COUNT", NULL, "integer"),
    cli_option("events", "of regression: a calendar, an .ics or .csv file", "FILE"),
    cli_option("known_ahead", "driver columns whose future is known", "NAMES"),
    cli_option("to_forecast", "driver columns that are forecast themselves", "NAMES"),
    cli_option("drivers", "a file with the future of known drivers", "FILE")
  )
}

source_options <- function() {
  list(
    cli_option("time", "time column; found when there is one only", "COLUMN"),
    cli_option("series", "columns that tell series apart, with commas", "COLUMNS"),
    cli_option("measures", "measures to work on, with commas; all by default", "COLUMNS"),
    cli_option("amounts", "measures that are amounts (rain, sales): summed, not averaged", "COLUMNS"),
    cli_option("attributes", "columns that describe a series", "COLUMNS"),
    cli_option("units", "units of measures: flow=l/s,rain=mm", "LIST"),
    cli_option("zone", "time zone, such as Europe/London; UTC by default", "ZONE"),
    cli_option("missing", "texts that mean no value, with commas", "TEXTS"),
    cli_option("repeats", "repeated stamps: refuse, first, last or mean", "RULE"),
    cli_option("decimal", "decimal mark: auto, . or ,", "MARK"),
    cli_option("separator", "separator of the columns; found by default", "MARK"),
    cli_option("day_first", "of 03/04/2031: yes or no", "ANSWER"),
    cli_option("epoch", "numbers that count from 1970: seconds or milliseconds", "UNIT"),
    cli_option("cadence", "what stamps mean, such as \"1 week, stamped at its end\"", "STEP"),
    cli_option("layout", "long, wide (a column a series) or across (periods across)", "SHAPE"),
    cli_option("measure", "for wide and across: what the numbers measure", "NAME"),
    cli_option("join", "a file of attributes to join by the series columns", "FILE"),
    cli_option("rename", "clean: names in lower case with underscores", "RULE"),
    cli_option("format", "form of the file, found by looking: delimited, workbook, parquet, json, ...",
      "FORM"),
    cli_option("sheet", "of a workbook: name or number of the sheet", "SHEET"),
    cli_option("range", "of a workbook: the cells to read, such as B3:F40", "CELLS"),
    cli_option("widths", "columns of fixed width: day=10,flow=8", "WIDTHS"),
    cli_option("records", "of JSON: where the records are; of NetCDF: variables", "PATH"),
    cli_option("slab", "of NetCDF: the part to read: latitude=50:52,time=2031-03", "RANGES"),
    cli_option("time_as", "of NetCDF: dates (of its calendar) or steps", "RULE"),
    cli_option("member", "of a zipped file with several tables: which one", "NAME"),
    cli_option("timeout", "seconds that an address may be silent", "SECONDS", NULL, "double")
  )
}

remote_option <- function() {
  cli_flag("remote", "read the file piece by piece, for files that do not fit into memory")
}

output_options <- function(verb) {
  c(
    list(cli_option("output",
                    "the file to write: .csv, .parquet, .json, .xlsx; folder/ is a data package", "FILE")),
    if (!isFALSE(verb$figure)) {
      list(cli_option("figure", "write the figure to a .png, .svg or .pdf file", "FILE"))
    },
    if (!isFALSE(verb$figure)) list(cli_flag("dark", "the figure on a dark ground")),
    list(cli_flag("json", "the table as JSON on standard output"),
         cli_flag("plain", "no comment lines above a CSV table (they keep kinds, units, origins in pipes)"),
         cli_flag("quiet", "no notes on standard error"))
  )
}

limit_options <- function() {
  list(
    cli_option("min", "the smallest possible value", "NUMBER", NULL, "double"),
    cli_option("max", "the largest possible value", "NUMBER", NULL, "double")
  )
}

grid_options <- function() {
  list(
    cli_option("routine", "preparation steps from a file of write_routine()", "FILE"),
    cli_option("every", "first resample to this cadence", "STEP"),
    cli_option("impute", "then fill gaps: linear, seasonal, model ...", "RULE"),
    cli_option("longest", "the longest gap to fill, such as \"3 days\"", "SPAN")
  )
}

verb_options <- function(verb) {
  c(
    verb$options,
    if (!isFALSE(verb$sources)) source_options(),
    if (is.null(verb$sources)) output_options(verb)
  )
}
