# Forecasts of many series are made in pieces: a long run shows how much time is left, and one that
# is interrupted keeps the series that are done.

# `work` makes the result of a method for a batch. Pieces and their seeds depend neither on how fast
# the machine is nor on how many workers there are, so that random draws repeat.
run_pieces <- function(batch, size, work, settings, extras = list()) {
  n <- length(batch$breaks) - 1
  if (n <= 2 * size) {
    return(work(batch, settings))
  }
  groups <- unname(split(seq_len(n), ceiling(seq_len(n) / size)))
  seeds <- sample.int(.Machine$integer.max, length(groups))
  parts <- vector("list", length(groups))
  data <- list(batch = batch, work = work, settings = settings)
  items <- lapply(seq_along(groups), function(i) list(series = groups[[i]], seed = seeds[i]))
  tryCatch(
    share_out(items, data, work_piece, function(i, part) parts[[i]] <<- part, "Forecasting series",
              extras),
    interrupt = function(stop) NULL
  )
  made <- which(!vapply(parts, is.null, TRUE))
  if (length(made) == 0) rlang::interrupt()
  out <- bind_pieces(parts[made], unlist(groups[made]), n)
  if (length(made) < length(groups)) out$unreached <- unlist(groups[-made])
  out
}

work_piece <- function(data, item) {
  with_seed(item$seed, data$work(some_series(data$batch, item$series), data$settings))
}

# Results of pieces, one column a series; columns of series that were not reached are missing.
bind_pieces <- function(parts, which, n) {
  columns <- function(pick) {
    all <- do.call(cbind, lapply(parts, pick))
    out <- matrix(NA_real_, nrow(all), n)
    out[, which] <- all
    out
  }
  first <- parts[[1]]
  levels <- seq_along(first$lower)
  # Arrays of steps, series and paths; NULL where a piece has none.
  arrays <- function(name) {
    all <- lapply(parts, `[[`, name)
    if (any(vapply(all, is.null, TRUE))) {
      return(NULL)
    }
    out <- array(NA_real_, c(dim(all[[1]])[1], n, dim(all[[1]])[3]))
    at <- 0
    for (p in all) {
      size <- dim(p)[2]
      out[, which[at + seq_len(size)], ] <- p
      at <- at + size
    }
    out
  }
  list(
    point = columns(function(p) p$point),
    lower = lapply(levels, function(i) columns(function(p) p$lower[[i]])),
    upper = lapply(levels, function(i) columns(function(p) p$upper[[i]])),
    errors = if (!is.null(first$errors)) columns(function(p) p$errors),
    notes = added_notes(unlist(lapply(parts, `[[`, "notes"))),
    form = unlist(lapply(parts, `[[`, "form")),
    widened = if (!is.null(first$widened)) columns(function(p) p$widened),
    choices = bind_choices(parts, which),
    paths = arrays("paths"), joint = arrays("joint"),
    scale = arrays("scale"), parts = bind_forecast_parts(parts, columns)
  )
}

# Choices of pieces, under the numbers that their series have in the whole.
bind_choices <- function(parts, which) {
  before <- cumsum(c(0, vapply(parts, function(p) ncol(p$point), 1L)))
  do.call(rbind, lapply(seq_along(parts), function(i) {
    own <- parts[[i]]$choices
    if (!is.null(own)) own$series <- which[before[i] + own$series]
    own
  }))
}

# Parts that some piece lacks do nothing there; pieces whose parts join in other ways have none in
# common.
bind_forecast_parts <- function(parts, columns) {
  own <- lapply(parts, `[[`, "parts")
  joins <- unique(unlist(lapply(own, function(p) attr(p, "combine") %||% "add")))
  if (any(vapply(own, is.null, TRUE)) || length(joins) > 1) {
    return(NULL)
  }
  names <- unique(unlist(lapply(own, names)))
  nothing <- if (joins == "multiply") 1 else 0
  out <- lapply(rlang::set_names(names), function(name) {
    columns(function(p) p$parts[[name]] %||% (0 * p$point + nothing))
  })
  structure(out, combine = joins)
}

# The same note of several pieces becomes one, with the counts of series added up.
added_notes <- function(notes) {
  if (length(notes) < 2) {
    return(notes)
  }
  count <- "[0-9,]+(?= series)"
  plain <- sub(count, "#", notes, perl = TRUE)
  vapply(unique(plain), function(one) {
    same <- notes[plain == one]
    if (!grepl("#", one, fixed = TRUE)) {
      return(one)
    }
    found <- regmatches(same, regexpr(count, same, perl = TRUE))
    sub("#", show_number(sum(as.numeric(gsub(",", "", found))), 9), one, fixed = TRUE)
  }, "", USE.NAMES = FALSE)
}

# The rows of some series of a batch.
some_series <- function(batch, which) {
  size <- diff(batch$breaks)
  keep <- unlist(lapply(which, function(s) batch$breaks[s] + seq_len(size[s])))
  context <- batch$context
  context$stamps <- context$stamps[keep]
  context$labels <- context$labels[which]
  context$drivers <- lapply(context$drivers, `[`, keep)
  ahead <- context$ahead
  context$ahead <- function(horizon) {
    out <- ahead(horizon)
    out$drivers <- lapply(out$drivers, function(m) m[, which, drop = FALSE])
    out
  }
  list(values = batch$values[keep], breaks = c(0L, as.integer(cumsum(size[which]))),
       context = context)
}

# Many series in pieces, so that a long fit shows its progress and can be interrupted.
in_pieces <- function(batch, run, bind) {
  n <- length(batch$breaks) - 1
  if (n <= 400) {
    return(run(as.double(batch$values), batch$breaks))
  }
  ends <- unique(c(seq(200, n, by = 200), n))
  starts <- c(0, ends[-length(ends)])
  parts <- vector("list", length(ends))
  bar <- progress("Fitting series", length(ends))
  for (i in seq_along(ends)) {
    bar$tick()
    b <- batch$breaks[(starts[i] + 1):(ends[i] + 1)]
    parts[[i]] <- run(as.double(batch$values[(b[1] + 1):b[length(b)]]), as.integer(b - b[1]))
  }
  bar$done()
  bind(parts)
}
