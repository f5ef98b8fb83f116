# The health card of a timeline whose rows stay elsewhere. They give, for each measure, what one
# series is by itself (read_cards()); the rest is worked out here.

#' @export
inspect.kairon_distant <- function(x, ...) {
  refuse_more("inspect", ...)
  copy_text_rows(x)
  meta <- x$meta
  look_through(x, stretches, function(cadence) {
    meta$cadence <- cadence
    tail_length(meta)
  })
  facts <- distant_facts(x)
  meta$cadence <- attr(facts, "cadence")
  if (length(meta$kinds) == 0) {
    abort_state("This timeline has no measures (numeric columns) to inspect.")
  }
  if (!is.null(x$store$rejects)) meta$rejects <- x$store$rejects
  meta$repeats <- repeats_elsewhere(x, facts)
  ends <- distant_ends(x)
  grid <- coverage_grid(min(facts$first), max(facts$last), stretches, meta$type)
  cards <- read_cards(x, facts, tail_length(meta), grid)
  labels <- series_labels(keys_in(facts, meta$series))
  table <- distant_table(x, facts, meta, cards, ends)
  markers <- lapply(names(cards$measures), function(m) {
    card <- cards$measures[[m]]
    marker_words(m, card$markers, card$others, card$range)
  })
  unfinished <- lapply(names(cards$measures), function(m) {
    unfinished_words(m, cards$measures[[m]]$tails, labels, tail_length(meta))
  })
  meta$news <- c(meta$news, if (sum(meta$repeats) > 0) repeats_news(sum(meta$repeats), "first"),
                 stamp_at_end_news(meta), weeks_news(meta), cards$news)
  marked <- any(vapply(names(meta$kinds), is_marked, TRUE, x = x))
  invented <- if (marked) invented_findings(x)
  structure(
    list(
      line = timeline_line(ends),
      findings = inspection_findings(meta, table, c(invented, unlist(markers)),
                                     utils::head(unlist(unfinished), 3)),
      table = table, series = meta$series, meta = meta,
      coverage = distant_coverage(cards$cells, grid, facts, meta)
    ),
    class = "kairon_inspection"
  )
}

#' @export
summary.kairon_distant <- function(object, ...) as.data.frame(inspect(object))

distant_table <- function(x, facts, meta, cards, ends) {
  regular <- is_regular_cadence(meta$cadence)
  zone <- rows_of(ends)$zone
  place <- function(seconds) period_of_stamp(meta$cadence, seconds, zone)
  rows <- if (regular) place(facts$last) - place(facts$first) + 1 else facts$rows
  labels <- series_labels(keys_in(facts, meta$series))
  own <- own_cadences(cards$stamps, facts, meta, zone)
  stamp <- function(seconds) from_seconds(seconds, meta$type, meta$zone)
  out <- lapply(names(meta$kinds), function(m) {
    told <- cards$measures[[m]]
    card <- told$card
    holes <- distant_holes(told$pauses, card, facts, regular, place)
    missing <- rows - card$present
    spread <- card$square / (card$finite - 1)
    # Squares of very large distances are infinite.
    spread[is.nan(spread) & card$finite > 1] <- Inf
    out <- data.frame(
      measure = m, kind = meta$kinds[[m]], unit = meta$units[[m]], own,
      rows = rows, first = stamp(card$first), last = stamp(card$last),
      last_age = max(facts$last) - card$last,
      missing = missing, missing_share = missing / rows, gaps = holes$count,
      longest_gap = holes$longest,
      missing_steps = holes$steps, repeats = settled_repeats(meta, labels), zeros = card$zeros,
      negatives = card$negatives,
      infinite = card$present - card$finite, min = card$min, q25 = card$q25, median = card$median,
      mean = ifelse(card$finite > 0, card$mean, NA_real_), q75 = card$q75,
      max = card$max, sd = ifelse(card$finite > 1, sqrt(spread), NA_real_),
      last_value = card$last_value,
      unchanged = card$unchanged
    )
    if (length(meta$series)) beside_keys(facts[meta$series], out) else out
  })
  out <- do.call(rbind, out)
  rownames(out) <- NULL
  out
}

# How many repeats were settled in each series.
repeats_elsewhere <- function(x, facts) {
  held <- x$store$repeated
  if (is.null(held)) {
    return(NULL)
  }
  counts <- table(factor(match_keys(held, facts, x$meta), seq_len(nrow(facts))))
  rlang::set_names(as.vector(counts), series_labels(keys_in(facts, x$meta$series)))
}

# Gaps of each series: between values, and before the first and after the last of them.
distant_holes <- function(pauses, card, facts, regular, place) {
  n <- nrow(facts)
  steps <- if (regular) place(pauses$to) - place(pauses$from) - 1 else
    pmax(1, round((pauses$to - pauses$from) / pauses$usual) - 1)
  series <- pauses$series
  if (regular) {
    none <- card$present == 0
    before <- ifelse(none, place(facts$last) - place(facts$first) + 1,
                     place(card$first) - place(facts$first))
    after <- ifelse(none, 0, place(facts$last) - place(card$last))
    series <- c(series, seq_len(n), seq_len(n))
    steps <- c(steps, before, after)
  }
  series <- series[steps > 0]
  steps <- steps[steps > 0]
  over <- function(how) {
    found <- tapply(steps, factor(series, seq_len(n)), how)
    as.vector(ifelse(is.na(found), 0, found))
  }
  list(count = over(length), longest = over(max), steps = over(sum))
}

own_cadences <- function(stamps, facts, meta, zone) {
  n <- nrow(facts)
  if (is.null(stamps)) {
    return(data.frame(cadence = rep(format(meta$cadence), n), on_grid = rep(NA_real_, n)))
  }
  found <- detect_each(unlist(stamps), as.integer(c(0, cumsum(lengths(stamps)))), zone,
                       meta$type == "step")
  data.frame(
    cadence = vapply(seq_len(n), function(i) format(cadence_found(found[i, ])), ""),
    on_grid = ifelse(found[, "known"] == 1, found[, "on_grid"], NA_real_)
  )
}

# What coverage_map() gives, from counts of cells.
distant_coverage <- function(cells, grid, facts, meta) {
  from <- grid$from
  width <- grid$width
  n <- nrow(facts)
  behind <- cells$cell >= stretches
  cell <- pmin(stretches, cells$cell + 1)
  at <- (cells$series - 1) * stretches + cell
  edges <- from + width * (0:stretches)
  owner <- rep(seq_len(n), each = stretches)
  expected <- if (is_regular_cadence(meta$cadence)) {
    zone <- span_zone(meta, c(facts$first, facts$last))
    # Of the periods that begin before an edge the last may be stamped behind it.
    upto <- period_of(meta$cadence, just_before(edges), zone)
    upto <- upto - (coverage_cell(stamp_of(meta$cadence, upto, zone), grid) >= 0:stretches)
    upto[stretches + 1] <- Inf
    ends <- lapply(facts[c("first", "last")], function(s) period_of_stamp(meta$cadence, s, zone))
    pmax(0, pmin(ends$last[owner], rep(upto[-1], n)) -
           pmax(ends$first[owner], rep(upto[-(stretches + 1)] + 1, n)) + 1)
  } else {
    width / facts$typical[owner]
  }
  labels <- if (length(meta$series)) series_labels(keys_in(facts, meta$series)) else "all"
  shares <- lapply(rlang::set_names(names(meta$kinds)), function(m) {
    seen <- rep(0, n * stretches)
    values <- cells[[paste0(m, ".n")]]
    # Each cell of a series is there once; what lies on the last edge is of the last.
    seen[at[!behind]] <- values[!behind]
    seen[at[behind]] <- seen[at[behind]] + values[behind]
    covered_share(seen, expected)
  })
  coverage_rows(shares, labels, edges, meta)
}
