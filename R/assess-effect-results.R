# Effects as tables: sums of amounts or means of levels, by phase, with what placebos say of them.

effect_phases <- function(during, size) {
  phases <- list(during = during)
  if (size > length(during)) {
    phases$after <- setdiff(seq_len(size), during)
    phases$net <- seq_len(size)
  }
  phases
}

# Sums (or means) of observed and expected values over some steps, a column a stretch; NA where
# nothing is observed.
stretch_totals <- function(observed, expected, at, d) {
  o <- as.matrix(observed)[at, , drop = FALSE]
  e <- as.matrix(expected)[at, , drop = FALSE]
  e[!is.finite(o)] <- NA
  if (d$logs) {
    o <- exp(o)
    e <- exp(e)
  }
  over <- if (d$amount) colSums else colMeans
  out <- list(observed = over(o, na.rm = TRUE), expected = over(e, na.rm = TRUE))
  # Rounding is no effect.
  same <- which(abs(out$observed - out$expected) <= 1e-10 * (abs(out$observed) + abs(out$expected)))
  out$expected[same] <- out$observed[same]
  none <- colSums(is.finite(o)) == 0
  out$observed[none] <- out$expected[none] <- NA
  out
}

# How far off a placebo is, as a share where amounts multiply.
total_errors <- function(totals, logs) {
  if (logs) log(totals$observed / totals$expected) else totals$observed - totals$expected
}

# A share of what was expected means something where nothing is below zero.
shares_of <- function(d) all(d$raw >= 0, na.rm = TRUE)

# One line of the table.
effect_line <- function(observed, expected, errors, logs, interval, shares = TRUE) {
  errors <- errors[is.finite(errors)]
  n <- length(errors)
  own <- if (logs) log(observed / expected) else observed - expected
  far <- if (n >= 5) held_distance(errors, interval) else NA_real_
  low <- if (logs) observed - expected * exp(far) else observed - expected - far
  high <- if (logs) observed - expected * exp(-far) else observed - expected + far
  share <- function(effect, base) if (shares && isTRUE(expected > 0)) effect / base else NA_real_
  large <- sum(abs(errors) >= abs(own) * (1 - 1e-9))
  data.frame(
    observed = observed, expected = expected, effect = observed - expected, lower = low,
    upper = high, share = share(observed - expected, expected),
    share_lower = if (logs) observed / (expected * exp(far)) - 1 else share(low, expected),
    share_upper = if (logs) observed / (expected * exp(-far)) - 1 else share(high, expected),
    placebos = n, as_large = large, p_value = if (n == 0) NA_real_ else (1 + large) / (1 + n)
  )
}

collect_effects <- function(out, measure, x, plan, notes) {
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  labels <- series_labels(rows$keys)
  table <- steps <- placebos <- list()
  for (one in out) {
    s <- match(one$label, labels)
    for (i in seq_along(one$occasions)) {
      o <- one$occasions[[i]]
      made <- occasion_tables(o, one$d, plan, i)
      made$table <- with_controls_account(made, plan$known_controls[one$controls], i)
      keys <- lapply(rows$keys, `[`, s)
      stamps <- rows$seconds[one$d$at[o$block]]
      from <- from_seconds(stamps[1], meta$type, meta$zone)
      lead <- c(keys, list(measure = measure, occasion = i))
      table[[length(table) + 1]] <- do.call(data.frame, c(lead, list(from = from,
        to = from_seconds(stamps[vapply(made$ends, identity, 1)], meta$type, meta$zone),
        made$table)))
      made$steps[[meta$time]] <- from_seconds(stamps, meta$type, meta$zone)
      steps[[length(steps) + 1]] <- do.call(data.frame, c(lead, list(made$steps)))
      if (!is.null(made$placebos)) {
        placebos[[length(placebos) + 1]] <- do.call(data.frame, c(lead, list(made$placebos)))
      }
    }
    notes <- rbind(notes, notes_of(one$label, effect_notes(one, plan)))
  }
  table <- bind_rows(table)
  if (length(out) > 1 && out[[1]]$d$amount && is.null(meta$sums)) {
    together <- effects_together(out, measure, x, plan)
    all_of <- function(part) lapply(together, `[[`, part)
    table <- bind_rows(c(list(table), all_of("table")))
    steps <- c(steps, all_of("steps"))
    placebos <- c(placebos, all_of("placebos"))
  }
  list(table = table, steps = bind_rows(steps), placebos = bind_rows(placebos), notes = notes)
}

# Controls as placebos: how many show as much at the same time, each by the usual error of its own
# placebos (Abadie, Diamond and Hainmueller, 2010).
with_controls_account <- function(made, known, i) {
  known <- Filter(function(k) length(k) >= i, known)
  if (length(known) == 0) {
    return(made$table)
  }
  n <- length(made$usual)
  usual <- matrix(vapply(known, function(k) k[[i]]$usual[seq_len(n)], numeric(n)), n)
  made$table$controls <- rowSums(is.finite(usual))
  made$table$controls_as_large <- rowSums(usual >= made$usual, na.rm = TRUE)
  made$table
}

occasion_tables <- function(o, d, plan, i) {
  phases <- effect_phases(o$during, length(o$block))
  observed <- d$y[o$block]
  p <- o$placebos
  usual <- numeric()
  lines <- lapply(phases, function(at) {
    own <- stretch_totals(observed, o$expected, at, d)
    errors <- if (length(p$start)) total_errors(stretch_totals(p$observed, p$expected, at, d),
                                                d$logs) else numeric()
    usual <<- c(usual, abs(total_errors(own, d$logs)) / sqrt(mean(errors^2, na.rm = TRUE)))
    cbind(steps = sum(is.finite(observed[at])),
          effect_line(own$observed, own$expected, errors, d$logs,
                                                            plan$interval, shares_of(d)))
  })
  far <- if (length(p$start)) near_distances(p$observed - p$expected, plan$interval) else NA_real_
  back <- if (d$logs) exp else identity
  list(
    table = data.frame(phase = names(phases), do.call(rbind, lines), row.names = NULL),
    ends = lapply(phases, max), usual = usual,
    steps = data.frame(
      phase = phase_of_steps(o), observed = back(observed), expected = back(o$expected),
      lower = back(o$expected - far), upper = back(o$expected + far)
    ),
    placebos = if (length(p$start)) data.frame(
      placebo = rep(seq_along(p$start), each = length(o$block)),
      step = rep(seq_along(o$block), length(p$start)),
      difference = as.vector(back(p$observed) - back(p$expected))
    )
  )
}

# The sum of all series, whose placebos are those that lie at the same periods in all: for each
# occasion a table, steps and placebos.
effects_together <- function(out, measure, x, plan) {
  meta <- timeline_meta(x)
  keys <- lapply(rows_of(x)$keys, function(v) "together")
  count <- length(out[[1]]$occasions)
  whole <- Filter(function(one) length(one$occasions) == count, out)
  Filter(Negate(is.null), lapply(seq_len(count), function(i) {
    sets <- lapply(whole, function(one) one$d$period[one$occasions[[i]]$placebos$start])
    shared <- Reduce(intersect, sets)
    sizes <- lengths(lapply(whole, function(one) one$occasions[[i]]$block))
    if (length(whole) < 2 || length(unique(sizes)) > 1) {
      return(NULL)
    }
    o <- whole[[1]]$occasions[[i]]
    phases <- effect_phases(o$during, length(o$block))
    stamps <- from_seconds(rows_of(x)$seconds[whole[[1]]$d$at[o$block]], meta$type, meta$zone)
    sums <- function(at) occasion_sums(whole, i, at, shared)
    logs <- all(vapply(whole, function(one) one$d$logs, TRUE))
    lines <- lapply(phases, function(at) {
      s <- sums(at)
      errors <- if (length(shared)) total_errors(s$placebo, logs) else numeric()
      cbind(steps = s$steps,
            effect_line(s$own$observed, s$own$expected, errors, logs, plan$interval))
    })
    each <- lapply(seq_along(o$block), sums)
    value <- function(set, what) {
      vapply(each, function(s) s[[set]][[what]], each[[1]][[set]][[what]])
    }
    own <- list(observed = value("own", "observed"), expected = value("own", "expected"))
    # Placebos in rows, steps in columns.
    off <- if (length(shared)) {
      value("placebo", "observed") - value("placebo", "expected")
    } else {
      numeric()
    }
    off <- matrix(off, length(shared), length(each))
    far <- near_distances(t(off), plan$interval)
    lead <- c(keys, list(measure = measure, occasion = i))
    steps <- list(phase = phase_of_steps(o), observed = own$observed, expected = own$expected,
                  lower = own$expected - far, upper = own$expected + far)
    steps[[meta$time]] <- stamps
    list(
      table = do.call(data.frame, c(lead, list(
        from = stamps[1], to = stamps[vapply(phases, max, 1)], phase = names(phases),
        do.call(rbind, lines), row.names = NULL
      ))),
      steps = do.call(data.frame, c(lead, steps)),
      placebos = if (length(shared)) do.call(data.frame, c(lead, list(
        placebo = rep(seq_along(shared), length(each)),
        step = rep(seq_along(each), each = length(shared)), difference = as.vector(off)
      )))
    )
  }))
}

# Sums over all series of what was and what was to be expected at some steps of an occasion, and of
# their shared placebos: where all of them have values.
occasion_sums <- function(whole, i, at, shared) {
  known <- Reduce(`&`,
                  lapply(whole, function(one) is.finite(one$d$y[one$occasions[[i]]$block][at])))
  at <- at[known]
  sums <- lapply(whole, function(one) {
    own <- one$occasions[[i]]
    p <- own$placebos
    pick <- match(shared, one$d$period[p$start])
    list(own = stretch_totals(one$d$y[own$block], own$expected, at, one$d),
         placebo = if (length(shared)) stretch_totals(p$observed[, pick, drop = FALSE],
                                                      p$expected[, pick, drop = FALSE], at, one$d))
  })
  add <- function(set, what) Reduce(`+`, lapply(sums, function(s) s[[set]][[what]]))
  both <- function(set) list(observed = add(set, "observed"), expected = add(set, "expected"))
  list(own = both("own"), placebo = if (length(shared)) both("placebo"), steps = length(at))
}

phase_of_steps <- function(o) {
  rep(c("during", "after"), c(length(o$during), length(o$block) - length(o$during)))
}

# Half widths of the bands of single steps, from placebo errors (a row a step). Errors of neighbours
# tell of a step, too, so that bands do not jump.
near_distances <- function(errors, interval) {
  vapply(seq_len(nrow(errors)), function(j) {
    near <- max(1, j - 1):min(nrow(errors), j + 1)
    if (ncol(errors) < 5) NA_real_ else held_distance(abs(errors[near, ]), interval)
  }, 1)
}

# What must be said beside the numbers: too few placebos, controls that moved, what is one-sided.
effect_notes <- function(one, plan) {
  least <- min(vapply(one$occasions, function(o) length(o$placebos$start), 1))
  c(
    if (least == 0) paste("no stretch before it can be compared with, so that nothing tells chance",
                          "from effect"),
    if (least > 0 && least < 20) {
      paste0("there are only ", plural(least, "stretch", "stretches"),
             " before it to compare with, too few to tell chance from effect")
    },
    moved_controls(one, plan)
  )
}

moved_controls <- function(one, plan) {
  moved <- vapply(seq_along(one$controls), function(k) {
    known <- plan$known_controls[[one$controls[k]]]
    !is.null(known) && isTRUE(known[[1]]$table$p_value[1] < 0.05)
  }, TRUE)
  if (any(moved)) paste0("controls moved with the event, too: ", word_list(one$controls[moved]))
}

#' @export
as.data.frame.kairon_effect <- function(x, row.names = NULL, optional = FALSE, ...) x$table

#' @export
format.kairon_effect <- function(x, ...) {
  t <- x$table
  lines <- vapply(seq_len(nrow(t)), function(i) effect_sentence(t[i, ], x), "")
  c(if (!is.null(x$gone)) gone_sentences(x), lines, occasion_lines(x),
    if (length(x$notes)) paste0("Note: ", x$notes, "."))
}

# "demand in Dunmere from ... to ... was 11,930 m3 (10,500 to 13,400) above what was to be expected,
# 45 %."
effect_sentence <- function(line, e) {
  meta <- e$meta
  unit <- meta$units[[line$measure]]
  amount <- meta$kinds[[line$measure]] == "amount"
  number <- function(v) trimws(paste(show_number(abs(v), 4), unit))
  whom <- if (length(meta$series)) {
    label <- series_labels(keys_in(line, meta$series))
    if (is_together(line, meta)) " of all series together" else paste0(" in ", label)
  }
  stamp <- function(v) show_stamp(to_seconds(v), meta$type, meta$zone)
  when <- if (line$phase == "after") paste("after it, to",
                                           stamp(line$to)) else if (line$from == line$to) {
    paste("on", stamp(line$from))
  } else {
    paste("from", stamp(line$from), "to", stamp(line$to))
  }
  phase <-
    if (line$phase == "net") ", with what came after," else if (line$phase == "after") "," else ""
  if (!is.finite(line$effect)) {
    return(paste0(capitalise(line$measure), whom, " ", when, phase, ": nothing was measured."))
  }
  side <- if (line$effect >= 0) "above" else "below"
  # Bounds on the side of the effect; one beyond zero has a minus.
  turn <- sign(line$effect + (line$effect == 0))
  bounds <- sort(turn * c(line$lower, line$upper))
  told <- length(bounds) == 2 && all(is.finite(bounds))
  span <- if (told) paste0(" (", paste(vapply(bounds, show_number, "", 4), collapse = " to "), ")")
  share <- if (is.finite(line$share)) paste0(", ", show_percent(abs(line$share))) else ""
  paste0(
    capitalise(line$measure), whom, " ", when, phase, " was ", if (!amount) "on average ",
    number(line$effect), span, " ", side, " what was to be expected", share, ". ",
    placebo_sentence(line), controls_sentence(line)
  )
}

controls_sentence <- function(line) {
  n <- line$controls
  if (is.null(n) || !isTRUE(n > 0)) {
    return("")
  }
  many <- if (line$controls_as_large == 0) "none" else as.character(line$controls_as_large)
  paste0(" Of ", plural(n, "control"), " at the same time ", many,
         " moved as much by its own measure.")
}

placebo_sentence <- function(line) {
  n <- line$placebos
  if (n == 0) {
    return("Whether that is more than chance cannot be told.")
  }
  many <- if (line$as_large == 0) "none" else as.character(line$as_large)
  words <- paste0("Of ", plural(n, "stretch", "stretches"), " without it ", many, " showed as much")
  if (n < 20) {
    paste0(words, ", which is too few to be sure.")
  } else if (line$p_value <= 0.05) {
    paste0(words, ".")
  } else {
    paste0(words, ": this may be chance.")
  }
}

# Of several occasions: their mean with its error, and whether they grow or fade.
occasion_lines <- function(e) {
  t <- e$table[e$table$phase == "during", ]
  if (max(t$occasion) < 2) {
    return(NULL)
  }
  key <- key_text(t[c(e$meta$series, "measure")])
  vapply(unique(key), function(k) {
    own <- t[key == k, ]
    as_share <- all(is.finite(own$share))
    v <- if (as_share) own$share else own$effect
    show <- function(v) {
      if (as_share) {
        return(paste(show_number(100 * v, 3), "%"))
      }
      trimws(paste(show_number(v, 3), e$meta$units[[own$measure[1]]]))
    }
    n <- length(v)
    error <- stats::sd(v) / sqrt(n)
    fit <- if (n > 3) summary(stats::lm(v ~ seq_along(v)))$coefficients[2, c(1, 4)]
    trend <- " It neither grows nor fades by more than chance."
    if (!is.null(fit) && isTRUE(fit[2] < 0.05)) {
      grows <- sign(fit[1]) == sign(mean(v))
      trend <- paste0(" It ", if (grows) "grows" else "fades", " by ", show(abs(fit[1])),
                      " each time.")
    }
    whom <- if (length(e$meta$series)) paste0(" in ",
                                              series_labels(own[1, e$meta$series, drop = FALSE]))
    paste0(capitalise(own$measure[1]), whom, ": mean of ", n, " occasions ", show(mean(v)),
           ", standard error ",
           show(error), ".", if (n > 3) trend)
  }, "", USE.NAMES = FALSE)
}

#' @export
print.kairon_effect <- function(x, ...) {
  lines <- format(x)
  for (line in lines) show_lines(wrap_lines(line))
  invisible(x)
}

#' @export
adjusted.kairon_effect <- function(d, ...) {
  refuse_more("adjusted", ...)
  x <- d$x
  rows <- rows_of(x)
  labels <- series_labels(rows$keys)
  steps <- d$steps
  steps <- steps[!is_together(steps, d$meta), ]
  own <- if (length(d$meta$series)) {
    series_labels(keys_in(steps, d$meta$series))
  } else {
    rep(labels[1], nrow(steps))
  }
  here <- key_text(list(labels[series_index(rows$breaks)], rows$seconds))
  for (m in d$measures) {
    s <- steps$measure == m & is.finite(steps$observed)
    at <- match(key_text(list(own[s], to_seconds(steps[[d$meta$time]][s]))), here)
    codes <- origin_codes(x, m)
    x[[m]][at] <- steps$expected[s]
    codes[at] <- match("repaired", origin_levels)
    x <- set_origins(x, m, codes)
  }
  x
}
