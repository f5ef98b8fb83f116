# A cadence in words, read: "1 week from Saturday, stamped at its end". What format() prints is
# understood.

# Takes the parts of a text that place the step away from it: list(every, starts, day_start, stamp,
# stamp_day, ends, weeks), each NULL where it says nothing.
read_cadence_words <- function(text) {
  out <- list(every = text)
  if (!is.character(text) || length(text) != 1 || is.na(text)) {
    return(out)
  }
  rest <- text
  take <- function(pattern) {
    at <- regmatches(rest, regexec(pattern, rest, ignore.case = TRUE))[[1]]
    if (length(at) == 0) {
      return(NULL)
    }
    rest <<- sub(at[1], "", rest, fixed = TRUE)
    tolower(trimws(at[-1]))
  }
  out$stamp <- take(",? *\\bstamped (?:at|in) (?:its|their|the) (start|middle|end)\\b")
  out$stamp_day <- as.integer(take(",? *\\bstamped on day ([0-9]+)\\b"))
  out$weeks <- take(",? *\\bin weeks of ([0-9]-[0-9]-[0-9])\\b")
  out$ends <- take(",? *\\bending on the ((?:last |)[a-z]+day(?: nearest the end of the month|))")
  out$day_start <- take(",? *\\bfrom ([0-9]{1,2}:[0-9]{2})\\b")
  out$starts <- take("(?:, *the year)? *\\bfrom ([a-z]+)\\b")
  out$every <- trimws(rest)
  if (length(out$stamp_day) == 0) out$stamp_day <- NULL
  out
}

# What an argument says goes before the words.
cadence_settings <- function(every, starts, stamp, ends, weeks) {
  told <- read_cadence_words(every)
  list(
    every = told$every, starts = c(starts %||% told$starts, told$day_start),
    stamp = stamp %||% told$stamp %||% "start", stamp_day = told$stamp_day,
    ends = ends %||% told$ends, weeks = weeks %||% told$weeks
  )
}

# Months of whole weeks ----

week_patterns <- c("4-4-5", "4-5-4", "5-4-4")

# `ends`: "last Saturday" or "Saturday nearest the end of the month"; `weeks`: "4-4-5".
in_whole_weeks <- function(cadence, ends, weeks, first_month) {
  if (cadence$unit != "month") {
    abort_input(c(
      "{.arg {if (is.null(ends)) \"weeks\" else \"ends\"}} is for months, quarters and years.",
      x = "The step is {step_words(cadence)}."
    ), .envir = environment())
  }
  if (is.null(ends)) {
    abort_input(c(
      "{.arg weeks} needs the day on which a year ends, too.",
      i = "Say it with {.arg ends}, such as {.val last Saturday}."
    ))
  }
  check_string(ends, "ends")
  words <- tolower(strsplit(trimws(ends), "[^A-Za-z]+")[[1]])
  weekday <- which(weekday_names %in% words)
  nearest <- "nearest" %in% words
  if (length(weekday) != 1 || nearest == ("last" %in% words)) {
    abort_input(c(
      "{.arg ends} must be such as {.val last Saturday} or \\
       {.val Saturday nearest the end of the month}.",
      x = "It is {.val {ends}}."
    ))
  }
  pattern <- 0
  if (!is.null(weeks)) {
    if (is.numeric(weeks)) weeks <- paste(weeks, collapse = "-")
    weeks <- check_choice(weeks, week_patterns, "weeks")
    if (12 %% cadence$n != 0) {
      abort_input("{.arg weeks} needs a step that divides a year, not {step_words(cadence)}.")
    }
    pattern <- as.integer(gsub("-", "", weeks))
    cadence$anchor <- first_month %% cadence$n
  }
  cadence$weeks <- list(weekday = weekday - 1L, nearest = nearest, pattern = as.integer(pattern),
                        first_month = if (pattern > 0) as.integer(first_month) else 0L)
  cadence
}

# "in weeks of 4-4-5, the year from February, ending on the last Saturday"
weeks_words <- function(cadence) {
  weeks <- cadence$weeks
  if (is.null(weeks)) {
    return(character())
  }
  day <- capitalise(weekday_names[weeks$weekday + 1])
  pattern <- if (weeks$pattern > 0) {
    c(paste("in weeks of", paste(strsplit(as.character(weeks$pattern), "")[[1]], collapse = "-")),
      paste("the year from", month.name[weeks$first_month + 1]))
  }
  c(pattern, if (weeks$nearest) {
    paste0("ending on the ", day, " nearest the end of the month")
  } else {
    paste("ending on the last", day)
  })
}

# The weeks of a cadence that a file tells: NULL where there are none, NA where they cannot be.
weeks_of_fields <- function(fields) {
  if (is.null(fields)) {
    return(NULL)
  }
  w <- as.list(unlist(fields))
  whole <- function(v, low, high) {
    length(v) == 1 && !is.na(v) && v == round(v) && v >= low && v <= high
  }
  good <- whole(w$weekday, 0, 6) && whole(w$nearest, 0, 1) && whole(w$first_month, 0, 11) &&
    isTRUE(w$pattern %in% c(0, as.integer(gsub("-", "", week_patterns))))
  if (!good) {
    return(NA)
  }
  list(weekday = as.integer(w$weekday), nearest = as.logical(w$nearest),
       pattern = as.integer(w$pattern), first_month = as.integer(w$first_month))
}
