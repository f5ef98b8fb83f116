# How measures go back to the scale on which they were measured, in a form that a file's header can hold.

# The steps of each measure, without what is found anew when they are read.
undo_fields <- function(x) {
  lapply(timeline_meta(x)$undo, function(steps) lapply(unname(steps), undo_field))
}

undo_field <- function(step) {
  # Only changes and departures go back by the values that were there.
  step$before <- step$before[if (step$kind %in% c("change", "rebase")) names(step$before) else c("unit",
    "kind")]
  if (step$kind == "change") {
    runs <- rle(step$labels)
    step$labels <- list(name = runs$values, rows = runs$lengths)
  }
  if (is.data.frame(step$normals)) step$normals <- as.list(step$normals)
  # One series or season would lose its brackets.
  bracketed <- function(v) if (is.matrix(v)) v else I(v)
  lapply(Filter(Negate(is.null), step), function(v) {
    if (is.list(v)) lapply(v, bracketed) else if (length(v) == 1) v else bracketed(v)
  })
}

# Steps of a header onto a timeline; what is no such list is left, with a word.
restore_undo <- function(x, header) {
  meta <- timeline_meta(x)
  for (m in intersect(names(header$undo), names(meta$kinds))) {
    steps <- tryCatch(lapply(header$undo[[m]], read_undo_step), error = function(e) NULL)
    if (length(steps) == 0) {
      tell(c("!" = "What the header says of the scale of {.field {m}} cannot be read; forecasts stay on it."))
      next
    }
    meta$undo[[m]] <- steps
  }
  attr(x, "timeline") <- meta
  x
}

read_undo_step <- function(step) {
  numbers <- function(v) as.double(unlist(lapply(v, function(one) one %||% NA)))
  check_choice(step$kind, c("power", "season", "rebase", "change"))
  step$before$kind <- check_choice(step$before$kind, c("level", "amount"))
  step$before$unit <- as.character(step$before$unit %||% "")
  for (part in c("values", "codes", "seconds")) {
    if (!is.null(step$before[[part]])) step$before[[part]] <- numbers(step$before[[part]])
  }
  step$before$codes <- if (!is.null(step$before$codes)) as.integer(step$before$codes)
  size <- length(step$before$values)
  needs <- switch(step$kind,
    power = {
      step$power <- numbers(step$power)
      step$shift <- numbers(step$shift)
      length(step$power) == length(step$labels) && length(step$shift) == length(step$labels)
    },
    season = {
      step$exact <- numbers(step$exact)
      step$effects <- matrix(as.double(step$effects), ncol = length(step$exact))
      step$breaks <- as.integer(step$breaks)
      step$first <- numbers(step$first)
      max(step$breaks) == nrow(step$effects) && length(step$breaks) == length(step$labels) + 1
    },
    rebase = {
      step$normals <- as.data.frame(lapply(step$normals, numbers))
      all(c("owner", "code", "normal", "sd") %in% names(step$normals)) && size == length(step$before$seconds)
    },
    change = {
      step$labels <- rep(as.character(step$labels$name), as.integer(step$labels$rows))
      step$k <- numbers(step$k)
      if (!is.null(step$base)) step$base <- numbers(step$base)
      size == length(step$k) && size == length(step$labels)
    }
  )
  if (!isTRUE(needs)) stop("no such step")
  step
}
