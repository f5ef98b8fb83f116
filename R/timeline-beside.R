# Columns that stand beside a measure under names of our own: what a user has under such a name is kept apart.

# What stands where: the end of the name, the word for it, and whether a column can be one of ours.
companion_kinds <- list(
  origin = list(end = "_origin", word = "origins", ours = function(v) all_among(v, origin_levels)),
  coverage = list(end = "_coverage", word = "coverage",
                  ours = function(v) is.numeric(v) && all(v >= 0 & v <= 1, na.rm = TRUE)),
  flag = list(end = "_flag", word = "flags", ours = function(v) all_among(v, fault_rules)),
  known_from = list(end = "_known_from", word = "instants of knowledge",
    ours = function(v) inherits(v, "POSIXct")),
  series = list(end = "_series", word = "numbers of series", ours = is.numeric)
)

all_among <- function(v, words) {
  all(is.na(v)) || (is.character(v) || is.factor(v)) && all(as.character(v[!is.na(v)]) %in% words)
}

# The columns of a table that have such a name and hold something else: name, measure, and the word for what
# would stand there.
own_beside <- function(data, measures, kinds = companion_kinds) {
  out <- list()
  for (kind in kinds) {
    for (m in measures[paste0(measures, kind$end) %in% names(data)]) {
      name <- paste0(m, kind$end)
      if (!kind$ours(data[[name]])) out <- c(out, list(list(name = name, measure = m, word = kind$word)))
    }
  }
  out
}

# A table that becomes a timeline: such columns get another name, and that is said. `told`: the columns of
# which a header says that they are ours. Returns the table and the roles with the new names.
keep_apart <- function(data, roles, told) {
  kinds <- companion_kinds
  # Numbers of series come from a header only: anyone may count something under this name.
  kinds$series$ours <- function(v) FALSE
  known <- setdiff(names(data), told)
  measures <- known[vapply(data[known], is.numeric, TRUE)]
  for (own in own_beside(data[known], measures, kinds)) {
    new <- make.unique(c(names(data), paste0(own$name, "_own")), sep = "_")[length(data) + 1]
    swap <- function(names) replace(names, names == own$name, new)
    names(data) <- swap(names(data))
    roles <- lapply(roles, function(r) if (is.character(r)) swap(r) else r)
    tell(c(i = "{.field {own$name}} is called {.field {new}} here: under its name the {own$word} of \\
                {.field {own$measure}} are kept."))
  }
  list(data = data, roles = roles)
}

# A table that a user has changed.
check_beside <- function(data, measures, call = rlang::caller_env()) {
  for (own in own_beside(data, measures)) {
    abort_input(c("{.field {own$name}} is where the {own$word} of {.field {own$measure}} are kept.",
                  i = "Give the column another name."), call = call)
  }
}

# Values before a step, kept beside as a measure of their own: which column that is stands in the timeline.
raw_column <- function(x, m) timeline_meta(x)$raw[[m]]

keep_raw <- function(x, m, values, meta) {
  full <- timeline_meta(x)
  name <- full$raw[[m]]
  if (is.null(name)) {
    name <- paste0(m, "_raw")
    # A column of the user's own stays as it is.
    if (name %in% names(x)) name <- make.unique(c(names(x), name), sep = "_")[ncol(x) + 1]
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
