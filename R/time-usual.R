# Stamps as other programs write them, in the forms that the core reads. Text that the core reads
# already stays as it is.

# Months by their names and short forms, in the languages whose names are no English ones.
month_words <- list(
  c("januar", "jaenner", "j\u00e4nner", "janvier", "janv", "enero", "ene", "gennaio", "gen",
    "januari", "janeiro",
    "tammikuu", "styczen", "stycze\u0144", "jan"),
  c("februar", "feber", "f\u00e9vrier", "fevrier", "f\u00e9vr", "fevr", "febrero", "febbraio",
    "februari", "fevereiro",
    "fev", "helmikuu", "luty", "feb"),
  c("m\u00e4rz", "maerz", "m\u00e4r", "mrz", "mars", "marzo", "maart", "mrt", "mar\u00e7o", "marco",
    "marts", "maaliskuu", "marzec", "mar"),
  c("april", "avril", "avr", "abril", "abr", "aprile", "huhtikuu", "kwiecie\u0144", "apr"),
  c("mai", "mayo", "maggio", "mag", "mei", "maio", "maj", "toukokuu", "may"),
  c("juni", "juin", "junio", "giugno", "giu", "junho", "kes\u00e4kuu", "czerwiec", "jun"),
  c("juli", "juillet", "juil", "julio", "luglio", "lug", "julho", "hein\u00e4kuu", "lipiec", "jul"),
  c("august", "ao\u00fbt", "aout", "agosto", "ago", "augustus", "augusti", "elokuu",
    "sierpie\u0144", "aug"),
  c("september", "septembre", "septiembre", "setiembre", "settembre", "setembro", "sept", "set",
    "syyskuu", "wrzesie\u0144", "sep"),
  c("oktober", "octobre", "octubre", "ottobre", "outubro", "okt", "ott", "out", "lokakuu",
    "pa\u017adziernik", "oct"),
  c("november", "novembre", "noviembre", "novembro", "marraskuu", "listopad", "nov"),
  c("dezember", "d\u00e9cembre", "decembre", "d\u00e9c", "diciembre", "dic", "dicembre", "dezembro",
    "dez", "december", "desember", "joulukuu", "grudzie\u0144", "dec")
)

# Years of two digits lie between these.
century_from <- 1950

# `name` of the column: bare numbers are dates under a name that speaks of them only.
usual_stamps <- function(text, name, aloud = TRUE) {
  some <- some_cells(text, 200)
  some <- some[nzchar(trimws(some))]
  # No rule takes short numbers for stamps.
  if (length(some) == 0 || all(grepl("^-?[0-9]{1,3}([.,][0-9]{1,3})?$", some))) {
    return(text)
  }
  years <- all(grepl("^[0-9]{4}[/-][0-9]{2}$", some))
  read <- cpp_read_stamps(some, 1L)$trouble %in% c(0L, 6L) |
    cpp_read_stamps(some, 2L)$trouble %in% c(0L, 6L)
  if (all(read) && !years) {
    return(text)
  }
  distinct <- unique(text[!is.na(text)])
  split <- split_year_stamps(distinct)
  if (!is.null(split)) {
    first <- some[1]
    if (aloud) {
      tell(c(i = "{.val {first}} in {.field {name}} and its like are read as years, by the first."))
    }
    return(split[match(text, distinct)])
  }
  if (all(read)) {
    return(text)
  }
  made <- distinct
  news <- character()
  for (rule in list(weekday_stamps, zone_word_stamps, run_together_stamps, month_word_stamps,
                    period_stamps,
                    short_year_stamps, decimal_year_stamps, serial_stamps,
                    counted_seconds_stamps)) {
    changed <- rule(made, name)
    if (!identical(changed$text, made)) news <- c(news, changed$news)
    made <- changed$text
  }
  if (identical(made, distinct)) {
    return(text)
  }
  if (aloud && length(news)) {
    tell(c(i = verbatim(paste0(name, ": ", paste(news, collapse = "; "), "."))))
  }
  out <- text
  held <- !is.na(text)
  out[held] <- made[match(text[held], distinct)]
  out
}

# 2001/02, 2002/03 ...: years that begin in one year and end in the next, and no months.
split_year_stamps <- function(text) {
  given <- text[nzchar(trimws(text))]
  if (length(given) < 3 || !all(grepl("^[0-9]{4}[/-][0-9]{2}$", given))) {
    return(NULL)
  }
  year <- as.integer(substr(given, 1, 4))
  if (all(as.integer(substr(given, 6, 7)) == (year + 1L) %% 100L)) substr(text, 1, 4)
}

# Wed, 14 Jun 2023: the day of the week says nothing new.
weekday_stamps <- function(text, name) {
  english <- paste(c(weekday_names, substr(weekday_names, 1, 3)), collapse = "|")
  list(text = sub(paste0("^(?:[[:alpha:]]{2,10}\\.?, +|(?i:", english,
                         ")\\.? +)(?=[0-9[:alpha:]])"), "",
                  text, perl = TRUE))
}

# 2023M06, 202306, 06/2023 and halves of years such as 2023H1, where every one is such a period.
period_stamps <- function(text, name) {
  given <- text[nzchar(text)]
  named <- grepl("date|time|month|period|stamp|year", name, ignore.case = TRUE)
  forms <- c("^([0-9]{4}) ?[Mm] ?(0?[1-9]|1[0-2])$", if (named) "^([0-9]{4})(0[1-9]|1[0-2])$",
             "^(0?[1-9]|1[0-2])[-/. ]([0-9]{4})$", "^([0-9]{4})[- ]?[HhSsBb]([12])$")
  for (form in forms) {
    if (!all(grepl(form, given))) next
    first <- as.integer(sub(form, "\\1", given))
    second <- as.integer(sub(form, "\\2", given))
    turned <- startsWith(form, "^(0?")
    year <- if (turned) second else first
    month <- if (turned) first else second
    if (any(year < 1500 | year > 2200)) next
    if (endsWith(form, "([12])$")) month <- 6L * month - 5L
    out <- text
    out[nzchar(text)] <- sprintf("%04d-%02d", year, month)
    return(list(text = out))
  }
  list(text = text)
}

# 1781222400 or 1781222400000: seconds or thousandths since 1970, under a name that speaks of time.
counted_seconds_stamps <- function(text, name) {
  given <- text[nzchar(text)]
  named <- grepl("date|time|stamp|epoch|unix|^ts$", name, ignore.case = TRUE)
  if (!named || !all(grepl("^[0-9]{9,10}(\\.[0-9]+)?$|^[0-9]{12,13}$", given))) {
    return(list(text = text))
  }
  seconds <- as.numeric(given)
  thousandths <- all(nchar(sub("\\..*", "", given)) >= 12)
  if (thousandths) seconds <- seconds / 1000
  # From 1980 to 2100: other numbers may be anything.
  if (any(seconds < 315532800 | seconds > 4102444800)) {
    return(list(text = text))
  }
  out <- text
  out[nzchar(text)] <- utc_text(seconds)
  list(text = out, news = paste("numbers are read as",
                                if (thousandths) "thousandths of a second" else "seconds",
                                "since 1970"))
}

# 2023-06-14 00:00:00 UTC
zone_word_stamps <- function(text, name) {
  list(text = sub("^(.*[0-9]{1,2}:[0-9]{2}.*?) ?(UTC|GMT)$", "\\1Z", text))
}

# 2031-10-26 02:30 CEST: letters that a zone's clock goes by, which tell its doubled hour apart.
# Many mean something else elsewhere, so that the zone must be told.
lettered_pattern <- "^(.*[0-9]:[0-9]{2}[0-9:.,]*) ?([A-Z]{3,5})$"

lettered_stamps <- function(text, zone, name) {
  some <- some_cells(text, 200)
  ends <- grepl(lettered_pattern, some)
  used <- unique(sub(lettered_pattern, "\\2", some[ends]))
  # A remark among stamps is none of them.
  if (mean(ends) < 0.5 || length(setdiff(used, c("UTC", "GMT"))) == 0) {
    return(text)
  }
  if (is.null(zone)) {
    abort_input(c("Stamps in {.field {name}} end in {.val {used}}, letters that do not say whose \\
                   clock that is.",
                  i = "Say it, as in {.code zone = \"Europe/London\"}."))
  }
  offsets <- lettered_offsets(zone)
  if (!any(used %in% names(offsets))) {
    abort_input(c("Stamps in {.field {name}} end in {.val {used}}, and the clock of {zone} goes \\
                   by {.val {names(offsets)}}.",
                  i = "Name the zone that the stamps are of."))
  }
  distinct <- unique(text[!is.na(text)])
  letters <- ifelse(grepl(lettered_pattern, distinct), sub(lettered_pattern, "\\2", distinct), "")
  known <- letters %in% names(offsets)
  made <- distinct
  made[known] <- paste0(sub(lettered_pattern, "\\1", distinct[known]), offsets[letters[known]])
  made[match(text, distinct)]
}

# Letters of a zone's clock since 1970 that stand for one offset.
lettered_offsets <- function(zone) {
  clock <- as.POSIXlt(.POSIXct(seq(0, 70 * 365.25 * 86400, by = 30 * 86400), "UTC"), tz = zone)
  seen <- unique(data.frame(letters = clock$zone, seconds = clock$gmtoff))
  seen <- seen[!seen$letters %in% seen$letters[duplicated(seen$letters)], ]
  minutes <- abs(seen$seconds) / 60
  rlang::set_names(sprintf("%s%02.0f:%02.0f", ifelse(seen$seconds < 0, "-", "+"), minutes %/% 60,
                           minutes %% 60), seen$letters)
}

# 202306140005 and 20230614000530, where every one is a time of day.
run_together_stamps <- function(text, name) {
  pattern <- "^([0-9]{4})([0-9]{2})([0-9]{2})([0-9]{2})([0-9]{2})([0-9]{2})?$"
  given <- text[nzchar(text)]
  parts <- regmatches(given, regexec(pattern, given))
  if (!all(lengths(parts) == 7)) {
    return(list(text = text))
  }
  numbers <- vapply(parts, function(p) as.numeric(c(p[2:6], if (nzchar(p[7])) p[7] else 0)),
                    numeric(6))
  high <- c(2200, 12, 31, 23, 59, 59)
  low <- c(1500, 1, 1, 0, 0, 0)
  if (any(numbers < low | numbers > high)) {
    return(list(text = text))
  }
  list(text = sub(":$", "", sub(pattern, "\\1-\\2-\\3 \\4:\\5:\\6", text)))
}

month_word_stamps <- function(text, name) {
  words <- unlist(month_words)
  english <- rep(month.abb, lengths(month_words))
  found <- regexpr("[[:alpha:]]{3,}\\.?", text)
  has <- found > 0
  word <- tolower(sub("\\.$", "", regmatches(text, found)))
  at <- match(word, words)
  if (length(word) == 0 || mean(!is.na(at)) < 0.5) {
    return(list(text = text))
  }
  out <- text
  swap <- out[has]
  month <- ifelse(is.na(at), regmatches(text, found), english[at])
  regmatches(swap, regexpr("[[:alpha:]]{3,}\\.?", swap)) <- month
  # "14. Mar 2023" and "1 de Mar de 2023"
  swap <- gsub("^([0-9]{1,2})\\. ?", "\\1 ", gsub(" (de|del|of) ", " ", swap))
  out[has] <- swap
  list(text = out)
}

# Jan-62, 14-JUN-23, 05/01/73
short_year_stamps <- function(text, name) {
  long <- function(yy) {
    year <- as.numeric(yy) + 100 * floor(century_from / 100)
    ifelse(year < century_from, year + 100, year)
  }
  forms <- c(
    "^([A-Za-z]{3,9}[-/ .']+)([0-9]{2})()$",
    "^([0-9]{1,2}[-/ .]?[A-Za-z]{3,9}[-/ .,']*)([0-9]{2})(|[ T].*)$",
    "^([0-9]{1,2}/[0-9]{1,2}/)([0-9]{2})(|[ T].*)$",
    "^([0-9]{1,2}\\.[0-9]{1,2}\\.)([0-9]{2})(|[ T].*)$"
  )
  out <- text
  for (form in forms) {
    hit <- grepl(form, text)
    if (mean(hit[nzchar(text)]) < 0.5) next
    year <- long(sub(form, "\\2", text[hit]))
    lead <- sub(form, "\\1", text[hit])
    if (form == forms[1]) lead <- sub("[-/ .']+$", " ", lead)
    if (form == forms[2]) lead <- gsub("[-/.,' ]+", " ", sub("([0-9])([A-Za-z])", "\\1 \\2", lead))
    out[hit] <- paste0(lead, year, sub(form, "\\3", text[hit]))
  }
  list(text = out,
       news = paste0("years of two digits are read as ", century_from, " to ", century_from + 99))
}

# 1958.2083: the start or the middle of a month, a quarter or a year.
decimal_year_stamps <- function(text, name) {
  given <- text[nzchar(text)]
  if (!all(grepl("^[0-9]{4}\\.[0-9]+$", given)) || !grepl("year|date|time|decimal", name,
                                                          ignore.case = TRUE)) {
    return(list(text = text))
  }
  year <- as.numeric(given)
  months <- 12 * (year - floor(year))
  places <- max(nchar(sub("^[0-9]+\\.", "", given)))
  # As many digits as are written, and a day for calendars that count days.
  slack <- 12 * 10^-places + 12 / 365
  early <- all(abs(months - round(months)) < slack)
  middle <- all(abs(months - floor(months) - 0.5) < slack)
  if (length(unique(year)) < 2 || any(year < 1500 | year > 2200) || !(early || middle)) {
    return(list(text = text))
  }
  month <- if (early) round(months) else floor(months)
  out <- text
  at <- 12 * floor(year) + month
  out[nzchar(text)] <- sprintf("%04d-%02d-01", as.integer(at %/% 12), as.integer(at %% 12) + 1L)
  list(text = out, news = paste("decimal years are read as",
                                if (early) "months" else "months by their middle"))
}

# 45091 or 45091.25 of a spreadsheet that counts days from 1900.
serial_stamps <- function(text, name) {
  given <- text[nzchar(text)]
  named <- grepl("date|time|day|stamp", name, ignore.case = TRUE)
  if (!named || !all(grepl("^[2-6][0-9]{4}(\\.[0-9]+)?$", given))) {
    return(list(text = text))
  }
  seconds <- round((as.numeric(given) - 25569) * 86400)
  whole <- all(seconds %% 86400 == 0)
  out <- text
  out[nzchar(text)] <- format(.POSIXct(seconds, tz = "UTC"),
                              if (whole) "%Y-%m-%d" else "%Y-%m-%d %H:%M:%S")
  list(text = out, news = "numbers are read as days that a spreadsheet counts from 1900")
}

# A date and a clock ----

clock_pattern <- "^([0-9]{1,2}):([0-9]{2})(:[0-9]{2}([.,][0-9]+)?)? ?([AaPp])?\\.?([Mm]\\.?)?$"

looks_like_clock <- function(text) {
  if (!is.character(text)) {
    return(FALSE)
  }
  some <- trimws(some_cells(text, 50))
  length(some) > 0 && mean(grepl(clock_pattern, some)) > 0.9
}

# Seconds of days, where all are days that can be read in one way.
seconds_of_days <- function(date) {
  if (inherits(date, "Date")) {
    return(86400 * as.double(date))
  }
  if (inherits(date, "POSIXct")) {
    seconds <- as.double(date)
    of_days <- identical(attr(date, "tzone")[1], "UTC") && all(seconds %% 86400 == 0, na.rm = TRUE)
    return(if (of_days) seconds)
  }
  read <- if (is.character(date)) cpp_read_stamps(date, 0L)
  if (!is.null(read) && all(read$trouble == 0L & read$kind == 1L)) read$seconds
}

# One column of both, under the date's name: stamps where every row holds both, text for the reader
# else.
join_clock <- function(date, clock) {
  if (is.character(clock) && length(date) == length(clock)) {
    days <- seconds_of_days(date)
    seconds <- if (!is.null(days)) cpp_add_clock(days, clock)
    if (!is.null(seconds)) {
      return(wall_clock(seconds))
    }
  }
  clock <- trimws(as.character(clock))
  hour <- suppressWarnings(as.integer(sub(clock_pattern, "\\1", clock)))
  half <- tolower(ifelse(grepl(clock_pattern, clock), sub(clock_pattern, "\\5", clock), ""))
  hour <- ifelse(half == "p" & hour < 12, hour + 12L, ifelse(half == "a" & hour == 12, 0L, hour))
  rest <- sub("^[0-9]{1,2}", "", sub(" ?[AaPp]\\.?[Mm]\\.?$", "", clock))
  made <- ifelse(is.na(hour), clock, paste0(sprintf("%02d", hour), rest))
  ifelse(is.na(date), NA, trimws(paste(as.character(date), ifelse(is.na(clock), "", made))))
}

# One text for one instant: with a fraction only where there is one.
utc_text <- function(seconds) cpp_write_stamps(as.double(seconds), 0, "T", 1L, TRUE)

# Stamps of a wall clock without a zone, for the reader of stamps to settle.
wall_clock <- function(seconds) {
  structure(seconds, class = c("POSIXct", "POSIXt"), tzone = "UTC",
            kinds = 2L^(match("local", stamp_kinds) - 1L))
}

# Some of the values that a column of text holds: of its first cells, or of all where these are
# empty.
some_cells <- function(text, most) {
  few <- utils::head(text, 5000)
  few <- few[!is.na(few) & nzchar(few)]
  if (length(few) == 0) few <- text[!is.na(text) & nzchar(text)]
  utils::head(unique(few), most)
}

# Years of four digits, as ISO 8601 has them; the first thousand years come with fewer.
long_years <- function(text) {
  short <- which(grepl("^[0-9]{1,3}-", text))
  text[short] <- paste0(strrep("0", 5 - regexpr("-", text[short], fixed = TRUE)), text[short])
  text
}

stamp_kinds <- c(
  "none", "date", "local", "absolute", "month", "quarter", "week", "year"
)
