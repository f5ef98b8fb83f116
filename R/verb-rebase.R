#' Departures from a base period
#'
#' Compares each value with the normal of a base period, part by part of the calendar:
#' departures of months from their own normals, or index numbers with a base of 100.
#'
#' @inheritParams change
#' @param x A timeline, or a routine to record the step in.
#' @param against The base period: an interval such as `"2029/2031"` or `"2031-03"`, see [during()]; the
#'   whole span by default.
#' @param each The part of the calendar that has a normal of its own: `"month of year"`, `"hour of day"`,
#'   `"day of week"`, `"day of year"` (smoothed by a fading window of 15 days either side),
#'   `"season of year"` ...; `NULL` for one normal of all.
#' @param as `"difference"`, `"percent"`, `"ratio"`, `"log_ratio"`, `"standardised"` (in standard deviations
#' of the
#'   part in the base period) or `"index"` (base = 100).
#' @param at_least The share of a part's values in the base period that must be there for a normal.
#' @returns The timeline with the departures under the measures' names. Parts without a
#'   normal are missing. [ledger()] has the normals: `part`, `normal`, `sd`, `count`, `coverage`.
#' @section Forecasts:
#' In a routine, the normals are learnt from what the forecast may see, and forecasts come
#' back on the original scale.
#' @seealso [roll()], [windows], [change()], [stabilise()], [remove_seasons()], [season_profile()]
#' @examples
#' rebase(demo_timeline("billed"), "2023/2027", each = "month of year", as = "percent")
#' rebase(demo_timeline("accounts"), "2029", as = "index")
#' @export
rebase <- function(x, against = NULL, each = NULL, as = "difference", ...) UseMethod("rebase")

rebase_words <- c(change_words, "standardised", "index")

#' @rdname rebase
#' @export
rebase.kairon_routine <- function(x, against = NULL, each = NULL, as = "difference", ...) {
  check_choice(as, rebase_words)
  if (!is.null(each)) check_part(each)
  record_step(x, "rebase", list(against = against, each = each, as = as, ...), regrids = FALSE)
}

#' @rdname rebase
#' @export
rebase.kairon_timeline <- function(x, against = NULL, each = NULL, as = "difference", measures = NULL,
                                   at_least = 0.5, keep = FALSE, ...) {
  refuse_more("rebase", ...)
  check_rows(x)
  as <- check_choice(as, rebase_words)
  check_share(at_least)
  part <- if (!is.null(each)) check_part(each)
  measures <- pick_measures(x, rlang::enquo(measures))
  if (is_regular(x)) x <- complete_grid(x)
  rows <- rows_of(x)
  meta <- timeline_meta(x)
  code <- row_parts(x, rows, part)
  inside <- in_base(x, rows, against)
  owner <- series_index(rows$breaks)
  table <- list()
  for (m in measures) {
    normals <- part_normals(x[[m]], owner, code, inside, part, at_least)
    at <- match(owner * 1e4 + code, normals$owner * 1e4 + normals$code)
    undo <- list(kind = "rebase", as = as, part = part, normals = normals, labels = series_labels(rows$keys))
    made <- compare(x[[m]], normals$normal[at], as, normals$sd[at])
    old <- x[[m]]
    x <- rescale_measure(x, m, made, origin_codes(x, m), change_unit(meta$units[[m]], as), undo)
    if (keep) x <- keep_raw(x, m, old, meta)
    table[[m]] <- normals_table(normals, rows, m, part)
  }
  table <- do.call(rbind, unname(table))
  words <- base_words(table, against, x)
  tell(c(i = verbatim(words)))
  add_entry(x, "rebase", words, table)
}

#' @export
rebase.default <- function(x, against = NULL, each = NULL, as = "difference", ...) check_timeline(x)

check_share <- function(x, arg = rlang::caller_arg(x), call = rlang::caller_env()) {
  if (!is.numeric(x) || length(x) != 1 || is.na(x) || x < 0 || x > 1) {
    abort_input("{.arg {arg}} must be a share from 0 to 1.", call = call)
  }
}

# The code of the part that each row lies in; 1 without one.
row_parts <- function(x, rows, part, call = rlang::caller_env()) {
  if (is.null(part)) {
    return(rep(1, length(rows$seconds)))
  }
  meta <- timeline_meta(x)
  if (meta$type == "step") abort_input("Plain steps have no calendar.", call = call)
  local <- if (meta$type == "instant") cpp_local_of(rows$seconds, rows$zone) else rows$seconds
  part_codes(part, local)
}

in_base <- function(x, rows, against) {
  if (is.null(against)) {
    return(rep(TRUE, length(rows$seconds)))
  }
  base <- quietly(during(x, against))
  meta <- timeline_meta(x)
  span <- range(to_seconds(base[[meta$time]]))
  rows$seconds >= span[1] & rows$seconds <= span[2]
}

# One row for each series and part: normal, sd, count and coverage in the base period.
part_normals <- function(values, owner, code, inside, part, at_least) {
  key <- owner * 1e4 + code
  keys <- sort(unique(key))
  at <- match(key[inside], keys)
  v <- values[inside]
  there <- !is.na(v)
  size <- tabulate(at, length(keys))
  count <- tabulate(at[there], length(keys))
  total <- as.vector(rowsum(c(v[there], rep(0, length(keys))), c(at[there], seq_along(keys))))
  normal <- ifelse(count > 0, total / count, NA_real_)
  squares <- as.vector(rowsum(c((v[there] - normal[at[there]])^2, rep(0, length(keys))),
                              c(at[there], seq_along(keys))))
  out <- data.frame(
    owner = keys %/% 1e4, code = keys %% 1e4, normal = normal,
    sd = ifelse(count > 1, sqrt(squares / (count - 1)), NA_real_), count = count,
    coverage = ifelse(size > 0, count / size, 0)
  )
  if (identical(part, "day of year")) out <- smooth_days(out)
  out$normal[out$coverage < at_least | out$count == 0] <- NA_real_
  out
}

# Normals of days from the 15 days on either side, round the year, by triangular weights.
smooth_days <- function(normals) {
  for (s in unique(normals$owner)) {
    rows <- which(normals$owner == s)
    code <- normals$code[rows]
    for (column in c("normal", "sd")) {
      v <- normals[[column]][rows]
      normals[[column]][rows] <- vapply(code, function(day) {
        away <- abs(code - day)
        w <- pmax(0, 16 - pmin(away, 366 - away)) * !is.na(v)
        if (sum(w) > 0) sum(w * ifelse(is.na(v), 0, v)) / sum(w) else NA_real_
      }, 1)
    }
  }
  normals
}

normals_table <- function(normals, rows, m, part) {
  out <- data.frame(measure = rep(m, nrow(normals)))
  out$part <- if (is.null(part)) "all" else as.character(part_labels(part, normals$code))
  out <- cbind(out, normals[c("normal", "sd", "count", "coverage")])
  keys <- rows$keys[normals$owner, , drop = FALSE]
  if (ncol(keys)) out <- cbind(keys, out)
  rownames(out) <- NULL
  out
}

base_words <- function(table, against, x) {
  lost <- sum(is.na(table$normal))
  paste0(
    plural(nrow(table) - lost, "normal"), " from ", against %||% "the whole span", ", resting on ",
    show_percent(sum(table$count) / max(1, sum(ifelse(table$coverage > 0, table$count / table$coverage, 0)))),
    " of the readings there",
    if (lost) paste0("; ", plural(lost, "part"), " too thin for one"), "."
  )
}
