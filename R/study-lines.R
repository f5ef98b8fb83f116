# A study's YAML with the line of each key, so that a mistake can be told where it stands.

read_yaml_text <- function(path, call = rlang::caller_env()) {
  if (!is.character(path) || length(path) != 1 || is.na(path)) {
    abort_input("A study is named by one file, such as {.val study.yml}.", call = call)
  }
  if (!file.exists(path) || dir.exists(path)) {
    near <- nearest_word(basename(path), list.files(dirname(path), "\\.ya?ml$"))
    abort_file(c("There is no study {.file {path}}.",
                 i = if (!is.null(near)) "Did you mean {.file {file.path(dirname(path), near)}}?"),
               call = call)
  }
  lines <- yaml_lines(path, call)
  tab <- grep("^ *\t", lines)
  if (length(tab)) {
    abort_file(c("Line {tab[1]} of {.file {path}} is indented by a tab.", i = "YAML takes spaces only."),
               call = call, .envir = environment())
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
    ), call = call, .envir = environment())
  }
  # What the library only warns of (numbers beyond all whole ones, names without a place) is wrong too.
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
  "int#base60" = identity, "float#base60" = identity, "int#oct" = identity, "timestamp#ymd" = identity,
  "timestamp#iso8601" = identity, "timestamp#spaced" = identity
)

# The line of each path, such as "routine/2/impute". Items of lists are counted from 1. What stands in braces
# or brackets has the line of the key before it.
key_lines <- function(lines) {
  out <- list()
  stack <- list()
  block <- -1
  key <- "^(\"[^\"]*\"|'[^']*'|[^#\\[\\]{},&*!|>%@\"' -][^:#]*|[^#\\[\\]{},&*!|>%@\"' ][^:#]*) *:( |$)"
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
