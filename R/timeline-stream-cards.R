# What files that are read piece by piece tell of each series for the health card: counts and sums are added
# up, and how often each value stands is kept for the quartiles.

#' @export
read_cards.kairon_stream <- function(x, facts, tail, grid) {
  call <- rlang::caller_env(2)
  cadence <- attr(facts, "cadence")
  regular <- is_regular_cadence(cadence)
  shift <- shift_of(x, x$meta$kinds)
  usual <- if (!regular) usual_pauses(x, facts, call)
  books <- lapply(rlang::set_names(names(x$meta$kinds)), function(m) {
    new_book(nrow(facts), if (regular) rep(longest_step(cadence), nrow(facts)) else 3 * usual[[m]])
  })
  stamps <- if (nrow(facts) <= most_own_cadences) vector("list", nrow(facts))
  needs <- lapply(x$meta$kinds, function(k) character())
  sums <- new_sums(needs)
  tally <- walk_stream(x, function(rows) {
    rows$series <- match_arrivals(x, rows, facts)
    cell <- floor((rows$seconds - grid$from) / grid$width)
    keep_sums(sums, cell_sums(rows, cell, cell, needs, NULL))
    for (m in names(books)) {
      there <- which(!is.na(rows$values[[m]]))
      if (length(there) == 0) next
      present <- list(series = rows$series[there], seconds = rows$seconds[there], v = rows$values[[m]][there])
      book_piece(books[[m]], present, shift[[m]], if (x$meta$kinds[[m]] == "amount") tail else NA)
    }
    if (!is.null(stamps)) stamps <<- more_stamps(stamps, rows)
  }, call)
  measures <- lapply(rlang::set_names(names(books)), function(m) {
    close_book(books[[m]], shift[[m]], usual[[m]])
  })
  rounded <- any(vapply(books, function(b) b$digits < 15, TRUE))
  list(
    measures = measures, stamps = stamps, cells = merge_sums(sums$parts, needs),
    news = c(
      if (rounded) {
        digits <- min(vapply(books, function(b) b$digits, 1))
        paste("quartiles are told to", digits, "digits, since the files hold very many different values")
      },
      if (tally$disorder) {
        "rows lie in another order than that of time: gaps, last values and runs are not exact"
      }
    )
  )
}

# Arrival numbers become rows of the facts.
match_arrivals <- function(x, rows, facts) {
  if (is.null(x$store$place)) x$store$place <- seq_len(nrow(facts))
  x$store$place[rows$series]
}

# The usual time between two values of each series, by measure: a pass of its own.
usual_pauses <- function(x, facts, call) {
  books <- lapply(rlang::set_names(names(x$meta$kinds)), function(m) new_book(nrow(facts), NULL))
  walk_stream(x, function(rows) {
    own <- match_arrivals(x, rows, facts)
    for (m in names(books)) {
      there <- which(!is.na(rows$values[[m]]))
      if (length(there) == 0) next
      book <- books[[m]]
      series <- own[there]
      seconds <- rows$seconds[there]
      starts <- which(c(TRUE, diff(series) != 0))
      pause <- c(NA, diff(seconds))
      pause[starts] <- seconds[starts] - book$last[series[starts]]
      book$last[series[starts]] <- seconds[c(starts[-1] - 1L, length(series))]
      known <- !is.na(pause)
      count_values(book, series[known], pause[known])
    }
  }, call)
  lapply(books, function(book) {
    put_counts_together(book)
    counted_quartiles(book$counts[[1]], nrow(facts))[[2]]
  })
}

# Different values of all series that are counted one by one before they are rounded.
most_values <- function(series) getOption("kairon.counted_values", max(1e6, 500 * series))

# What is kept of one measure of `n` series; a pause above `limit` may be a gap.
new_book <- function(n, limit) {
  zero <- rep(0, n)
  none <- rep(NA_real_, n)
  list2env(list(
    limit = limit, most = most_values(n), present = zero, finite = zero, zeros = zero, negatives = zero,
    sum = zero,
    left = zero, square = zero, min = rep(Inf, n), max = rep(-Inf, n), first = none, last = none,
    last_value = none,
    run = zero, longest = zero, tails = vector("list", n), pauses = list(), counts = list(), held = 0,
    digits = 15, markers = rep(0, length(usual_markers)), others = 0, range = c(Inf, -Inf)
  ), parent = emptyenv())
}

# `present`: series, seconds and values (v) of a piece that are not missing, sorted by series and time.
book_piece <- function(book, present, shift, tail) {
  v <- present$v
  n <- length(v)
  fresh <- c(TRUE, present$series[-1] != present$series[-n])
  starts <- which(fresh)
  ends <- c(starts[-1] - 1L, n)
  s <- present$series[starts]
  from <- as.integer(starts - 1L)
  to <- as.integer(ends)
  over <- function(values, how) range_statistic(as.double(values), present$seconds, from, to, how)
  add <- function(name, values) book[[name]][s] <- book[[name]][s] + values
  finite <- is.finite(v)
  good <- ifelse(finite, v, NA)
  some <- over(finite, "sum")
  add("present", to - from)
  add("finite", some)
  add("zeros", over(v == 0, "sum"))
  add("negatives", over(v < 0, "sum"))
  nothing <- function(x) ifelse(is.na(x), 0, x)
  add_exactly(book, s, nothing(over(good, "sum")))
  add("square", nothing(over((good - shift)^2, "sum")))
  book$min[s] <- pmin(book$min[s], over(good, "min"), na.rm = TRUE)
  book$max[s] <- pmax(book$max[s], over(good, "max"), na.rm = TRUE)
  book_order(book, present, fresh, starts, ends, s)
  if (!is.na(tail)) {
    for (i in seq_along(s)) {
      own <- v[max(starts[i], ends[i] - tail + 1):ends[i]]
      book$tails[[s[i]]] <- utils::tail(c(book$tails[[s[i]]], own), tail)
    }
  }
  book_markers(book, v[finite])
  count_values(book, present$series[finite], v[finite])
}

# What rounding leaves over is carried along, so that sums of many pieces keep their digits.
add_exactly <- function(book, s, v) {
  before <- book$sum[s]
  after <- before + v
  lost <- ifelse(abs(before) >= abs(v), (before - after) + v, (v - after) + before)
  book$sum[s] <- after
  book$left[s] <- book$left[s] + lost
}

# What depends on the order of the values: pauses, runs of equal values, the first and the last.
book_order <- function(book, present, fresh, starts, ends, s) {
  v <- present$v
  n <- length(v)
  before <- c(NA, present$seconds[-n])
  before[starts] <- book$last[s]
  wide <- which(present$seconds - before > book$limit[present$series])
  if (length(wide)) {
    book$pauses[[length(book$pauses) + 1]] <- data.frame(
      series = present$series[wide], from = before[wide], to = present$seconds[wide]
    )
  }
  breaks <- which(fresh | c(TRUE, v[-1] != v[-n]))
  size <- diff(c(breaks, n + 1L))
  owner <- present$series[breaks]
  opening <- which(fresh[breaks])
  carried <- !is.na(book$last_value[s]) & book$last_value[s] == v[starts]
  size[opening] <- size[opening] + ifelse(carried, book$run[s], 0)
  counted <- v[breaks] != 0
  best <- tapply(size[counted], owner[counted], max)
  at <- as.integer(names(best))
  book$longest[at] <- pmax(book$longest[at], best)
  closing <- c(opening[-1] - 1L, length(breaks))
  book$run[s] <- size[closing]
  book$first[s] <- pmin(book$first[s], present$seconds[starts], na.rm = TRUE)
  # Pieces may come in any order: the last value is the latest.
  later <- is.na(book$last[s]) | present$seconds[ends] >= book$last[s]
  book$last_value[s[later]] <- v[ends[later]]
  book$last[s[later]] <- present$seconds[ends[later]]
}

book_markers <- function(book, v) {
  book$markers <- book$markers + vapply(usual_markers, function(mark) sum(v == mark), 1)
  rest <- if (any(book$markers > 0)) v[!v %in% usual_markers] else v
  book$others <- book$others + length(rest)
  if (length(rest)) book$range <- range(book$range, rest)
}

# How often each value stands in each series. Where these become too many, values are rounded to fewer digits,
# and that is said.
count_values <- function(book, series, v) {
  if (book$digits < 15) v <- signif(v, book$digits)
  book$counts[[length(book$counts) + 1]] <- counted(series, v, rep(1, length(v)))
  book$held <- book$held + nrow(book$counts[[length(book$counts)]])
  if (book$held <= book$most) {
    return(invisible())
  }
  put_counts_together(book)
  while (book$held > book$most / 2 && book$digits > 2) {
    book$digits <- if (book$digits > 6) 6 else book$digits - 1
    whole <- book$counts[[1]]
    book$counts <- list(counted(whole$series, signif(whole$v, book$digits), whole$n))
    book$held <- nrow(book$counts[[1]])
  }
}

put_counts_together <- function(book) {
  all <- data.table::rbindlist(book$counts)
  book$counts <- list(counted(all$series, all$v, all$n))
  book$held <- nrow(book$counts[[1]])
}

# Sorted by series and value.
counted <- function(series, v, n) {
  in_order <- order(series, v, method = "radix")
  series <- series[in_order]
  v <- v[in_order]
  k <- length(v)
  starts <- which(c(k > 0, series[-1] != series[-k] | v[-1] != v[-k]))
  upto <- cumsum(n[in_order])
  last <- c(starts[-1] - 1L, if (k > 0) k)
  list2DF(list(series = series[starts], v = v[starts], n = diff(c(0, upto[last]))))
}

close_book <- function(book, shift, usual) {
  put_counts_together(book)
  counts <- book$counts[[1]]
  card <- data.frame(
    present = book$present, finite = book$finite, zeros = book$zeros, negatives = book$negatives,
    sum = book$sum + book$left, square = book$square, min = ifelse(book$finite > 0, book$min, NA),
    max = ifelse(book$finite > 0, book$max, NA), first = book$first, last = book$last,
    last_value = book$last_value,
    unchanged = ifelse(book$present == 0, 0, pmax(1, book$longest))
  )
  card[c("q25", "median", "q75")] <- counted_quartiles(counts, nrow(card))
  pauses <- if (length(book$pauses)) do.call(rbind, book$pauses) else
    data.frame(series = integer(), from = numeric(), to = numeric())
  if (!is.null(usual)) pauses$usual <- usual[pauses$series]
  list(card = card, shift = shift, pauses = pauses, tails = book$tails, markers = book$markers,
       others = book$others, range = book$range)
}

# Quartiles as quantile() takes them, from how often each value stands.
counted_quartiles <- function(counts, n) {
  out <- matrix(NA_real_, n, 3)
  for (s in unique(counts$series)) {
    own <- counts[counts$series == s, ]
    upto <- cumsum(own$n)
    at <- (upto[length(upto)] - 1) * 1:3 / 4
    value <- function(place) own$v[findInterval(place, c(0, upto))]
    low <- value(floor(at))
    out[s, ] <- low + (at - floor(at)) * (value(pmin(floor(at) + 1, upto[length(upto)] - 1)) - low)
  }
  as.data.frame(out)
}

more_stamps <- function(stamps, rows) {
  short <- lengths(stamps) < first_stamps
  if (!any(short)) {
    return(stamps)
  }
  for (s in intersect(unique(rows$series), which(short))) {
    own <- rows$seconds[rows$series == s]
    stamps[[s]] <- utils::head(c(stamps[[s]], own), first_stamps)
  }
  stamps
}
