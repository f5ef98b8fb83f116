#' Vet readings
#'
#' Flags what does not look like a true reading. Nothing is changed: [repair()] does that.
#'
#' @param x A timeline, or a routine to record the step in.
#' @param rules A rule or a list of them; by default `list(spikes(), stuck(), shifts())`.
#' @param measures Measures to vet; all by default.
#' @param ... Not used.
#' @returns The timeline with a factor `<measure>_flag` beside each measure where something was
#'   found: the first rule that a value broke. [findings()] lists them. Shifts are told, not flagged
#'   as faults: the values after them are true.
#' @seealso [vetting-rules], [findings()], [repair()], [remove_shifts()]
#' @examples
#' vetted <- vet(demo_timeline("river"))
#' findings(vetted)
#' vet(demo_timeline("demand"), limits(min = 0, max = 5000))
#' @export
vet <- function(x, rules = NULL, ...) UseMethod("vet")

#' @rdname vet
#' @export
vet.kairon_routine <- function(x, rules = NULL, ...) {
  read_rules(rules)
  record_step(x, "vet", list(rules = rules, ...), regrids = FALSE)
}

#' @rdname vet
#' @export
vet.kairon_timeline <- function(x, rules = NULL, measures = NULL, ...) {
  refuse_more("vet", ...)
  check_rows(x)
  rules <- read_rules(rules)
  measures <- pick_measures(x, rlang::enquo(measures))
  if (is_regular(x)) x <- complete_grid(x)
  rows <- rows_of(x)
  found <- list()
  for (m in measures) {
    each <- lapply(rules, run_rule, x = x, m = m, rows = rows)
    each <- do.call(rbind, each)
    found[[m]] <- each[order(each$from), , drop = FALSE]
    x <- flag_values(x, m, found[[m]])
  }
  table <- findings_table(x, rows, do.call(rbind, unname(found)))
  words <- vet_words(table, rules)
  tell(c(i = verbatim(words)))
  meta <- timeline_meta(x)
  meta$findings <- table
  attr(x, "timeline") <- meta
  add_entry(x, "vet", words, table)
}

#' @export
vet.default <- function(x, rules = NULL, ...) check_timeline(x)

#' What vetting found
#'
#' @param x A vetted timeline, see [vet()].
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A data frame with one row a finding: the series columns, `measure`, `rule` ("spike",
#'   "stuck", "limit", "jump" or "shift"), `from` and `to` (first and last stamp), `readings`,
#'   `value`, `expected` (what the surroundings suggest), `off` (the difference, in the measure's
#'   unit), `score` (robust standard deviations for spikes and shifts; how many times the limit for
#'   the others) and `sure` ("likely", "very likely", "almost certain").
#' @seealso [vet()], [vetting-rules], [repair()], [remove_shifts()]
#' @examples
#' findings(vet(demo_timeline("river"), stuck()))
#' @export
findings <- function(x, ...) {
  refuse_more("findings", ...)
  check_timeline(x)
  out <- timeline_meta(x)$findings
  if (is.null(out)) {
    abort_state(c("This timeline has not been vetted.", i = "Begin with {.fn vet}."))
  }
  out
}

# Rules ----

#' Rules for vetting
#'
#' @param threshold For spikes and shifts: how many robust standard deviations are too many; for
#'   jumps without a rate, of all changes from reading to reading.
#' @param seasons For spikes: a season, by name or steps, that is taken off first, so that a daily
#'   peak is no spike; by default that of [find_seasons()], else the usual cycle, in regular
#'   timelines, and none in irregular ones. `NA` for none.
#' @param width For spikes: readings of the running median that is the local level (odd). For
#'   shifts: readings on either side whose medians are compared.
#' @param most The longest spike, in readings; what stays longer is a shift or an event.
#' @param least The shortest stuck stretch, in readings; by default one so long that chance makes it
#'   less than once in ten thousand series like this.
#' @param resolution The sensor's resolution: values within half of it are equal.
#' @param zeros Whether zeros can be stuck; by default only those of levels.
#' @param min,max Limits of what is possible, in the measure's unit.
#' @param rate The fastest possible change, in the measure's unit for each `per`.
#' @param per A duration such as `"1 hour"`.
#' @param stay How many readings a shift must last.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A rule for [vet()].
#' @section Method:
#' `spikes()`: from each value the season (medians by phase of departures from a running
#' median over a season) and a local level (running median of `width` readings) are taken off; what
#' is left is divided by its robust standard deviation nearby (the 0.9 quantile of its size over
#' 1.645, in 201 readings), no less than half of the series' own. `stuck()`: with a share p of equal
#' neighbours, n p^(L - 1) runs of length L are expected. `shifts()`: a step of over `threshold`
#' robust standard deviations of all steps, where the medians of `width` readings before and after
#' differ by at most twice the step and by over a quarter of `threshold` of theirs, and where the
#' difference lasts.
#' @section Measured:
#' On the readings of the demo, with the faults that were planted in them: see `docs/vetting.md` in
#' the repository.
#' @seealso [vet()], [findings()], [repair()], [remove_shifts()]
#' @examples
#' spikes(threshold = 10)
#' stuck(least = 12, resolution = 0.01)
#' limits(min = 0, max = 500)
#' jumps(20, per = "1 hour")
#' @name vetting-rules
NULL

new_rule <- function(name, ...) structure(list(name = name, ...), class = "kairon_rule")

check_positive <- function(x, arg = rlang::caller_arg(x)) {
  if (!is.numeric(x) || length(x) != 1 || is.na(x) || x <= 0) {
    abort_input("{.arg {arg}} must be a number above 0.")
  }
  x
}

#' @rdname vetting-rules
#' @export
spikes <- function(threshold = 8, seasons = NULL, width = 7, most = 3, ...) {
  refuse_more("spikes", ...)
  check_positive(threshold)
  check_count(width, least = 3)
  check_count(most)
  # NA takes none off.
  if (!identical(seasons, NA)) check_seasons(seasons)
  if (width %% 2 == 0) {
    abort_input("{.arg width} must be odd, so that a reading stands in the middle.")
  }
  if (most > width %/% 2) {
    abort_input("{.arg most} must be below half of {.arg width}: longer spikes would be their \\
                 own level.")
  }
  new_rule("spike", threshold = threshold, seasons = seasons, width = width, most = most)
}

#' @rdname vetting-rules
#' @export
stuck <- function(least = NULL, resolution = 0, zeros = NULL, ...) {
  refuse_more("stuck", ...)
  if (!is.null(least)) check_count(least, least = 2)
  if (!identical(resolution, 0)) check_positive(resolution)
  if (!is.null(zeros)) check_flag(zeros)
  new_rule("stuck", least = least %||% NA_real_, resolution = resolution, zeros = zeros)
}

#' @rdname vetting-rules
#' @export
limits <- function(min = -Inf, max = Inf, ...) {
  refuse_more("limits", ...)
  good <- is.numeric(min) && is.numeric(max) && length(min) == 1 && length(max) == 1 &&
    !is.na(min) &&
    !is.na(max)
  if (!good || min >= max) {
    abort_input("{.arg min} and {.arg max} must be numbers, the first below the second.")
  }
  new_rule("limit", min = min, max = max)
}

#' @rdname vetting-rules
#' @export
jumps <- function(rate = NULL, per = "1 hour", threshold = 20, ...) {
  refuse_more("jumps", ...)
  if (!is.null(rate)) check_positive(rate)
  check_positive(threshold)
  seconds <- duration_seconds(parse_step(per, "per"))
  new_rule("jump", rate = if (is.null(rate)) NA_real_ else rate / seconds, threshold = threshold)
}

#' @rdname vetting-rules
#' @export
shifts <- function(threshold = 8, width = 12, stay = 60, ...) {
  refuse_more("shifts", ...)
  check_positive(threshold)
  check_count(width, least = 3)
  check_count(stay, least = width)
  new_rule("shift", threshold = threshold, width = width, stay = stay)
}

#' @export
format.kairon_rule <- function(x, ...) {
  args <- Filter(function(a) !is.null(a) && !all(is.na(a)), unclass(x)[-1])
  paste0(x$name, " (", paste(names(args), vapply(args, function(a) format(a)[1], ""), sep = " = ",
                             collapse = ", "), ")")
}

#' @export
print.kairon_rule <- function(x, ...) {
  show_lines(paste0("Rule: ", format(x)))
  invisible(x)
}

read_rules <- function(rules) {
  if (is.null(rules)) {
    return(list(spikes(), stuck(), shifts()))
  }
  if (inherits(rules, "kairon_rule")) rules <- list(rules)
  good <- is.list(rules) && length(rules) > 0 &&
    all(vapply(rules, inherits, TRUE, what = "kairon_rule"))
  if (!good) {
    abort_input(c(
      "{.arg rules} must be rules, such as {.code list(spikes(), limits(min = 0))}.",
      i = "There are {.fn spikes}, {.fn stuck}, {.fn limits}, {.fn jumps} and {.fn shifts}."
    ))
  }
  rules
}

run_rule <- function(rule, x, m, rows) {
  values <- x[[m]]
  # Only what was measured can be a faulty reading.
  values[!is_measured(x, m)] <- NA_real_
  found <- switch(rule$name,
    spike = find_spikes(values, rows$breaks, rule$threshold, rule_season(rule, x, m), rule$width,
                        rule$most),
    stuck = find_stuck(
      values, rows$breaks, rule$least, rule$resolution, rule$zeros %||% (kind_of(x, m) == "level")
    ),
    limit = find_outside(values, rows$breaks, rule$min, rule$max),
    jump = find_jumps(values, rows$seconds, rows$breaks, rule$rate, rule$threshold),
    shift = find_shifts(values, rows$seconds, rows$breaks, rule$threshold, rule$width, rule$stay)
  )
  found$rule <- rep(rule$name, nrow(found))
  found$measure <- rep(m, nrow(found))
  limit <- rule$threshold %||% 1
  ratio <- found$score / if (rule$name %in% c("spike", "shift")) limit else 1
  found$sure <- c("likely", "very likely", "almost certain")[findInterval(ratio, c(-Inf, 1.25, 2))]
  if (rule$name == "limit") found$sure <- rep("almost certain", nrow(found))
  found
}

rule_season <- function(rule, x, m) {
  if (identical(rule$seasons, NA) || !is_regular(x)) {
    return(0)
  }
  if (!is.null(rule$seasons)) {
    return(resolve_seasons(rule$seasons, timeline_meta(x)$cadence)[[1]])
  }
  found <- default_seasons(x, m)
  if (length(found)) found[[1]] else 0
}

flag_values <- function(x, m, found) {
  found <- found[found$rule %in% fault_rules, , drop = FALSE]
  if (nrow(found) == 0) {
    return(set_companion(x, m, "flag", NULL))
  }
  flag <- rep(NA_character_, nrow(x))
  for (i in rev(seq_len(nrow(found)))) flag[found$from[i]:found$to[i]] <- found$rule[i]
  flag[is.na(x[[m]])] <- NA
  set_companion(x, m, "flag", factor(flag, levels = fault_rules))
}

is_flagged <- function(x, m) {
  flag <- companion(x, m, "flag")
  if (is.null(flag)) rep(FALSE, nrow(x)) else !is.na(flag)
}

findings_table <- function(x, rows, found) {
  meta <- timeline_meta(x)
  owner <- series_index(rows$breaks)[found$from]
  stamp <- function(at) from_seconds(rows$seconds[at], meta$type, meta$zone)
  value <- vapply(seq_len(nrow(found)), function(i) x[[found$measure[i]]][found$from[i]], 1)
  out <- data.frame(
    measure = found$measure, rule = found$rule, from = stamp(found$from), to = stamp(found$to),
    readings = found$to - found$from + 1, value = value, expected = found$expected, off = found$off,
    score = found$score, sure = found$sure
  )
  keys <- rows$keys[owner, , drop = FALSE]
  if (ncol(keys)) out <- beside_keys(keys, out)
  rownames(out) <- NULL
  structure(out, class = c("kairon_findings", "data.frame"))
}

#' @export
format.kairon_findings <- function(x, ...) {
  if (nrow(x) == 0) {
    return("Nothing was found.")
  }
  shown <- as.list(utils::head(as.data.frame(x), 20))
  shown$from <- format(shown$from)
  shown$to <- NULL
  keys <- setdiff(names(shown), c(
    "measure", "rule", "from", "readings", "value", "expected", "off", "score", "sure"
  ))
  shown[keys] <- lapply(shown[keys], as.character)
  more <- nrow(x) - length(shown$from)
  c(text_table(shown),
    if (more > 0) paste0("  ... and ", plural(more, "more finding"), ": as.data.frame()"))
}

#' @export
print.kairon_findings <- function(x, ...) {
  show_lines(format(x))
  invisible(x)
}

#' @export
as.data.frame.kairon_findings <- function(x, row.names = NULL, optional = FALSE, ...) {
  structure(x, class = "data.frame")
}

vet_words <- function(table, rules) {
  names <- vapply(rules, `[[`, "", "name")
  if (nrow(table) == 0) {
    looked <- c(spike = "spikes", stuck = "stuck stretches", limit = "values outside of limits",
                jump = "jumps",
                shift = "shifts")
    return(paste0("Looked for ", word_list(looked[unique(names)]), ": nothing found."))
  }
  count <- table(factor(table$rule, levels = unique(names)))
  said <- vapply(names(count), function(n) {
    if (n == "stuck") {
      plural(count[[n]], "stuck stretch", "stuck stretches")
    } else {
      plural(count[[n]], n)
    }
  }, "")
  readings <- sum(table$readings[table$rule %in% fault_rules])
  paste0("Found: ", word_list(said), "; ", plural(readings, "reading"), " flagged.")
}

#' Replace flagged values
#'
#' Puts values in place of those that [vet()] flagged as faults. The raw values stay beside, and the
#' new ones have the origin *repaired*.
#'
#' @param x A vetted timeline, or a routine to record the step in.
#' @param with The rule, as in [impute()]: `"linear"`, `"previous"`, `"seasonal"`, a number, ... On
#'   irregular timelines rules between neighbours and numbers only.
#' @param longest The longest flagged stretch that is replaced; a longer one becomes missing.
#' @param seasons,direction As in [impute()].
#' @param ... Not used.
#' @param measures Measures to repair; all that have flags by default.
#' @returns The timeline, with `<measure>_raw` beside each repaired measure. [ledger()] has the
#'   table of what was replaced: the series columns, `measure`, the stamp, `rule`, `before`,
#'   `after`.
#' @seealso [vet()], [vetting-rules], [findings()], [remove_shifts()]
#' @examples
#' river <- vet(demo_timeline("river"))
#' repaired <- repair(river, longest = 3)
#' origins(repaired)
#' head(as.data.frame(ledger(repaired)))
#' @export
repair <- function(x, with = "linear", ...) UseMethod("repair")

#' @rdname repair
#' @export
repair.kairon_routine <- function(x, with = "linear", ...) {
  check_fill_rule(with)
  record_step(x, "repair", list(with = with, ...), regrids = FALSE)
}

#' @rdname repair
#' @export
repair.kairon_timeline <- function(x, with = "linear", longest = NULL, measures = NULL,
                                   seasons = NULL,
                                   direction = "both", ...) {
  refuse_more("repair", ...)
  check_rows(x)
  rule <- check_fill_rule(with)
  direction <- check_choice(direction, c("both", "past"))
  check_direction(list(rule), direction)
  check_fill_seasons(seasons, list(rule))
  if (is.null(timeline_meta(x)$findings)) {
    abort_state(c("There are no flags to go by.",
                  i = "Vet the timeline first: {.code vet(x) |> repair()}."))
  }
  measures <- pick_measures(x, rlang::enquo(measures))
  rows <- rows_of(x)
  limit <- repair_limit(longest, x, rows)
  flagged <- measures[vapply(measures, function(m) any(is_flagged(x, m)), TRUE)]
  if (length(flagged) == 0) {
    words <- "Nothing needed repair."
    tell(c(i = verbatim(words)))
    return(add_entry(x, "repair", words, data.frame()))
  }
  check_rule_fits(rule, x)
  table <- list()
  said <- new.env()
  for (m in flagged) {
    steps <- fill_season(seasons, rule, x, m, said, direction == "past")
    made <- repair_measure(x, rows, m, rule, limit, steps, direction)
    x <- made$x
    table[[m]] <- made$table
  }
  table <- do.call(rbind, unname(table))
  left <- sum(is.na(table$after))
  words <- paste0(
    plural(nrow(table) - left, "value"), " repaired (", format(rule), ")",
    if (left) paste0("; ", plural(left, "flagged value"), " made missing"),
    "; the raw ones stay in ", word_list(raw_columns(x, flagged)), "."
  )
  tell(c(i = verbatim(words)))
  add_entry(x, "repair", words, table)
}

#' @export
repair.default <- function(x, with = "linear", ...) check_timeline(x)

check_rule_fits <- function(rule, x) {
  if (rule %in% learnt_rules[learnt_rules %in% c("seasonal", "model")] && !is_regular(x)) {
    abort_state(c(
      "{.val {rule}} needs a regular cadence.",
      i = "Repair irregular readings with a rule between neighbours, such as {.val linear}."
    ))
  }
}

# Seconds between the first flagged stamp and the next good one.
repair_limit <- function(longest, x, rows) {
  cadence <- timeline_meta(x)$cadence
  if (is.null(longest)) {
    return(Inf)
  }
  if (is_regular_cadence(cadence)) {
    return(longest_seconds(longest, cadence))
  }
  typical <- stats::median(typical_steps(rows))
  if (is.numeric(longest)) {
    check_count(longest)
    (longest + 0.5) * typical
  } else {
    duration_seconds(parse_step(longest, "longest")) + typical / 2
  }
}

repair_measure <- function(x, rows, m, rule, limit, season, direction) {
  meta <- timeline_meta(x)
  before <- x[[m]]
  flag <- companion(x, m, "flag")
  hit <- which(!is.na(flag))
  gone <- replace(before, hit, NA_real_)
  # Gaps that were there before stay: only flagged values are put in.
  made <- fill_values(gone, rows$seconds, rows$breaks, rule, limit, season,
                      direction == "past")$values
  after <- gone
  after[hit] <- made[hit]
  codes <- origin_codes(x, m)
  codes[hit] <- repaired_code
  x <- put_column(x, m, after)
  x <- set_origins(x, m, codes)
  x <- keep_raw(x, m, before, meta)
  x <- set_companion(x, m, "flag", NULL)
  table <- data.frame(
    measure = m, stamp = from_seconds(rows$seconds[hit], meta$type, meta$zone),
      rule = as.character(flag[hit]),
    before = before[hit], after = after[hit]
  )
  keys <- rows$keys[series_index(rows$breaks)[hit], , drop = FALSE]
  list(x = x, table = if (ncol(keys)) beside_keys(keys, table) else table)
}
