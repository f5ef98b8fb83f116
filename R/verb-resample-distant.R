# resample() and during() where the rows lie elsewhere: bins are planned here, sums of cells come from there.

#' @export
resample.kairon_distant <- function(x, every, ..., stamp = "start", closed = "left", at_least = 0,
                                    unfinished = "flag", extent = "each", empty = "missing", large = FALSE) {
  dots <- list(...)
  odd <- intersect(names(dots), c("at", "between", "within"))
  if (length(odd)) {
    abort_state(c("{.arg {odd[1]}} needs the rows here.", i = "Bring them with {.fn as_timeline} first."))
  }
  # What can be seen to be wrong is told now, not when the database has worked.
  parse_step(every)
  structure(
    list(x = x, every = every, dots = dots, settings = list(
      stamp = stamp, closed = closed, at_least = at_least, unfinished = unfinished, extent = extent,
      empty = empty,
      large = large
    )),
    class = "kairon_distant_bins"
  )
}

#' @export
as_timeline.kairon_distant_bins <- function(x, ...) {
  call <- rlang::caller_env()
  early <- if (is.null(x$x$store$facts)) likely_cells(x)
  made <- plan_distant(x, call)
  grid <- early$grid
  serves <- !is.null(early) && made$width %% grid$width == 0 &&
    (made$phase - grid$phase) %% grid$width == 0 &&
    identical(early$needs, made$needs) && early$closed == made$plan$closed
  if (serves) {
    made[c("phase", "width")] <- grid
    cells <- early$cells
  } else {
    cells <- read_cells(x$x, made$phase, made$width, made$plan$closed, made$needs, made$shift)
  }
  columns <- distant_columns(made, cells, call)
  put_in_bins(made$ends, made$rows, made, columns)
}

#' @export
as.data.frame.kairon_distant_bins <- function(x, row.names = NULL, optional = FALSE, ...) {
  as.data.frame(as_timeline(x))
}

#' @export
plot.kairon_distant_bins <- function(x, ...) plot(as_timeline(x), ...)

#' @export
print.kairon_distant_bins <- function(x, ...) {
  step <- if (inherits(x$every, "kairon_cadence")) format(x$every) else x$every
  cat(format(x$x)[1:2], sep = "\n")
  cat("Resampled to ", step, ", not worked out yet: as_timeline() does it.\n", sep = "")
  invisible(x)
}

# The cells that will most likely be wanted, asked for before the series are known, so that one pass over
# the rows tells both. NULL where steps are none of time or nothing speaks for a guess.
likely_cells <- function(x) {
  few <- x$x$few
  meta <- x$x$meta
  if (is.null(few) || meta$type == "step") {
    return(NULL)
  }
  target <- tryCatch(fit_to_zone(cadence(x$every, stamp = x$settings$stamp), rows_of(few)$zone),
                     error = function(e) NULL)
  wanted <- tryCatch(read_statistics(few, x$dots), error = function(e) NULL)
  if (is.null(target) || is.null(wanted) || !all(unlist(wanted) %in% names(statistic_needs))) {
    return(NULL)
  }
  zoned <- meta$type == "instant" && meta$zone != "UTC"
  grid <- if (target$unit == "second") {
    list(phase = target$anchor, width = target$n)
  } else {
    list(phase = if (zoned) 0 else target$day_start,
         width = if (zoned || target$unit == "clock") 3600 else 86400)
  }
  needs <- needs_of(wanted)
  cells <- read_cells(x$x, grid$phase, grid$width, x$settings$closed, needs, shift_of(x$x, needs))
  list(grid = grid, needs = needs, cells = cells, closed = x$settings$closed)
}

needs_of <- function(wanted) {
  lapply(wanted, function(statistics) {
    known <- Filter(is.character, unlist(statistics))
    as.character(unique(unlist(statistic_needs[as.character(known)], use.names = FALSE)))
  })
}

# Plan, bins, and which sums of which cells are needed.
plan_distant <- function(x, call) {
  ends <- distant_ends(x$x)
  facts <- distant_facts(x$x)
  rows <- rows_of(ends)
  rows$typical <- facts$typical %||% rep(step_seconds(timeline_meta(ends)$cadence), nrow(facts))
  s <- x$settings
  made <- prepare_bins(ends, rows, x$every, x$dots, "bins", NULL, NULL, s$stamp, s$closed, s$at_least,
                       s$unfinished,
                       s$extent, s$empty, s$large, call)
  check_distant(made, ends, call)
  grid <- cell_grid(made$bins$edges)
  needs <- needs_of(made$wanted)
  shift <- shift_of(x$x, needs)
  c(made,
    list(ends = ends, rows = rows, needs = needs, shift = shift, phase = grid$phase, width = grid$width))
}

# What each statistic is worked out from, beside the count and the sum.
statistic_needs <- list(
  count = NULL, sum = NULL, mean = NULL, var = "square", sd = "square", min = "min", max = "max",
  range = c("min", "max"), first = "first", last = "last", slope = c("t", "tt", "tv")
)

check_distant <- function(made, ends, call) {
  meta <- timeline_meta(ends)
  regular <- is_regular_cadence(meta$cadence)
  stop_here <- function(what, how) {
    abort_state(c(what, i = how, i = "Or bring the rows with {.fn as_timeline} first."), call = call,
                .envir = environment())
  }
  if (made$plan$finer) stop_here("The new grid is finer than the readings.", "Choose a coarser one.")
  if (regular && (meta$cadence$stamp != "start" || meta$cadence$stamp_day >= 0)) {
    stop_here("Readings stamped at the end or middle of their period need the rows here.",
              "Such tables are small.")
  }
  for (m in names(made$wanted)) {
    for (one in made$wanted[[m]]) {
      word <- if (is.character(one)) one else "a function"
      if (!word %in% names(statistic_needs)) {
        known <- word_list(names(statistic_needs))
        stop_here("{.val {word}} of {.field {m}} cannot be worked out from sums.",
                  paste0("Ask for ", known, " by name: {.code ", m, " = \"mean\"}."))
      }
    }
    split <- meta$kinds[[m]] == "amount" && "sum" %in% unlist(made$wanted[[m]]) && !made$plan$nested
    if (split) {
      stop_here("The amount {.field {m}} must be split between bins, for which the rows are needed.",
                "Choose bins that hold whole readings.")
    }
  }
}

# The widest cells of equal length of which every bin is made.
cell_grid <- function(edges) {
  edges <- sort(unique(edges))
  if (length(edges) < 2) {
    return(list(phase = edges, width = 86400))
  }
  steps <- unique(round(diff(edges) * 1000))
  divide <- function(a, b) {
    while (b > 0) {
      rest <- a %% b
      a <- b
      b <- rest
    }
    a
  }
  list(phase = edges[1], width = Reduce(divide, steps) / 1000)
}

# Cells to bins, and sums to statistics.
distant_columns <- function(made, cells, call) {
  bins <- made$bins
  meta <- timeline_meta(made$ends)
  starts <- bin_starts(bins)
  at <- bin_of_cells(made, cells, starts)
  in_order <- order(at, cells$cell, na.last = NA)
  cells <- cells[in_order, , drop = FALSE]
  at <- at[in_order]
  n <- length(bins$owner)
  bins$expected <- expected_readings(made$ends, made$rows, bins)
  upto <- findInterval(0:n, at)
  from <- as.integer(upto[-(n + 1)])
  to <- as.integer(upto[-1])
  # With twice the digits, as sums of rows are.
  add <- function(v) {
    total <- range_statistic(as.double(v), as.double(seq_along(v)), from, to, "sum")
    ifelse(is.na(total), 0, total)
  }
  check_repeated_cells(made, add(cells$rows), bins, call)
  data <- bin_frame(made$ends, made$rows, bins)
  kinds <- units <- character()
  marks <- list()
  for (measure in names(made$wanted)) {
    statistics <- made$wanted[[measure]]
    sums <- measure_sums(cells, measure, at, n, add, made, starts)
    present <- sums$n
    share <- pmin(1, present / bins$expected)
    for (label in names(statistics)) {
      name <- if (length(statistics) > 1) paste0(measure, "_", label) else measure
      statistic <- statistics[[label]]
      value <- statistic_of_sums(statistic, sums)
      coverage <- share
      total <- statistic == "sum" && meta$kinds[[measure]] == "amount"
      if (total && made$plan$empty == "zero") {
        value[add(cells$rows) == 0] <- 0
        coverage[] <- 1
      }
      least <- made$plan$at_least
      if (least > 0) value[if (least <= 1) coverage < least else present < least] <- NA_real_
      data[[name]] <- value
      kinds[name] <- result_kind(meta$kinds[[measure]], statistic)
      units[name] <- result_unit(meta$units[[measure]], statistic)
      marks[[name]] <- list(origin = summarised_code, coverage = coverage)
    }
  }
  list(data = as_frame(data), kinds = kinds, units = units, marks = marks)
}

bin_of_cells <- function(made, cells, starts) {
  begin <- made$phase + cells$cell * made$width
  out <- rep(NA_integer_, nrow(cells))
  breaks <- made$bins$breaks
  for (s in seq_len(length(breaks) - 1)) {
    here <- which(cells$series == s)
    if (length(here) == 0) next
    own <- (breaks[s] + 1):breaks[s + 1]
    place <- findInterval(begin[here] + made$width / 2, starts[own])
    out[here] <- ifelse(place < 1, NA_integer_, own[pmax(place, 1)])
  }
  out
}

# More rows than a regular grid has places are rows that repeat a stamp.
check_repeated_cells <- function(made, rows, bins, call) {
  regular <- is_regular_cadence(timeline_meta(made$ends)$cadence)
  if (!regular || !any(rows > bins$expected)) {
    return(invisible())
  }
  first <- bin_label(made$ends, made$rows, bins, which(rows > bins$expected)[1])
  abort_input(c("Stamps must differ within a series.",
                x = "{capitalise(first)} holds more rows than its cadence allows.",
                i = "Look for repeats in the table; {.fn as_timeline} shows the first ones."), call = call)
}

measure_sums <- function(cells, measure, at, n, add, made, starts) {
  get <- function(word) cells[[paste0(measure, ".", word)]]
  out <- list(n = add(get("n")), sum = add(get("sum")), shift = made$shift[[measure]])
  if (!is.null(get("square"))) out$square <- add(get("square"))
  edge <- function(v, how) {
    kept <- which(!is.na(v))
    found <- tapply(v[kept], at[kept], how)
    replace(rep(NA_real_, n), as.integer(names(found)), as.numeric(found))
  }
  if (!is.null(get("min"))) out$min <- edge(get("min"), min)
  if (!is.null(get("max"))) out$max <- edge(get("max"), max)
  in_order <- order(cells$series, cells$cell)
  ordered <- function(v, how) {
    kept <- in_order[!is.na(v[in_order])]
    found <- kept[if (how == "first") !duplicated(at[kept]) else !duplicated(at[kept], fromLast = TRUE)]
    replace(rep(NA_real_, n), at[found], v[found])
  }
  if (!is.null(get("first"))) out$first <- ordered(get("first"), "first")
  if (!is.null(get("last"))) out$last <- ordered(get("last"), "last")
  if (!is.null(get("t"))) {
    moved <- made$phase + cells$cell * made$width - starts[at]
    count <- get("n")
    out$t <- add(get("t") + count * moved)
    out$tt <- add(get("tt") + 2 * moved * get("t") + count * moved^2)
    out$tv <- add(get("tv") + moved * get("sum"))
  }
  out
}

statistic_of_sums <- function(statistic, s) {
  n <- s$n
  none <- n == 0
  out <- switch(statistic,
    count = return(n),
    sum = s$sum,
    mean = s$sum / n,
    var = , sd = {
      moved <- s$sum - n * s$shift
      v <- pmax(0, s$square - moved^2 / n) / (n - 1)
      v[n < 2] <- NA_real_
      if (statistic == "sd") sqrt(v) else v
    },
    min = s$min, max = s$max, range = s$max - s$min, first = s$first, last = s$last,
    slope = {
      spread <- n * s$tt - s$t^2
      ifelse(n < 2 | spread <= 0, NA_real_, (n * s$tv - s$t * s$sum) / spread * 86400)
    }
  )
  out[none] <- NA_real_
  out
}

#' @rdname remote-timelines
#' @export
sql_of <- function(x) {
  far <- if (inherits(x, "kairon_distant_bins")) x$x else x
  if (!inherits(far, "kairon_remote")) {
    abort_input("Only a timeline in a database is worked out in SQL, not {.obj_type_friendly {x}}.")
  }
  if (!inherits(x, "kairon_distant_bins")) {
    return(c(rows = paste("SELECT * FROM", far$from, remote_where(far))))
  }
  made <- plan_distant(x, rlang::current_env())
  told <- cells_sql(far, made$phase, made$width, made$plan$closed, made$needs, made$shift)
  ends <- vapply(told$ends, `[[`, "", "sql")
  names(ends) <- vapply(told$ends, function(e) paste(e$word, e$measure), "")
  c(sums = told$sums, ends)
}
