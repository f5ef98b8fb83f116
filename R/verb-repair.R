#' Replace flagged values
#'
#' Puts values in place of those that [vet()] flagged as faults. The raw values stay
#' beside, and the new ones have the origin *repaired*.
#'
#' @param x A vetted timeline, or a routine to record the step in.
#' @param with The rule, as in [impute()]: `"linear"`, `"previous"`, `"seasonal"`, a number, ... On irregular
#'   timelines rules between neighbours and numbers only.
#' @param longest The longest flagged stretch that is replaced; a longer one becomes missing.
#' @param seasons,direction As in [impute()].
#' @param ... Not used.
#' @param measures Measures to repair; all that have flags by default.
#' @returns The timeline, with `<measure>_raw` beside each repaired measure. [ledger()] has the table of
#'   what was replaced: the series columns, `measure`, the stamp, `rule`, `before`, `after`.
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
repair.kairon_timeline <- function(x, with = "linear", longest = NULL, measures = NULL, seasons = NULL,
                                   direction = "both", ...) {
  refuse_more("repair", ...)
  check_rows(x)
  rule <- check_fill_rule(with)
  direction <- check_choice(direction, c("both", "past"))
  check_direction(list(rule), direction)
  if (is.null(timeline_meta(x)$findings)) {
    abort_state(c("There are no flags to go by.", i = "Vet the timeline first: {.code vet(x) |> repair()}."))
  }
  measures <- pick_measures(x, rlang::enquo(measures))
  flagged <- measures[vapply(measures, function(m) any(is_flagged(x, m)), TRUE)]
  if (length(flagged) == 0) {
    words <- "Nothing needed repair."
    tell(c(i = verbatim(words)))
    return(add_entry(x, "repair", words, data.frame()))
  }
  check_rule_fits(rule, x)
  rows <- rows_of(x)
  limit <- repair_limit(longest, x, rows)
  table <- list()
  for (m in flagged) {
    steps <- fill_season(seasons, rule, x, m, direction == "past")
    made <- repair_measure(x, rows, m, rule, limit, steps, direction)
    x <- made$x
    table[[m]] <- made$table
  }
  table <- do.call(rbind, unname(table))
  left <- sum(is.na(table$after))
  words <- paste0(
    plural(nrow(table) - left, "value"), " repaired (", format(rule), ")",
    if (left) paste0("; ", plural(left, "flagged value"), " made missing"), "; the raw ones stay in ",
    word_list(raw_columns(x, flagged)), "."
  )
  tell(c(i = verbatim(words)))
  add_entry(x, "repair", words, table)
}

#' @export
repair.default <- function(x, with = "linear", ...) check_timeline(x)

check_rule_fits <- function(rule, x, call = rlang::caller_env()) {
  if (rule %in% learnt_rules[learnt_rules %in% c("seasonal", "model")] && !is_regular(x)) {
    abort_state(c(
      "{.val {rule}} needs a regular cadence.",
      i = "Repair irregular readings with a rule between neighbours, such as {.val linear}."
    ), call = call)
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
  made <- fill_values(gone, rows$seconds, rows$breaks, rule, limit, season, direction == "past")$values
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
  list(x = x, table = if (ncol(keys)) cbind(keys, table) else table)
}
