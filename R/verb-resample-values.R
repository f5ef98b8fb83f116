# What resample() puts into bins and at instants, with origin and coverage.

# The columns of the result, with kinds, units, and the origin and coverage of
# each new measure.
bin_columns <- function(x, rows, bins, wanted, plan) {
  meta <- timeline_meta(x)
  if (!is.null(bins$edges)) {
    at <- cpp_bin_rows(rows$seconds, rows$breaks, bins$edges, bins$breaks, plan$closed == "right",
                       core_threads())
    if (is_regular_cadence(meta$cadence)) at <- rows_by_period(x, rows, bins, plan, at)
    bins$from <- at$from
    bins$to <- at$to
    bins$expected <- expected_readings(x, rows, bins)
  }
  context <- list(x = x, rows = rows, bins = bins, plan = plan)
  if (needs_intervals(meta, wanted, plan)) {
    context$intervals <- reading_intervals(x, rows, plan$closed, plan$empty == "zero")
  }
  data <- bin_frame(x, rows, bins)
  kinds <- units <- character()
  marks <- list()
  for (measure in names(wanted)) {
    several <- length(wanted[[measure]]) > 1
    made <- measure_columns(context, measure, wanted[[measure]])
    for (label in names(wanted[[measure]])) {
      name <- if (several) paste0(measure, "_", label) else measure
      statistic <- wanted[[measure]][[label]]
      data[[name]] <- made[[label]]$value
      kinds[name] <- result_kind(meta$kinds[[measure]], statistic)
      units[name] <- result_unit(meta$units[[measure]], statistic)
      marks[[name]] <- made[[label]]
    }
  }
  list(data = as_frame(data), kinds = kinds, units = units, marks = marks)
}

# Columns of one length as a data frame, without the copies that checks would take.
as_frame <- function(columns) {
  structure(columns, row.names = c(NA_integer_, -length(columns[[1]])), class = "data.frame")
}

# Regular readings belong to a bin by the start of their period, which is not
# their stamp where they are stamped at its middle or end.
rows_by_period <- function(x, rows, bins, plan, at) {
  source <- timeline_meta(x)$cadence
  if (source$stamp == "start" && source$stamp_day < 0) {
    return(at)
  }
  k <- period_of_stamp(source, rows$seconds, rows$zone)
  cpp_bin_rows(period_start(source, k, rows$zone), rows$breaks, bins$edges, bins$breaks, FALSE,
               core_threads())
}

needs_intervals <- function(meta, wanted, plan) {
  regular <- is_regular_cadence(meta$cadence)
  any(vapply(names(wanted), function(m) {
    amount <- meta$kinds[[m]] == "amount"
    timed <- "time_mean" %in% unlist(Filter(is.character, wanted[[m]]))
    (amount && !plan$nested) || (regular && timed && plan$at == "bins")
  }, TRUE))
}

# All statistics of a measure: each a list with value, coverage and origin.
measure_columns <- function(context, measure, statistics) {
  amount <- kind_of(context$x, measure) == "amount"
  if (context$plan$at == "instants" && !amount) {
    return(rlang::set_names(list(instant_values(context, measure)), names(statistics)))
  }
  special <- vapply(statistics, function(s) {
    identical(s, "time_mean") || (amount && identical(s, "sum"))
  }, TRUE)
  counted <- count_rows(context, measure)
  out <- list()
  if (any(!special)) {
    bins <- context$bins
    values <- range_statistics(
      context$x[[measure]], context$rows$seconds, bins$from, bins$to, statistics[!special],
      where = function(i) bin_label(context$x, context$rows, bins, i)
    )
    marks <- bin_marks(context, measure, counted)
    out <- lapply(rlang::set_names(values, names(statistics)[!special]),
                  function(v) c(list(value = v), marks))
  }
  for (label in names(statistics)[special]) {
    out[[label]] <- if (statistics[[label]] == "sum") {
      total_values(context, measure, counted)
    } else {
      time_mean_values(context, measure, counted)
    }
  }
  lapply(out, drop_thin, context = context)
}

drop_thin <- function(made, context) {
  least <- context$plan$at_least
  if (least > 0) {
    thin <- if (least <= 1) made$share < least else made$present < least
    made$value[thin] <- NA_real_
  }
  made
}

# Readings in each bin that are there.
count_rows <- function(context, measure) {
  range_statistic(context$x[[measure]], context$rows$seconds, context$bins$from, context$bins$to,
                  "count")
}

# Marks by the number of readings in a bin.
bin_marks <- function(context, measure, present) {
  x <- context$x
  bins <- context$bins
  share <- pmin(1, present / bins$expected)
  if (!is_marked(x, measure)) {
    return(list(coverage = share, origin = summarised_code, share = share, present = present))
  }
  count <- function(v, how) range_statistic(v, context$rows$seconds, bins$from, bins$to, how)
  measured <- is_measured(x, measure)
  weight <- measured * coverage_of(x, measure)
  weight[!measured] <- NA_real_
  seen <- count(weight, "sum")
  seen[is.na(seen)] <- 0
  own <- count(ifelse(measured, 1, NA_real_), "count")
  list(
    coverage = pmin(1, seen / bins$expected), share = share, present = present,
    origin = mixed_origin(context, measure, own < 0.5 * present & present > 0)
  )
}

# Summaries, but where `invented` the worst origin among the readings of the bin.
mixed_origin <- function(context, measure, invented) {
  out <- rep(summarised_code, length(invented))
  if (!any(invented)) {
    return(out)
  }
  codes <- as.double(origin_codes(context$x, measure))
  codes[codes <= summarised_code] <- NA_real_
  worst <- range_statistic(codes, context$rows$seconds, context$bins$from, context$bins$to, "max")
  worst[is.na(worst)] <- interpolated_code
  out[invented] <- as.integer(worst[invented])
  out
}

# Amounts: whole rows where no bin cuts one, else split by time.
total_values <- function(context, measure, present) {
  bins <- context$bins
  values <- context$x[[measure]]
  if (context$plan$nested) {
    made <- bin_marks(context, measure, present)
    made$value <- cpp_range_totals(values, bins$from, bins$to, bins$breaks, core_threads())
  } else {
    made <- overlap_marks(context, measure, present, cpp_overlap_totals(
      values, context$intervals$begin, context$intervals$end, context$rows$breaks, bins$edges,
      bins$breaks, sums_right(context$plan), core_threads()
    ), by_count = !is_regular_cadence(timeline_meta(context$x)$cadence))
  }
  if (context$plan$empty == "zero") {
    nothing <- bins$to == bins$from & is.na(made$value)
    made$value[nothing] <- 0
    made$coverage[] <- made$share[] <- 1
  }
  made
}

time_mean_values <- function(context, measure, present) {
  x <- context$x
  rows <- context$rows
  bins <- context$bins
  plan <- context$plan
  values <- x[[measure]]
  regular <- is_regular_cadence(timeline_meta(x)$cadence)
  rule <- check_choice(
    plan$between[[measure]] %||% "previous", c("previous", "linear"), arg = "between"
  )
  made <- if (rule == "linear") {
    cpp_linear_means(values, rows$seconds, rows$breaks, bins$edges, bins$breaks, plan$within,
                     core_threads())
  } else if (regular) {
    held <- context$intervals
    cpp_overlap_means(values, held$begin, held$end, rows$breaks, bins$edges, bins$breaks,
                      core_threads())
  } else {
    typical <- typical_steps(rows)
    typical[!is.finite(typical)] <- 1
    cpp_held_means(
      values, rows$seconds, rows$breaks, bins$edges, bins$breaks, plan$within,
      pmin(typical, plan$within), core_threads()
    )
  }
  if (regular) {
    return(overlap_marks(context, measure, present, made, by_count = FALSE))
  }
  # A reading alone at the very end of its bin covers no time.
  alone <- is.na(made$value) & present > 0
  if (any(alone)) {
    plain <- range_statistic(values, rows$seconds, bins$from, bins$to, "mean")
    made$value[alone] <- plain[alone]
  }
  if (!plan$holds) made$value[present == 0] <- NA_real_
  made$own <- ifelse(present > 0, made$covered, 0)
  overlap_marks(context, measure, present, made, by_count = TRUE)
}

# Marks by the time that readings cover, or by their number.
overlap_marks <- function(context, measure, present, made, by_count) {
  marks <- if (by_count) {
    bin_marks(context, measure, present)
  } else {
    covered_marks(context, measure, present, made)
  }
  spread <- made$own < 0.5 * made$covered & !is.na(made$value)
  if (any(spread)) {
    marks$origin <- rep_len(marks$origin, length(present))
    marks$origin[spread] <- pmax(marks$origin[spread], interpolated_code)
  }
  marks$value <- made$value
  marks
}

covered_marks <- function(context, measure, present, made) {
  bins <- context$bins
  size <- bin_sizes(bins)
  if (identical(timeline_meta(context$x)$cadence$unit, "weekday")) {
    return(bin_marks(context, measure, present))
  }
  share <- pmin(1, made$covered / size)
  share[share > 1 - 1e-9] <- 1
  if (!is_marked(context$x, measure)) {
    return(list(coverage = share, origin = summarised_code, share = share, present = present))
  }
  measured <- is_measured(context$x, measure)
  weight <- ifelse(measured, coverage_of(context$x, measure), NA_real_)
  seen <- cpp_overlap_means(
    weight, context$intervals$begin, context$intervals$end, context$rows$breaks, bins$edges,
    bins$breaks, core_threads()
  )
  coverage <- pmin(1, ifelse(is.na(seen$value), 0, seen$value) * seen$covered / size)
  coverage[coverage > 1 - 1e-9] <- 1
  invented <- seen$covered < 0.5 * made$covered & made$covered > 0
  list(
    coverage = coverage, share = share, present = present,
    origin = mixed_origin(context, measure, invented)
  )
}

# Levels at the stamps themselves.
instant_values <- function(context, measure) {
  x <- context$x
  rows <- context$rows
  bins <- context$bins
  rule <- context$plan$between[[measure]] %||% "linear"
  own_period <- rule == "previous" && !context$plan$holds && is_regular(x)
  made <- if (own_period) {
    period_values(x, rows, bins, x[[measure]])
  } else {
    level_at(x[[measure]], rows$seconds, rows$breaks, bins$instants, bins$breaks, rule,
             context$plan$within)
  }
  origin <- cpp_pick(made$found, c(NA, 1L, interpolated_code))
  if (is_marked(x, measure)) {
    # A made-up reading stays made up at its own stamp.
    codes <- as.double(origin_codes(x, measure))
    own <- level_at(codes, rows$seconds, rows$breaks, bins$instants, bins$breaks, "previous", 0)
    exact <- made$found == 1 & !is.na(own$value)
    origin[exact] <- as.integer(own$value[exact])
  }
  list(value = made$value, origin = origin, coverage = 1)
}

# The value of the period that holds each instant.
period_values <- function(x, rows, bins, values) {
  source <- timeline_meta(x)$cadence
  k <- period_of_stamp(source, rows$seconds, rows$zone)
  wanted <- period_of(source, bins$instants, rows$zone)
  low <- min(k)
  at <- match(bins$owner * 1e9 + (wanted - low), series_index(rows$breaks) * 1e9 + (k - low))
  value <- values[at]
  list(value = value,
       found = ifelse(is.na(value), 0L, ifelse(rows$seconds[at] == bins$instants, 1L, 2L)))
}

# Statistics of distant timelines that rest on how long readings hold: time-weighted means of
# levels, and amounts that bins cut. Only the reading at the edge of a cell reaches over it; the
# others lie within, where their sum is enough. So a cell becomes one or two stretches of time, and
# those are laid over the bins as readings are.

is_timed <- function(statistic, kind, nested) {
  identical(statistic, "time_mean") || kind == "amount" && identical(statistic, "sum") && !nested
}

# What must be known of the cells for them.
timed_needs <- function(statistic, meta, empty) {
  if (statistic == "time_mean" || is_regular_cadence(meta$cadence)) {
    return("held")
  }
  if (empty == "zero") character() else "head"
}

# Periods of the calendar differ in length, so that a cell may hold one only; and so where an odd
# day reaches over the edge that it is counted to.
timed_grid <- function(grid, meta, closed) {
  calendar <- is_regular_cadence(meta$cadence) && !meta$cadence$unit %in% c("second", "step")
  odd_days <- !is_regular_cadence(meta$cadence) && meta$type == "date" && closed == "right"
  if (calendar || odd_days) {
    grid$width <- common_measure(c(grid$width, if (odd_days) 86400 else 900))
  }
  grid
}

# Whether the coverage of what reaches over an edge is counted by time, and not by readings.
by_time <- function(meta) is_regular_cadence(meta$cadence) && meta$cadence$unit != "weekday"

# Value and share of each bin that is there, and how much of its time is covered, also by readings
# of its own.
timed_values <- function(made, cells, measure, statistic, sums, share) {
  meta <- timeline_meta(made$ends)
  bins <- made$bins
  regular <- is_regular_cadence(meta$cadence)
  got <- over_bins(made, cells, measure, statistic)
  if (!regular && statistic == "time_mean") {
    # A reading alone at the very end of its bin covers no time.
    alone <- is.na(got$value) & sums$n > 0
    got$value[alone] <- (sums$sum / sums$n)[alone]
    got$value[sums$n == 0] <- NA_real_
    got$own <- ifelse(sums$n > 0, got$covered, 0)
  }
  if (by_time(meta)) {
    share <- pmin(1, got$covered / bin_sizes(bins))
    share[share > 1 - 1e-9] <- 1
  }
  c(got[c("value", "covered", "own")], list(share = share))
}

# The stretches of time that cells stand for, laid over the bins.
over_bins <- function(made, cells, measure, statistic) {
  bins <- made$bins
  cells <- cells[order(cells$series, cells$cell), , drop = FALSE]
  parts <- if (is_regular_cadence(timeline_meta(made$ends)$cadence)) {
    period_stretches(made, cells, measure, statistic)
  } else if (statistic == "time_mean") {
    held_stretches(made, cells, measure)
  } else {
    amount_stretches(made, cells, measure)
  }
  parts <- parts[!is.na(parts$value), , drop = FALSE]
  parts <- parts[order(parts$series, parts$begin, parts$end), , drop = FALSE]
  breaks <- as.integer(c(0, cumsum(tabulate(parts$series, length(bins$breaks) - 1))))
  if (statistic == "sum") {
    cpp_overlap_totals(parts$value, parts$begin, parts$end, breaks, bins$edges, bins$breaks,
                       sums_right(made$plan), core_threads())
  } else {
    cpp_overlap_means(parts$value, parts$begin, parts$end, breaks, bins$edges, bins$breaks,
                      core_threads())
  }
}

# Origin and coverage of the bins of a measure, as bin_marks(), covered_marks() and overlap_marks()
# have them of rows. `got`: the value and share of a statistic; of a timed one what it covers.
marks_of_bins <- function(made, cells, measure, sums, got, bins) {
  timed <- !is.null(got$covered)
  if (!timed && is.null(sums$own)) {
    return(list(origin = summarised_code, coverage = got$share))
  }
  origin <- rep(summarised_code, length(got$share))
  coverage <- got$share
  if (!is.null(sums$own)) {
    coverage <- pmin(1, sums$seen / bins$expected)
    invented <- sums$own < 0.5 * sums$n & sums$n > 0
    if (timed && by_time(timeline_meta(made$ends))) {
      seen <- over_bins(made, cells, seen_measure(measure), "time_mean")
      coverage <- pmin(1, known_or_zero(seen$value) * seen$covered / bin_sizes(bins))
      coverage[coverage > 1 - 1e-9] <- 1
      invented <- seen$covered < 0.5 * got$covered & got$covered > 0
    }
    worst <- as.integer(ifelse(is.na(sums$worst), interpolated_code, sums$worst))
    origin[invented] <- worst[invented]
  }
  if (timed) {
    spread <- got$own < 0.5 * got$covered & !is.na(got$value)
    origin[spread] <- pmax(origin[spread], interpolated_code)
  }
  list(origin = origin, coverage = coverage)
}

# Readings at odd instants hold until the next one, the last as long as is usual.
held_stretches <- function(made, cells, measure) {
  of <- cells_with_values(cells, measure)
  n <- length(of$series)
  shift <- made$shift[[measure]]
  typical <- typical_steps(made$rows)
  typical[!is.finite(typical)] <- 1
  within <- of$last_at - of$first_at
  ends <- c(of$series[-1] != of$series[-n], TRUE)
  until <- ifelse(ends, of$last_at + typical[of$series], c(of$first_at[-1], NA))
  data.frame(
    series = rep(of$series, 2),
    value = c(ifelse(within > 0, shift + of$held / within, NA), of$last),
    begin = c(of$first_at, of$last_at), end = c(of$last_at, until)
  )
}

# Regular readings hold for their own period: of the last of a cell, or where periods end at their
# stamps of the first, it may reach over the edge.
period_stretches <- function(made, cells, measure, statistic) {
  of <- cells_with_values(cells, measure)
  meta <- timeline_meta(made$ends)
  source <- meta$cadence
  zone <- made$rows$zone
  back <- shifted_back(source, made$plan$closed)
  early <- back > 0 || source$stamp == "end"
  at <- if (early) of$first_at else of$last_at
  value <- if (early) of$first else of$last
  several <- of$n > 1
  rest <- (of$sum - value) / if (statistic == "time_mean") of$n - 1 else 1
  k <- period_of_stamp(source, at, zone) - back
  begin <- period_start(source, k, zone)
  end <- period_end(source, k, begin, zone)
  long <- (of$n - 1) * step_seconds(source)
  data.frame(
    series = rep(of$series, 2),
    value = c(ifelse(several, rest, NA), value),
    begin = c(if (early) end else begin - long, begin),
    end = c(if (early) end + long else begin, end)
  )
}

# Amounts read at odd instants came since the row before.
amount_stretches <- function(made, cells, measure) {
  get <- function(word) cells[[paste0(measure, ".", word)]]
  day <- if (timeline_meta(made$ends)$type == "date") 86400 else 0
  start <- made$phase + cells$cell * made$width
  if (made$plan$empty == "zero") {
    at <- if (made$plan$closed == "right") start + made$width else start
    value <- ifelse(get("n") > 0, get("sum"), NA)
    return(data.frame(series = cells$series, value = value, begin = at, end = at + day))
  }
  n <- nrow(cells)
  first <- c(TRUE, cells$series[-1] != cells$series[-n])
  before <- ifelse(first, cells$row_first - day, c(NA, cells$row_last[-n]))
  head <- get("head")
  there <- !is.na(head)
  rest <- ifelse(get("n") > there, get("sum") - ifelse(there, head, 0), NA)
  out <- data.frame(
    series = rep(cells$series, 2), value = c(head, rest),
    begin = c(before, cells$row_last - get("long")) + day,
    end = c(cells$row_first, cells$row_last) + day
  )
  out$begin[which(first)] <- cells$row_first[first]
  out
}

cells_with_values <- function(cells, measure) {
  cells <- cells[which(cells[[paste0(measure, ".n")]] > 0), , drop = FALSE]
  words <- c("n", "sum", "held", "first", "first_at", "last", "last_at")
  columns <- cells[paste0(measure, ".", words)]
  c(list(series = cells$series), rlang::set_names(as.list(columns), words))
}

# An amount without length at an edge belongs to the bin that ends there, where bins are closed on
# the right.
sums_right <- function(plan) plan$empty == "missing" || plan$closed == "right"
