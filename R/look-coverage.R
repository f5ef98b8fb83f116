# Share of readings present in equal stretches of the span, for each series and measure: what the coverage map
# draws.
stretches <- 60

coverage_map <- function(x) {
  meta <- timeline_meta(x)
  regular <- is_regular(x)
  full <- if (regular) complete_grid(x) else x
  rows <- rows_of(full)
  span <- range(rows$seconds)
  width <- max(diff(span), 1) / stretches
  edges <- span[1] + width * (0:stretches)
  owner <- series_index(rows$breaks)
  labels <- series_labels(rows$keys)
  typical <- if (regular) step_seconds(meta$cadence) else typical_steps(rows)
  out <- lapply(names(meta$kinds), function(measure) {
    cell <- pmin(stretches, 1 + floor((rows$seconds - span[1]) / width))
    present <- !is.na(full[[measure]])
    at <- (owner - 1) * stretches + cell
    seen <- tabulate(at[present], length(labels) * stretches)
    expected <- if (regular) {
      tabulate(at, length(labels) * stretches)
    } else {
      width / rep(typical, each = stretches)
    }
    data.frame(
      series = rep(labels, each = stretches), measure = measure,
      from = rep(edges[-length(edges)], length(labels)),
      share = ifelse(expected > 0, pmin(1, seen / expected), NA_real_)
    )
  })
  out <- do.call(rbind, out)
  out$series <- factor(ifelse(out$series == "", "all", out$series), levels = unique(
    ifelse(out$series == "", "all", out$series)
  ))
  out$middle <- from_axis(out$from + width / 2, meta)
  out$from <- from_axis(out$from, meta)
  out$width <- if (meta$type == "date") width / 86400 else width
  out
}

# Unlike stamps, places on an axis need not be whole days.
from_axis <- function(seconds, meta) {
  switch(meta$type,
    date = .Date(seconds / 86400),
    from_seconds(seconds, meta$type, meta$zone)
  )
}
