# The contract between forecast() and its methods. A method is one file: a constructor by_x() and
# the five functions below for its class.

#' Writing a forecasting method
#'
#' A method is a constructor `by_x()` that returns `new_method("x", ...)` and S3 methods for these
#' generics, dispatched on `kairon_by_x`. The first four make a forecast; the others are optional,
#' and say so where they are missing.
#'
#' @param method A method, such as [by_naive()].
#' @param batch The numbers of all series at once, a list: `values` (one flat numeric vector on a
#'   complete grid, `NA` where missing), `breaks` (first row of each series from 0, and the number
#'   of rows), `context` (see there).
#' @param context A list: `seasons` (named whole numbers of steps, the shortest first; empty where
#'   the cadence has none), `cadence`, `measure`, `kind`, `unit`; `stamps` (seconds of each row),
#'   `type` and `zone` of the time column, `labels` of the series, `drivers` (a named list of flat
#'   vectors), and `ahead`, a function of a number of steps that gives `stamps` (seconds) and
#'   `drivers` (a named list of matrices, one column a series) of the steps to come; `carry` has for
#'   each driver that is to be forecast a function of values, breaks and a horizon that does so.
#' @param model What `method_fit()` returned.
#' @param horizon Number of steps ahead (whole, at least 1).
#' @param levels Interval levels in percent.
#' @param n Number of paths.
#' @param name Name of the method.
#' @param ... Settings kept in the method.
#' @returns
#' * `method_fit()`: a model of any form, for all series of the batch. Where it has a character
#'   vector `notes`, they are shown.
#' * `method_predict()`: a list of `point`, a matrix of `horizon` rows and one column a series, and
#'   `lower` and `upper`, lists of such matrices, one for each level in order.
#' * `method_describe()`: one line of plain words.
#' * `method_needs()`: a list: `values` (how many values a series must have) and `season` (whether a
#'   season is needed; then also `steps`, its steps, `NULL` where the context has none); maybe
#'   `piece`, how many series are forecast at once (200; fewer where each takes long).
#' * `method_form()`: one line of plain words for each series, on what the fit chose.
#' * `method_fitted()`: one-step expectations, one for each row of the batch.
#' * `method_coefficients()`: a data frame with `series` (number), `term`, `estimate` and maybe
#'   `error`.
#' * `method_information()`: a data frame with a row for each series: `log_likelihood`,
#'   `parameters`, `aic`, `aicc`, `bic`, `residual_sd`.
#' * `method_paths()`: possible futures, an array of steps, series and paths, drawn by R's
#'   generator.
#' * `method_parts()`: a named list of matrices like `point` that add up to it (multiply, where its
#'   attribute `combine` says `"multiply"`).
#' * `method_history()`: the same for the steps of the history, as a named list of one value for
#'   each row of the batch: the trend (or level), a slope, seasons, effects.
#' * `method_dynamics()`: how many parameters of each series' recursion follow the past (shares,
#'   last values, last shocks), for the degrees of freedom of tests; 0 where missing.
#' * `method_choices()`: of a method that chooses, a data frame with `series` (number), `member` and
#'   `weight`, shown by [choices()].
#' * `method_fixed()`: words for orders and parameters that were given by hand.
#' * `method_advance()`: the model moved on over a batch that holds the old rows and later ones,
#'   without a new fit.
#' @name method-contract
NULL

#' @rdname method-contract
#' @export
new_method <- function(name, ...) {
  out <- structure(list(name = name, ...), class = c(paste0("kairon_by_", name), "kairon_method"))
  attr(out, "made") <- constructor_call(parent.frame(), sys.frames())
  out
}

# The constructor and the settings that it was given, so that update() can call it again with
# others; NULL where a method was made outside of a function.
constructor_call <- function(frame, frames) {
  at <- Position(function(f) identical(f, frame), frames, right = TRUE)
  constructor <- if (!is.na(at)) sys.function(at)
  if (typeof(constructor) != "closure" ||
      !identical(topenv(frame), topenv(environment(constructor)))) {
    return(NULL)
  }
  call <- sys.call(at)
  # Code that is evaluated somewhere has a frame, too, and no arguments of its own.
  tryCatch({
    given <- names(as.list(match.call(constructor, call, expand.dots = FALSE))[-1])
    named <- setdiff(given, "...")
    settings <- rlang::set_names(lapply(named, function(n) get(n, frame, inherits = FALSE)), named)
    more <- if ("..." %in% given) eval(quote(list(...)), frame)
    list(constructor = constructor_name(constructor), settings = c(settings, more))
  }, error = function(e) NULL)
}

# One of Kairon's own by its name, so that a method is data, which can be kept in a file.
constructor_name <- function(constructor) {
  own <- asNamespace("kairon")
  if (!identical(environment(constructor), own)) {
    return(constructor)
  }
  for (name in grep("^by_", getNamespaceExports(own), value = TRUE)) {
    if (identical(own[[name]], constructor)) {
      return(name)
    }
  }
  constructor
}

constructor_of <- function(made) {
  if (is.function(made$constructor)) {
    return(made$constructor)
  }
  ours <- grep("^by_", getNamespaceExports("kairon"), value = TRUE)
  getExportedValue("kairon", check_choice(made$constructor, ours))
}

#' @rdname method-contract
#' @export
method_fit <- function(method, batch) UseMethod("method_fit")

#' @rdname method-contract
#' @export
method_predict <- function(method, model, horizon, levels) UseMethod("method_predict")

#' @rdname method-contract
#' @export
method_describe <- function(method, context) UseMethod("method_describe")

#' @rdname method-contract
#' @export
method_needs <- function(method, context) UseMethod("method_needs")

#' @export
method_needs.kairon_method <- function(method, context) {
  list(values = 2, season = FALSE)
}

#' @rdname method-contract
#' @export
method_form <- function(method, model) UseMethod("method_form")

#' @export
method_form.kairon_method <- function(method, model) NULL

#' @rdname method-contract
#' @export
method_fitted <- function(method, model) UseMethod("method_fitted")

#' @export
method_fitted.kairon_method <- function(method, model) {
  abort_lacking(method, "one-step expectations")
}

#' @rdname method-contract
#' @export
method_coefficients <- function(method, model) UseMethod("method_coefficients")

#' @export
method_coefficients.kairon_method <- function(method, model) NULL

#' @rdname method-contract
#' @export
method_information <- function(method, model) UseMethod("method_information")

#' @export
method_information.kairon_method <- function(method, model) NULL

#' @rdname method-contract
#' @export
method_paths <- function(method, model, horizon, n) UseMethod("method_paths")

#' @export
method_paths.kairon_method <- function(method, model, horizon, n) abort_lacking(method, "paths")

#' @rdname method-contract
#' @export
method_parts <- function(method, model, horizon) UseMethod("method_parts")

#' @export
method_parts.kairon_method <- function(method, model, horizon) NULL

#' @rdname method-contract
#' @export
method_advance <- function(method, model, batch) UseMethod("method_advance")

#' @export
method_advance.kairon_method <- function(method, model, batch) {
  abort_lacking(method, "state that could be moved on")
}

#' @rdname method-contract
#' @export
method_fixed <- function(method) UseMethod("method_fixed")

#' @export
method_fixed.kairon_method <- function(method) NULL

#' @rdname method-contract
#' @export
method_dynamics <- function(method, model) UseMethod("method_dynamics")

#' @export
method_dynamics.kairon_method <- function(method, model) 0

# Notes that hold for some of several series name them. `each`: the notes of each series.
notes_of_series <- function(each, labels) {
  all <- unique(unlist(each))
  if (length(labels) < 2) {
    return(all)
  }
  vapply(all, function(note) {
    has <- vapply(each, function(own) note %in% own, TRUE)
    paste0(note, " (", word_list(labels[has], 4), ")")
  }, "", USE.NAMES = FALSE)
}

abort_lacking <- function(method, what) {
  abort_input(c(
    "{.code {format(method)}} has no {what}.",
    i = "Methods of one's own may leave this out; see {.help method-contract}."
  ))
}

# Methods of one's own are not known to workers: the functions of their classes that are not this
# package's.
own_methods <- function(methods) {
  generics <- paste0("method_",
                     c("fit", "predict", "describe", "needs", "form", "fitted", "coefficients",
                                  "information", "paths", "parts", "advance", "fixed", "dynamics"))
  classes <- unique(vapply(methods, function(m) class(m)[1], ""))
  found <- lapply(classes, function(class) {
    lapply(generics, function(generic) {
      method <- utils::getS3method(generic, class, optional = TRUE, envir = globalenv())
      own <- is.function(method) && !identical(topenv(environment(method)), topenv())
      if (own) list(generic = generic, class = class, method = method)
    })
  })
  Filter(Negate(is.null), unlist(found, recursive = FALSE))
}

is_method <- function(x) inherits(x, "kairon_method")

# The methods of this package by their words.
known_methods <- function() {
  found <- grep("^by_", getNamespaceExports("kairon"), value = TRUE)
  sort(sub("^by_", "", found))
}

# A method, or the word for one: "theta", "seasonal naive".
as_method <- function(x, arg = "method") {
  if (!is.character(x) || length(x) != 1 || is.na(x)) {
    return(if (is_method(x)) x else abort_method(x, arg))
  }
  word <- sub("\\(\\)$", "", sub("^by_", "", gsub("[- ]", "_", trimws(tolower(x)))))
  if (!word %in% known_methods()) {
    hint <- nearest_word(word, known_methods())
    abort_input(c("There is no method {.val {x}}.",
                  i = if (!is.null(hint)) "Did you mean {.val {hint}}?",
                  i = "There are {.val {known_methods()}}."))
  }
  getExportedValue("kairon", paste0("by_", word))()
}

#' @export
format.kairon_method <- function(x, ...) paste0("by_", x$name, "()")

#' @export
print.kairon_method <- function(x, ...) {
  show_lines(paste0("Forecasting method ", format(x)))
  invisible(x)
}

# Methods in a named list; names are what tables and figures call them.
as_methods <- function(methods, arg = "method") {
  if (is_method(methods)) methods <- list(methods)
  if (is.character(methods)) methods <- as.list(methods)
  fitted <- inherits(methods,
                     "kairon_fit") ||
                       (is.list(methods) && any(vapply(methods, inherits, TRUE, "kairon_fit")))
  if (fitted) {
    abort_input(c(
      "A fit is no method: it has seen its data already.",
      i = "Give the method, such as {.code by_smoothing()}; it is fitted anew to what each \\
           forecast may see.",
      i = "{.fn predict} makes a forecast from a fit."
    ))
  }
  if (!is.list(methods) || length(methods) == 0) {
    abort_method(methods, arg)
  }
  methods <- lapply(methods, as_method, arg = arg)
  labels <- names(methods) %||% rep("", length(methods))
  own <- vapply(methods, function(m) gsub("_", " ", m$name), "")
  labels[labels == ""] <- own[labels == ""]
  twice <- unique(labels[duplicated(labels)])
  if (length(twice)) {
    abort_input(c(
      "Methods must have different names; {.val {twice}} stand{?s} twice.",
      i = "Name them: {.code list(short = by_naive(), long = by_drift())}."
    ))
  }
  rlang::set_names(methods, labels)
}

abort_method <- function(x, arg) {
  given <- if (is.function(x)) "a function" else class(x)[1]
  abort_input(c(
    "{.arg {arg}} must be a forecasting method or a list of them.",
    x = "It holds {given}.",
    i = "Write {.code by_naive()}, with its brackets."
  ))
}

check_fit <- function(fit) {
  if (!inherits(fit, "kairon_fit")) abort_input("{.arg fit} must be a fitted method.")
}

#' @rdname method-contract
#' @export
method_choices <- function(method, model) UseMethod("method_choices")

#' @export
method_choices.kairon_method <- function(method, model) NULL

# Steps of a day or less: their weeks and years are worth a look of their own.
is_daily <- function(cadence) {
  is_regular_cadence(cadence) && cadence$unit != "step" && step_seconds(cadence) <= 86400 * 1.5
}
