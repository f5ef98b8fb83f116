# What a CSV file cannot say in its cells stands in comment lines above its header, each with the
# mark, a key, an equals sign and a value. The values are JSON, so that names may hold anything. A
# pipe of several calls keeps kinds, units, cadence and origins that way.

header_mark <- "# kairon: "
header_version <- 1

header_lines <- function(x) {
  fields <- header_fields(x)
  enc2utf8(paste0(header_mark, names(fields), " = ", vapply(fields, field_json, "")))
}

field_json <- function(value) {
  as.character(jsonlite::toJSON(value, auto_unbox = TRUE, digits = NA, null = "null", na = "null"))
}

# All fields as one object.
header_json <- function(x) field_json(header_fields(x))

header_fields <- function(x) {
  meta <- timeline_meta(x)
  kinds <- meta$kinds
  beside <- keep_companions(meta, names(x))$beside
  units <- meta$units[nzchar(meta$units)]
  cadence <- if (is_regular(x)) unclass(meta$cadence)
  fields <- list(
    timeline = header_version, time = meta$time, series = as.list(meta$series),
    amounts = as.list(names(kinds)[kinds == "amount"]),
    levels = as.list(names(kinds)[kinds == "level"]), attributes = as.list(meta$attributes),
    numbers = as.list(Filter(function(n) is.numeric(x[[n]]), meta$series)),
    units = as.list(units), zone = meta$zone,
    cadence = cadence, sums = meta$sums, beside = lapply(beside, as.list), raw = meta$raw,
    undo = undo_fields(x)
  )
  Filter(length, fields)
}

# The fields of a file's header, or NULL; `lines` says how many lines they take.
read_header <- function(path, name) {
  start <- mend_bytes(readLines(path, n = 40, warn = FALSE, encoding = "UTF-8"))
  if (length(start)) start[1] <- sub("^\ufeff", "", start[1])
  held <- startsWith(start, header_mark)
  if (!isTRUE(held[1])) {
    return(NULL)
  }
  count <- which(!c(held, FALSE))[1] - 1
  text <- substring(start[seq_len(count)], nchar(header_mark) + 1)
  fields <- lapply(seq_along(text), function(i) header_value(text[i], i, name))
  names(fields) <- trimws(sub("=.*", "", text))
  check_header_version(fields, name)
  c(fields, lines = count)
}

header_value <- function(text, line, name) {
  tryCatch(
    jsonlite::fromJSON(sub("^[^=]*=", "", text), simplifyVector = TRUE, simplifyDataFrame = FALSE),
    error = function(e) {
      abort_file(c(
        "Line {line} of {.file {name}} cannot be read.",
        x = "After the equals sign a value in JSON is expected: {.code {text}}."
      ), .envir = list2env(list(name = name, line = line, text = text)))
    }
  )
}

# The rest of the file, in a file of its own.
below_lines <- function(path, count) {
  out <- tempfile(fileext = ".csv")
  from <- file(path, "rb")
  to <- file(out, "wb")
  on.exit({
    close(from)
    close(to)
  })
  readLines(from, n = count, warn = FALSE)
  copy_bytes(from, to)
  out
}

# What the header says counts where the caller says nothing.
with_header <- function(roles, given, header, names) {
  if (is.null(header)) {
    return(list(roles = roles, given = given))
  }
  there <- function(field) intersect(unlist(header[[field]]), names)
  # What is NULL is not said.
  given <- given[!vapply(given, rlang::quo_is_null, TRUE)]
  for (role in c("time", "series")) {
    silent <- rlang::quo_is_null(roles[[role]])
    if (silent && length(there(role))) roles[[role]] <- rlang::as_quosure(there(role), emptyenv())
  }
  units <- unlist(header$units)
  fields <- list(
    amounts = there("amounts"), levels = there("levels"), attributes = there("attributes"),
    units = units[names(units) %in% names], zone = unlist(header$zone)
  )
  # A kind that is told now goes before what the file says.
  if ("amounts" %in% names(given)) fields$levels <- NULL
  if ("levels" %in% names(given)) fields$amounts <- NULL
  for (field in setdiff(names(fields), names(given))) {
    if (length(fields[[field]])) given[[field]] <- rlang::new_quosure(fields[[field]], emptyenv())
  }
  list(roles = roles, given = given)
}

# Origins, coverage and their kin as a timeline holds them; series that are told apart by numbers.
restore_companions <- function(data, header) {
  for (name in intersect(unlist(header$numbers),
                         names(data))) data[[name]] <- as.numeric(data[[name]])
  settle_companions(data, told_companions(header, names(data)))
}

# What a header says stands beside each measure, in columns that there are; what it says in another
# form is no word that we know.
told_companions <- function(header, names) {
  beside <- header$beside
  if (!is.list(beside)) {
    return(list())
  }
  Filter(length, lapply(beside[names(beside) %in% names], function(held) {
    held <- unlist(held)
    held[names(held) %in% names(companion_kinds) & held %in% names]
  }))
}

told_cadence <- function(header) {
  if (is.null(header$cadence)) {
    return(NULL)
  }
  made <- if (is.list(header$cadence)) cadence_of_fields(header$cadence)
  if (is.null(made)) {
    tell(c("!" = "The cadence in the header is none, and is found from the stamps."))
  }
  made
}

# The cadence of the header, where every stamp lies on it.
restore_cadence <- function(x, header, told = FALSE) {
  word <- header$sums$word
  if (is.character(word) && length(word) == 1) {
    attr(x, "timeline")$sums <- list(word = word)
    x <- totals_first(x)
  }
  restore_undo(if (told) x else with_told_cadence(x, header), header)
}

with_told_cadence <- function(x, header) {
  meta <- timeline_meta(x)
  made <- told_cadence(header)
  if (is.null(made) || isTRUE(all.equal(unclass(made), unclass(meta$cadence)))) {
    return(x)
  }
  rows <- rows_of(x)
  fits <- tryCatch({
    k <- period_of_stamp(made, rows$seconds, rows$zone)
    all(stamp_of(made, k, rows$zone) == rows$seconds)
  }, error = function(e) FALSE)
  if (isTRUE(fits)) {
    meta$cadence <- made
    attr(x, "timeline") <- meta
  }
  x
}

# How measures go back to the scale on which they were measured, in a form that a file's header can
# hold.

# The steps of each measure, without what is found anew when they are read.
undo_fields <- function(x) {
  lapply(timeline_meta(x)$undo, function(steps) lapply(unname(steps), undo_field))
}

undo_field <- function(step) {
  # Only changes and departures go back by the values that were there.
  step$before <- step$before[if (step$kind %in% c("change",
                                                  "rebase")) names(step$before) else c("unit",
    "kind")]
  if (step$kind == "change") {
    runs <- rle(step$labels)
    step$labels <- list(name = runs$values, rows = runs$lengths)
  }
  if (is.data.frame(step$normals)) step$normals <- as.list(step$normals)
  # One series or season would lose its brackets.
  bracketed <- function(v) if (is.matrix(v)) v else I(v)
  lapply(Filter(Negate(is.null), step), function(v) {
    if (is.list(v)) lapply(v, bracketed) else if (length(v) == 1) v else bracketed(v)
  })
}

# Steps of a header onto a timeline; what is no such list is left, with a word.
restore_undo <- function(x, header) {
  meta <- timeline_meta(x)
  for (m in intersect(names(header$undo), names(meta$kinds))) {
    steps <- tryCatch(lapply(header$undo[[m]], read_undo_step), error = function(e) NULL)
    if (length(steps) == 0) {
      tell(c("!" = "What the header says of the scale of {.field {m}} cannot be read; forecasts \\
                    stay on it."))
      next
    }
    meta$undo[[m]] <- steps
  }
  attr(x, "timeline") <- meta
  x
}

read_undo_step <- function(step) {
  numbers <- function(v) as.double(unlist(lapply(v, function(one) one %||% NA)))
  check_choice(step$kind, c("power", "season", "rebase", "change"))
  step$before$kind <- check_choice(step$before$kind, c("level", "amount"))
  step$before$unit <- as.character(step$before$unit %||% "")
  for (part in c("values", "codes", "seconds")) {
    if (!is.null(step$before[[part]])) step$before[[part]] <- numbers(step$before[[part]])
  }
  step$before$codes <- if (!is.null(step$before$codes)) as.integer(step$before$codes)
  size <- length(step$before$values)
  needs <- switch(step$kind,
    power = {
      step$power <- numbers(step$power)
      step$shift <- numbers(step$shift)
      length(step$power) == length(step$labels) && length(step$shift) == length(step$labels)
    },
    season = {
      step$exact <- numbers(step$exact)
      step$effects <- matrix(as.double(step$effects), ncol = length(step$exact))
      step$breaks <- as.integer(step$breaks)
      step$first <- numbers(step$first)
      max(step$breaks) == nrow(step$effects) && length(step$breaks) == length(step$labels) + 1
    },
    rebase = {
      step$normals <- as.data.frame(lapply(step$normals, numbers))
      all(c("owner", "code", "normal", "sd") %in% names(step$normals)) &&
        size == length(step$before$seconds)
    },
    change = {
      step$labels <- rep(as.character(step$labels$name), as.integer(step$labels$rows))
      step$k <- numbers(step$k)
      if (!is.null(step$base)) step$base <- numbers(step$base)
      size == length(step$k) && size == length(step$labels)
    }
  )
  if (!isTRUE(needs)) stop("no such step")
  step
}

# What the comment lines of a CSV file say, from text in JSON held elsewhere in a file.
header_from_json <- function(text, name) {
  fields <- tryCatch(jsonlite::fromJSON(text, simplifyVector = TRUE), error = function(e) NULL)
  if (is.null(fields)) {
    abort_file("What {.file {name}} says of its columns cannot be read.",
               .envir = list2env(list(name = name)))
  }
  check_header_version(fields, name)
}

check_header_version <- function(fields, name) {
  if (identical(as.numeric(fields[["timeline"]] %||% 0), header_version)) {
    return(fields)
  }
  abort_file(c(
    "{.file {name}} has a header that this Kairon does not know.",
    x = "It is of version {.val {fields[['timeline']] %||% 'unknown'}}; this one reads \\
         {header_version}.",
    i = "Take the lines that begin with {.code {trimws(header_mark)}} out to read it as plain CSV."
  ), .envir = environment())
}
