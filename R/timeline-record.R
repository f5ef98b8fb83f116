# The record: what a timeline knows of its columns, in its one attribute, "timeline". No other code
# tells from a column's name what the column is.
#
#   time        name of the time column; its stamps are Date, POSIXct or numbers
#   series      names of the columns that tell series apart (none, one or more)
#   kinds       named character: measure -> "level" or "amount"
#   units       named character: measure -> unit, "" where not told
#   beside      measure -> named character: what stands beside it (`companion_kinds`) -> its column
#   raw         measure -> the measure that holds its values before a step
#   undo        measure -> the steps that changed its scale, see verb-stabilise.R
#   attributes  names of the columns that are constant within a series
#   aside       columns of numbers that are no measures: parts that stamps were made of
#   zone, type  the zone's name; "date", "instant" or "step"
#   cadence     see time-cadence.R; an irregular one where there is no grid
#   sums        word: what stands where a series sums over a column; NULL without totals
#   declared    whether the cadence was declared, not found
#   rejects     rows that could not be read; repeats: how many were settled in each series
#   news        what was decided while it was built, in words
#   ledger, findings, read_every: what verbs left

new_record <- function(time, series, kinds, units, attributes, zone, type, ..., cadence = NULL,
                       beside = NULL,
                       raw = NULL) {
  structure(
    list(
      time = time, series = as.character(series), kinds = kinds, units = units[names(kinds)],
      attributes = as.character(attributes), zone = zone, type = type, cadence = cadence,
      beside = as.list(beside), raw = as.list(raw), ...
    ),
    class = "kairon_record"
  )
}

timeline_meta <- function(x) attr(x, "timeline")

new_timeline <- function(data, meta) {
  # One by one: structure() would spell out the row names of a long table.
  attr(data, "timeline") <- meta
  class(data) <- c("kairon_timeline", "data.frame")
  data
}

# The first thing wrong with a record for columns of these names, in words; NULL where it is true.
record_problem <- function(meta, names) {
  if (!inherits(meta, "kairon_record")) {
    return("its record is gone")
  }
  lost <- setdiff(c(meta$time, meta$series, names(meta$kinds), meta$attributes, unlist(meta$raw)),
                  names)
  if (length(lost)) {
    return(paste("it has no column", lost[1]))
  }
  for (m in names(meta$beside)) {
    lost <- setdiff(meta$beside[[m]], names)
    if (length(lost)) {
      kind <- names(meta$beside[[m]])[match(lost[1], meta$beside[[m]])]
      word <- companion_kinds[[kind]]$word
      return(paste0("the ", word, " of ", m, " stood in ", lost[1], ", which is gone"))
    }
  }
  strange <- setdiff(c(names(meta$beside), names(meta$raw), names(meta$undo)), names(meta$kinds))
  if (length(strange)) paste("it knows of a measure", strange[1], "that it has not")
}

# Every invariant; tests call it too.
check_timeline <- function(x) {
  if (inherits(x, c("kairon_distant", "kairon_distant_bins"))) {
    abort_state(c("This needs the rows here.", i = "Bring them with {.fn as_timeline} first."))
  }
  if (!is_timeline(x)) {
    abort_input(c(
      "This needs a timeline, not {.obj_type_friendly {x}}.",
      i = "Make one with {.fn timeline} or {.fn read_timeline}."
    ))
  }
  problem <- record_problem(timeline_meta(x), names(x))
  if (!is.null(problem)) {
    abort_state(c(
      "This timeline is no longer whole: {problem}.",
      i = "Rename its columns with {.code names(x) <- }, or make it anew with {.fn timeline}."
    ))
  }
  invisible(x)
}

#' @rdname timeline
#' @export
is_timeline <- function(x) inherits(x, "kairon_timeline")

as_plain <- function(x) {
  attr(x, "timeline") <- NULL
  class(x) <- setdiff(class(x), "kairon_timeline")
  x
}

# Where a value came from, and what may be wrong with it ----

origin_levels <- c(
  "observed", "summarised", "interpolated", "imputed", "repaired", "forecast"
)

measured_origins <- c("observed", "summarised")

measured_codes <- length(measured_origins) # they come first

summarised_code <- match("summarised", origin_levels)
interpolated_code <- match("interpolated", origin_levels)
repaired_code <- match("repaired", origin_levels)
forecast_code <- match("forecast", origin_levels)

# Why a reading was flagged as a fault.
fault_rules <- c("spike", "stuck", "limit", "jump")

# Companions ----

# What can stand beside a measure: the word for it, whether a column can be that, and what a row has
# of which nothing is told.
companion_kinds <- list(
  origin = list(word = "origins", ours = function(v) all_among(v, origin_levels),
                plain = "observed"),
  coverage = list(word = "coverage", plain = 1,
                  ours = function(v) is.numeric(v) && all(v >= 0 & v <= 1, na.rm = TRUE)),
  flag = list(word = "flags", ours = function(v) all_among(v, fault_rules), plain = NA),
  # From when on a matched value was known.
  known_from = list(word = "instants of knowledge", ours = function(v) inherits(v, "POSIXct"),
                    plain = NA),
  # How many series stand behind a pooled value.
  series = list(word = "numbers of series", ours = is.numeric, plain = NA)
)

all_among <- function(v, words) {
  is.factor(v) && all(levels(v) %in% words) || is.character(v) && !all(is.na(v)) &&
    all(v %in% c(words, NA))
}

# The column that holds it; NULL where there is none.
companion_name <- function(x, measure, kind) {
  meta <- if (inherits(x, "kairon_record")) x else timeline_meta(x)
  held <- meta$beside[[measure]]
  if (kind %in% names(held)) held[[kind]]
}

companion <- function(x, measure, kind) {
  name <- companion_name(x, measure, kind)
  if (!is.null(name)) x[[name]]
}

# Puts a column beside a measure, or takes it away.
set_companion <- function(x, measure, kind, values) {
  meta <- timeline_meta(x)
  name <- companion_name(meta, measure, kind)
  if (is.null(values) && is.null(name)) {
    return(x)
  }
  if (is.null(values)) {
    held <- meta$beside[[measure]]
    held <- held[setdiff(names(held), kind)]
    meta$beside[[measure]] <- if (length(held)) held
  } else if (is.null(name)) {
    # A column of the user's own stays what it is.
    name <- free_name(paste0(measure, "_", kind), names(x))
    meta$beside[[measure]] <- c(meta$beside[[measure]], rlang::set_names(name, kind))
  }
  x <- put_column(x, name, values)
  attr(x, "timeline") <- meta
  x
}

free_name <- function(name, taken) {
  if (name %in% taken) utils::tail(make.unique(c(taken, name), sep = "_"), 1) else name
}

# Sets a column without the checks that a user's own assignment needs.
put_column <- function(x, name, values) {
  class <- oldClass(x)
  x <- unclass(x)
  x[[name]] <- values
  class(x) <- class
  x
}

# All columns that stand beside measures.
companion_columns <- function(x, measures = NULL) {
  beside <- (if (inherits(x, "kairon_record")) x else timeline_meta(x))$beside
  unlist(if (is.null(measures)) beside else beside[intersect(measures, names(beside))],
         use.names = FALSE)
}

# What kind each of them is of: column -> kind.
companion_roles <- function(meta, measures = names(meta$beside)) {
  beside <- unname(meta$beside[intersect(measures, names(meta$beside))])
  stats::setNames(as.character(unlist(lapply(beside, names))), unlist(beside, use.names = FALSE))
}

# What stands beside in either of two.
merge_companions <- function(a, b) {
  for (m in names(b)) a[[m]] <- c(a[[m]], b[[m]][setdiff(names(b[[m]]), names(a[[m]]))])
  a
}

# Rows of which nothing is told: every column of these roles, filled with what such rows have.
complete_companions <- function(part, roles) {
  for (name in setdiff(names(roles), names(part))) {
    plain <- companion_kinds[[roles[[name]]]]$plain
    part[[name]] <- rep(
      if (roles[[name]] == "origin") factor(plain, levels = origin_levels) else plain, nrow(part)
    )
  }
  part
}

# Without the companions whose column is gone.
keep_companions <- function(meta, names) {
  meta$beside <- Filter(length, lapply(meta$beside, function(held) held[held %in% names]))
  meta$raw <- Filter(function(name) name %in% names, meta$raw)
  for (part in c("beside", "raw", "undo")) {
    meta[[part]] <- meta[[part]][names(meta[[part]]) %in% names(meta$kinds)]
  }
  meta
}

# Where measures were made anew: what stands beside them is still to come.
for_new_measures <- function(meta, names) {
  meta$beside <- list()
  keep_companions(meta, names)
}

# A table that comes without a record, such as one that as.data.frame() gave. Only what cannot be
# anything else is taken for a companion, by the names that we give: a column of origins among the
# words for them, coverage beside origins, flags and instants. All else is the user's own.
adopt_companions <- function(data, measures) {
  out <- list()
  for (m in measures) {
    for (kind in c("origin", "coverage", "flag", "known_from")) {
      name <- paste0(m, "_", kind)
      if (!name %in% names(data) || kind == "coverage" && is.null(out[[m]])) next
      if (companion_kinds[[kind]]$ours(data[[name]])) {
        out[[m]] <- c(out[[m]], rlang::set_names(name, kind))
      } else if (kind == "origin") {
        say_odd_origins(data[[name]], name)
      }
    }
  }
  out
}

# What is not told to be measured is not taken for it.
known_origins <- function(words, name) {
  odd <- !words %in% c(origin_levels, NA)
  if (any(odd)) {
    word <- words[odd][1]
    tell(c("!" = "{.field {name}} holds {.val {word}}, which is no origin, and is taken for \
                  {.val interpolated}."))
    words[odd] <- "interpolated"
  }
  words
}

known_flags <- function(words, name) {
  odd <- !words %in% c(fault_rules, NA)
  if (any(odd)) {
    word <- words[odd][1]
    tell(c("!" = "{.field {name}} holds {.val {word}}, which is no flag, and is left out \
                  ({sum(odd)} row{?s}).",
           i = "Flags are {.val {fault_rules}}."))
    words[odd] <- NA
  }
  words
}

# One word that is no origin, and no value counts as invented: that is said.
say_odd_origins <- function(words, name) {
  words <- unique(as.character(words))
  odd <- setdiff(words, c(origin_levels, NA))
  if (length(odd) < length(words) && any(words %in% origin_levels)) {
    tell(c("!" = "{.field {name}} holds {.val {odd[1]}}, which is no origin, and is taken for a \
                  column of your own: all values count as observed.",
           i = "Origins are {.val {origin_levels}}."))
  }
}

# The first rows of many may tell no origin and no flag yet: a column that is called like that and
# is empty there is one; not where it is `typed` as numbers.
adopt_blank_companions <- function(template, typed = FALSE) {
  meta <- timeline_meta(template)
  levels <- list(origin = origin_levels, flag = fault_rules)
  for (m in names(meta$kinds)) {
    for (kind in names(levels)) {
      name <- paste0(m, "_", kind)
      free <- name %in% setdiff(names(template), c(meta$series, meta$attributes, meta$time))
      blank <- all(is.na(template[[name]])) && !(typed && is.numeric(template[[name]]))
      if (!free || kind %in% names(meta$beside[[m]]) || !blank) next
      meta$beside[[m]] <- c(meta$beside[[m]], rlang::set_names(name, kind))
      meta$kinds <- meta$kinds[setdiff(names(meta$kinds), name)]
      meta$units <- meta$units[setdiff(names(meta$units), name)]
      template[[name]] <- factor(rep(NA, nrow(template)), levels = levels[[kind]])
    }
  }
  attr(template, "timeline") <- meta
  template
}

# The columns as a timeline holds them: text of origins and flags becomes factors.
settle_companions <- function(data, beside) {
  for (held in beside) {
    for (kind in names(held)) {
      name <- held[[kind]]
      column <- data[[name]]
      data[[name]] <- switch(kind,
        origin = if (identical(levels(column), origin_levels)) column else
          factor(known_origins(as.character(column), name), levels = origin_levels),
        flag = if (identical(levels(column), fault_rules)) column else
          factor(known_flags(as.character(column), name), levels = fault_rules),
        known_from = if (inherits(column, "POSIXct")) column else
          from_seconds(cpp_read_stamps(as.character(column), 1L)$seconds, "instant", "UTC"),
        as.double(column)
      )
    }
  }
  data
}

# What a user has put where companions stand.
check_beside <- function(data, meta) {
  for (m in names(meta$beside)) {
    for (kind in names(meta$beside[[m]])) {
      name <- meta$beside[[m]][[kind]]
      about <- companion_kinds[[kind]]
      if (about$ours(data[[name]]) || all(is.na(data[[name]]))) next
      abort_input(c("{.field {name}} is where the {about$word} of {.field {m}} are kept.",
                    i = "Give the column another name."))
    }
  }
}

# Renaming ----

# The record after columns were renamed: old name -> new name.
rename_record <- function(meta, new) {
  rename <- function(old) {
    hit <- old %in% names(new)
    old[hit] <- new[old[hit]]
    unname(old)
  }
  for (part in c("kinds", "units", "beside", "raw", "undo")) {
    if (length(meta[[part]])) names(meta[[part]]) <- rename(names(meta[[part]]))
  }
  meta$beside <- lapply(meta$beside, function(held) rlang::set_names(rename(held), names(held)))
  meta$raw <- lapply(meta$raw, rename)
  for (role in c("time", "series", "attributes", "aside")) {
    if (length(meta[[role]])) meta[[role]] <- rename(meta[[role]])
  }
  meta
}

# Values before a step ----

# They are kept as a measure of their own.
raw_column <- function(x, m) timeline_meta(x)$raw[[m]]

keep_raw <- function(x, m, values, meta) {
  full <- timeline_meta(x)
  name <- full$raw[[m]]
  if (is.null(name)) {
    name <- free_name(paste0(m, "_raw"), names(x))
    full$raw[[m]] <- name
  }
  x <- put_column(x, name, values)
  full$kinds[[name]] <- meta$kinds[[m]]
  full$units[[name]] <- meta$units[[m]]
  attr(x, "timeline") <- full
  x
}

raw_columns <- function(x, measures) {
  vapply(measures, function(m) raw_column(x, m) %||% NA_character_, "", USE.NAMES = FALSE)
}

# Choosing measures, and picking statistics for them.

# Measures asked for, or all.
check_measures <- function(x) {
  if (length(timeline_meta(x)$kinds) == 0) {
    abort_state("This timeline has no measures (numeric columns).")
  }
}

pick_measures <- function(x, quo, arg = "measures", raw = FALSE) {
  check_measures(x)
  all <- names(timeline_meta(x)$kinds)
  chosen <- column_names(quo, timeline_meta(x)$kinds, arg)
  # Raw values that are kept beside are asked for by name, or with `raw`.
  if (length(chosen)) chosen else if (raw) all else setdiff(all, unlist(timeline_meta(x)$raw))
}

# Whether the caller chose measures: not where a variable that holds NULL was handed on.
measures_given <- function(x, quo) {
  length(column_names(quo, timeline_meta(x)$kinds)) > 0
}

kind_of <- function(x, measure) timeline_meta(x)$kinds[[measure]]
unit_of <- function(x, measure) timeline_meta(x)$units[[measure]]

# "demand (m3)"
measure_label <- function(x, measure) {
  unit <- unit_of(x, measure)
  if (nzchar(unit)) paste0(measure, " (", unit, ")") else measure
}

# The statistic grammar ----
# Returns a list: measure -> named list of statistics (a name or a function).

# `level`: the usual statistic of a level.
read_statistics <- function(x, dots, level = "mean") {
  measures <- names(timeline_meta(x)$kinds)
  given <- names(dots) %||% rep("", length(dots))
  loose <- dots[given == ""]
  if (length(loose) > 1) {
    abort_input(c(
      "Give statistics in one vector, or by measure.",
      i = "Write {.code c(\"mean\", \"sd\")} or {.code flow = \"mean\"}."
    ))
  }
  if (length(dots) == 0) {
    return(lapply(rlang::set_names(measures), function(m) by_kind(x, m, level)))
  }
  if (length(loose) == 1 && length(dots) == 1) {
    wanted <- statistic_list(loose[[1]], "...")
    return(lapply(rlang::set_names(measures), function(m) wanted))
  }
  if (length(loose)) {
    abort_input("Give statistics for all measures or by measure, not both.")
  }
  check_columns(given, measures)
  Map(statistic_list, dots, given)
}

by_kind <- function(x, measure, level) {
  name <- if (kind_of(x, measure) == "amount") "sum" else level
  rlang::set_names(list(name), name)
}

statistic_list <- function(given, measure) {
  if (is.function(given)) {
    return(list(own = given))
  }
  wanted <- as.list(given)
  labels <- names(wanted) %||% rep("", length(wanted))
  for (i in seq_along(wanted)) {
    one <- wanted[[i]]
    if (is.function(one)) {
      if (!nzchar(labels[i])) labels[i] <- paste0("own", i)
      next
    }
    if (!is.character(one) || length(one) != 1 || !is_statistic(one)) {
      hint <- if (is.character(one)) nearest_word(one[1], statistic_words)
      shown <- if (is.character(one)) one else class(one)[1]
      abort_input(c(
        "There is no statistic \\
         {.val {shown}}{if (measure != '...') paste0(' (for ', measure, ')')}.",
        i = if (!is.null(hint)) "Did you mean {.val {hint}}?",
        i = "There are {.val {statistic_words}} and quantiles such as {.val q90}."
      ))
    }
    if (!nzchar(labels[i])) labels[i] <- one
  }
  if (length(wanted) == 0) {
    abort_input("No statistic is given{if (measure != '...') paste(' for', measure)}.")
  }
  rlang::set_names(wanted, labels)
}

# Whether a statistic of an amount is an amount again, and its unit.
result_kind <- function(kind, statistic) {
  if (kind == "amount" && identical(statistic, "sum")) "amount" else "level"
}

result_unit <- function(unit, statistic) {
  if (!is.character(statistic)) {
    return("")
  }
  switch(statistic,
    count = "readings",
    zscore = "sd",
    correlation = "",
    var = if (nzchar(unit)) paste0("(", unit, ")2") else "",
    slope = if (nzchar(unit)) paste(unit, "per day") else "",
    unit
  )
}
