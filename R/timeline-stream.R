# Timelines in files that need not fit into memory. Each question is one pass over the pieces of the files;
# what is kept between pieces are sums.

# `open` gives a function that gives the next piece, see file_pieces(); `size` is that of the files in bytes.
new_stream <- function(open, template, label, size, options) {
  few <- template[seq_len(min(nrow(template), 500)), ]
  if (!is_timeline(few)) few <- template
  new_distant(timeline_meta(template), label, open = open, few = few, size = size, options = options,
              class = "kairon_stream")
}

# Passes ----

# Calls `take` with the rows of each piece: series (number, in the order in which they came), seconds and
# values (a list by measure), sorted by series and time, within the span. Returns what every pass learns:
# keys, attributes, rows, first, last of each series, off (rows off the cadence), disorder (series whose
# rows lie in another order than that of time), rejects.
walk_stream <- function(x, take = function(rows) NULL, call = rlang::caller_env(), tally = new_tally(x)) {
  next_piece <- x$open()
  bar <- progress(paste("Reading", x$label), x$size)
  while (!is.null(piece <- next_piece())) {
    rows <- piece_rows(x, piece, tally, call)
    if (length(rows$seconds)) take(rows)
    if (!is.na(piece$done)) bar$reach(min(piece$done, x$size))
  }
  bar$done()
  tally
}

new_tally <- function(x) {
  out <- new.env(parent = emptyenv())
  out$seen <- new.env(parent = emptyenv())
  out$keys <- NULL
  out$text <- character()
  out$rows <- out$first <- out$last <- numeric()
  out$off <- 0
  out$disorder <- FALSE
  out$repeats <- 0
  out
}

# The rows of a piece as a pass takes them. What cannot be read is set aside.
piece_rows <- function(x, piece, tally, call) {
  meta <- x$meta
  data <- piece$data
  lines <- piece$lines
  stamps <- piece_stamps(x, piece, tally, call)
  bad <- which(nzchar(stamps$reason))
  rejects <- rbind(piece$rejects, reject_rows(data, stamps$reason, bad, lines, piece$where))
  if (!is.null(rejects) && nrow(rejects)) tally$rejects <- rbind(tally$rejects, rejects)
  seconds <- as.double(stamps$seconds)
  kept <- rep(TRUE, length(seconds))
  kept[bad] <- FALSE
  kept <- kept & seconds >= x$span[1] & seconds < x$span[2]
  if (!all(kept)) {
    data <- data[kept, , drop = FALSE]
    seconds <- seconds[kept]
    lines <- lines[kept]
  }
  if (length(seconds) == 0) {
    return(list(seconds = seconds))
  }
  check_series(data, meta$series, lines, piece$where, call)
  values <- lapply(rlang::set_names(names(meta$kinds)), piece_values, data = data, lines = lines,
                   piece = piece, call = call)
  series <- number_series(x, data, tally, call)
  in_order <- row_order(list(series), seconds)
  if (!is.null(in_order)) {
    series <- series[in_order]
    seconds <- seconds[in_order]
    values <- lapply(values, `[`, in_order)
  }
  rows <- list(series = series, seconds = seconds, values = values)
  if (!is.null(tally$keep)) rows$data <- if (is.null(in_order)) data else data[in_order, , drop = FALSE]
  rows <- settle_stream_repeats(x, rows, tally, call)
  tally_rows(x, rows, tally)
  rows
}

piece_stamps <- function(x, piece, tally, call) {
  meta <- x$meta
  stamps <- rlang::try_fetch(
    index_stamps(piece$data[[piece$time]], piece$data[piece$series], piece$time, meta$zone,
                 x$options$day_first, x$options$epoch, piece$lines, piece$where, call, tally$seen),
    kairon_error_input = function(cnd) {
      file <- piece$file
      first <- piece$lines[1]
      last <- piece$lines[length(piece$lines)]
      where <- piece$where
      abort_input("{capitalise(where)}s {first} to {last} of {.file {file}} cannot be indexed.", parent = cnd,
                  call = call, .envir = environment())
    }
  )
  if (stamps$type != meta$type) {
    file <- piece$file
    abort_input(c("The stamps of {.file {file}} change their form.",
                  x = "They are {meta$type}s at first, and {stamps$type}s from {piece$where} \\
                       {piece$lines[1]} on."),
                call = call, .envir = environment())
  }
  stamps
}

piece_values <- function(measure, data, lines, piece, call) {
  column <- data[[measure]]
  if (is.null(column)) {
    return(rep(NA_real_, nrow(data)))
  }
  if (!is.numeric(column)) {
    check_text_measure(column, measure, TRUE, lines, piece$where, call)
  }
  as.double(column)
}

# Numbers of series, in the order in which they came; new ones are entered.
number_series <- function(x, data, tally, call) {
  meta <- x$meta
  text <- joined_keys(data, meta$series)
  fresh <- which(!duplicated(text) & !text %in% tally$text)
  if (length(fresh)) {
    tally$keys <- rbind(tally$keys, data[fresh, c(meta$series, meta$attributes), drop = FALSE])
    tally$text <- c(tally$text, text[fresh])
    more <- length(fresh)
    tally$rows <- c(tally$rows, rep(0, more))
    tally$first <- c(tally$first, rep(Inf, more))
    tally$last <- c(tally$last, rep(-Inf, more))
  }
  series <- match(text, tally$text)
  for (name in meta$attributes) {
    same <- as.character(data[[name]]) == as.character(tally$keys[[name]])[series]
    odd <- which(is.na(same) != is.na(data[[name]]) | !is.na(same) & !same)
    if (length(odd)) {
      label <- series_labels(data[odd[1], meta$series, drop = FALSE])
      abort_input(c("Attribute {.field {name}} must be constant within a series.",
                    x = "It changes within {.val {label}}."), call = call)
    }
  }
  series
}

# Rows that repeat a stamp of their series lie next to each other within a piece; across pieces they are seen
# where the rows of a series come in order.
settle_stream_repeats <- function(x, rows, tally, call) {
  n <- length(rows$seconds)
  again <- c(FALSE, rows$series[-1] == rows$series[-n] & rows$seconds[-1] == rows$seconds[-n])
  starts <- c(TRUE, rows$series[-1] != rows$series[-n])
  again[starts] <- rows$seconds[starts] == tally$last[rows$series[starts]]
  if (!any(again)) {
    return(rows)
  }
  if (x$options$repeats == "refuse") {
    n <- sum(again)
    shown <- word_list(show_stamp(utils::head(rows$seconds[again], 3), x$meta$type, x$meta$zone))
    abort_input(c(
      "Stamps must differ within a series.",
      x = "{n} row{?s} repeat{?s/} a stamp, the first at {shown}.",
      i = "Keep the first of each with {.code repeats = \"first\"}."
    ), call = call)
  }
  tally$repeats <- tally$repeats + sum(again)
  rows$series <- rows$series[!again]
  rows$seconds <- rows$seconds[!again]
  rows$values <- lapply(rows$values, `[`, !again)
  if (!is.null(rows$data)) rows$data <- rows$data[!again, , drop = FALSE]
  rows
}

tally_rows <- function(x, rows, tally) {
  starts <- which(c(TRUE, diff(rows$series) != 0))
  ends <- c(starts[-1] - 1L, length(rows$series))
  if (length(rows$seconds) == 0) {
    return(invisible())
  }
  s <- rows$series[starts]
  tally$rows[s] <- tally$rows[s] + ends - starts + 1
  if (any(rows$seconds[starts] < tally$last[s])) tally$disorder <- TRUE
  tally$first[s] <- pmin(tally$first[s], rows$seconds[starts])
  tally$last[s] <- pmax(tally$last[s], rows$seconds[ends])
  cadence <- stream_cadence(x)
  if (is_regular_cadence(cadence)) {
    share <- cpp_share_on_grid(rows$seconds, span_zone(x$meta, rows$seconds), unclass(cadence))
    tally$off <- tally$off + (1 - share) * length(rows$seconds)
  }
}

stream_cadence <- function(x) x$told %||% x$meta$cadence

abort_disorder <- function(what, call = NULL) {
  abort_state(c("{what} can be told of a file in pieces only where rows come in the order of time.",
                i = "Sort the rows of each series by time, or leave {.arg remote} out."), call = call)
}

# The value of each group that was read first, or last.
edge_values <- function(values, at, group, which) {
  in_order <- order(group, if (which == "first") at else -at, na.last = TRUE)
  values[in_order[!duplicated(group[in_order])]]
}

# Facts ----

#' @export
read_facts.kairon_stream <- function(x) {
  call <- rlang::caller_env(3)
  settle_stream(x, walk_stream(x, call = call), call)
}

# Facts of a pass, in the order of a timeline; `place` of each series among them is left in the store.
settle_stream <- function(x, tally, call) {
  say_stream(x, tally, call)
  facts <- if (is.null(tally$keys)) data.frame() else tally$keys
  # Where there are no series columns the frame has no columns, but a row.
  facts <- facts[seq_along(tally$rows), , drop = FALSE]
  facts[c("rows", "first", "last")] <- list(tally$rows, tally$first, tally$last)
  facts$came <- seq_along(tally$rows)
  facts <- sort_facts(facts, x$meta, x$label, call)
  x$store$place <- match(seq_along(tally$rows), facts$came)
  facts$came <- NULL
  cadence <- stream_cadence(x)
  if (is_regular_cadence(cadence) && tally$off > 1e-6) {
    cadence <- irregular_cadence(cadence, step_seconds(cadence), 1 - tally$off / sum(tally$rows))
  }
  if (!is_regular_cadence(cadence)) facts$typical <- stream_typical(x, tally, call)[match(
    seq_len(nrow(facts)), x$store$place
  )]
  attr(facts, "cadence") <- cadence
  x$store$facts <- facts
  facts
}

say_stream <- function(x, tally, call) {
  if (!is.null(tally$rejects)) {
    tally$rejects <- tally$rejects[order(tally$rejects[[1]]), , drop = FALSE]
    rownames(tally$rejects) <- NULL
    x$store$rejects <- tally$rejects
    n <- nrow(tally$rejects)
    first <- tally$rejects[1, ]
    warn_user(c("!" = "{n} row{?s} of {x$label} could not be read and {cli::qty(n)}{?is/are} kept in \\
                       {.fn rejects}.",
                x = "The first is {names(first)[1]} {first[[1]]}: {first$reason}."))
  }
  if (tally$repeats > 0) {
    n <- tally$repeats
    tell(c(i = "{n} row{?s} that repeat{?s/} a stamp {?was/were} left out, the first of each kept."))
  }
  if (tally$disorder) {
    tell(c(i = "Rows of {x$label} lie in another order than that of time, so that not every repeat is seen."))
  }
}

# The median of the steps of each series, or of about 1,024 of them at equal distances, as the core takes it:
# a pass of its own, for readings at odd instants.
stream_typical <- function(x, tally, call) {
  if (tally$disorder) {
    abort_disorder("The usual step of readings at odd instants", call)
  }
  n <- length(tally$rows)
  stride <- pmax(1, tally$rows %/% 1024)
  before <- rep(NA_real_, n)
  count <- rep(0, n)
  steps <- list()
  walk_stream(x, function(rows) {
    starts <- which(c(TRUE, diff(rows$series) != 0))
    sizes <- diff(c(starts, length(rows$series) + 1L))
    s <- rows$series[starts]
    place <- rep(count[s], sizes) + sequence(sizes) - 1
    step <- c(NA, diff(rows$seconds))
    step[starts] <- rows$seconds[starts] - before[s]
    wanted <- place > 0 & (place - 1) %% stride[rows$series] == 0
    steps[[length(steps) + 1]] <<- list(series = rows$series[wanted], step = step[wanted])
    count[s] <<- count[s] + sizes
    before[s] <<- rows$seconds[starts + sizes - 1L]
  }, call)
  series <- unlist(lapply(steps, `[[`, "series"))
  found <- tapply(unlist(lapply(steps, `[[`, "step")), series, stats::median)
  replace(rep(Inf, n), as.integer(names(found)), as.numeric(found))
}

# Cells ----

#' @export
read_cells.kairon_stream <- function(x, phase, width, closed, needs, shift) {
  call <- rlang::caller_env(3)
  sums <- new_sums(needs, shift)
  tally <- walk_stream(x, function(rows) {
    place <- (rows$seconds - phase) / width
    cell <- if (closed == "right") ceiling(place) - 1 else floor(place)
    keep_sums(sums, cell_sums(rows, cell, phase + cell * width, needs, shift))
  }, call)
  if (is.null(x$store$facts)) settle_stream(x, tally, call)
  out <- merge_sums(sums$parts, needs, shift)
  out$series <- x$store$place[out$series]
  out
}

# Rows ----

#' @export
as_timeline.kairon_stream <- function(x, ...) {
  call <- rlang::caller_env()
  held <- list()
  tally <- new_tally(x)
  tally$keep <- TRUE
  walk_stream(x, function(rows) {
    rows$data[[x$meta$time]] <- from_seconds(rows$seconds, x$meta$type, x$meta$zone)
    held[[length(held) + 1]] <<- rows$data
  }, call, tally)
  say_stream(x, tally, call)
  if (length(held) == 0) abort_input("There are no rows in {x$label}.", call = call)
  rows_to_timeline(x, as.data.frame(data.table::rbindlist(held, use.names = TRUE, fill = TRUE)), call)
}
