# resample() and during() where the rows lie elsewhere: bins are planned here, sums of cells come
# from there.

#' @export
resample.kairon_distant <- function(x, every, ..., stamp = "start", closed = "left", at_least = 0,
                                    unfinished = "flag", extent = "each", empty = "missing",
                                    large = FALSE) {
  dots <- list(...)
  if (any(names(dots) %in% c("at", "between", "within"))) {
    args <- c(list(every), dots, list(stamp = stamp, closed = closed, at_least = at_least,
                                      unfinished = unfinished,
                                      extent = extent, empty = empty, large = large))
    return(noted_rows(x, "resample", args, function(cadence) list(before = Inf, after = Inf)))
  }
  # What can be seen to be wrong is told now, not when the database has worked.
  check_flag(large)
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
  early <- if (is.null(x$x$store$facts)) likely_cells(x)
  made <- plan_distant(x)
  if (made$plan$finer) {
    # Readings are spread over finer bins here.
    return(rlang::inject(resample(rows_here(x$x), x$every, !!!x$dots, !!!x$settings)))
  }
  grid <- early$grid
  serves <- !is.null(early) && made$width %% grid$width == 0 &&
    (made$phase - grid$phase) %% grid$width == 0 &&
    identical(early$needs, made$needs) && early$closed == made$cells_closed
  if (serves) {
    made[c("phase", "width")] <- grid
    cells <- early$cells
  } else {
    cells <- read_cells(x$x, made$phase, made$width, made$cells_closed, made$needs, made$shift)
  }
  ordered <- if (length(made$ordered)) {
    read_bins(x$x, distant_facts(x$x), made$bins, made$cells_closed, made$ordered,
              function(i) bin_label(made$ends, made$rows, made$bins, i))
  }
  columns <- distant_columns(made, cells, ordered)
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
  show_lines(format(x$x)[1:2])
  show_lines(paste0("Resampled to ", step, ", not worked out yet: as_timeline() does it."))
  invisible(x)
}

# The cells that will most likely be wanted, asked for before the series are known, so that one pass
# over the rows tells both. NULL where steps are none of time or nothing speaks for a guess.
likely_cells <- function(x) {
  few <- x$x$few
  meta <- x$x$meta
  if (is.null(few) || meta$type == "step") {
    return(NULL)
  }
  rows <- rows_of(few)
  made <- tryCatch(suppressMessages(plan_settings(few, rows, x)), error = function(e) NULL)
  if (is.null(made) || made$plan$finer) {
    return(NULL)
  }
  target <- made$target
  zoned <- meta$type == "instant" && meta$zone != "UTC"
  grid <- if (target$unit == "second") {
    list(phase = target$anchor, width = target$n)
  } else {
    list(phase = if (zoned) 0 else target$day_start,
         width = if (zoned || target$unit == "clock") 3600 else 86400)
  }
  if (any_timed(made, timeline_meta(few))) {
    grid <- timed_grid(grid, timeline_meta(few), x$settings$closed)
  }
  needs <- needs_of_plan(x$x, made, timeline_meta(few))
  closed <- cells_closed(made$plan, timeline_meta(few))
  cells <- read_cells(x$x, grid$phase, grid$width, closed, needs, shift_of(x$x, needs))
  list(grid = grid, needs = needs, cells = cells, closed = closed)
}

plan_settings <- function(x, rows, asked) {
  s <- asked$settings
  prepare_bins(x, rows, asked$every, asked$dots, "bins", NULL, NULL, s$stamp, s$closed, s$at_least,
               s$unfinished, s$extent, s$empty, s$large)
}

needs_of <- function(wanted) {
  lapply(wanted, function(statistics) {
    known <- Filter(is.character, unlist(statistics))
    as.character(unique(unlist(statistic_needs[as.character(known)], use.names = FALSE)))
  })
}

# `meta` of the ends or the first rows; what stands beside measures is known of the whole.
needs_of_plan <- function(x, made, meta) {
  needs <- needs_of(made$wanted)
  for (m in names(needs)) {
    timed <- Filter(function(s) is_timed(s, meta$kinds[[m]], made$plan$nested), made$wanted[[m]])
    for (s in timed) needs[[m]] <- union(needs[[m]], timed_needs(s, meta, made$plan$empty))
    if (!is_marked(x, m)) next
    needs[[m]] <- c(needs[[m]], "own", "seen", "worst")
    if (length(timed) && by_time(meta)) needs[[seen_measure(m)]] <- "held"
  }
  needs
}

any_timed <- function(made, meta) {
  any(vapply(names(made$wanted), function(m) {
    any(vapply(made$wanted[[m]], is_timed, TRUE, kind = meta$kinds[[m]], nested = made$plan$nested))
  }, TRUE))
}

# A reading that is stamped at the end of its period belongs to the cell that ends there.
cells_closed <- function(plan, meta) {
  stamped_end <- is_regular_cadence(meta$cadence) && meta$cadence$stamp == "end"
  if (stamped_end) "right" else plan$closed
}

# Plan, bins, and which sums of which cells are needed.
plan_distant <- function(x) {
  ends <- distant_ends(x$x)
  facts <- distant_facts(x$x)
  meta <- timeline_meta(ends)
  rows <- rows_of(ends)
  rows$typical <- facts$typical %||% rep(step_seconds(meta$cadence), nrow(facts))
  made <- plan_settings(ends, rows, x)
  check_distant(x$x, made, ends)
  grid <- cell_grid(made$bins$edges)
  if (any_timed(made, meta)) grid <- timed_grid(grid, meta, made$plan$closed)
  needs <- needs_of_plan(x$x, made, meta)
  c(made, grid, list(ends = ends, rows = rows, needs = needs, shift = shift_of(x$x, needs),
                     cells_closed = cells_closed(made$plan, meta),
                     ordered = Filter(length, lapply(made$wanted,
                                                     function(s) Filter(Negate(is_summed), s)))))
}

is_summed <- function(statistic) is.character(statistic) && statistic %in% names(statistic_needs)

# What each statistic is worked out from, beside the count and the sum.
statistic_needs <- list(
  count = NULL, sum = NULL, mean = NULL, var = "spread", sd = "spread", min = "min", max = "max",
  range = c("min", "max"), first = "first", last = "last", slope = c("moved", "t", "tt", "tv"),
  time_mean = NULL
)

check_distant <- function(x, made, ends) {
  meta <- timeline_meta(ends)
  source <- if (is_regular_cadence(meta$cadence)) meta$cadence
  stop_here <- function(what, how) {
    abort_state(c("{what}", i = "{how}", i = "Or bring the rows with {.fn as_timeline} first."),
                .envir = environment())
  }
  elsewhere <- !is.null(source) && (source$stamp != "start" || source$stamp_day >= 0)
  if (elsewhere && !made$plan$nested) {
    stop_here("Readings that are not stamped at the start of their period cannot be split \\
               between bins.",
              "Choose bins that hold whole readings.")
  }
}

# The widest cells of equal length of which every bin is made.
cell_grid <- function(edges) {
  edges <- sort(unique(edges))
  if (length(edges) < 2) {
    return(list(phase = edges, width = 86400))
  }
  list(phase = edges[1], width = common_measure(unique(diff(edges))))
}

# Cells to bins, and sums to statistics.
distant_columns <- function(made, cells, ordered) {
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
  over <- function(v, how) range_statistic(as.double(v), as.double(seq_along(v)), from, to, how)
  add <- function(v) {
    total <- over(v, "sum")
    total[is.na(total)] <- 0
    total
  }
  check_repeated_cells(made, add(cells$rows), bins)
  data <- bin_frame(made$ends, made$rows, bins)
  kinds <- units <- character()
  marks <- list()
  for (measure in names(made$wanted)) {
    statistics <- made$wanted[[measure]]
    sums <- measure_sums(cells, measure, at, n, add, over, made, starts)
    present <- sums$n
    share <- pmin(1, present / bins$expected)
    for (label in names(statistics)) {
      name <- if (length(statistics) > 1) paste0(measure, "_", label) else measure
      statistic <- statistics[[label]]
      got <- if (is_timed(statistic, meta$kinds[[measure]], made$plan$nested)) {
        timed_values(made, cells, measure, statistic, sums, share)
      } else if (!is_summed(statistic)) {
        list(value = ordered[[measure]][[label]], share = share)
      } else {
        list(value = statistic_of_sums(statistic, sums), share = share)
      }
      value <- got$value
      marked <- marks_of_bins(made, cells, measure, sums, got, bins)
      share_here <- got$share
      total <- identical(statistic, "sum") && meta$kinds[[measure]] == "amount"
      if (total && made$plan$empty == "zero") {
        value[add(cells$rows) == 0 & is.na(value)] <- 0
        share_here[] <- marked$coverage[] <- 1
      }
      least <- made$plan$at_least
      if (least > 0) value[if (least <= 1) share_here < least else present < least] <- NA_real_
      data[[name]] <- value
      kinds[name] <- result_kind(meta$kinds[[measure]], statistic)
      units[name] <- result_unit(meta$units[[measure]], statistic)
      marks[[name]] <- marked
    }
  }
  list(data = as_frame(data), kinds = kinds, units = units, marks = marks)
}

bin_of_cells <- function(made, cells, starts) {
  begin <- made$phase + cells$cell * made$width
  out <- rep(NA_integer_, nrow(cells))
  breaks <- made$bins$breaks
  groups <- split(seq_len(nrow(cells)), cells$series)
  for (label in names(groups)) {
    s <- as.integer(label)
    here <- groups[[label]]
    own <- (breaks[s] + 1):breaks[s + 1]
    place <- findInterval(begin[here] + made$width / 2, starts[own])
    out[here] <- ifelse(place < 1, NA_integer_, own[pmax(place, 1)])
  }
  out
}

# More rows than a regular grid has places are rows that repeat a stamp.
check_repeated_cells <- function(made, rows, bins) {
  regular <- is_regular_cadence(timeline_meta(made$ends)$cadence)
  # Stamps and periods are counted differently where bins cut periods or hold their right edge.
  same <- made$plan$nested && made$plan$closed == "left"
  most <- bins$expected + if (same) 0 else 1
  if (!regular || !any(rows > most)) {
    return(invisible())
  }
  first <- bin_label(made$ends, made$rows, bins, which(rows > most)[1])
  abort_input(c("Stamps must differ within a series.",
                x = "{capitalise(first)} holds more rows than its cadence allows.",
                i = "Look for repeats in the table; {.fn as_timeline} shows the first ones."))
}

measure_sums <- function(cells, measure, at, n, add, over, made, starts) {
  get <- function(word) cells[[paste0(measure, ".", word)]]
  out <- list(n = add(get("n")), sum = add(get("sum")))
  if (!is.null(get("spread"))) {
    out$spread <- joined_squares(add, at, get("n"), get("sum"), get("spread"))
  }
  if (!is.null(get("min"))) out$min <- over(get("min"), "min")
  if (!is.null(get("max"))) out$max <- over(get("max"), "max")
  in_order <- order(cells$series, cells$cell)
  ordered <- function(v, how) {
    kept <- in_order[!is.na(v[in_order])]
    found <- kept[!duplicated(at[kept], fromLast = how != "first")]
    replace(rep(NA_real_, n), at[found], v[found])
  }
  if (!is.null(get("first"))) out$first <- ordered(get("first"), "first")
  if (!is.null(get("last"))) out$last <- ordered(get("last"), "last")
  if (!is.null(get("own"))) {
    out$own <- add(get("own"))
    out$seen <- add(get("seen"))
    out$worst <- over(get("worst"), "max")
  }
  if (!is.null(get("t"))) {
    moved <- made$phase + cells$cell * made$width - starts[at]
    count <- get("n")
    out$t <- add(get("t") + count * moved)
    out$tt <- add(get("tt") + 2 * moved * get("t") + count * moved^2)
    out$tv <- add(get("tv") + moved * get("moved"))
    out$moved <- add(get("moved"))
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
      v <- s$spread / (n - 1)
      # Infinite values have no spread.
      v[n < 2 | is.nan(v)] <- NA_real_
      if (statistic == "sd") sqrt(v) else v
    },
    min = s$min, max = s$max, range = s$max - s$min, first = s$first, last = s$last,
    slope = {
      spread <- n * s$tt - s$t^2
      ifelse(n < 2 | spread <= 0, NA_real_, (n * s$tv - s$t * s$moved) / spread * 86400)
    }
  )
  out[none] <- NA_real_
  out
}

#' @rdname remote-timelines
#' @export
sql_of <- function(x, ...) {
  refuse_more("sql_of", ...)
  far <- if (inherits(x, "kairon_distant_bins")) x$x else x
  if (!inherits(far, "kairon_remote")) {
    abort_input(c("Only a timeline whose rows stay elsewhere is worked out in SQL.",
                  x = "This is {.obj_type_friendly {x}}."))
  }
  made_of <- if (inherits(far, "kairon_files")) {
    c(view = paste("CREATE TEMP VIEW kairon_rows AS", far$con$view))
  }
  if (!inherits(x, "kairon_distant_bins")) {
    return(c(made_of, rows = paste("SELECT * FROM", far$from, remote_where(far))))
  }
  made <- plan_distant(x)
  needs <- words_of_spread(made$needs, sql_dialect(far$con) == "duckdb")
  told <- cells_sql(far, made$phase, made$width, made$cells_closed, needs, made$shift)
  ends <- vapply(told$ends, `[[`, "", "sql")
  names(ends) <- vapply(told$ends, function(e) paste(e$word, e$measure), "")
  ranks <- unlist(lapply(names(made$ordered), function(m) {
    words <- as.character(unlist(Filter(is_ordered, made$ordered[[m]])))
    vapply(rlang::set_names(words, paste(words, m)), ranks_sql, "", x = far, m = m,
           bins = made$bins, closed = made$cells_closed)
  }))
  c(made_of, sums = told$sums, ends, ranks)
}

# Verbs whose result has a row for each reading, of rows that lie elsewhere. They are noted down, as
# the span is that is wanted of them; then the rows of that span are brought here with as many
# before and after as the verb reaches, and what it made of the others is left out.

#' @export
roll.kairon_distant <- function(x, window, ...) {
  args <- list(...)
  if (!missing(window)) args <- c(list(window), args)
  windows <- named_windows(args)$windows
  if ("carry" %in% names(args)) windows <- c(windows, list(since_start()))
  for (w in windows) if (!inherits(w, "kairon_window")) check_window(w)
  noted_rows(x, "roll", args, function(cadence) {
    reach <- vapply(windows, reach_of_window, 1, cadence = cadence)
    side <- vapply(windows, `[[`, "", "side")
    list(before = max(0, reach[side != "leading"]),
         after = max(0, reach[side %in% c("leading", "centred")]))
  })
}

#' @export
change.kairon_distant <- function(x, over = 1, as = "difference", times = 1, ...) {
  check_choice(as, change_words)
  check_count(times)
  args <- c(list(over = over, as = as, times = times), rlang::enquos(...))
  noted_rows(x, "change", args, function(cadence) {
    away <- is_window(over) || is.character(over) && grepl("^[0-9]{4}-", over)
    list(before = if (away) Inf else times * (reach_seconds(over, cadence) + 8 * 86400), after = 0)
  })
}

#' @export
vet.kairon_distant <- function(x, rules = NULL, ...) {
  own <- read_rules(rules)
  # A limit is of one reading; the other rules look at the whole series.
  alone <- all(vapply(own, function(r) r$name == "limit", TRUE))
  noted_rows(x, "vet", c(list(rules = rules), rlang::enquos(...)), function(cadence) {
    if (alone) list(before = 0, after = 0) else list(before = Inf, after = Inf)
  })
}

# Series whose rows together are not many, as their keys.
series_bundles <- function(x, most = getOption("kairon.bundle_rows", 2e6)) {
  facts <- distant_facts(x)
  if (length(x$meta$series) == 0) {
    return(list(NULL))
  }
  bundle <- cumsum(as.numeric(facts$rows)) %/% most
  unname(lapply(split(seq_len(nrow(facts)), bundle),
                function(at) facts[at, x$meta$series, drop = FALSE]))
}

# Noted down ----

# `reach`: a function of the cadence that gives seconds before and after.
noted_rows <- function(x, verb, args, reach) {
  structure(list(x = x, verb = verb, args = args, reach = reach, span = NULL),
            class = "kairon_distant_rows")
}

#' @export
during.kairon_distant_rows <- function(x, when, ...) {
  refuse_more("during", ...)
  x$span <- during(x$x, when)$span
  x
}

#' @export
as_timeline.kairon_distant_rows <- function(x, ...) {
  wide <- x$x
  if (!is.null(x$span)) {
    reach <- x$reach(attr(distant_facts(wide), "cadence"))
    wide <- limited_to(wide, c(x$span[1] - reach$before, x$span[2] + reach$after))
  }
  out <- rlang::inject(get(x$verb)(rows_here(wide), !!!x$args))
  if (is.null(x$span)) out else rows_within(out, x$span)
}

rows_within <- function(x, span) {
  seconds <- rows_of(x)$seconds
  x[seconds >= span[1] & seconds < span[2], ]
}

# The rows, where they are not too many to hold.
rows_here <- function(x) {
  most <- getOption("kairon.most_rows_here", 2e7)
  facts <- distant_facts(x)
  asked <- if (is.null(x$keys)) seq_len(nrow(facts)) else match_keys(x$keys, facts, x$meta)
  n <- sum(as.numeric(facts$rows[asked]))
  if (n > most) {
    rows <- show_number(n, 9)
    allowed <- format(n, scientific = FALSE)
    abort_state(c(
      "This needs {rows} rows here, which may be too many for memory.",
      i = "Ask for an interval with {.fn during}, or allow it: \\
           {.code options(kairon.most_rows_here = {allowed})}."
    ), .envir = environment())
  }
  as_timeline(x)
}

#' @export
as.data.frame.kairon_distant_rows <- function(x, row.names = NULL, optional = FALSE, ...) {
  as.data.frame(as_timeline(x))
}

#' @export
plot.kairon_distant_rows <- function(x, ...) plot(as_timeline(x), ...)

#' @export
print.kairon_distant_rows <- function(x, ...) {
  show_lines(format(x$x)[1:2])
  meta <- x$x$meta
  limits <- show_stamp(x$span[is.finite(x$span)], meta$type, meta$zone)
  span <- if (length(limits)) paste0("of ", paste(limits, collapse = " up to "), ", ")
  show_lines(paste0("Noted: ", x$verb, "(), ", span, "not worked out yet: as_timeline() does it."))
  invisible(x)
}

# How far a window reaches, in seconds: rather too far than too short, since steps of the calendar
# differ.
reach_of_window <- function(window, cadence) {
  if (window$side %in% c("since_start", "fading")) {
    return(Inf)
  }
  reach_seconds(window$steps %||% window$step, cadence) + 2 * 86400
}

reach_seconds <- function(length, cadence) {
  if (is.numeric(length)) {
    return(if (is_regular_cadence(cadence)) 1.1 * (length + 1) * step_seconds(cadence) else Inf)
  }
  step <- if (is.character(length)) parse_step(length, "over") else length
  if (identical(step$word, "step")) {
    return(reach_seconds(step$n, cadence))
  }
  1.1 * duration_seconds(step)
}
