# Which series are forecast, and from where: not those that have ended, or each from its own last value.

# Series that have ended are not forecast.
drop_ended <- function(x, measures) {
  rows <- rows_of(x)
  found <- ended_series(x, measures, rows)
  gone <- which(found$ended)
  if (length(gone) == length(found$ended)) {
    least <- which.min(found$wait)
    reach <- floor(found$limit[least])
    abort_input(c(
      "There is nothing to forecast from.",
      x = "No series has a value in its last {reach} step{?s}.",
      i = "{.code ended = \"own_end\"} goes on from the last value of each."
    ), call = rlang::caller_env(), .envir = environment())
  }
  if (length(gone)) {
    names <- series_labels(rows$keys)[gone]
    tell(c(i = "{names} {?has/have} ended and {?is/are} not forecast."))
    x <- x[!series_index(rows$breaks) %in% gone, ]
  }
  x
}

# Each series from its own last value on. Those that end together are forecast at once.
forecast_from_own_ends <- function(x, measure, methods, plan, levels, call = rlang::caller_env()) {
  rows <- rows_of(x)
  meta <- timeline_meta(x)
  k <- period_of_stamp(meta$cadence, rows$seconds, rows$zone)
  owner <- series_index(rows$breaks)
  there <- is.finite(x[[measure]])
  last <- rep(NA_real_, length(rows$breaks) - 1)
  last[owner[there]] <- k[there]
  if (all(is.na(last))) abort_input("{.field {measure}} has no value to forecast from.", call = call)
  groups <- split(seq_along(last), last)
  made <- lapply(groups, function(which) {
    own <- x[owner %in% which & k <= last[owner], ]
    plan[c("last", "stamps")] <- quietly(plan_forecast(own, plan$steps, call))[c("last", "stamps")]
    forecast_measure(own, measure, methods, plan, levels, call)
  })
  order <- order(unlist(groups))
  labels <- series_labels(rows$keys)
  bind <- function(name) {
    t <- do.call(rbind, unname(lapply(made, `[[`, name)))
    if (is.null(t)) {
      return(NULL)
    }
    series <- if (length(meta$series)) match(series_labels(t[meta$series]), labels) else rep(1, nrow(t))
    t[order(match(t$method, names(methods)), series), ]
  }
  of_series <- function(what) {
    keys <- names(made[[1]][[what]]) %||% character()
    out <- lapply(rlang::set_names(keys), function(key) {
      all <- lapply(made, function(one) one[[what]][[key]])
      if (is.matrix(all[[1]])) {
        return(do.call(cbind, all)[, order, drop = FALSE])
      }
      unlist(all, use.names = FALSE)[order]
    })
    Filter(length, out)
  }
  gone <- sum(is.na(last))
  list(
    table = bind("table"), paths = bind("paths"), parts = bind("parts"), forms = of_series("forms"),
    widened = of_series("widened"),
    choices = bind("choices"),
    notes = added_notes(c(
      if (length(groups) > 1) paste0("each series goes on from its own last value, at ", length(groups),
                                     " different stamps"),
      unlist(lapply(made, `[[`, "notes"), use.names = FALSE),
      if (gone) paste0(plural(gone, "series", "series"), " without any value")
    )),
    failed = unique(unlist(lapply(made, `[[`, "failed"))),
    interrupted = unlist(lapply(made, `[[`, "interrupted"))[1]
  )
}

setdiff_series <- function(all, some) {
  setdiff(series_labels(rows_of(all)$keys), series_labels(rows_of(some)$keys))
}
