# While a member of a group lives, and how much of it is expected then.

# The cells in which each member is expected: from its first value to the end of its group (`end`),
# or to its last value where it has ended. What has no value at all never lives.
member_life <- function(first, last, ended, end) {
  list(first = ifelse(is.na(first), 1, first),
       last = ifelse(is.na(last), 0, ifelse(ended, last, end)))
}

# What the members that live in each of `n` cells weigh together.
living_weight <- function(life, weight, n) {
  lives <- life$last >= life$first
  steps <- rep(0, n + 1)
  begin <- rowsum(weight[lives], life$first[lives])
  over <- rowsum(weight[lives], life$last[lives] + 1)
  steps[as.integer(rownames(begin))] <- begin
  at <- as.integer(rownames(over))
  steps[at] <- steps[at] - over
  out <- cumsum(steps)[seq_len(n)]
  ifelse(abs(out) < 1e-9 * sum(abs(weight)), 0, out)
}

# How many steps lie in each cell at which a member of its group did not live, within the span of
# all series.
absent_steps <- function(x, rows, groups, cell_of, cells) {
  cadence <- timeline_meta(x)$cadence
  measures <- names(timeline_meta(x)$kinds)
  k <- period_of_stamp(cadence, rows$seconds, rows$zone)
  owner <- series_index(rows$breaks)
  there <- which(Reduce(`|`, lapply(measures, function(m) !is.na(x[[m]]))))
  n <- length(rows$breaks) - 1
  first <- rep(min(k), n)
  last <- rep(max(k), n)
  first[owner[rev(there)]] <- k[rev(there)]
  ended <- ended_series(x, measures, rows)$ended
  own <- rep(-Inf, n)
  own[owner[there]] <- k[there]
  last[ended] <- own[ended]
  out <- rep(0, cells)
  for (j in which(first[groups$series] > min(k) | last[groups$series] < max(k))) {
    s <- groups$series[j]
    gone <- c(if (first[s] > min(k)) seq(min(k), first[s] - 1),
              if (last[s] < max(k)) seq(max(min(k), last[s] + 1), max(k)))
    at <- cell_of(groups$group[j], stamp_of(cadence, gone, rows$zone))
    out <- out + tabulate(at[!is.na(at)], cells)
  }
  out
}

# How many steps of a regular timeline lie in each part of each cycle; missing for
# an irregular one, of which that is not known.
part_sizes <- function(x, rows, part, code, days) {
  if (!is_regular(x)) {
    return(rep(NA_real_, length(code)))
  }
  cadence <- timeline_meta(x)$cadence
  # A season begins in the December before its cycle.
  span <- c(min(days) - 40, max(days) + 400) * 86400
  instants <- if (timeline_meta(x)$type == "instant") {
    cpp_instant_of_local(span, rows$zone)
  } else {
    span
  }
  k <- period_of(cadence, instants, rows$zone)
  stamps <- stamp_of(cadence, seq(k[1], k[2]), rows$zone)
  local <- if (timeline_meta(x)$type == "instant") cpp_local_of(stamps, rows$zone) else stamps
  key <- function(code, day) paste(code, day)
  all <- table(key(part_codes(part, local), part_cycle(part, local)))
  as.vector(all[match(key(code, days), names(all))])
}
