#' Write a report that can be sent to somebody without R
#'
#' Findings in plain words first, then the readings and their health, repairs, pattern, a forecast,
#' how wrong such forecasts have been, and what it takes to do it all again. As one self-contained
#' HTML page that needs no network, or as Markdown with its figures in a folder beside it.
#'
#' @param x A timeline.
#' @param file Where to write: a name that ends in `.html`, in `.md` (its figures then go to a
#'   folder of the same name with `-figures`), or in `.xlsx` (a workbook with sheets for the
#'   findings, the forecast, the history, the scores and notes; no figures).
#' @param title Its title.
#' @param plan A study, as a file or from [read_study()]: its routine, looks, decomposition,
#'   methods, backtest and forecast are what the report shows of `x`; `horizon`, `routine` and
#'   `methods` are not given then. Without one, the report takes what the data allow.
#' @param horizon How far to forecast: a duration or steps. Default: two seasons (12 steps without
#'   one), at most a quarter of the shortest series that goes on.
#' @param routine Preparation steps, a [routine()]. An irregular timeline without one is summarised
#'   by day, and the report says so.
#' @param methods Methods to compare with the naive habits; by default the automatic choice. The
#'   forecast is made by the [best()] of all of them, and its own past errors are what is told
#'   first.
#' @param looks More to show: a list of results by name, such as `list(burst = effect_of(x,
#'   "2030-02"))`. What events did ([effect_of()]) has a section of its own, everything else stands
#'   under "A closer look".
#' @param sections Which sections to show, of `"findings"`, `"readings"`, `"repairs"`, `"effects"`,
#'   `"looks"`, `"standing"`, `"pattern"`, `"forecast"`, `"backtest"`, `"diagnosis"` and `"method"`;
#'   all by default.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns `file`, invisibly.
#' @details The page begins with what comes next, how wrong such forecasts have been, and what to
#'   look at first. Figures have an alternative text, and the data behind them can be saved from the
#'   page (up to 20,000 rows each). In a browser that runs scripts, readings, forecasts and
#'   backtests can be asked: a pointer or the arrow keys tell values, dragging zooms, series are
#'   switched on and off, and tables are sorted by their heads; without, and on paper, drawn figures
#'   stand there. The page follows the reader's dark or light setting. The table of many series
#'   begins with those that need attention: `attention` adds up the share of readings that are
#'   missing, one for a series that stopped, and the share of flagged or repaired readings.
#' @section Error types:
#' `kairon_error_file` when the file cannot be written: then nothing is; `kairon_error_input` for
#' another ending.
#' @seealso [autoplot()], [date_marks()], [figure_style()], [run_study()], [read_study()],
#'   [new_study()]
#' @examples
#' page <- tempfile(fileext = ".html")
#' report(demo_timeline("billed"), page, title = "Billed volume",
#'        sections = c("findings", "pattern"))
#' @export
report <- function(x, file = "report.html", title = NULL, plan = NULL, horizon = NULL,
                   routine = NULL,
                   methods = NULL, sections = NULL, looks = NULL, ...) {
  refuse_more("report", ...)
  check_timeline(x)
  check_string(file)
  if (!is.null(title)) check_string(title)
  check_routine(routine)
  check_report_ending(file)
  check_choices(sections, names(report_heads), arg = "sections")
  looks <- check_looks(looks)
  # Before the work, not after it.
  check_writable(file)
  given <- list(horizon = horizon, routine = routine, methods = methods,
                sections = sections %||% names(report_heads))
  parts <- quietly(report_plan(plan, x, given))
  parts$looks <- c(parts$looks, looks)
  parts$sections <- given$sections
  write_report(parts, file, title %||% parts$title %||% "Report on timestamped measurements")
}

# Results by name, each of which can be shown as a table.
check_looks <- function(looks) {
  if (is.null(looks)) {
    return(NULL)
  }
  kind <- function(look) grep("^kairon_", class(look), value = TRUE)
  if (!is.null(attr(looks, "class"))) {
    looks <- rlang::set_names(list(looks), sub("kairon_", "", c(kind(looks), "look")[1]))
  }
  named <- is.list(looks) && length(looks) && !is.null(names(looks)) && all(nzchar(names(looks)))
  ours <- named &&
    all(vapply(looks, function(look) is.data.frame(look) || length(kind(look)) > 0, TRUE))
  if (!ours) {
    abort_input(c("{.arg looks} must be results by name.",
                  i = "Such as {.code list(burst = effect_of(x, when))}."))
  }
  looks
}

check_report_ending <- function(file) {
  if (!tolower(tools::file_ext(file)) %in% c("html", "htm", "md", "xlsx")) {
    abort_input(c("A report is written to a file that ends in {.val .html}, {.val .md} or \\
                   {.val .xlsx}.",
                  x = "{.file {file}} does not."))
  }
}

# What the report is made of; plans of other classes have methods of their own.
report_plan <- function(plan, x, given) UseMethod("report_plan")

#' @export
report_plan.default <- function(plan, x, given) {
  if (!is.null(plan)) abort_input("{.arg plan} must be a study.")
  report_parts(x, given$horizon, given$routine, given$methods, given$sections)
}

# Everything that the page says; what the data do not allow is left out with
# the reason.
report_parts <- function(x, horizon, routine, methods, sections = names(report_heads)) {
  check_measures(x)
  note <- NULL
  if (is.null(routine) && !is_regular(x)) {
    routine <- routine() |>
      resample("1 day") |>
      impute("linear", longest = "3 days")
    note <- paste(
      "The readings are irregular; pattern and forecast rest on daily values,",
      "gaps of up to three days filled."
    )
  }
  grid <- replay(routine, x)
  steps <- horizon %||% usual_horizon(grid)
  told <- if ("findings" %in% sections) c("backtest", "forecast", "pattern", "standing")
  wanted <- union(sections, told)
  # What forecasts is what did best, so the backtest comes first.
  tried <- if (any(c("backtest", "forecast", "diagnosis") %in% wanted)) {
    or_reason(report_backtest(x, grid, methods, steps, routine))
  }
  chosen <- report_choice(tried, methods)
  base <- list(x = x, grid = grid, note = note, routine = routine, horizon = steps,
               methods = methods, chosen = names(chosen), inspection = inspect(x))
  # In the order of their weight, since they are made side by side, each with what is said of it.
  makers <- list(
    backtest = function() if (failed(tried)) stop(tried) else tried,
    forecast = function() {
      with_seed(1, forecast(x, steps, chosen, routine = routine, paths = answer_paths(grid, steps)))
    },
    diagnosis = function() report_diagnosis(grid, chosen[[1]]),
    readings = function() NULL,
    pattern = function() decomposition(grid),
    standing = function() standing(x)
  )
  makers <- makers[names(makers) %in% wanted]
  made <- side_by_side(names(makers), function(id) {
    part <- or_reason(makers[[id]]())
    own <- c(base, rlang::set_names(list(part), id))
    list(part = part, blocks = if (id %in% sections) in_report_style(section_blocks(id, own)))
  })
  names(made) <- names(makers)
  c(base, Filter(Negate(is.null), lapply(made, `[[`, "part")),
    list(blocks = lapply(made, `[[`, "blocks")))
}

report_diagnosis <- function(grid, method) {
  diagnosis(fit(some_of(grid), method, measures = first_measure(grid)))
}

# The methods asked for, or the automatic choice, beside the habits that they have to beat, at three
# cutoffs.
report_backtest <- function(x, grid, methods, steps, routine) {
  own <- as_methods(methods %||% by_auto(), "methods")
  habits <- baseline_methods(grid)[c("naive", "seasonal naive")]
  own <- c(own, Filter(Negate(is.null), habits[setdiff(names(habits), names(own))]))
  tryCatch(backtest(x, own, steps, cutoffs = 3, routine = routine),
           kairon_error = function(e) backtest(x, own, steps, routine = routine))
}

# The measure that a report fits: the first that is no raw value kept beside.
first_measure <- function(x) setdiff(names(timeline_meta(x)$kinds), unlist(timeline_meta(x)$raw))[1]

# The first series, which stand for all where there are many.
some_of <- function(x, most = 3) {
  labels <- row_labels(x)
  x[labels %in% utils::head(unique(labels), most), ]
}

# Two seasons, but no more than a quarter of the shortest series that goes on.
usual_horizon <- function(x) {
  cadence <- timeline_meta(x)$cadence
  season <- usual_season(cadence)
  steps <- if (is.null(season)) 12 else round(2 * season_steps(season, cadence))
  rows <- rows_of(x)
  live <- !ended_series(x, first_measure(x), rows)$ended
  long <- cadence_periods(x, rows)
  max(1, min(max(2, steps), floor(min(if (any(live)) long[live] else long) / 4)))
}

# The method that forecasts, by its name: the best of the backtest, else the first that was asked
# for.
report_choice <- function(tried, methods) {
  if (inherits(tried, "kairon_backtest")) {
    chosen <- or_reason(best(tried))
    if (!failed(chosen)) {
      return(rlang::set_names(list(chosen), attr(chosen, "label")))
    }
  }
  as_methods(methods %||% by_auto(), "methods")[1]
}

# Blocks: what a section holds, in no form yet ----

# All sections that have something to say: list of id, head, blocks.
report_sections <- function(parts) {
  wanted <- intersect(names(report_heads), parts$sections %||% names(report_heads))
  each <- if (is.null(parts$blocks)) side_by_side else lapply
  made <- each(wanted, function(id) {
    blocks <- parts$blocks[[id]] %||% section_blocks(id, parts)
    if (length(blocks)) list(id = id, head = report_heads[[id]], blocks = blocks)
  })
  Filter(Negate(is.null), made)
}

# Drawing is most of the work of a page: sections are made at the same time where processes can be
# forked.
side_by_side <- function(items, make) {
  threads <- core_threads()
  if (.Platform$OS.type == "windows" || threads < 2) {
    return(lapply(items, make))
  }
  before <- options(kairon.threads = 1) # each process has one core
  on.exit(options(before))
  parent <- Sys.getpid()
  made <- parallel::mclapply(items, function(item) {
    cpp_end_with(parent)
    tryCatch(list(made = make(item)), error = function(e) e)
  }, mc.cores = threads, mc.preschedule = FALSE, mc.set.seed = FALSE)
  # What did not come back is made here, so that its error is the true one.
  lapply(seq_along(items), function(i) {
    if (is.list(made[[i]]) && !inherits(made[[i]], "error")) made[[i]]$made else make(items[[i]])
  })
}

# Figures of a report are narrower and larger in their type, since a phone shows them too.
in_report_style <- function(expr) {
  before <- figure_style("light", 12)
  wide <- options(kairon.figure_width = 8.2)
  on.exit({
    do.call(figure_style, before)
    options(wide)
  })
  expr
}

# `files`: one report, or the same in several forms.
write_report <- function(parts, files, title) {
  title <- visible(title)
  for (file in files) check_report_ending(file)
  books <- tolower(tools::file_ext(files)) == "xlsx"
  if (any(books)) sheets <- report_sheets(parts, title)
  for (file in files[books]) write_whole(file, function(partial) write_book(sheets, partial))
  if (all(books)) {
    return(invisible(files))
  }
  in_report_style({
    sections <- report_sections(parts)
    for (file in files[!books]) {
      write <- if (tolower(tools::file_ext(file)) == "md") write_markdown else write_html
      write(sections, file, title, timeline_line(parts$x))
    }
  })
  invisible(files)
}

# Figures of a page that can be asked: the numbers behind them, for the script of the page
# (inst/report/live.js). Stamps are seconds; each line has values at places of the shared stamps.
