# From a timeline to the numbers of its methods: batches, methods run over them, and what is done
# where one fails.

forecast_measure <- function(x, measure, methods, plan, levels) {
  rows <- rows_of(x)
  plan$joint <- joint_paths(x, measure, plan$steps)
  plan$agreement <- agreement(x, measure, plan$agree %||% "none", rows)
  plan$over <- periods_over(x, measure, plan$agree_over, plan$steps, plan$last)
  notes <- failed <- character()
  interrupted <- NULL
  tables <- paths <- parts <- forms <- choices <- widened <- list()
  plain <- make_batch(x, measure)
  for (name in names(methods)) {
    method <- methods[[name]]
    result <- tryCatch(
      {
        batch <- if (is.null(method$drivers)) {
          plain
        } else {
          make_batch(x, measure, method$drivers, plan$future)
        }
        run_method(method, name, batch, rows, plan, levels)
      },
      kairon_error = function(e) e
    )
    if (inherits(result, "error")) {
      if (length(methods) == 1) {
        abort_input("{name} cannot forecast {.field {measure}}.", parent = result)
      }
      failed <- c(failed, paste0(name, ": ", first_words(result)))
      next
    }
    reached <- function(table) {
      if (is.null(table) || is.null(result$unreached)) {
        return(table)
      }
      table[!series_labels(table[names(rows$keys)]) %in% plain$context$labels[result$unreached], ]
    }
    tables[[name]] <- reached(forecast_table(x, measure, name, result, rows, plan, levels))
    if (length(result$notes)) notes <- c(notes, paste0(name, ": ", result$notes))
    forms[[paste(measure, name, sep = "\r")]] <- result$form
    widened[[paste(measure, name, sep = "\r")]] <- result$widened
    if (!is.null(result$choices)) {
      choices[[name]] <- keyed_choices(result$choices, rows$keys, measure = measure, method = name)
    }
    paths[[name]] <- reached(path_table(x, measure, name, result$paths, rows, plan))
    parts[[name]] <- reached(part_table(x, measure, name, result$parts, rows, plan))
    if (!is.null(result$unreached)) {
      interrupted <- name
      notes <- c(notes, interruption_words(measure, name, plain, result, methods))
      break
    }
  }
  if (length(tables) == 0) {
    abort_input(c("No method could forecast {.field {measure}}.", points(failed, "x")))
  }
  # Paths of all methods, or of none.
  if (!all(vapply(tables, function(t) is.null(t$.joint), TRUE))) {
    tables <- lapply(tables, function(t) {
      if (is.null(t$.joint)) t$.joint <- t$.scale <- matrix(NA_real_, nrow(t), plan$joint)
      t
    })
  }
  bind <- function(t) do.call(rbind, unname(t))
  list(table = bind(tables), notes = notes, failed = failed, paths = bind(paths),
       parts = bind(parts),
       forms = forms, widened = widened, choices = bind(choices), interrupted = interrupted)
}

interruption_words <- function(measure, name, batch, result, methods) {
  all <- length(batch$context$labels)
  after <- setdiff(names(methods), names(methods)[seq_len(match(name, names(methods)))])
  paste0(
    "interrupted: ", name, " has forecast ", measure, " for ",
    show_number(all - length(result$unreached), 9),
    " of ", plural(all, "series", "series"), "; the others have no forecast",
    if (length(after)) paste0(", and ", word_list(after), " none at all")
  )
}

run_method <- function(method, name, batch, rows, plan, levels) {
  needs <- method_needs(method, batch$context)
  if (isTRUE(needs$season) && is.null(needs$steps)) {
    abort_input(c(
      "{name} needs a season, and a timeline {format(batch$context$cadence)} has none.",
      i = "Give its number of steps: {.code by_{method$name}(seasons = 12)}."
    ))
  }
  check_history(batch, needs, name, rows)
  out <- if (isTRUE(plan$bare)) {
    fitted_and_predicted(method, batch, plan, levels)
  } else {
    run_pieces(batch, needs$piece %||% 200, forecast_piece,
               list(method = method, plan = plan, levels = levels), own_methods(list(method)))
  }
  if (!is.null(out$unreached)) {
    return(out)
  }
  alone <- out$point
  if (!is.null(plan$over)) {
    ahead <- function(batch, steps) {
      needs <- method_needs(method, batch$context)
      check_history(batch, needs, name, list(breaks = batch$breaks))
      run_pieces(batch, needs$piece %||% 200, forecast_piece,
                 list(method = method, levels = levels,
                      plan = list(steps = steps, bare = TRUE, calibrate = plan$calibrate)),
                 own_methods(list(method)))
    }
    out <- agreed_over(out, batch, plan$over, levels, ahead)
    out$notes <- c(out$notes, out$over_notes)
  }
  if (!is.null(plan$agreement)) out <- agreed_result(out, batch, plan$agreement, levels)
  if (isTRUE(plan$bare) && !identical(out$point, alone)) out$alone <- alone
  out
}

forecast_piece <- function(piece, s) fitted_and_predicted(s$method, piece, s$plan, s$levels)

# `plan$bare`: points and bounds alone, as a backtest needs them.
fitted_and_predicted <- function(method, batch, plan, levels) {
  # Who chooses by past errors wants to know how far ahead.
  batch$context$horizon <- plan$steps
  model <- method_fit(method, batch)
  out <- method_predict(method, model, plan$steps, levels)
  if (is.list(model)) out$notes <- model$notes
  out <- with_joint(out, method, model, plan)
  out <- spread_by_past(out, method, model, batch, plan, levels)
  out <- simpler_where_failed(out, batch, plan$steps, levels)
  if (isTRUE(plan$agreement$how != "none")) out$errors <- piece_errors(method, model, batch)
  if (isTRUE(plan$bare)) {
    return(out)
  }
  out$form <- method_form(method, model)
  out$choices <- method_choices(method, model)
  if (isTRUE(plan$paths > 0)) {
    out$paths <- widened_paths(paths_together(method, model, batch, plan), out)
  }
  out$parts <- method_parts(method, model, plan$steps)
  out
}

# Intervals as wide as past cutoffs say: by default where they held too little.
spread_by_past <- function(out, method, model, batch, plan, levels) {
  if (is.null(plan$calibrate)) {
    return(widened(out, method, model, batch, levels))
  }
  if (plan$calibrate) calibrated(out, method, batch, levels) else out
}

# One seed for what series share; a single series shares nothing.
path_seed <- function(x, paths) {
  if (paths > 0 && length(rows_of(x)$breaks) > 2) sample.int(1e9, 1)
}

# Paths in which errors of series go together as they did.
paths_together <- function(method, model, batch, plan) {
  shocks <- shared_shocks(method, model, batch, plan$steps, plan$paths, plan$seed)
  with_shocks(shocks, method_paths(method, model, plan$steps, plan$paths))
}

# Where values are changes from one step to another, bounds of steps cannot be added up:
# `plan$joint` paths say how errors go together. `joint` are normal paths, `scale` makes them
# Student's.
with_joint <- function(out, method, model, plan) {
  if (!isTRUE(plan$joint > 0)) {
    return(out)
  }
  paths <- tryCatch(with_seed(1, method_paths(method, model, plan$steps, plan$joint)),
                    kairon_error = function(e) NULL)
  if (!is.null(paths)) {
    out$scale <- scale_of(paths)
    point <- as.vector(out$point)
    out$joint <- array(point + (as.vector(paths) - point) / as.vector(out$scale), dim(paths))
  }
  out
}

# How many paths undoing a measure's changes takes: as many as memory bears, since bounds are their
# quantiles.
joint_paths <- function(x, measure, steps, most = 10000) {
  kinds <- vapply(timeline_meta(x)$undo[[measure]], `[[`, "", "kind")
  if (!any(kinds == "change")) {
    return(0)
  }
  series <- length(rows_of(x)$breaks) - 1
  max(500, min(most, floor(4e6 / (steps * series))))
}

# A series without a finite forecast, though it has values, gets its last one.
simpler_where_failed <- function(out, batch, steps, levels) {
  if (!is.matrix(out$point) || ncol(out$point) != length(batch$breaks) - 1) {
    return(out)
  }
  owner <- series_index(batch$breaks)
  known <- tabulate(owner[!is.na(batch$values)], ncol(out$point)) > 0
  bad <- which(known & colSums(!is.finite(out$point)) > 0)
  if (length(bad) == 0) {
    return(out)
  }
  naive <- by_naive()
  instead <- method_predict(naive, method_fit(naive, batch), steps, levels)
  out$point[, bad] <- instead$point[, bad]
  for (i in seq_along(levels)) {
    out$lower[[i]][, bad] <- instead$lower[[i]][, bad]
    out$upper[[i]][, bad] <- instead$upper[[i]][, bad]
  }
  names <- batch$context$labels[bad]
  out$notes <- c(out$notes, paste0(
    "no finite forecast", if (any(nzchar(names))) paste(" for", word_list(names)),
    "; the last value instead"
  ))
  out
}

# What methods give, as tables with keys and stamps.

# Keys, stamps and steps of a forecast's rows, series by series.
ahead_rows <- function(x, measure, name, rows, plan, times = 1) {
  meta <- timeline_meta(x)
  series <- length(rows$breaks) - 1
  owner <- rep(rep(seq_len(series), each = plan$steps), times)
  out <- data.frame(row.names = seq_along(owner))
  for (s in meta$series) out[[s]] <- rows$keys[[s]][owner]
  out[[meta$time]] <- rep(plan$stamps, series * times)
  out$measure <- measure
  out$method <- name
  out$ahead <- rep(seq_len(plan$steps), series * times)
  out
}

path_table <- function(x, measure, name, paths, rows, plan) {
  if (is.null(paths)) {
    return(NULL)
  }
  n <- dim(paths)[3]
  out <- ahead_rows(x, measure, name, rows, plan, n)
  out$path <- rep(seq_len(n), each = prod(dim(paths)[1:2]))
  out$value <- as.vector(paths)
  out
}

part_table <- function(x, measure, name, parts, rows, plan) {
  if (is.null(parts)) {
    return(NULL)
  }
  out <- lapply(names(parts), function(part) {
    one <- ahead_rows(x, measure, name, rows, plan)
    one$part <- part
    one$value <- as.vector(parts[[part]])
    one$combine <- attr(parts, "combine") %||% "add"
    one
  })
  do.call(rbind, out)
}

forecast_table <- function(x, measure, name, result, rows, plan, levels) {
  meta <- timeline_meta(x)
  h <- plan$steps
  series <- length(rows$breaks) - 1
  if (!all(dim(result$point) == c(h, series))) {
    abort_input(
      "{name} must return {h} step{?s} for each of {series} series."
    )
  }
  owner <- rep(seq_len(series), each = h)
  out <- data.frame(row.names = seq_along(owner))
  for (s in meta$series) out[[s]] <- rows$keys[[s]][owner]
  out[[meta$time]] <- rep(plan$stamps, series)
  out$measure <- measure
  out$origin <- tidy_origin("forecast")
  out$value <- as.vector(result$point)
  for (i in seq_along(levels)) {
    out[[paste0("lower_", levels[i])]] <- as.vector(result$lower[[i]])
    out[[paste0("upper_", levels[i])]] <- as.vector(result$upper[[i]])
  }
  out$method <- name
  out$ahead <- rep(seq_len(h), series)
  if (!is.null(result$alone)) out$alone <- as.vector(result$alone)
  # For undo_scale(), which takes them off again.
  if (!is.null(result$joint)) {
    out$.joint <- matrix(result$joint, h * series)
    out$.scale <- matrix(result$scale, h * series)
  }
  out
}

# In a tidy table even a missing value has an origin, so that filters on it never meet NA.
tidy_origin <- function(words) {
  words[is.na(words)] <- "missing"
  factor(words, levels = c(origin_levels, "missing"))
}

# Keys in the place of the numbers of series.
keyed_choices <- function(table, keys, ...) {
  out <- table[setdiff(names(table), "series")]
  about <- list(...)
  for (name in rev(names(about))) {
    out <- cbind(stats::setNames(list(rep(about[[name]], nrow(out))), name), out)
  }
  if (ncol(keys)) out <- beside_keys(keys[table$series, , drop = FALSE], out)
  out
}
