# What a reader needs to check a report or to make it again.

provenance_columns <- function(parts) {
  meta <- timeline_meta(parts$x)
  rows <- list(
    c("Kairon", as.character(utils::packageVersion("kairon"))),
    c("R", paste(R.version$major, R.version$minor, sep = ".")),
    c("Made", format(Sys.time(), "%Y-%m-%d %H:%M UTC", tz = "UTC")),
    c("Data", timeline_line(parts$x)),
    c("Rows", show_number(nrow(parts$x), 9)),
    c("Digest of the data", data_digest(parts$x)),
    c("Zone", meta$zone)
  )
  list(what = vapply(rows, `[`, "", 1), value = vapply(rows, `[`, "", 2))
}

# Of stamps, series and measures alone, so that it is the same however they were read.
data_digest <- function(x) {
  meta <- timeline_meta(x)
  rlang::hash(list(to_seconds(x[[meta$time]]), lapply(meta$series, function(s) as.character(x[[s]])),
                   lapply(names(meta$kinds), function(m) as.double(x[[m]]))))
}

# Where the methods of a report come from.
method_sources <- c(
  loess = paste(
    "Decomposition by loess: Cleveland, Cleveland, McRae and Terpenning (1990), Journal of Official",
    "Statistics 6, 3-73."
  ),
  theta = paste(
    "Theta lines: Assimakopoulos and Nikolopoulos (2000), International Journal of Forecasting 16,",
    "521-530."
  ),
  smoothing = paste(
    "Exponential smoothing: Holt (1957), ONR Memorandum 52; Winters (1960), Management Science 6,",
    "324-342; as state-space models: Ord, Koehler and Snyder (1997), JASA 92, 1621-1629."
  ),
  arima = "ARIMA: Box and Jenkins (1970), Time Series Analysis: Forecasting and Control, Holden-Day.",
  blend = "Blends of forecasts: Bates and Granger (1969), Operational Research Quarterly 20, 451-468.",
  intermittent = "Intermittent demand: Croston (1972), Operational Research Quarterly 23, 289-303.",
  backtest = paste(
    "Comparison of forecasts: Diebold and Mariano (1995), Journal of Business and Economic Statistics 13,",
    "253-263; corrected for few: Harvey, Leybourne and Newbold (1997), International Journal of Forecasting",
    "13, 281-291."
  ),
  scores = "Scores of intervals: Gneiting and Raftery (2007), JASA 102, 359-378."
)

# Made, and not left out for a reason.
there <- function(part) !is.null(part) && !failed(part)

source_notes <- function(parts) {
  used <- character()
  if (there(parts$pattern) && parts$pattern$method == "loess") used <- "loess"
  methods <- c(if (there(parts$forecast)) parts$forecast$methods,
               if (there(parts$backtest)) parts$backtest$methods)
  names <- unique(unlist(lapply(methods, method_names)))
  if ("auto" %in% names) names <- union(names, c("smoothing", "theta", "blend"))
  used <- c(used, intersect(names(method_sources), names), if (there(parts$backtest)) c("backtest", "scores"))
  unname(method_sources[unique(used)])
}

# A method's name, and those of its members.
method_names <- function(method) {
  if (!inherits(method, "kairon_method")) {
    return(character())
  }
  c(method$name, unlist(lapply(unclass(method), function(p) {
    if (inherits(p, "kairon_method")) method_names(p) else if (is.list(p)) lapply(p, method_names)
  })))
}

# A study that makes the report again, for data that came from somewhere.
draft_study <- function(parts) {
  meta <- timeline_meta(parts$x)
  kinds <- meta$kinds
  steps <- lapply(parts$routine$steps, study_step)
  lost <- vapply(steps, is.null, TRUE)
  value <- Filter(length, list(
    kairon_study = 1L,
    data = Filter(length, list(
      source = "data.csv", time = meta$time, series = as.list(meta$series),
      amounts = as.list(names(kinds)[kinds == "amount"]), levels = as.list(names(kinds)[kinds == "level"]),
      attributes = as.list(meta$attributes), units = as.list(meta$units[nzchar(meta$units)]), zone = meta$zone
    )),
    routine = steps[!lost],
    decomposition = if (there(parts$pattern)) list(method = parts$pattern$method),
    backtest = if (there(parts$backtest)) {
      list(horizon = parts$horizon, methods = as.list(method_keys(parts$backtest$methods)),
           cutoffs = nrow(parts$backtest$plan) %||% length(parts$backtest$plan$stamps))
    },
    forecast = if (there(parts$forecast)) {
      list(horizon = parts$horizon, method = as.list(method_keys(parts$forecast$methods)))
    },
    outputs = list(report = "report.html")
  ))
  c(
    "# data.csv stands for the file of the measurements, as write_timeline() writes it.",
    if (any(lost)) paste0("# Left out, since a study cannot hold it: step ",
                          paste(which(lost), collapse = ", "),
                          " of the routine."),
    if (!is.null(parts$methods)) "# Methods stand here with their usual settings.",
    strsplit(yaml::as.yaml(value, indent.mapping.sequence = TRUE, precision = 15), "\n")[[1]]
  )
}

method_keys <- function(methods) unname(vapply(methods, function(m) m$name, ""))

# A recorded step as a study writes it, or NULL where it holds what no study can.
study_step <- function(step) {
  args <- Filter(Negate(is.null), step$args)
  if (length(args) == 0) {
    return(step$verb)
  }
  made <- lapply(args, study_argument)
  labels <- names(args) %||% rep("", length(args))
  if (any(vapply(made, is.null, TRUE)) || any(labels == "") && length(made) > 1) {
    return(NULL)
  }
  rlang::set_names(list(if (identical(labels, "")) made[[1]] else rlang::set_names(made, labels)), step$verb)
}

study_argument <- function(a) {
  if (inherits(a, "kairon_window") && !is.null(a$step)) {
    words <- paste(a$step$n, a$step$word)
    value <- if (identical(a$side, "fading")) list(half_life = words) else words
    return(rlang::set_names(list(value), a$side))
  }
  if (is.atomic(a) && !is.object(a)) {
    return(if (length(a) > 1 || !is.null(names(a))) as.list(a) else a)
  }
  NULL
}
