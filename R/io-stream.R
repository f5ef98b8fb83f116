# Files whose rows stay where they are.

# The first piece tells kinds, zone, type and cadence; all later ones are read when they are asked for.
open_stream <- function(files, roles, given, how, join, call) {
  check_streamable(how, join, call)
  options <- stream_options(given, call)
  open <- function() file_pieces(files, roles, given, how, call)
  first <- open()()
  label <- if (nrow(files) == 1) files$name else paste(nrow(files), "files")
  if (is.null(first)) {
    abort_input(c("{.file {label}} has a header only.", i = "At least one row is needed."), call = call,
                .envir = environment())
  }
  # Which repeats there are is for all pieces to say, not for the first.
  given$repeats <- rlang::quo("first")
  first$rejects <- NULL
  template <- suppressWarnings(index_table(first, first$header, roles, given, label, NULL, call))
  meta <- timeline_meta(template)
  marked <- Filter(function(m) is_marked(template, m), names(meta$kinds))
  if (length(marked)) {
    abort_state(c("The origins of {.field {marked}} need the rows here.",
                  i = "Read them, without {.arg remote}."), call = call)
  }
  meta$rejects <- meta$rejects[0, , drop = FALSE]
  meta["news"] <- list(NULL)
  attr(template, "timeline") <- meta
  out <- new_stream(open, template, label, sum(file.size(files$path)), options)
  cadence <- if (isTRUE(meta$declared)) meta$cadence else told_cadence(first$header)
  if (!is.null(cadence)) out$told <- cadence
  out
}

check_streamable <- function(how, join, call) {
  if (how$layout == "across") {
    abort_state("A table with periods across its columns is read as a whole: leave {.arg remote} out.",
                call = call)
  }
  if (!is.null(join)) abort_remote_join(call)
}

abort_remote_join <- function(call) {
  abort_state(c("Attributes cannot be joined to rows that stay where they are.",
                i = "Join them to the result, as {.fn merge} does, or read the rows: without {.arg remote}."
              ), call = call)
}

# What every piece is indexed by.
stream_options <- function(given, call) {
  value <- function(name) if (name %in% names(given)) rlang::eval_tidy(given[[name]])
  repeats <- check_choice(value("repeats") %||% "refuse", c("refuse", "first", "last", "mean"), "repeats",
                          call)
  if (repeats %in% c("last", "mean")) {
    abort_state(c("Rows that are read piece by piece keep the first of a repeated stamp, or refuse repeats.",
                  i = "Say {.code repeats = \"first\"}, or leave {.arg remote} out."), call = call)
  }
  list(repeats = repeats, day_first = value("day_first"), epoch = value("epoch"))
}
