#' Prove that a backtest saw no future
#'
#' Runs the cutoffs of a backtest again on data that were changed after the cutoff: no forecast may
#' move. Then on data that were changed before it: forecasts must move, since a method that ignores
#' what it learns from passes the first check.
#'
#' @param b A [backtest()].
#' @param cutoffs Which of its cutoffs to check, by number; by default the first, the middle and the
#'   last.
#' @param tolerance How far values may move, relative to their size, before they count as moved.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_leak_check`, a data frame: `cutoff`, `method`, `future` ("no leak", or
#'   "leak"), `moved` (largest relative change of a forecast or bound when the future is changed),
#'   `past` ("learns", "ignores its past" or "constant data"), and `passed`. The attribute `holds`
#'   lists routines and methods that hold data of their own from after a cutoff, which a change of
#'   the timeline cannot reach; these fail too.
#' @section What is changed:
#' After the cutoff all measures are moved by a large amount, turned round and thinned, and columns
#' of drivers too, but for those declared [known_ahead()]. Before it, the last values are moved.
#' Functions and methods are searched for tables and timelines that they carry with them.
#' @seealso [scores()], [ranking()], [best()], [verdict()], [as_backtest()], [diagnosis()]
#' @examples
#' leak_check(backtest(demo_timeline("billed"), list(by_theta(), by_drift()), "3 months",
#'                     cutoffs = 3))
#' @export
leak_check <- function(b, cutoffs = NULL, tolerance = 1e-8, ...) {
  refuse_more("leak_check", ...)
  check_backtest(b)
  check_methods_there(b)
  n <- length(b$plan$cutoffs)
  which <- cutoffs %||% unique(round(c(1, (n + 1) / 2, n)))
  if (!is.numeric(which) || length(which) == 0 || any(!which %in% seq_len(n))) {
    abort_input("{.arg cutoffs} must be numbers from 1 to {n}.")
  }
  if (!is_number(tolerance) || tolerance < 0) {
    abort_input("{.arg tolerance} must be a number from 0 on, such as {.code 1e-8}.")
  }
  job <- full_job(b)
  job$plan <- b$plan
  job$tick <- no_tick
  known <- known_columns(job$methods)
  rows <- lapply(which, function(i) {
    seed <- sample.int(.Machine$integer.max, 1)
    run <- function(job) with_seed(seed, quietly(run_cutoff(job, i)))$table
    plain <- run(job)
    late <- job
    late$x <- with_seed(seed, changed_after(job$x, b, i, known))
    if (is_timeline(job$future)) {
      late$future <- with_seed(seed, changed_future(job$future, b, i, known))
    }
    early <- job
    early$x <- with_seed(seed, changed_before(job$x, b, i))
    leak_rows(plain, run(late), run(early), b, i, tolerance)
  })
  out <- do.call(rbind, rows)
  holds <- held_data(b, max(which))
  out$passed <- out$future == "no leak" & out$past != "ignores its past"
  if (length(holds)) out$passed <- FALSE
  rownames(out) <- NULL
  structure(out, class = c("kairon_leak_check", "data.frame"), holds = holds)
}

known_columns <- function(methods) {
  unique(unlist(lapply(methods, function(m) m$drivers$column[m$drivers$kind == "known_ahead"])))
}

end_of_cutoff <- function(x, b, i) {
  meta <- timeline_meta(b$observed)
  rows <- rows_of(b$observed)
  instant_of_end(x, period_start(meta$cadence, b$plan$cutoffs[i] + 1, rows$zone), meta)
}

# Rows that `before_instant()` would not give, told without it.
rows_after <- function(x, end) {
  rows <- rows_of(x)
  source <- timeline_meta(x)$cadence
  if (!is_regular_cadence(source)) {
    return(rows$seconds >= end)
  }
  period_start(source, period_of_stamp(source, rows$seconds, rows$zone) + 1, rows$zone) > end + 1e-3
}

changed_after <- function(x, b, i, known) {
  late <- rows_after(x, end_of_cutoff(x, b, i))
  disturb(x, late, setdiff(names(timeline_meta(x)$kinds), known))
}

changed_future <- function(future, b, i, known) {
  disturb(future, rows_after(future, end_of_cutoff(future, b, i)),
          setdiff(names(timeline_meta(future)$kinds), known))
}

# Other values, in another order, some of them missing.
disturb <- function(x, here, columns) {
  meta <- timeline_meta(x)
  table <- as_plain(x)
  if (!any(here)) {
    return(x)
  }
  for (m in columns) {
    v <- as.double(table[[m]])
    size <- max(abs(v[is.finite(v)]), 1)
    own <- rev(v[here]) * 2 + 3 * size + stats::rnorm(sum(here), 0, size)
    own[stats::runif(length(own)) < 0.1] <- NA
    v[here] <- own
    table[[m]] <- v
  }
  new_timeline(table, meta)
}

changed_before <- function(x, b, i) {
  rows <- rows_of(x)
  early <- !rows_after(x, end_of_cutoff(x, b, i))
  meta <- timeline_meta(x)
  table <- as_plain(x)
  for (m in names(meta$kinds)) {
    v <- as.double(table[[m]])
    v[early] <- v[early] * 1.25 + 0.1 * max(abs(v[is.finite(v)]), 1)
    table[[m]] <- v
  }
  new_timeline(table, meta)
}

leak_rows <- function(plain, late, early, b, i, tolerance) {
  columns <- c("value", bound_columns(b$levels))
  keys <- c(b$meta$series, "measure", "method", "ahead")
  moved <- function(other, m) {
    a <- plain[plain$method == m, ]
    o <- other[other$method == m, ]
    if (is.null(other) || nrow(a) != nrow(o) || !identical(as.list(a[keys]), as.list(o[keys]))) {
      return(Inf)
    }
    one <- unlist(a[columns])
    two <- unlist(o[columns])
    if (!identical(is.na(one), is.na(two))) {
      return(Inf)
    }
    max(0, abs(one - two) / pmax(abs(one), 1e-8 + stats::median(abs(one), na.rm = TRUE)),
        na.rm = TRUE)
  }
  rows <- lapply(unique(plain$method), function(m) {
    future <- moved(late, m)
    past <- moved(early, m)
    data.frame(
      cutoff = b$plan$stamps[i], method = m, future = if (future > tolerance) "leak" else "no leak",
      moved = future,
      past = if (past > tolerance) "learns" else "ignores its past"
    )
  })
  do.call(rbind, rows)
}

# Tables with stamps after the cutoff that routines and methods carry in their settings or
# functions.
held_data <- function(b, i) {
  end <- end_of_cutoff(b$observed, b, i)
  found <- character()
  look <- function(thing, where, depth = 0) {
    if (depth > 6) {
      return()
    }
    if (is.data.frame(thing)) {
      if (any(vapply(thing, function(v) reaches_past(v, end), TRUE))) found <<- c(found, where)
    } else if (is.function(thing)) {
      for (name in all.vars(body(thing))) {
        value <- tryCatch(get0(name, environment(thing)), error = function(e) NULL)
        if (!is.null(value) && !is.function(value)) {
          look(value, paste0(where, " (", name, ")"), depth + 1)
        }
      }
    } else if (is.list(thing)) {
      for (part in unclass(thing)) look(part, where, depth + 1)
    }
  }
  for (name in names(b$methods)) {
    own <- unclass(b$methods[[name]])
    look(own[setdiff(names(own), "events")], paste("the method", name))
    for (step in c("method_fit", "method_predict")) {
      made <- utils::getS3method(step, paste0("kairon_by_", own$name), optional = TRUE,
                                 envir = asNamespace("kairon"))
      home <- if (is.function(made)) environment(made)
      if (!is.null(home) && !identical(home, asNamespace("kairon"))) {
        look(made, paste("the method", name))
      }
    }
  }
  for (group in b$job$groups) {
    steps <- group$routine$steps
    for (j in seq_along(steps)) {
      args <- lapply(steps[[j]]$args, function(a) if (rlang::is_quosure(a)) quo_value(a) else a)
      # Timelines given to align() are cut at each cutoff.
      args <- Filter(function(a) !is_timeline(a) && !inherits(a, "kairon_events"), args)
      look(args, paste0("step ", j, " of the routine, ", steps[[j]]$verb, "()"))
    }
  }
  unique(found)
}

quo_value <- function(quo) tryCatch(rlang::eval_tidy(quo), error = function(e) NULL)

reaches_past <- function(v, end) {
  if (!inherits(v, c("Date", "POSIXct")) || length(v) == 0) {
    return(FALSE)
  }
  any(to_seconds(v) >= end + 86400, na.rm = TRUE)
}

#' @export
format.kairon_leak_check <- function(x, ...) {
  holds <- attr(x, "holds")
  leaks <- unique(x$method[x$future == "leak"])
  deaf <- unique(x$method[x$past == "ignores its past"])
  n <- length(unique(x$cutoff))
  c(
    if (all(x$passed)) {
      paste0("No leak: at ", plural(n, "cutoff"), " no forecast of ", word_list(unique(x$method)),
             " moved when the future was changed, and all moved when the past was.")
    },
    if (length(leaks)) {
      paste0("A leak: forecasts of ", word_list(leaks),
             " moved when only the future was changed, by up to ",
             show_percent(min(1e6, max(x$moved[x$future == "leak"]))), ".")
    },
    if (length(deaf)) paste0("Deaf to the past: ", word_list(deaf),
                             " gave the same forecasts from another history."),
    if (length(holds)) {
      paste0("Data of their own from after a cutoff are held by ", word_list(holds),
             "; what is read there is not hidden at a cutoff.")
    }
  )
}

#' @export
print.kairon_leak_check <- function(x, ...) {
  show_lines(wrap_lines(format(x)))
  invisible(x)
}
