#' Bring several timelines onto one grid
#'
#' Joins any number of timelines, of different cadences, zones and series, into one. Each measure
#' goes to the grid by its kind: levels are averaged over time or carried within their period,
#' amounts are summed or spread.
#'
#' @param ... Timelines (the first may be a routine to record the step in). Name them to be called
#'   so in the account and where measures share a name: `align(river = a, rain = b)`.
#' @param every The grid: a cadence, `"coarsest"` or `"finest"` of those of the timelines, or `"as
#'   first"` for the very stamps of the first one.
#' @param match With `every = "as first"`: which reading of the others belongs to a stamp:
#'   `"previous"` (the last one before or at it), `"next"`, `"nearest"`, `"linear"` (interpolated)
#'   or `"exact"`.
#' @param within How far a reading may be from a stamp that it is used for, such as `"10 minutes"`;
#'   any distance by default. For interpolation, how far apart two readings may be.
#' @param between The rule for levels that go to a finer grid, one for all or by measure:
#'   `c(price = "previous", flow = "linear")`. By default `"previous"` (carried within its period)
#'   for regular timelines and `"linear"` for irregular ones. Amounts are spread.
#' @param extent `"inner"`: stamps and series that all timelines have; `"outer"`: those that any
#'   has.
#' @param shift Moves timelines in time before they are matched: a duration for all but the
#'   first, or by name: `c(rain = "2 hours")` sets the rain two hours later; `"-2 hours"` earlier.
#' @param delay When values were known: a value that stands for a period is known from the end of
#'   the period plus this delay. With it (a duration for all but the first, or by name; `"0 days"`
#'   for no more than the period itself), each stamp has the last value that was known by then.
#' @param known_from Whether to keep, beside each matched measure, the instant from which its
#'   value was known, as `<measure>_known_from`. With `delay` it always is.
#' @param zone Zone of the result; that of the first timeline with times by default.
#' @returns A timeline. Its series are those of the first timeline; a timeline without a series
#'   column is repeated for each, and series columns that the first lacks are spread over measures
#'   (`rain_north`, `rain_south`). Measures that share a name get the timeline's name behind theirs.
#'   [ledger()] tells, for each timeline, how it came to the grid, how many of its series and
#'   readings were matched, and how many were not and why: outside the common time, no stamp near
#'   enough, a series that the others lack.
#' @section Weeks, months and years:
#' A week that a month cuts counts for both, by the days in each: levels weighted by overlap,
#' amounts split in proportion. See [resample()].
#' @section Looking ahead:
#' Without `delay` a value belongs to the stamps of its period, some of which lie before it
#' could be known. To forecast with a column, give a delay. In backtests a timeline in a
#' recorded `align()` is cut at each cutoff.
#' @seealso [resample()], [impute()], [pool_series()], [with_totals()], [bands()]
#' @examples
#' demand <- demo_timeline("demand")
#' align(demand, demo_timeline("rain"), every = "1 week")
#' align(demand, demo_timeline("billed"), every = "finest", delay = "10 days")
#' river <- demo_timeline("river")
#' align(river, energy = demo_timeline("energy"), every = "as first", within = "1 hour")
#' @export
align <- function(...) UseMethod("align")

#' @rdname align
#' @export
align.kairon_routine <- function(...) {
  args <- list(...)
  record_step(args[[1]], "align", args[-1], regrids = TRUE)
}

#' @export
align.default <- function(...) check_timeline(..1)

#' @rdname align
#' @export
align.kairon_timeline <- function(..., every = "coarsest", match = "previous", within = NULL,
                                  between = NULL, extent = "inner", shift = NULL,
                                  delay = NULL, known_from = FALSE, zone = NULL) {
  check_flag(known_from)
  parts <- list(...)
  names(parts) <- part_names(as.list(substitute(list(...)))[-1], names(parts))
  plan <- list(
    match = check_choice(match, c("previous", "next", "nearest", "linear", "exact")),
    within = within_seconds(within), within_text = within,
    extent = check_choice(extent, c("inner", "outer")),
    between = between, known_from = known_from
  )
  check_heeded(c(match = plan$match != "previous"), list(match = "as first"),
               if (is.character(every)) every else "a cadence", "every")
  check_parts(parts)
  parts <- one_zone(parts, zone)
  parts <- shift_parts(parts, named_spans(shift, parts, "shift"))
  plan$delay <- named_spans(delay, parts, "delay")
  check_between(between, parts)
  parts <- apart_names(parts)
  shapes <- lapply(parts, part_shape, keys = timeline_meta(parts[[1]])$series)
  base <- if (identical(every, "as first")) first_grid(parts, shapes,
                                                       plan) else calendar_grid(parts, shapes,
      every, plan)
  out <- matched_columns(base, parts, shapes, plan)
  words <- align_words(out$account, base)
  tell(c(i = verbatim(words)))
  add_entry(out$timeline, "align", words, out$account)
}

# Arguments ----

# Names that were given, else the variables' names, else their place.
part_names <- function(exprs, given) {
  given <- given %||% rep("", length(exprs))
  seen <- vapply(exprs, function(e) {
    if (is.symbol(e)) as.character(e) else if (rlang::is_call(e, "demo_timeline") &&
        is.character(e[[2]])) e[[2]] else ""
  }, "")
  out <- ifelse(nzchar(given), given,
                ifelse(nzchar(seen) & seen != ".", seen, paste0("timeline", seq_along(exprs))))
  make.unique(unname(out), sep = "_")
}

check_parts <- function(parts) {
  for (name in names(parts)) {
    if (!is_timeline(parts[[name]])) {
      abort_input(c(
        "Only timelines can be aligned.",
        x = "{.arg {name}} is {.obj_type_friendly {parts[[name]]}}.",
        i = "Is it an option? Those are {.val {names(formals(align.kairon_timeline))[-1]}}."
      ))
    }
    check_rows(parts[[name]])
  }
  if (length(parts) < 2) {
    abort_input("Aligning takes two timelines or more; one alone can be resampled.")
  }
  steps <- vapply(parts, function(p) timeline_meta(p)$type == "step", TRUE)
  if (any(steps) && !all(steps)) {
    abort_input(c(
      "Plain steps and dates have no common grid.",
      x = "{.val {names(parts)[steps]}} {?counts/count} steps."
    ))
  }
}

# Durations by the name of a timeline; one without a name goes to all but the first.
named_spans <- function(spans, parts, arg) {
  if (is.null(spans)) {
    return(list())
  }
  spans <- as.list(spans)
  if (is.null(names(spans))) {
    if (length(spans) != 1) {
      abort_input("Name the timelines: {.code {arg} = c({names(parts)[2]} = \"2 hours\")}.")
    }
    spans <- rlang::set_names(rep(spans, length(parts) - 1), names(parts)[-1])
  }
  lost <- setdiff(names(spans), names(parts))
  if (length(lost)) {
    hint <- nearest_word(lost[1], names(parts))
    abort_input(c(
      "{.arg {arg}} names no timeline {.val {lost[1]}}.",
      i = if (!is.null(hint)) "Did you mean {.val {hint}}?",
      i = "They are {.val {names(parts)}}."
    ))
  }
  lapply(spans, function(s) signed_span(s, arg))
}

# A duration with its sign; "0 days" is one here.
signed_span <- function(text, arg) {
  check_string(text, arg)
  sign <- if (grepl("^\\s*-", text)) -1 else 1
  bare <- sub("^\\s*[-+]\\s*", "", text)
  if (grepl("^0+(\\.0+)? ", paste0(bare, " "))) {
    return(list(step = list(n = 0, word = "day"), sign = 1, text = text))
  }
  list(step = parse_step(bare, arg), sign = sign, text = text)
}

check_between <- function(between, parts) {
  if (is.null(between)) {
    return(invisible())
  }
  check_choices(between, between_rules, arg = "between")
  all <- unlist(lapply(parts, function(p) names(timeline_meta(p)$kinds)))
  if (!is.null(names(between))) check_columns(names(between), all)
}

# Preparing each timeline ----

# All in one zone: dates are local days of it where others have times.
one_zone <- function(parts, zone) {
  types <- vapply(parts, function(p) timeline_meta(p)$type, "")
  if (!is.null(zone)) check_zone(zone)
  if (!any(types == "instant")) {
    return(parts)
  }
  zones <- vapply(parts, function(p) timeline_meta(p)$zone, "")
  zone <- zone %||% zones[types == "instant"][1]
  other <- types == "instant" & zones != zone
  if (any(other)) {
    tell(c(i = "{.val {names(parts)[other]}} {?is/are} taken to the zone {zone}."))
  }
  Map(function(p, type) if (type == "date") dates_as_times(p, zone) else in_zone(p, zone), parts,
      types)
}

in_zone <- function(x, zone) {
  meta <- timeline_meta(x)
  if (meta$zone == zone) {
    return(x)
  }
  meta$zone <- zone
  x <- put_column(x, meta$time, .POSIXct(to_seconds(x[[meta$time]]), tz = zone))
  attr(x, "timeline") <- meta
  attr(x, "timeline")$cadence <- find_cadence(x)
  x
}

dates_as_times <- function(x, zone) {
  meta <- timeline_meta(x)
  local <- to_seconds(x[[meta$time]])
  table <- zone_table(zone, min(local), max(local))
  x <- put_column(x, meta$time, .POSIXct(cpp_instant_of_local(local, table), tz = zone))
  meta$type <- "instant"
  meta$zone <- zone
  attr(x, "timeline") <- meta
  x
}

shift_parts <- function(parts, shifts) {
  for (name in names(shifts)) {
    x <- parts[[name]]
    meta <- timeline_meta(x)
    rows <- rows_of(x)
    span <- shifts[[name]]
    moved <- if (meta$type == "step") {
      rows$seconds + span$sign * span$step$n
    } else {
      shift_instants(rows$seconds, span$step, span$sign, rows$zone)
    }
    type <- meta$type
    if (type == "date" && any(moved %% 86400 != 0)) {
      abort_input("{.val {name}} is stamped by days and cannot be shifted by {.val {span$text}}.")
    }
    x <- put_column(x, meta$time, from_seconds(moved, type, meta$zone))
    attr(x, "timeline")$cadence <- find_cadence(x)
    parts[[name]] <- x
  }
  parts
}

# Measures that share a name get the timeline's name behind theirs.
apart_names <- function(parts) {
  all <- unlist(lapply(parts, function(p) names(timeline_meta(p)$kinds)))
  twice <- unique(all[duplicated(all)])
  Map(function(p, name) {
    own <- names(timeline_meta(p)$kinds)
    clash <- intersect(own, twice)
    if (length(clash) == 0) {
      return(p)
    }
    new <- names(p)
    for (m in clash) {
      new[new == m] <- paste0(m, "_", name)
      for (column in companion_columns(p, m)) {
        new[names(p) == column] <- sub(m, paste0(m, "_", name), column, fixed = TRUE)
      }
    }
    names(p) <- new
    p
  }, parts, names(parts))
}

# How the series of a timeline relate to those of the first: the shared columns, and
# labels of what is spread over measures.
part_shape <- function(x, keys) {
  rows <- rows_of(x)
  shared <- intersect(keys, timeline_meta(x)$series)
  extra <- setdiff(timeline_meta(x)$series, keys)
  key <- key_text(rows$keys[shared], nrow(rows$keys))
  label <- if (length(extra)) series_labels(rows$keys[extra]) else rep("", length(key))
  if (length(unique(label)) > 50) {
    abort_input(c(
      "{length(unique(label))} series would become as many columns.",
      x = "They are told apart by {.field {extra}}, which the first timeline lacks.",
      i = "Pool them first with {.fn pool_series}, or put that timeline first."
    ))
  }
  list(shared = shared, key = key, label = label, labels = unique(label), keys = rows$keys)
}
