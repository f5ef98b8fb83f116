# Verbs whose result has a row for each reading, of rows that lie elsewhere. They are noted down, as the span
# is that is wanted of them; then the rows of that span are brought here with as many before and after as the
# verb reaches, and what it made of the others is left out.

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
    list(before = max(0, reach[side != "leading"]), after = max(0, reach[side %in% c("leading", "centred")]))
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
  unname(lapply(split(seq_len(nrow(facts)), bundle), function(at) facts[at, x$meta$series, drop = FALSE]))
}

# Noted down ----

# `reach`: a function of the cadence that gives seconds before and after.
noted_rows <- function(x, verb, args, reach) {
  structure(list(x = x, verb = verb, args = args, reach = reach, span = NULL), class = "kairon_distant_rows")
}

#' @export
during.kairon_distant_rows <- function(x, when, ...) {
  refuse_more("during", ...)
  x$span <- during(x$x, when)$span
  x
}

#' @export
as_timeline.kairon_distant_rows <- function(x, ...) {
  call <- rlang::caller_env()
  wide <- x$x
  if (!is.null(x$span)) {
    reach <- x$reach(attr(distant_facts(wide), "cadence"))
    wide <- limited_to(wide, c(x$span[1] - reach$before, x$span[2] + reach$after))
  }
  out <- rlang::inject(get(x$verb)(rows_here(wide, call), !!!x$args))
  if (is.null(x$span)) out else rows_within(out, x$span)
}

rows_within <- function(x, span) {
  seconds <- rows_of(x)$seconds
  x[seconds >= span[1] & seconds < span[2], ]
}

# The rows, where they are not too many to hold.
rows_here <- function(x, call = rlang::caller_env()) {
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
    ), call = call, .envir = environment())
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
  show_lines(paste0("Noted: ", x$verb, "(), ", if (length(limits)) paste0("of ",
                                                                          paste(limits,
                                                                                collapse = " up to "), ", "),
                    "not worked out yet: as_timeline() does it."))
  invisible(x)
}

# How far a window reaches, in seconds: rather too far than too short, since steps of the calendar differ.
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
