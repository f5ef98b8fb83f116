#' Read and check a study
#'
#' A study is a YAML file that describes a whole analysis: where the data are and what their columns
#' mean, a routine, looks, a decomposition, methods, a backtest, a forecast, and what is written.
#' `read_study()` checks every key and every choice against the schema of the format before anything
#' is run.
#'
#' @param file A study, a file such as `study.yml`.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_study`: its settings with those of the studies that it is `based_on`; paths
#'   count from the folder of the file that holds them. `study_schema()` gives the path of the JSON
#'   Schema of the format (draft 7), in which each key is explained; editors that know JSON Schema
#'   complete and check with it.
#' @section Format:
#' `kairon_study: 1` and `data` are needed, all else is left out where it is not wanted. Keys:
#' `title`, `notes`, `based_on`, `seed`, `data`, `other_data`, `routine`, `looks`, `decomposition`,
#' `methods`, `backtest`, `forecast`, `outputs`. A verb, look, method, window or rule is written as
#' its name (`vet`), with its first argument (`resample: 1 day`), or with arguments by name
#' (`impute: {with: seasonal, longest: 3 days}`). A study runs no code of its own: values are data.
#' @section Error types:
#' `kairon_error_file` where the file is missing, is not valid YAML or comes from a newer version;
#' `kairon_error_input` for mistakes in it, all of them at once, each with its line and the nearest
#' right word, and for studies that are based on each other in a circle.
#' @seealso [run_study()], [new_study()].
#' @examples
#' file <- system.file("extdata", "demand-study.yml", package = "kairon")
#' read_study(file)
#' study_schema()
#' @export
read_study <- function(file, ...) {
  refuse_more("read_study", ...)
  out <- load_study(file)
  check_required(out)
  structure(out, class = "kairon_study")
}

#' @rdname read_study
#' @export
study_schema <- function() {
  system.file("schema", "study-1.json", package = "kairon", mustWork = TRUE)
}

study_rules <- function() jsonlite::fromJSON(study_schema(), simplifyVector = FALSE)

# value: the settings; files: this one and those it rests on, each with the lines of its keys.
load_study <- function(file, above = character()) {
  read <- read_yaml_text(file)
  own <- normalizePath(file)
  if (own %in% above) {
    chain <- paste(basename(c(above, own)), collapse = " -> ")
    abort_input(c("These studies are based on each other in a circle.", x = "{chain}",
                  i = "Take {.code based_on} out of one of them."),
                  .envir = environment())
  }
  value <- read$value
  if (!is.list(value) || is.null(names(value))) {
    abort_input(c("{.file {file}} holds no keys.",
                  i = "A study begins with {.code kairon_study: 1}."), .envir = environment())
  }
  check_study_version(value[["kairon_study"]], file, read)
  rules <- study_rules()
  problems <- schema_problems(value, rules, rules, character())
  if (length(problems)) abort_study(problems, file, read$where)
  value <- resolve_paths(Filter(Negate(is.null), value), dirname(file))
  files <- list(list(file = file, where = read$where, digest = unname(tools::md5sum(file))))
  if (!is.null(value$based_on)) {
    at <- value$based_on
    if (!file.exists(at)) {
      line <- line_of(read$where, "based_on")
      abort_file(c("Line {line} of {.file {file}} names a study that is not there.",
                   x = "{.file {at}}"), .envir = environment())
    }
    base <- load_study(at, c(above, own))
    value <- merge_settings(base$value, value)
    files <- c(files, base$files)
  }
  list(value = value, files = files, file = file)
}

check_study_version <- function(version, file, read) {
  if (is.null(version)) {
    near <- nearest_word("kairon_study", names(read$value))
    abort_input(c("{.file {file}} does not say that it is a study.",
                  x = if (!is.null(near)) "Line {line_of(read$where, near)} says {.val {near}}.",
                  i = "A study begins with {.code kairon_study: 1}."),
                  .envir = environment())
  }
  if (is.numeric(version) && version > 1) {
    abort_file(c(
      "{.file {file}} was written for a newer Kairon.",
      x = "It is of format {version}; this Kairon ({utils::packageVersion('kairon')}) reads \\
           format 1.",
      i = "Install a newer Kairon, or write the study in format 1."
    ), .envir = environment())
  }
}

# Settings of the study itself go before those it is based on, key by key within a section.
merge_settings <- function(base, own) {
  sections <- c("data", "other_data", "methods", "decomposition", "backtest", "forecast", "outputs")
  for (key in setdiff(names(own), "based_on")) {
    both <- key %in% sections && is.list(base[[key]]) && is.list(own[[key]])
    if (both) base[[key]][names(own[[key]])] <- own[[key]] else base[[key]] <- own[[key]]
  }
  base
}

path_keys <- c("source", "join", "events", "based_on")

resolve_paths <- function(value, folder) {
  if (!is.list(value)) {
    return(value)
  }
  for (key in intersect(names(value), path_keys)) {
    if (is.character(value[[key]])) {
      plain <- is_address(value[[key]]) | grepl("^(/|~|[A-Za-z]:)", value[[key]]) | folder == "."
      value[[key]] <- ifelse(plain, value[[key]], file.path(folder, value[[key]]))
    }
  }
  value[] <- lapply(value, resolve_paths, folder)
  value
}

check_required <- function(study) {
  value <- study$value
  missing <- setdiff(c("kairon_study", "data"), names(value))
  if (length(missing)) {
    abort_input("{.file {study$file}} needs the key {.code {missing[1]}}.")
  }
  if (is.null(value$data$source)) {
    abort_input(c("{.file {study$file}} does not say where the data are.",
                  i = "Write {.code source:} under {.code data:}."))
  }
  check_study_folder(study)
  for (report in value$outputs$report) {
    fits <- basename(report) == report &&
      tolower(tools::file_ext(report)) %in% c("html", "htm", "md")
    if (!fits) {
      line <- study_line(study, c("outputs", "report"))
      abort_input(c("{line}: {.val {report}} is no name of a report.",
                    i = "Write a plain name such as {.val report.html} or {.val report.md}; \\
                         {.code folder} says where it goes."), .envir = environment())
    }
  }
  needs_horizon <- !is.null(value$forecast) || !is.null(value$backtest)
  if (needs_horizon && is.null(value$forecast$horizon) && is.null(value$backtest$horizon)) {
    line <- study_line(study, if (is.null(value$forecast)) "backtest" else "forecast")
    abort_input(c("{line} says no {.code horizon}.", i = "Write how far to look ahead, such as \\
                  {.code horizon: 28 days}."), .envir = environment())
  }
}

# "Line 12 of study.yml", in the file that says it.
study_line <- function(study, path) {
  held <- Filter(function(f) !is.null(f$where[[paste(path, collapse = "/")]]), study$files)
  from <- if (length(held)) held[[1]] else study$files[[1]]
  paste0("Line ", line_of(from$where, path), " of ", from$file)
}

# Checking against the schema ----

abort_study <- function(problems, file, where) {
  lines <- vapply(problems, function(p) line_of(where, p$path), 1L)
  order <- order(lines)
  shown <- utils::head(order, 8)
  says <- vapply(shown, function(i) {
    paste0("Line ", lines[i], ": ", problems[[i]]$text, if (!is.null(problems[[i]]$near)) {
      paste0(" Did you mean \"", problems[[i]]$near, "\"?")
    })
  }, "")
  n <- length(problems)
  abort_input(c(
    if (n == 1) "{.file {file}} has a mistake." else "{.file {file}} has {n} mistakes.",
    points(says, "x"),
    i = if (n > length(shown)) "And {n - length(shown)} more."
  ), .envir = list2env(list(file = file, n = n, shown = shown)))
}

problem <- function(path, text, near = NULL) list(list(path = path, text = text, near = near))

schema_problems <- function(value, rule, root, path) {
  if (!is.null(rule[["$ref"]])) rule <- root$definitions[[basename(rule[["$ref"]])]]
  if (is.null(value)) {
    return(list())
  }
  if (!is.null(rule$anyOf)) {
    return(branch_problems(value, rule$anyOf, root, path))
  }
  kind <- yaml_kind(value)
  key <- if (length(path)) path[length(path)] else "the study"
  if (!is.null(rule$const) &&
      !identical(suppressWarnings(as.numeric(value)), as.numeric(rule$const))) {
    return(problem(path, paste0(key, " must be ", rule$const, ".")))
  }
  if (!is.null(rule$enum)) {
    return(choice_problems(value, unlist(rule$enum), key, path))
  }
  wanted <- unlist(rule$type)
  if (length(wanted) && !fits_kind(kind, wanted)) {
    return(problem(path, paste0(key, " must be ", kind_words(wanted), ", not ", kind_words(kind),
                                ".")))
  }
  if (kind == "object" && !is.null(rule$properties)) {
    return(object_problems(value, rule, root, path))
  }
  if (kind == "object" && is.list(rule$additionalProperties)) {
    return(unlist(lapply(names(value), function(k) {
      schema_problems(value[[k]], rule$additionalProperties, root, c(path, k))
    }), recursive = FALSE))
  }
  if (!is.null(rule$items) && kind != "object") {
    return(unlist(lapply(seq_along(value), function(i) {
      schema_problems(value[[i]], rule$items, root, c(path, if (kind == "array") i))
    }), recursive = FALSE))
  }
  list()
}

# Fits one of several forms; else what is wrong with the form that it seems to be.
branch_problems <- function(value, branches, root, path) {
  found <- lapply(branches, schema_problems, value = value, root = root, path = path)
  if (any(lengths(found) == 0)) {
    return(list())
  }
  kind <- yaml_kind(value)
  resembles <- vapply(branches, function(b) {
    if (!is.null(b[["$ref"]])) b <- root$definitions[[basename(b[["$ref"]])]]
    if (!is.null(b$enum)) kind == "string" else kind %in% unlist(b$type) || !is.null(b$anyOf)
  }, TRUE)
  found[[if (any(resembles)) which(resembles)[1] else 1]]
}

choice_problems <- function(value, choices, key, path) {
  if (is.character(value) && length(value) == 1 && value %in% choices) {
    return(list())
  }
  if (is.numeric(value) && length(value) == 1 && value %in% choices) {
    return(list())
  }
  seen <- if (is.atomic(value)) paste0("\"", value[1], "\"") else kind_words(yaml_kind(value))
  if (grepl("^[0-9]+$", key)) key <- "this"
  problem(path, paste0(key, " must be one of ", word_list(choices, 8), ", not ", seen, "."),
          if (is.character(value)) nearest_word(value[1], choices))
}

object_problems <- function(value, rule, root, path) {
  known <- names(rule$properties)
  unlist(lapply(seq_along(value), function(i) {
    key <- names(value)[i]
    if (key %in% known) {
      return(schema_problems(value[[i]], rule$properties[[key]], root, c(path, key)))
    }
    if (!isFALSE(rule$additionalProperties)) {
      return(list())
    }
    near <- nearest_word(key, known)
    place <- if (length(path) == 0) "A study" else sub("^([0-9]+)$", "Item \\1", path[length(path)])
    problem(c(path, key), paste0(place, " has no key \"", key, "\"", if (is.null(near)) {
      paste0("; there ", if (length(known) == 1) "is " else "are ", word_list(known, 14))
    }, "."), near)
  }), recursive = FALSE)
}

yaml_kind <- function(value) {
  if (is.list(value)) {
    return(if (length(value) && !is.null(names(value))) "object" else "array")
  }
  if (length(value) > 1) {
    return("array")
  }
  switch(class(value)[1], character = "string", logical = "boolean", integer = "integer", "number")
}

# A list of one item is written without brackets as well.
fits_kind <- function(kind, wanted) {
  kind %in% wanted || kind == "integer" && "number" %in% wanted ||
    "array" %in% wanted && kind != "object"
}

kind_words <- function(kinds) {
  words <- c(string = "text", object = "keys with values", array = "a list",
             boolean = "true or false", integer = "a whole number", number = "a number")
  paste(words[kinds], collapse = " or ")
}

#' @export
format.kairon_study <- function(x, ...) {
  v <- x$value
  names_of <- function(calls) {
    word_list(vapply(as_items(calls), function(c) study_call(c)$name, ""), 8)
  }
  source <- unlist(v$data$source)
  c(
    paste0("Study ", x$file, if (!is.null(v$title)) paste0(": ", v$title)),
    paste0("  data: ", word_list(source), if (length(x$files) > 1) {
      paste0("; based on ", word_list(vapply(x$files[-1], `[[`, "", "file")))
    }),
    if (length(v$routine)) paste0("  routine: ", names_of(v$routine)),
    if (length(v$looks)) paste0("  looks: ", names_of(v$looks)),
    if (!is.null(v$decomposition)) "  decomposition",
    if (!is.null(v$backtest)) paste0("  backtest over ",
                                     v$backtest$horizon %||% v$forecast$horizon),
    if (!is.null(v$forecast)) paste0("  forecast over ",
                                     v$forecast$horizon %||% v$backtest$horizon),
    paste0("  outputs: ", study_folder(x))
  )
}

#' @export
print.kairon_study <- function(x, ...) {
  show_lines(format(x))
  invisible(x)
}

# A study's YAML with the line of each key, so that a mistake can be told where it stands.

read_yaml_text <- function(path) {
  if (!is.character(path) || length(path) != 1 || is.na(path)) {
    abort_input("A study is named by one file, such as {.val study.yml}.")
  }
  if (!file.exists(path) || dir.exists(path)) {
    near <- nearest_word(basename(path), list.files(dirname(path), "\\.ya?ml$"))
    abort_file(c("There is no study {.file {path}}.",
                 i = if (!is.null(near)) "Did you mean {.file {file.path(dirname(path), near)}}?"))
  }
  lines <- yaml_lines(path)
  tab <- grep("^ *\t", lines)
  if (length(tab)) {
    abort_file(c("Line {tab[1]} of {.file {path}} is indented by a tab.",
                 i = "YAML takes spaces only."), .envir = environment())
  }
  fail <- function(e) {
    says <- conditionMessage(e)
    line <- suppressWarnings(as.integer(sub(".*line ([0-9]+).*", "\\1", says)))
    where <- if (is.na(line)) "" else paste0("Line ", line, " of ")
    what <- sub("^\\([^)]*\\) ", "", sub(" at line.*", "", says))
    shown <- if (nzchar(where) && line <= length(lines)) trimws(lines[line])
    abort_file(c(
      "{where}{.file {path}} is not valid YAML.", x = "{what}",
      i = if (length(shown)) "It reads {.code {shown}}."
    ), .envir = environment())
  }
  # What the library only warns of (numbers beyond all whole ones, names without a place) is wrong
  # too.
  value <- tryCatch(
    yaml::yaml.load(paste(lines, collapse = "\n"), handlers = plain_handlers, eval.expr = FALSE),
    error = fail, warning = fail
  )
  list(value = value, lines = lines, where = key_lines(lines))
}

# Words stay words: only true and false are logical, 6:30 and 010 stay text.
plain_handlers <- list(
  "bool#yes" = function(x) if (tolower(x) == "true") TRUE else x,
  "bool#no" = function(x) if (tolower(x) == "false") FALSE else x,
  "int#base60" = identity, "float#base60" = identity, "int#oct" = identity,
  "timestamp#ymd" = identity, "timestamp#iso8601" = identity, "timestamp#spaced" = identity
)

# The line of each path, such as "routine/2/impute". Items of lists are counted from 1. What stands
# in braces or brackets has the line of the key before it.
key_lines <- function(lines) {
  out <- list()
  stack <- list()
  block <- -1
  key <-
    "^(\"[^\"]*\"|'[^']*'|[^#\\[\\]{},&*!|>%@\"' -][^:#]*|[^#\\[\\]{},&*!|>%@\"' ][^:#]*) *:( |$)"
  for (i in seq_along(lines)) {
    text <- lines[i]
    indent <- nchar(text) - nchar(sub("^ +", "", text))
    text <- substring(text, indent + 1)
    if (block >= 0 && (indent > block || !nzchar(text))) next
    block <- -1
    if (!nzchar(text) || startsWith(text, "#") || startsWith(text, "---")) next
    while (grepl("^-( |$)", text)) {
      stack <- Filter(function(s) s$indent < indent || (s$indent == indent && !s$item), stack)
      path <- parent_path(stack)
      n <- (attr(out, path, exact = TRUE) %||% 0) + 1
      attr(out, path) <- n
      here <- paste(c(if (nzchar(path)) path, n), collapse = "/")
      out[[here]] <- i
      stack <- c(Filter(function(s) s$indent < indent || (s$indent == indent && !s$item), stack),
                 list(list(indent = indent, path = here, item = TRUE)))
      rest <- sub("^- *", "", text)
      indent <- indent + nchar(text) - nchar(rest)
      text <- rest
    }
    hit <- regmatches(text, regexpr(key, text, perl = TRUE))
    if (length(hit) == 0) next
    name <- gsub("^[\"']|[\"']$", "", trimws(sub(" *:( |$)$", "", trimws(hit, "right"))))
    name <- sub(":$", "", name)
    stack <- Filter(function(s) s$indent < indent, stack)
    path <- parent_path(stack)
    here <- paste(c(if (nzchar(path)) path, name), collapse = "/")
    if (is.null(out[[here]])) out[[here]] <- i
    stack <- c(stack, list(list(indent = indent, path = here, item = FALSE)))
    if (grepl("[|>][-+0-9]*\\s*$", text)) block <- indent
  }
  attributes(out) <- list(names = names(out))
  out
}

parent_path <- function(stack) {
  if (length(stack)) stack[[length(stack)]]$path else ""
}

# The line of a path, or of the nearest one above it.
line_of <- function(where, path) {
  while (length(path)) {
    line <- where[[paste(path, collapse = "/")]]
    if (!is.null(line)) {
      return(line)
    }
    path <- path[-length(path)]
  }
  1L
}

# A list of calls; one alone needs no dash.
as_items <- function(value) {
  if (is.null(value)) list() else if (yaml_kind(value) == "object") list(value) else as.list(value)
}

# "vet", {resample: 1 day} or {impute: {with: linear}}: the name and its arguments, as they were
# written.
study_call <- function(value) {
  if (is.character(value)) {
    return(list(name = value[1], args = list()))
  }
  if (!is.list(value) || is.null(names(value))) {
    shown <- format(unlist(value))[1]
    abort_input(c("{.code {shown}} is no name.", i = "Write a name, or a name with its arguments: \\
                  {.code impute: {{with: linear}}}."), .envir = environment())
  }
  held <- value[[1]]
  args <- if (is.null(held)) list() else if (yaml_kind(held) == "object") held else list(held)
  list(name = names(value)[1], args = args)
}

study_folder <- function(study) {
  given <- study$value$outputs$folder
  here <- dirname(study$file)
  if (is.null(given)) given <- paste0(sub("\\.ya?ml$", "", basename(study$file)), "-output")
  if (here == ".") given else file.path(here, given)
}

# A study may come from anyone: what it says it writes lies below its own folder.
check_study_folder <- function(study) {
  given <- study$value$outputs$folder
  if (is.null(given) ||
      !grepl("^([/\\\\~]|[A-Za-z]:)|(^|[/\\\\])\\.\\.([/\\\\]|$)|^\\s*$", given)) {
    return(invisible())
  }
  line <- study_line(study, c("outputs", "folder"))
  abort_input(c("{line}: {.file {given}} is no folder below the study's own.",
                i = "Write a plain name such as {.val results}; whoever runs the study may \\
                     choose any \\
                     folder, with {.code folder =} or {.code --output}."))
}
