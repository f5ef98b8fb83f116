# Levels that moved near the end, for the automatic choice. Cutoffs in the past do not know of such a move,
# and nobody knows whether it stays: half of the weight takes it to stay, as if the past had been at that
# level.

# With half of it, moves that stay are followed as closely as by the best method, and for those in real
# series, many of which go back, little is lost (docs/automatic.md).
stay_share <- 0.5

level_moves <- function(batch) {
  series <- seq_len(length(batch$breaks) - 1)
  found <- lapply(series, function(s) {
    own <- recent_move(batch$values[seq_len(batch$breaks[s + 1] - batch$breaks[s]) + batch$breaks[s]],
                       batch$context$seasons)
    if (is.null(own)) {
      return(NULL)
    }
    data.frame(series = s, stamp = batch$context$stamps[batch$breaks[s] + own$place], size = own$size,
               ratio = own$ratio)
  })
  do.call(rbind, found)
}

# The rows before the move of each series, and what they are moved by: numbers to add to values, or to
# logarithms.
rows_before <- function(batch, moves) {
  by <- rep(0, length(batch$values))
  ratio <- rep(FALSE, length(by))
  for (i in seq_len(nrow(moves))) {
    rows <- batch$breaks[i] + seq_len(batch$breaks[i + 1] - batch$breaks[i])
    rows <- rows[batch$context$stamps[rows] < moves$stamp[i]]
    by[rows] <- moves$size[i]
    ratio[rows] <- moves$ratio[i]
  }
  list(by = by, ratio = ratio)
}

# The series that moved, with their past at the new level; and fitted values back from there.
levelled <- function(batch, moves) {
  own <- some_series(batch, moves$series)
  shift <- rows_before(own, moves)
  own$values <- ifelse(shift$ratio, own$values * exp(shift$by), own$values + shift$by)
  own
}

unlevelled <- function(values, batch, moves) {
  shift <- rows_before(some_series(batch, moves$series), moves)
  ifelse(shift$ratio, values / exp(shift$by), values - shift$by)
}

moves_of <- function(model, member) model$moves[match(member$which, model$moves$series), ]

# Members whose past is at the new level, by the numbers that their series have in the whole.
moved_members <- function(choices, moved, moves) {
  members <- unlist(lapply(choices, fitted_members, batch = moved), recursive = FALSE)
  lapply(members, function(m) {
    m$which <- moves$series[m$which]
    m$name <- paste(m$name, "after the move")
    m$weights <- m$weights * stay_share
    m$moved <- TRUE
    m
  })
}

# What is left for members that go by the past as it was.
less_weighed <- function(members, series) {
  lapply(members, function(m) {
    less <- m$which %in% series
    m$weights[, less] <- m$weights[, less] * (1 - stay_share)
    m
  })
}
