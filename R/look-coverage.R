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
  n <- length(labels) * stretches
  cell <- pmin(stretches, 1 + floor((rows$seconds - span[1]) / width))
  at <- (owner - 1) * stretches + cell
  expected <- if (regular) tabulate(at, n) else width / rep(typical, each = stretches)
  shares <- lapply(rlang::set_names(names(meta$kinds)), function(measure) {
    seen <- tabulate(at[!is.na(full[[measure]])], n)
    covered_share(seen, expected)
  })
  coverage_rows(shares, labels, edges, meta)
}

covered_share <- function(seen, expected) {
  out <- pmin(1, seen / expected)
  out[expected <= 0] <- NA_real_
  out
}

# Rows of a map that can still be read.
most_rows <- 40

# A row for each stretch of each measure and series; of many series those with the fewest readings, and how
# many others there are. `shares`: for each measure, of all series one after the other.
coverage_rows <- function(shares, labels, edges, meta) {
  labels <- ifelse(labels == "", "all", labels)
  series <- seq_along(labels)
  if (length(labels) > most_rows) {
    each <- vapply(shares, function(v) colMeans(matrix(v, stretches), na.rm = TRUE), numeric(length(labels)))
    series <- sort(utils::head(order(rowMeans(each, na.rm = TRUE), na.last = TRUE), most_rows))
  }
  width <- edges[2] - edges[1]
  from <- rep(edges[-length(edges)], length(series))
  out <- lapply(names(shares), function(measure) {
    data.frame(
      series = factor(rep(labels[series], each = stretches), levels = unique(labels[series])),
      measure = measure,
      from = from_axis(from, meta), share = as.vector(matrix(shares[[measure]], stretches)[, series]),
      middle = from_axis(from + width / 2, meta), width = if (meta$type == "date") width / 86400 else width
    )
  })
  structure(do.call(rbind, out), hidden = length(labels) - length(series))
}

# Unlike stamps, places on an axis need not be whole days.
from_axis <- function(seconds, meta) {
  switch(meta$type,
    date = .Date(seconds / 86400),
    from_seconds(seconds, meta$type, meta$zone)
  )
}
