# Scores of a run over parts: those of each part, put together, so that no more than one part is in memory.

# Means over values, which add up over parts when they are weighted by their counts; roots of such means; and
# the largest of all.
scores_of_means <- c("mae", "mse", "bias", "mape", "smape", "mase", "coverage", "width", "interval_score",
                     "pinball", "crps")
scores_of_roots <- c("rmse", "rmsse")

scores_of_parts <- function(parts, metrics, by, flagged, invented, baseline, call = rlang::caller_env()) {
  if (parts$verb != "backtest") {
    abort_input(c("Only backtests have scores.", x = "These are parts of {parts$verb}s."), call = call)
  }
  whole <- c(scores_of_means, scores_of_roots, "worst_error", "skill")
  if (identical(metrics, "all")) metrics <- setdiff(whole, if (is.null(baseline)) "skill")
  for (m in metrics) check_choice(m, accuracy_metrics, arg = "metrics", call = call)
  apart <- setdiff(metrics, whole)
  if (length(apart)) {
    abort_state(c("{.val {apart[1]}} cannot be put together from parts.",
                  i = "Read them all and score those rows: {.code as.data.frame(parts)}."), call = call)
  }
  if (identical(flagged, "both")) {
    abort_state("Parts are scored with flagged readings or without: one at a time.", call = call)
  }
  own <- union(setdiff(metrics, "skill"), if ("skill" %in% metrics) "mae")
  each <- lapply(which(parts$table$rows > 0), function(i) {
    b <- parts$read(i)
    if (is.null(b)) NULL else scores(b, own, by, flagged = flagged, invented = invented)
  })
  each <- Filter(Negate(is.null), each)
  if (length(each) == 0) abort_state("No part has forecasts to score.", call = call)
  by <- attr(each[[1]], "by")
  out <- joined_scores(bind_rows(lapply(each, as.data.frame)), by)
  if ("skill" %in% metrics) {
    out$skill <- skill_column(out, out$mae, by, baseline, call)
    if (!"mae" %in% metrics) out$mae <- NULL
  }
  out <- out[order_scores(out, metrics, by), , drop = FALSE]
  rownames(out) <- NULL
  structure(out, class = c("kairon_scores", "data.frame"), by = by, units = attr(each[[1]], "units"),
            measures = attr(each[[1]], "measures"))
}

# One row for each group from those of parts.
joined_scores <- function(table, by) {
  group <- key_text(table[by], nrow(table))
  code <- match(group, unique(group))
  out <- table[!duplicated(code), by, drop = FALSE]
  sums <- function(v) as.vector(rowsum(as.numeric(v), code))
  out$n <- sums(table$n)
  for (name in setdiff(names(table), c(by, "n"))) {
    kind <- sub("_[0-9.]+$", "", name)
    v <- as.numeric(table[[name]])
    undefined <- table[[paste0(name, "_undefined")]]
    weight <- table$n - if (is.null(undefined)) 0 else undefined
    weight[is.na(v)] <- 0
    v[is.na(v)] <- 0
    mean <- function(v) ifelse(sums(weight) > 0, sums(v * weight) / sums(weight), NA_real_)
    out[[name]] <- if (endsWith(name, "_undefined")) {
      sums(v)
    } else if (kind == "worst_error") {
      as.vector(tapply(v, code, max))
    } else if (kind %in% scores_of_roots) {
      sqrt(mean(v^2))
    } else {
      mean(v)
    }
  }
  out
}
