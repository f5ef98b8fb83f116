# Other shapes of tables: series across the columns, periods across the columns; and names of
# columns.

# One column a series: they become one measure and a series column.
lengthen_wide <- function(data, time, series, measure) {
  label <- if (length(series)) series[1] else "series"
  kept <- intersect(c(time, series[-1]), names(data))
  columns <- setdiff(names(data), kept)
  bad <- columns[!vapply(data[columns], is.numeric, TRUE)]
  if (length(bad)) {
    abort_input(c(
      "In a wide table every column but the time holds the numbers of a series.",
      x = "{.field {bad}} {?does/do} not."
    ))
  }
  out <- data[rep(seq_len(nrow(data)), length(columns)), kept, drop = FALSE]
  out[[label]] <- rep(columns, each = nrow(data))
  out[[measure]] <- unlist(data[columns], use.names = FALSE)
  list(data = out, time = time, series = c(label, series[-1]),
       row = rep(seq_len(nrow(data)), length(columns)))
}

# Periods across the columns, items down the rows.
lengthen_across <- function(data, time, series, measure) {
  columns <- setdiff(names(data), series)
  ok <- cpp_read_stamps(columns, 1L)$trouble %in% c(0L, 6L)
  stamps <- columns[ok]
  if (length(stamps) == 0) {
    shown <- word_list(columns)
    abort_input(c(
      "No column is headed by a stamp.", x = "The columns are {shown}."
    ))
  }
  items <- if (length(series)) series else columns[!ok]
  bad <- stamps[!vapply(data[stamps], is.numeric, TRUE)]
  if (length(bad)) {
    abort_input(c("Column {.field {bad[1]}} should hold numbers, but holds text."))
  }
  label <- if (length(time)) time else "time"
  lost <- setdiff(columns, c(stamps, items))
  lost <- lost[!vapply(data[lost], function(v) all(is.na(v)), TRUE)]
  if (length(lost)) {
    warn_user(c("!" = "{length(lost)} column{?s} {?is/are} left out, headed by no stamp: \\
                       {.field {lost}}."))
  }
  n <- nrow(data)
  out <- data[rep(seq_len(n), length(stamps)), items, drop = FALSE]
  out[[label]] <- rep(stamps, each = n)
  out[[measure]] <- unlist(data[stamps], use.names = FALSE)
  list(data = out, time = label, series = items, row = rep(seq_len(n), length(stamps)))
}

# Flow (l/s) becomes flow_l_s.
clean_names <- function(names) {
  plain <- iconv(names, "UTF-8", "ASCII//TRANSLIT")
  plain[is.na(plain)] <- names[is.na(plain)]
  plain <- tolower(gsub("[^A-Za-z0-9]+", "_", plain))
  plain <- gsub("^_+|_+$", "", plain)
  plain <- ifelse(grepl("^[a-z]", plain), plain, paste0("x", plain))
  make.unique(plain, sep = "_")
}

# Which columns of the file will get the wanted names.
names_before <- function(names, wanted, rename) {
  after <- names
  if (identical(rename, "clean")) after <- clean_names(names)
  at <- match(named_places(rename, names), names)
  if (length(names(rename))) after[at[!is.na(at)]] <- names(rename)[!is.na(at)]
  names[after %in% wanted]
}

# Signs that nobody sees are no part of a name, and a name that stands twice gets a number.
plain_names <- function(data, file) {
  names <- trimws(gsub("[\u200b\u200c\u200d\u2060\ufeff\u00ad]", "", names(data)))
  twice <- unique(names[duplicated(names)])
  made <- make.unique(names, sep = "_")
  if (length(twice)) {
    renamed <- made[made != names]
    tell(c(i = "{.field {twice}} stand{?s/} twice in {.file {file}}; later ones are called \\
                {.field {renamed}}."))
  }
  names(data) <- made
  data
}

# Columns by their place, as names; text of digits is a place where no column is called so.
named_places <- function(rename, names) {
  if (is.null(rename) || identical(rename, "clean")) {
    return(rename)
  }
  place <- suppressWarnings(as.numeric(rename))
  by_place <- !is.na(place) & !as.character(rename) %in% names & place %in% seq_along(names)
  out <- rlang::set_names(as.character(rename), names(rename))
  out[by_place] <- names[place[by_place]]
  out
}

check_rename <- function(rename) {
  if (is.null(rename) || identical(rename, "clean")) {
    return(invisible(rename))
  }
  if (!(is.character(rename) || is.numeric(rename)) || is.null(names(rename))) {
    abort_input(c(
      "{.arg rename} must be {.val clean}, or names with their columns by name or place.",
      i = "Such as {.code rename = c(flow = \"Flow (l/s)\")} or {.code rename = c(flow = 2)}."
    ))
  }
}

rename_columns <- function(data, rename) {
  if (is.null(rename)) {
    return(data)
  }
  if (identical(rename, "clean")) {
    names(data) <- clean_names(names(data))
    return(data)
  }
  rename <- named_places(rename, names(data))
  check_columns(rename, names(data))
  names(data)[match(rename, names(data))] <- names(rename)
  data
}
