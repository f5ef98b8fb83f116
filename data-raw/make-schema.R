# Writes inst/schema/study-1.json, the JSON Schema of study files: names and choices of arguments from the
# functions, what they mean from their help pages. Run after the package is installed: make schema.
suppressPackageStartupMessages(library(kairon))
space <- asNamespace("kairon")
help_pages <- tools::Rd_db("kairon")

plain <- function(rd) gsub("\\s+", " ", trimws(paste(unlist(rd), collapse = "")))
tagged <- function(rd, tag) Filter(function(part) identical(attr(part, "Rd_tag"), tag), rd)

page_of <- function(name) {
  for (rd in help_pages) {
    names <- vapply(c(tagged(rd, "\\alias"), tagged(rd, "\\name")), plain, "")
    if (name %in% names) return(rd)
  }
}

argument_texts <- function(rd) {
  parts <- tagged(rd, "\\arguments")
  if (length(parts) == 0) return(character())
  items <- tagged(parts[[1]], "\\item")
  names <- strsplit(vapply(items, function(i) plain(i[[1]]), ""), ", *")
  texts <- vapply(items, function(i) plain(i[[2]]), "")
  setNames(rep(texts, lengths(names)), unlist(names))
}

ref <- function(name) list(`$ref` = paste0("#/definitions/", name))
text <- list(type = "string")
texts <- list(type = c("string", "array"), items = text)
flag <- list(type = "boolean")
nothing <- setNames(list(), character())

number <- list(type = "number")
some <- function(...) list(type = c(...))
spans <- list(type = "object", additionalProperties = list(type = c("string", "number", "array")))

# What an option's kind, the word behind it in the help of the program, is in YAML. Kinds that are none of these
# are text.
kinds <- list(
  ANSWER = flag, CALENDAR = texts, COLUMN = texts, COLUMNS = texts, COUNT = number,
  COUNTS = some("array"), CUTOFFS = some("number", "string", "array"),
  CYCLES = some("number", "string", "array", "object"), DATES = texts, GROUPS = some("string", "array", "object"),
  LEVELS = some("number", "array"), LIST = some("string", "array", "object"), METHODS = ref("methods"), N = number,
  NAMES = texts, NUMBER = number, ORDER = some("array"), PAIRS = some("array", "object"), PARTS = texts,
  INTERVAL = some("string", "integer"), PERCENT = number, PERIODS = texts, POWER = some("string", "number", "object"), RANGE = some("array"),
  RANGES = spans, RENAMES = some("string", "object"), RULES = list(type = c("string", "array", "object"),
                                                                   items = ref("rule")),
  SEASONS = some("string", "number", "array", "object"), SECONDS = number, SERIES = texts, SHARE = number,
  SHEET = some("string", "integer"), SPAN = some("string", "number"), STEP = some("string", "number"),
  STEPS = some("number", "array"), TEXTS = texts, UNITS = list(type = "object", additionalProperties = text),
  WIDTHS = some("array", "object"), WINDOW = ref("windows")
)

# Where an argument is more, or something else, in a study; of one function: fun.argument.
special <- list(
  drivers = some("string", "array", "object"), then = ref("method"), events = texts, join = texts, source = texts,
  impute.with = some("string", "number", "object"), repair.with = some("string", "number"), align.with = nothing,
  resample.between = some("string", "object"), align.between = some("string", "object"),
  align.shift = some("string", "number", "object"), impute.longest = some("string", "number", "object"),
  effect_of.when = texts, effect_of.method = ref("method"), calibrate = flag, by_smoothing.shares = some("object"),
  by_smoothing.initial = some("object"), a = text, b = text, scores.by = texts, spikes.most = number,
  scores.metrics = list(type = texts$type, items = list(enum = as.list(c("all", space$accuracy_metrics))))
)

# Words that an argument takes are those that the function itself tells when it gets another one.
billed <- demo_timeline("billed")
demand <- demo_timeline("demand")
usual <- list(
  resample = list(billed, "1 year"), align = list(billed, demo_timeline("rain")), pool_series = list(demand),
  impute = list(billed, "linear"), vet = list(billed), repair = list(vet(billed)), roll = list(billed, trailing(3)),
  change = list(billed), rebase = list(billed, NULL), stabilise = list(billed), remove_seasons = list(billed, "year"),
  remove_shifts = list(vet(demand, shifts())), as_rate = list(billed),
  as_amount = list(resample(demo_timeline("river"), "1 day")), lead_lag = list(demand, "Birchmoor", "Dunmere"),
  effect_of = list(demand, "2031-07-14/2031-07-27"), backtest = list(billed, by_naive(), 3),
  forecast = list(billed, 3, by_naive()),
  read_timeline = list(system.file("extdata", "billed.csv", package = "kairon")),
  timeline = list(data.frame(month = as.Date("2031-01-01"), flow = 1), "month"), centred = list(7)
)

words_of <- function(fun, argument) {
  first <- if (fun %in% names(usual)) usual[[fun]] else if (!grepl("^by_", fun)) list(billed)
  args <- c(first, setNames(list("no such word"), argument))
  e <- tryCatch(suppressMessages(do.call(fun, args)), error = identity)
  if (identical(e$argument, argument)) e$choices
}

property <- function(name, default, own, fun) {
  if (name %in% names(own)) return(own[[name]])
  kind <- kairon:::cli_options(name, about = fun)[[1]]$metavar
  if (grepl("^by_", fun)) kind <- kairon:::cli_options(name, about = "method")[[1]]$metavar
  special <- c(special[paste0(fun, ".", name)], special[name], kinds[kind])
  out <- Filter(Negate(is.null), special)
  out <- if (length(out)) out[[1]]
  value <- tryCatch(eval(default, space), error = function(e) NULL)
  if (is.logical(value) && length(value) == 1 && !is.na(value)) return(flag)
  # The choices of these are names in the data, or one form among others.
  words <- if (!kind %in% c("SERIES", "SEASONS", "LIST") && fun != "scores") words_of(fun, name)
  if (length(words) == 0) return(if (!is.null(out)) out else if (kind != "VALUE") text else if (is.numeric(value)) number else nothing)
  choices <- list(enum = as.list(words))
  if (identical(out, texts)) return(list(type = texts$type, items = choices))
  forms <- setdiff(out$type, "string")
  if (length(forms)) list(anyOf = list(choices, list(type = forms))) else choices
}

# The arguments of a function as an object; `first`: one value alone stands for it.
arguments <- function(fun, help = sub("\\.kairon_timeline$", "", fun), leave = character(), own = list(),
                      extra = list()) {
  given <- formals(get(fun, space))
  given <- given[setdiff(names(given), c("x", "object", "...", leave))]
  rd <- page_of(help)
  if (is.null(rd)) rd <- page_of(fun)
  says <- argument_texts(rd)
  made <- lapply(names(given), function(name) {
    default <- given[[name]]
    out <- property(name, if (identical(default, quote(expr = ))) NULL else default, own,
                    sub("\\.kairon_timeline$", "", help))
    if (name %in% names(says)) out$description <- says[[name]]
    out
  })
  made <- c(setNames(made, names(given)), extra)
  list(
    description = plain(tagged(rd, "\\title")[[1]]), type = "object",
    properties = if (length(made)) made else nothing, additionalProperties = FALSE
  )
}

# A call is its name alone, or one key with its arguments (or its first argument).
calls <- function(made) {
  loose <- lapply(made, function(m) {
    c(m[setdiff(names(m), "type")], list(type = c("object", "string", "number", "array", "boolean")))
  })
  list(anyOf = list(
    list(enum = as.list(names(made))),
    list(type = "object", minProperties = 1, maxProperties = 1, properties = loose,
         additionalProperties = FALSE)
  ))
}

named <- function(names, ...) calls(setNames(lapply(names, arguments, ...), names))
statistics <- list(statistics = list(
  description = "Statistics for all measures (mean, or a list), or for each: {flow: [mean, sd], rain: sum}.",
  type = c("string", "array", "object")
))

verb <- function(name, ...) arguments(paste0(name, ".kairon_timeline"), help = name, ...)
steps <- list(
  resample = verb("resample", leave = c("large"), extra = statistics),
  align = verb("align", extra = list(with = list(
    description = "Names of other_data to bring onto one grid with the data.", type = c("string", "array"),
    items = text
  ))),
  pool_series = verb("pool_series", extra = statistics), impute = verb("impute"), vet = verb("vet"),
  repair = verb("repair"), roll = verb("roll", leave = "carry", extra = statistics), change = verb("change"),
  rebase = verb("rebase"), stabilise = verb("stabilise", leave = "compare"),
  remove_seasons = verb("remove_seasons"), remove_shifts = verb("remove_shifts"), as_rate = verb("as_rate"),
  as_amount = verb("as_amount")
)
looks <- c("inspect", "gaps", "origins", "standing", "find_seasons", "correlogram", "lag_grid", "lead_lag",
           "effect_of", "power_spectrum", "stationarity", "season_profile", "traits")
methods <- sort(sub("^by_", "", grep("^by_", getNamespaceExports("kairon"), value = TRUE)))
drivers <- list(drivers = list(
  description = "Columns that drive the measure: {known_ahead: [price], to_forecast: [heat]}.", type = "object",
  properties = list(known_ahead = texts, to_forecast = texts), additionalProperties = FALSE
))
method_calls <- calls(setNames(lapply(methods, function(m) {
  arguments(paste0("by_", m), own = drivers,
            extra = if (m == "blend") list(members = ref("methods")) else list())
}), methods))

reading <- setdiff(names(formals(timeline)), c("data", names(formals(kairon:::read_timeline.default))))
data <- arguments("read_timeline.default", help = "read_timeline", leave = c("timeout", "remote"), own = list(
  sheet = list(type = c("string", "integer")), slab = spans, records = texts, range = text, member = text,
  widths = list(type = c("array", "object")), format = list(enum = as.list(space$file_formats))
))
data$properties <- c(data$properties,
                     arguments("timeline", leave = setdiff(names(formals(timeline)), reading))$properties)
data$properties$time <- c(text, data$properties$time["description"])
for (name in c("series", "amounts", "levels", "attributes", "missing")) data$properties[[name]] <-
  c(texts, data$properties[[name]]["description"])
data$properties$day_first <- c(flag, data$properties$day_first["description"])
data$properties$during <- list(description = "Only this interval: 2031-03, 2031-03/2032-02, last 2 years.",
                               type = c("string", "integer"))
data$description <- "Where the measurements are, and what their columns mean."
data$required <- list("source")

about <- function(description, ...) c(list(description = description), ...)
other_data <- list(name = about("Name of one of other_data.", text))

schema <- list(
  `$schema` = "http://json-schema.org/draft-07/schema#",
  title = "A study of Kairon, version 1",
  description = paste(
    "A whole analysis: data, routine, looks, decomposition, methods, backtest, forecast, outputs. Paths count from",
    "the folder of the study. Steps and methods are written as their name, or as one key with arguments:",
    "{impute: {with: seasonal, longest: 3 days}}; the first argument may stand alone: {resample: 1 day}."
  ),
  type = "object",
  properties = list(
    kairon_study = about("Version of this format.", list(const = 1)),
    title = about("Title of the report.", text),
    notes = about("What the study is for; shown in the report.", text),
    based_on = about("Another study whose keys hold where this one says nothing.", text),
    seed = about("Start of the random numbers; 1 by default.", list(type = "integer")),
    data = data,
    other_data = about("More sources by name, for align and drivers.",
                       list(type = "object", additionalProperties = ref("data"))),
    routine = about("Preparation steps, run in turn, and anew at each cutoff of the backtest.",
                    list(type = "array", items = ref("step"))),
    looks = about("Analyses of the prepared data (inspect and gaps: of the readings).",
                  list(type = "array", items = ref("look"))),
    decomposition = arguments("decomposition"),
    methods = about("Methods by a name of your own; backtest and forecast may use the names.",
                    list(type = "object", additionalProperties = ref("method"))),
    backtest = arguments("backtest", leave = c("routine", "cache"), own = list(drivers = text),
                         extra = list(scores = arguments("scores", leave = c("b", "observed")))),
    forecast = arguments("forecast.kairon_timeline", help = "forecast.kairon_timeline", leave = "routine",
                         own = list(drivers = text, method = ref("methods"))),
    outputs = about("What is written, and where.", list(
      type = "object",
      properties = list(
        folder = about("Folder of the outputs; the study's name by default.", text),
        report = about("Reports to write: report.html, report.md.", texts),
        tables = about("Form of the tables.", list(enum = list("csv", "json", "none"))),
        figures = about("Form of the figures.", list(enum = list("svg", "png", "pdf", "none"))),
        dark = about("Figures on a dark ground.", flag),
        prepared = about("Whether to write the prepared data too.", flag)
      ),
      additionalProperties = FALSE
    ))
  ),
  required = list("kairon_study", "data"),
  additionalProperties = FALSE,
  definitions = list(
    data = data, step = calls(steps), look = named(looks),
    method = method_calls,
    methods = list(anyOf = list(
      ref("method"), list(type = "array", items = list(anyOf = list(ref("method"), text))), text,
      list(type = "object", additionalProperties = list(anyOf = list(ref("method"), text)))
    )),
    window = named(c("trailing", "centred", "leading", "since_start", "fading")),
    windows = list(anyOf = list(list(type = "array", items = ref("window")), ref("window"))),
    rule = named(c("spikes", "stuck", "limits", "jumps", "shifts"))
  )
)
dir.create("inst/schema", showWarnings = FALSE)
writeLines(jsonlite::toJSON(schema, auto_unbox = TRUE, pretty = 2), "inst/schema/study-1.json")
