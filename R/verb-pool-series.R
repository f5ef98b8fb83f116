#' Pool series into groups
#'
#' At each stamp, brings the values of several series together: by district, by bands of elevation,
#' or all into one. How many series stand behind a value is told at each stamp, so that a series
#' that stops does not pass for a fall.
#'
#' @inheritParams resample
#' @param by Series columns, attributes or [bands()] of an attribute that say which group a series
#'   belongs to: `c(district, bands(elevation, 4))`. `NULL` pools all.
#' @param ... Statistics, as in [resample()], taken over the series at a stamp.
#' @param weights Weights of the series: a column, or an expression of columns (or a formula of
#'   them) such as `cos(latitude * pi / 180)`. Used by mean, sum, sd, var, median and quantiles; a
#'   weighted mean is that of the series present, their weights made to sum to one anew.
#' @param total Whether to add a group `"all"` of all series.
#' @param each A part of the calendar to group by as well: `"month of year"`, `"hour of day"`, `"day
#' of week"`, `"season of year"` (December to February and so on, where December counts to the year
#' that follows), `"quarter of year"`. Each part becomes a series of its own with one value a year
#' (week, day), stamped at its start.
#' @param at_least Share (0 to 1) of a group's weight, or number (2 and more) of its series, that a
#'   value needs.
#' @returns A timeline with the columns of `by` as series. Beside a measure, `<measure>_series` is
#'   the number of series behind each value and `<measure>_coverage` their share of the group's
#'   weight, where it is below 1. [ledger()] lists the series of each group with their weight, first
#'   and last stamp.
#' @section Errors:
#' Series must share their stamps; those of irregular timelines rarely do, and are
#' refused with the advice to resample first.
#' @seealso [resample()], [align()], [impute()], [with_totals()], [bands()], [as_rate()]
#' @examples
#' soil <- demo_timeline("soil")
#' pool_series(soil, bands(elevation, 3), weights = area, total = TRUE)
#' pool_series(demo_timeline("demand"), each = "season of year", demand = "mean")
#' @export
pool_series <- function(x, by = NULL, ..., weights = NULL, total = FALSE, each = NULL,
                        at_least = 0) {
  UseMethod("pool_series")
}

#' @rdname pool_series
#' @export
pool_series.kairon_routine <- function(x, by = NULL, ..., weights = NULL) {
  if (!is.null(list(...)$each)) check_part(list(...)$each)
  args <- list(by = rlang::enquo(by), ..., weights = rlang::enquo(weights))
  record_step(x, "pool_series",
              Filter(function(a) !rlang::is_quosure(a) || !rlang::quo_is_null(a), args),
              regrids = TRUE)
}

#' @rdname pool_series
#' @export
pool_series.kairon_timeline <- function(x, by = NULL, ..., weights = NULL, total = FALSE,
                                        each = NULL, at_least = 0) {
  check_rows(x)
  check_measures(x)
  check_least(at_least)
  check_flag(total)
  part <- if (!is.null(each)) check_part(each)
  wanted <- read_statistics(x, list(...))
  check_across(wanted)
  weight <- row_weights(x, rlang::enquo(weights))
  if (is_regular(x)) {
    weighted <- put_column(x, weight_column, weight)
    x <- complete_grid(weighted)
    weight <- fill_weights(x[[weight_column]], rows_of(x)$breaks)
    x <- put_column(x, weight_column, NULL)
  }
  rows <- rows_of(x)
  groups <- series_groups(x, rows, rlang::enquo(by), total)
  cells <- if (is.null(part)) stamp_cells(x, rows, groups) else part_cells(x, rows, groups, part)
  out <- pooled_columns(x, rows, cells, wanted, weight, at_least)
  result <- add_marks(new_timeline(out$data, out$meta), out$marks)
  account <- pool_account(x, rows, groups, weight)
  words <- pool_words(account, groups)
  tell(c(i = verbatim(words)))
  add_entry(result, "pool_series", words, account)
}

#' @export
pool_series.default <- function(x, by = NULL, ...) check_timeline(x)

weight_column <- ".weight"

check_across <- function(wanted) {
  timed <- intersect(unlist(Filter(is.character, unlist(wanted))), c("time_mean", "slope"))
  if (length(timed)) {
    abort_input(c(
      "{.val {timed[1]}} runs over time, and pooling runs over series.",
      i = "Use {.fn resample} or {.fn roll} for it."
    ))
  }
}

# Weights ----

# One weight a row; 1 without any.
row_weights <- function(x, quo) {
  # A formula says the same as the expression on its right.
  if (rlang::is_formula(rlang::quo_get_expr(quo), lhs = FALSE)) {
    quo <- rlang::new_quosure(rlang::f_rhs(rlang::quo_get_expr(quo)), rlang::quo_get_env(quo))
  }
  if (rlang::quo_is_null(quo)) {
    return(rep(1, nrow(x)))
  }
  expr <- rlang::quo_get_expr(quo)
  if (is.character(expr) && length(expr) == 1) {
    check_columns(expr, names(x))
    quo <- rlang::new_quosure(as.symbol(expr), rlang::quo_get_env(quo))
  }
  weight <- rlang::try_fetch(
    rlang::eval_tidy(quo, data = as.list(as_plain(x))),
    error = function(cnd) {
      shown <- rlang::as_label(quo)
      abort_input("The weights {.code {shown}} cannot be found.", parent = cnd,
                  .envir = environment())
    }
  )
  if (!is.numeric(weight) || !length(weight) %in% c(1, nrow(x))) {
    abort_input(c(
      "{.arg weights} must give one number for each row or series.",
      x = "It gives {.obj_type_friendly {weight}} of length {length(weight)}."
    ))
  }
  weight <- rep_len(as.double(weight), nrow(x))
  bad <- which(is.na(weight) | weight < 0 | is.infinite(weight))
  if (length(bad)) {
    label <- row_labels(x)[bad[1]]
    seen <- weight[bad[1]]
    abort_input(c(
      "Weights must be numbers of 0 and more.",
      x = "{length(bad)} row{?s} {?has/have} none, the first ({.val {seen}}) in series \\
           {.val {label}}."
    ))
  }
  weight
}

# Rows that the grid added have the weight of the row before.
fill_weights <- function(weight, breaks) {
  if (!anyNA(weight)) {
    return(weight)
  }
  fill_values(weight, as.double(seq_along(weight)), breaks, "previous")$values
}

# Groups ----

# table: one row a group; member: series and group of each membership.
series_groups <- function(x, rows, quo, total) {
  first <- rows$breaks[-length(rows$breaks)] + 1L
  known <- as.list(as_plain(x)[first, c(timeline_meta(x)$series, timeline_meta(x)$attributes),
                               drop = FALSE])
  columns <- group_columns(quo, known)
  for (name in names(columns)) {
    lost <- is.na(columns[[name]])
    if (all(lost)) abort_input("No series falls in a group of {.field {name}}.")
    if (any(lost)) {
      labels <- series_labels(rows$keys)[lost]
      warn_user(c(
        "!" = "{sum(lost)} series {?falls/fall} in no group of {.field {name}} and {?is/are} \\
               left out.",
        i = "Left out: {.val {labels}}."
      ))
    }
  }
  if (length(columns) == 0) {
    return(list(
      table = data.frame(row.names = 1L), series = seq_along(first), group = rep(1L, length(first))
    ))
  }
  frame <- as.data.frame(columns, optional = TRUE, stringsAsFactors = FALSE)
  keep <- stats::complete.cases(frame)
  code <- lapply(frame, function(v) if (is.factor(v)) as.integer(v) else match(v, sort(unique(v))))
  distinct <- !duplicated(frame) & keep
  order <- do.call(order, unname(lapply(code, `[`, distinct)))
  table <- frame[distinct, , drop = FALSE][order, , drop = FALSE]
  group <- match(key_text(frame), key_text(table))
  out <- list(table = table, series = which(keep), group = group[keep])
  if (total) out <- add_total(out, seq_along(first))
  rownames(out$table) <- NULL
  out
}

add_total <- function(groups, all) {
  groups$table[] <- lapply(groups$table, function(v) {
    if (is.factor(v)) factor(as.character(v), levels = c(levels(v), "all")) else as.character(v)
  })
  groups$table[nrow(groups$table) + 1, ] <- "all"
  groups$series <- c(groups$series, all)
  groups$group <- c(groups$group, rep(nrow(groups$table), length(all)))
  groups
}

# `by` may be NULL, a name, a text, bands(...) or several in c().
group_columns <- function(quo, known) {
  env <- rlang::quo_get_env(quo)
  expr <- rlang::quo_get_expr(quo)
  if (is.null(expr)) {
    return(list())
  }
  several <- rlang::is_call(expr, "c") || is.list(expr) && !is.object(expr)
  pieces <- if (!several) list(expr) else if (is.call(expr)) as.list(expr)[-1] else expr
  out <- list()
  for (piece in pieces) {
    if (inherits(piece, "kairon_banding")) {
      check_columns(piece$column, names(known))
      out[[piece$column]] <- bands(known[[piece$column]], piece$n, piece$quantiles)
    } else if (rlang::is_call(piece) && !rlang::is_call(piece, "c")) {
      used <- intersect(all.vars(piece), names(known))
      value <- rlang::eval_tidy(rlang::new_quosure(piece, env), data = known)
      if (length(value) != length(known[[1]])) {
        abort_input("{.arg by} must give one group for each series.")
      }
      out[[if (length(used)) used[1] else "group"]] <- value
    } else {
      names <- names_in(piece, env, names(known))
      if (length(known) == 0) {
        abort_input(c(
          "There is nothing to group by: the timeline has one series and no attributes.",
          x = "{.field {names}} is neither a series column nor an attribute."
        ))
      }
      check_columns(names, names(known))
      out[names] <- known[names]
    }
  }
  out
}

# Cells ----
# A cell is what becomes one row of the result: cell of each (repeated) row, and the
# frame of the cells with their stamps.

member_rows <- function(rows, groups) {
  first <- rows$breaks[-length(rows$breaks)]
  size <- diff(rows$breaks)
  list(
    row = sequence(size[groups$series], first[groups$series] + 1L),
    group = rep(groups$group, size[groups$series]),
    member = rep(seq_along(groups$series), size[groups$series])
  )
}

stamp_cells <- function(x, rows, groups) {
  meta <- timeline_meta(x)
  m <- member_rows(rows, groups)
  regular <- is_regular(x)
  if (regular) {
    place <- period_of_stamp(meta$cadence, rows$seconds, rows$zone)
  } else {
    stamps <- sort(unique(rows$seconds))
    place <- match(rows$seconds, stamps)
    check_shared(rows, stamps, meta)
  }
  place <- place[m$row]
  low <- as.vector(tapply(place, m$group, min))
  high <- as.vector(tapply(place, m$group, max))
  size <- high - low + 1
  from <- c(0, cumsum(size))
  cell <- from[m$group] + place - low[m$group] + 1
  owner <- rep(seq_along(size), size)
  at <- sequence_from(low, size)
  seconds <- if (regular) stamp_of(meta$cadence, at, rows$zone) else stamps[at]
  there <- Reduce(`|`, lapply(names(meta$kinds), function(name) !is.na(x[[name]])))[m$row]
  of <- factor(m$member, seq_along(groups$series))
  life <- member_life(
    as.vector(tapply(cell[there], of[there], min)), as.vector(tapply(cell[there], of[there], max)),
    ended_series(x, names(meta$kinds), rows)$ended[groups$series], from[groups$group + 1]
  )
  cells <- list(
    row = m$row, cell = cell, owner = owner, keys = groups$table[owner, , drop = FALSE],
    stamps = from_seconds(seconds, meta$type, meta$zone), type = meta$type, cadence = meta$cadence,
    groups = groups, per_stamp = TRUE, life = life, cells = length(owner)
  )
  if (!regular) cells <- drop_empty(cells)
  cells
}

check_shared <- function(rows, stamps, meta) {
  series <- length(rows$breaks) - 1
  if (series > 1 && length(rows$seconds) < 1.5 * length(stamps)) {
    abort_state(c(
      "Series must share their stamps to be pooled.",
      x = "The timeline is {format(meta$cadence)}, and most stamps belong to one series alone.",
      i = "Bring them onto a grid first, such as {.code resample(x, \"1 hour\")}."
    ), .envir = list2env(list(meta = meta)))
  }
}

# Irregular groups have only the stamps of their own series.
drop_empty <- function(cells) {
  used <- sort(unique(cells$cell))
  cells$used <- used
  cells$cell <- match(cells$cell, used)
  cells$owner <- cells$owner[used]
  cells$keys <- cells$keys[used, , drop = FALSE]
  cells$stamps <- cells$stamps[used]
  cells
}

part_cells <- function(x, rows, groups, part) {
  meta <- timeline_meta(x)
  if (meta$type == "step") abort_input("Plain steps have no calendar.")
  m <- member_rows(rows, groups)
  local <- if (meta$type == "instant") cpp_local_of(rows$seconds, rows$zone) else rows$seconds
  code <- part_codes(part, local)[m$row]
  cycle <- part_cycle(part, local)[m$row]
  label <- part_labels(part, code)
  step <- calendar_parts[[part]]$cycle %||% "year"
  cadence <- cadence(paste("1", step))
  k <- period_of(cadence, cycle * 86400, utc_zone)
  key <- (m$group - 1) * 1e5 + code
  keys <- sort(unique(key))
  at <- match(key, keys)
  low <- as.vector(tapply(k, at, min))
  size <- as.vector(tapply(k, at, max)) - low + 1
  from <- c(0, cumsum(size))
  owner <- rep(seq_along(size), size)
  group <- ((keys - 1) %/% 1e5 + 1)[owner]
  table <- groups$table[group, , drop = FALSE]
  table[[part_column(part)]] <- part_labels(part, (keys - 1) %% 1e5 + 1)[owner]
  days <- period_start(cadence, sequence_from(low, size), utc_zone) / 86400
  members <- tabulate(groups$group, nrow(groups$table))
  steps <- part_sizes(x, rows, part, ((keys - 1) %% 1e5 + 1)[owner], days)
  expected <- steps * members[group]
  if (is_regular(x)) {
    # Less the steps at which a member did not live yet, or no more.
    cell_of <- function(group, stamps) {
      local <- if (meta$type == "instant") cpp_local_of(stamps, rows$zone) else stamps
      code <- part_codes(part, local)
      at <- match((group - 1) * 1e5 + code, keys)
      k <- period_of(cadence, part_cycle(part, local) * 86400, utc_zone)
      ifelse(is.na(at) | k < low[at] | k > low[at] + size[at] - 1, NA, from[at] + k - low[at] + 1)
    }
    expected <- expected - absent_steps(x, rows, groups, cell_of, length(owner))
  }
  list(
    expected = expected, row = m$row, cell = from[at] + k - low[at] + 1, owner = group,
      keys = table,
    stamps = .Date(days), type = "date", cadence = cadence, groups = groups, per_stamp = FALSE
  )
}

# Columns ----

pooled_columns <- function(x, rows, cells, wanted, weight, at_least) {
  order <- cpp_cell_order(as.integer(cells$cell), length(cells$stamps))
  at <- cells$row[order$order]
  flat <- all(weight == 1)
  w <- weight[at]
  pooled_table(
    timeline_meta(x), cells, wanted, at_least,
    function(measure) pool_marks(x, rows, cells, measure, at, order, x[[measure]][at], w),
    function(measure, statistic) {
      pool_values(x[[measure]][at], w, flat, order, statistic, function(i) {
        paste("the stamp", format(cells$stamps[i]))
      })
    }
  )
}

# The result, from functions that give the marks of a measure and the values of one of its
# statistics.
pooled_table <- function(meta, cells, wanted, at_least, mark_of, value_of) {
  data <- list()
  data[[meta$time]] <- cells$stamps
  for (name in names(cells$keys)) data[[name]] <- cells$keys[[name]]
  kinds <- units <- character()
  marks <- list()
  for (measure in names(wanted)) {
    mark <- mark_of(measure)
    for (label in names(wanted[[measure]])) {
      statistic <- wanted[[measure]][[label]]
      name <- if (length(wanted[[measure]]) == 1) measure else paste0(measure, "_", label)
      made <- value_of(measure, statistic)
      short <- if (at_least <= 1) mark$coverage < at_least else mark$series < at_least
      made[short] <- NA_real_
      data[[name]] <- made
      kinds[name] <- pooled_kind(meta$kinds[[measure]], statistic)
      units[name] <- result_unit(meta$units[[measure]], statistic)
      marks[[name]] <- mark
    }
  }
  data <- as.data.frame(data, optional = TRUE, stringsAsFactors = FALSE)
  meta$series <- names(cells$keys)
  meta$attributes <- character()
  meta$kinds <- kinds
  meta$units <- units
  meta$type <- cells$type
  meta$cadence <- cells$cadence
  meta$rejects <- meta$rejects[0, , drop = FALSE]
  meta$news <- meta$ledger <- NULL
  list(data = data, meta = for_new_measures(meta, names(data)), marks = marks)
}

pool_values <- function(values, weight, flat, order, statistic, where) {
  nothing <- rep(0, length(values))
  if (is.character(statistic) && !flat) {
    return(call_core(cpp_weighted_statistics(
      statistic, values, weight, nothing, order$from, order$to, core_threads()
    )))
  }
  range_statistics(values, nothing, order$from, order$to, list(statistic), where)[[1]]
}

# An amount stays one over the same interval, whatever mean of it is taken.
pooled_kind <- function(kind, statistic) {
  spread <- is.character(statistic) && statistic %in% c("sd", "var", "mad", "range", "count")
  if (kind == "amount" && !spread) "amount" else "level"
}

# Series behind each value, their share of the group's weight, and the origin.
pool_marks <- function(x, rows, cells, measure, at, order, values, weight) {
  count <- function(v, how) range_statistic(v, v, order$from, order$to, how)
  there <- !is.na(values)
  present <- count(ifelse(there, 1, NA_real_), "count")
  owner <- series_index(rows$breaks)[at]
  if (cells$per_stamp) {
    series <- present
    full <- living_weight(cells$life, weight_of_series(weight, at, rows)[cells$groups$series],
                          cells$cells)
    if (!is.null(cells$used)) full <- full[cells$used]
    share <- count(ifelse(there, weight, NA_real_), "sum")
    share[is.na(share)] <- 0
    coverage <- ifelse(full > 0, share / full, 1)
  } else {
    cell <- rep(seq_along(order$from), order$to - order$from)
    series <- distinct_in(owner[there], cell[there], length(order$from))
    coverage <- ifelse(is.na(cells$expected) | cells$expected <= 0, present > 0,
                       present / cells$expected)
  }
  coverage <- pmin(1, coverage)
  coverage[coverage > 1 - 1e-9] <- 1
  origin <- rep(summarised_code, length(present))
  if (is_marked(x, measure)) {
    codes <- origin_codes(x, measure)[at]
    own <- count(ifelse(codes <= summarised_code, 1, NA_real_), "count")
    worst <- count(as.double(codes), "max")
    invented <- present > 0 & own < 0.5 * present
    origin[invented] <- as.integer(worst[invented])
  }
  list(series = series, coverage = coverage, origin = origin)
}

# Mean weight of each series.
weight_of_series <- function(weight, at, rows) {
  out <- rep(0, length(rows$breaks) - 1)
  mean <- tapply(weight, series_index(rows$breaks)[at], mean)
  out[as.integer(names(mean))] <- mean
  out
}

distinct_in <- function(owner, cell, cells) {
  fresh <- !duplicated(data.frame(owner, cell))
  tabulate(cell[fresh], cells)
}

# The account ----

# One row a membership: group, series, its weight, first and last stamp with a value.
pool_account <- function(x, rows, groups, weight) {
  meta <- timeline_meta(x)
  measures <- names(meta$kinds)
  present <- Reduce(`|`, lapply(measures, function(m) !is.na(x[[m]])))
  owner <- series_index(rows$breaks)
  seen <- which(present)
  first <- seen[match(seq_len(max(owner)), owner[seen])]
  last <- rev(seen)[match(seq_len(max(owner)), rev(owner[seen]))]
  s <- groups$series
  stamp <- function(i) from_seconds(rows$seconds[i], meta$type, meta$zone)
  group <- if (ncol(groups$table)) {
    series_labels(groups$table)[groups$group]
  } else {
    rep("all", length(s))
  }
  weights <- weight_of_series(weight, seq_along(weight), rows)
  data.frame(
    group = group, series = series_labels(rows$keys)[s], weight = weights[s],
    from = stamp(first[s]),
    to = stamp(last[s]), values = as.vector(tabulate(owner[seen], max(owner)))[s]
  )
}

pool_words <- function(account, groups) {
  ends <- stats::ave(as.numeric(account$to), account$group,
                     FUN = function(v) max(-Inf, v, na.rm = TRUE))
  begins <- stats::ave(as.numeric(account$from), account$group,
                       FUN = function(v) min(Inf, v, na.rm = TRUE))
  # The group of all would name each of them a second time.
  own <- account$group != "all" | all(account$group == "all")
  stops <- which(own & as.numeric(account$to) < ends)
  starts <- which(own & as.numeric(account$from) > begins)
  name <- function(i, stamp) paste0(account$series[i], " (", format(stamp[i]), ")")
  paste0(
    plural(length(unique(groups$series)), "series", "series"), " pooled into ",
    plural(max(groups$group), "group"),
    if (length(stops)) paste0("; stopping before the group does: ",
                              word_list(name(stops, account$to), 4)),
    if (length(starts)) paste0("; starting after it: ", word_list(name(starts, account$from), 4)),
    "."
  )
}
