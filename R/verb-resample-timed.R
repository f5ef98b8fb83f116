# Statistics of distant timelines that rest on how long readings hold: time-weighted means of levels, and
# amounts that bins cut. Only the reading at the edge of a cell reaches over it; the others lie within, where
# their sum is enough. So a cell becomes one or two stretches of time, and those are laid over the bins as
# readings are.

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

# Periods of the calendar differ in length, so that a cell may hold one only; and so where an odd day reaches
# over the edge that it is counted to.
timed_grid <- function(grid, meta, closed) {
  calendar <- is_regular_cadence(meta$cadence) && !meta$cadence$unit %in% c("second", "step")
  odd_days <- !is_regular_cadence(meta$cadence) && meta$type == "date" && closed == "right"
  if (calendar || odd_days) grid$width <- common_measure(c(grid$width, if (odd_days) 86400 else 900))
  grid
}

# Value, origin and share of each bin that is there.
timed_values <- function(made, cells, measure, statistic, sums, share) {
  meta <- timeline_meta(made$ends)
  bins <- made$bins
  regular <- is_regular_cadence(meta$cadence)
  cells <- cells[order(cells$series, cells$cell), , drop = FALSE]
  parts <- if (regular) {
    period_stretches(made, cells, measure, statistic)
  } else if (statistic == "time_mean") {
    held_stretches(made, cells, measure)
  } else {
    amount_stretches(made, cells, measure)
  }
  parts <- parts[!is.na(parts$value), , drop = FALSE]
  parts <- parts[order(parts$series, parts$begin, parts$end), , drop = FALSE]
  breaks <- as.integer(c(0, cumsum(tabulate(parts$series, length(bins$breaks) - 1))))
  got <- if (statistic == "sum") {
    cpp_overlap_totals(parts$value, parts$begin, parts$end, breaks, bins$edges, bins$breaks,
                       sums_right(made$plan), core_threads())
  } else {
    cpp_overlap_means(parts$value, parts$begin, parts$end, breaks, bins$edges, bins$breaks, core_threads())
  }
  if (!regular && statistic == "time_mean") {
    # A reading alone at the very end of its bin covers no time.
    alone <- is.na(got$value) & sums$n > 0
    got$value[alone] <- (sums$sum / sums$n)[alone]
    got$value[sums$n == 0] <- NA_real_
    got$own <- ifelse(sums$n > 0, got$covered, 0)
  }
  if (regular && meta$cadence$unit != "weekday") {
    share <- pmin(1, got$covered / bin_sizes(bins))
    share[share > 1 - 1e-9] <- 1
  }
  origin <- rep(summarised_code, length(share))
  origin[got$own < 0.5 * got$covered & !is.na(got$value)] <- interpolated_code
  list(value = got$value, share = share, origin = origin)
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

# Regular readings hold for their own period: of the last of a cell, or where periods end at their stamps of
# the first, it may reach over the edge.
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
    begin = c(if (early) end else begin - long, begin), end = c(if (early) end + long else begin, end)
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
    begin = c(before, cells$row_last - get("long")) + day, end = c(cells$row_first, cells$row_last) + day
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

# An amount without length at an edge belongs to the bin that ends there, where bins are closed on the right.
sums_right <- function(plan) plan$empty == "missing" || plan$closed == "right"
