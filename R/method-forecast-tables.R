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
      "{name} must return {h} step{?s} for each of {series} series.",
      call = NULL
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
