# Small files as other programs export them, each with the table that it holds.

# `text`: the lines, or a function of a path that writes the file; `args`: what a user has to say;
# `expected`: stamps (as seconds, local or UTC) and values by column. `ending`: of the file's name.
sample_of <- function(name, text, stamps, values, args = list(), ending = ".csv") {
  list(name = name, text = text, stamps = as.numeric(as.POSIXct(stamps, tz = "UTC")), values = values,
       args = args,
       ending = ending)
}

write_sample <- function(sample, folder) {
  path <- file.path(folder, paste0(gsub("[^a-z0-9]+", "-", sample$name), sample$ending))
  if (is.function(sample$text)) sample$text(path) else writeLines(sample$text, path, useBytes = TRUE)
  path
}

bytes_to <- function(lines, encoding = "UTF-8", before = raw(), ends = "\n") {
  text <- paste0(paste(enc2utf8(lines), collapse = ends), ends)
  function(path) writeBin(c(before, iconv(list(charToRaw(text)), "UTF-8", encoding, toRaw = TRUE)[[1]]), path)
}

packed_to <- function(lines) {
  function(path) {
    con <- gzfile(path, "w")
    writeLines(lines, con)
    close(con)
  }
}

sample_files <- function() {
  hours <- as.POSIXct("2031-06-13 00:00:00", tz = "UTC") + 3600 * 0:59
  days <- as.Date("2031-06-13") + 0:39
  months <- seq(as.Date("2031-01-01"), by = "month", length.out = 30)
  quarters <- seq(as.Date("2025-01-01"), by = "quarter", length.out = 20)
  years <- seq(as.Date("1990-01-01"), by = "year", length.out = 25)
  flow <- round(12 + 3 * sin(0:59 / 4) + (0:59) / 50, 2)
  level <- round(100 + cos(0:59) * 20, 1)
  say <- function(v, form = "%Y-%m-%d %H:%M") format(v, form)
  v <- function(n) list(flow = flow[seq_len(n)])
  both <- function(n) list(flow = flow[seq_len(n)], level = level[seq_len(n)])
  rows <- function(..., sep = ",") do.call(paste, c(list(...), sep = sep))
  comma <- function(x) sub(".", ",", format(x, trim = TRUE), fixed = TRUE)
  plain <- c("time,flow,level", rows(say(hours), flow, level))
  thousands <- flow * 1000 + 1234567
  grouped <- function(x, mark, decimal = ".") {
    trimws(formatC(x, format = "f", digits = 2, big.mark = mark, decimal.mark = decimal))
  }
  hourly <- function(name, text, ...) sample_of(name, text, hours, both(60), ...)
  one <- function(name, stamp, at, ...) {
    sample_of(name, c("date;flow", paste(stamp, comma(flow[seq_along(at)]), sep = ";")), at, v(length(at)),
              ...)
  }
  records <- paste0("{\"time\":\"", say(hours), "\",\"flow\":", flow, ",\"level\":", level, "}")
  # One of each day, with values of the first column.
  daily <- function(name, cells, at = flow[1:40], form = "%Y-%m-%d", mark = ",", ...) {
    sample_of(name, c(paste("date", "flow", sep = mark), paste(say(days, form), cells, sep = mark)), days,
              list(flow = at), ...)
  }
  third <- 1:40 %% 3 == 0
  rule <- "+------------------+-------+-------+"
  large <- thousands[1:40]
  few <- flow[1:40]
  list(
    hourly("plain", plain),
    hourly("semicolons and decimal commas", c("time;flow;level", rows(say(hours, "%d.%m.%Y %H:%M"),
                                                                      comma(flow),
                                                                       comma(level), sep = ";"))),
    hourly("tabs", gsub(",", "\t", plain), ending = ".txt"),
    hourly("bars", gsub(",", "|", plain)),
    hourly("byte order mark", bytes_to(plain, before = as.raw(c(0xef, 0xbb, 0xbf)))),
    hourly("two bytes, little end first", bytes_to(plain, "UTF-16LE", as.raw(c(0xff, 0xfe)))),
    hourly("two bytes, big end first", bytes_to(plain, "UTF-16BE", as.raw(c(0xfe, 0xff)))),
    sample_of("code page of western windows", bytes_to(c("date;temp (\u00b0C)", paste0(say(days, "%d.%m.%Y"),
                                                                                       ";",
                                                                                       comma(flow[1:40]))),
                                                                                       "CP1252"),
              days, list("temp (\u00b0C)" = flow[1:40])),
    sample_of("old text of a mac", bytes_to(c("date;temp (\u00b0C)", paste0(say(days, "%d.%m.%Y"), ";",
                                                                            comma(flow[1:40]))), "MACINTOSH",
                                                                            ends = "\r"),
              days, list("temp (\u00b0C)" = flow[1:40])),
    hourly("carriage returns and line feeds", bytes_to(plain, ends = "\r\n")),
    hourly("carriage returns alone", bytes_to(plain, ends = "\r")),
    hourly("blank lines between", as.vector(rbind(plain, ""))),
    hourly("a title", c("Readings of the Quillmere works", plain)),
    hourly("a title with separators", c("Readings of Quillmere, June, corrected, final", "printed 2031-08-01",
                                        "", plain)),
    hourly("keys and values above", c("Station:,Ulverholt", "Operator:,Works", "Interval:,60 min", "",
                                      plain)),
    hourly("comments by hash", c("# station Ulverholt", "# made 2031-08-01", plain)),
    hourly("comments by hash between", append(plain, "# battery changed", 20)),
    hourly("footnotes", c(plain, "", "Source: works of Quillmere", "* corrected")),
    sample_of("a row of totals", c("date,flow", rows(say(days, "%Y-%m-%d"), few), paste0("Total,", sum(few))),
              days, v(40)),
    hourly("units below the names", c(plain[1], ",l/s,m", plain[-1])),
    sample_of("units in the names", sub("time,flow,level", "time,flow [l/s],level (m)", plain), hours,
              list("flow [l/s]" = flow, "level (m)" = level)),
    sample_of("two rows of names", c(",Ulverholt,Ulverholt,Dunmere", "time,flow,level,flow",
                                     rows(say(hours), flow, level, flow)), hours,
              list("Ulverholt flow" = flow, "Ulverholt level" = level, "Dunmere flow" = flow)),
    sample_of("two rows of names, the first merged", c(",Ulverholt,,Dunmere", "time,flow,level,flow",
                                     rows(say(hours), flow, level, flow)), hours,
              list("Ulverholt flow" = flow, "Ulverholt level" = level, "Dunmere flow" = flow)),
    hourly("quotes around everything", gsub("([^,]+)", "\"\\1\"", plain)),
    daily("thousands by commas", grouped(large, ","), large, mark = ";"),
    daily("thousands by points", grouped(large, ".", ","), large, "%d.%m.%Y", ";"),
    daily("thousands by blanks", grouped(large, " ", ","), large, "%d.%m.%Y", ";"),
    daily("money", paste0("\"$", grouped(large, ","), "\""), large, "%m/%d/%Y"),
    daily("percent", paste(few, "%")),
    daily("brackets for less than nothing", ifelse(third, paste0("(", few, ")"), few), ifelse(third, -few,
                                                                                              few)),
    daily("minus behind", paste0(few, ifelse(third, "-", "")), ifelse(third, -few, few)),
    daily("words for nothing", replace(few, c(3, 9, 12), c("NULL", "NULL", "#N/A")),
          replace(few, c(3, 9, 12), NA)),
    daily("a marker", replace(few, 12, ".."), replace(few, 12, NA), args = list(missing = "..")),
    daily("powers of ten", sprintf("%.6E", few)),
    one("month first", say(days, "%m/%d/%Y"), days),
    one("day first", say(days, "%d/%m/%Y"), days),
    one("years of two digits", say(days, "%d.%m.%y"), days),
    one("month and short year", say(months, "%b-%y"), months),
    one("months of a statistics office", sub("-", "M", say(months, "%Y-%m")), months),
    one("months as numbers", say(months, "%Y%m"), months),
    one("month before year", say(months, "%m/%Y"), months),
    one("quarters", paste0(say(quarters, "%Y"), "Q", 1:4), quarters),
    one("quarters with a dash", paste0(say(quarters, "%Y"), "-Q", 1:4), quarters),
    one("quarters first", paste0("Q", 1:4, " ", say(quarters, "%Y")), quarters),
    one("years", say(years, "%Y"), years),
    one("weeks", say(as.Date("2030-12-30") + 7 * 0:39, "%G-W%V"), as.Date("2030-12-30") + 7 * 0:39),
    one("weekday in words", say(days, "%a, %d %b %Y"), days),
    one("month in words first", say(days, "%B %d, %Y"), days),
    one("packed days", say(days, "%Y%m%d"), days),
    one("days with slashes", say(days, "%Y/%m/%d"), days),
    one("packed instants", say(hours, "%Y%m%dT%H%M%SZ"), hours),
    one("zone behind", say(hours, "%Y-%m-%d %H:%M:%S UTC"), hours),
    one("offsets", say(hours + 7200, "%Y-%m-%dT%H:%M:%S+02:00"), hours),
    one("fractions", say(hours, "%Y-%m-%d %H:%M:%S.000"), hours),
    one("mail dates", say(hours, "%a, %d %b %Y %H:%M:%S GMT"), hours),
    one("halves of the day", say(hours, "%m/%d/%Y %I:%M:%S %p"), hours),
    one("midnight at 24", ifelse(say(hours, "%H") == "00", paste(say(hours - 3600, "%d.%m.%Y"), "24:00"),
                                 say(hours, "%d.%m.%Y %H:%M")), hours),
    one("seconds since 1970", as.character(as.numeric(hours)), hours),
    one("milliseconds since 1970", paste0(as.numeric(hours), "000"), hours),
    one("days of a spreadsheet", as.character(as.numeric(days) + 25569), days),
    hourly("date and clock", c("Date,Time,flow,level", rows(say(hours, "%Y-%m-%d"), say(hours, "%H:%M:%S"),
                                                            flow, level))),
    hourly("date and hour", c("date,hour,flow,level", rows(say(hours, "%Y-%m-%d"), as.integer(say(hours,
                                                                                                  "%H")),
                                                                                                  flow,
                                                                                                  level))),
    hourly("date and hours ending", c("date,hour,flow,level", rows(say(hours, "%Y-%m-%d"),
                                                                   as.integer(say(hours, "%H")) + 1, flow,
                                                                   level))),
    sample_of("year, month and day apart", c("year,month,day,flow", rows(
      say(days, "%Y"), as.integer(say(days, "%m")), as.integer(say(days, "%d")), few
    )), days, v(40)),
    sample_of("year and month apart", c("year,month,flow", rows(
      say(months, "%Y"), as.integer(say(months, "%m")), flow[1:30]
    )), months, v(30)),
    sample_of("months across", c(paste(c("year", month.abb), collapse = ","), vapply(0:4, function(i) {
      paste(c(2031 + i, level[i * 12 + 1:12]), collapse = ",")
    }, "")), seq(as.Date("2031-01-01"), by = "month", length.out = 60), list(value = level)),
    sample_of("days across", c(paste(c("site", say(days[1:20], "%d.%m.%Y")), collapse = ";"),
                               paste(c("north", comma(flow[1:20])), collapse = ";")), days[1:20], v(20),
              list(layout = "across", series = "site", time = "day", measure = "flow")),
    hourly("row numbers without a name", c(paste0("\"\",", plain[1]), paste0("\"", 1:60, "\",", plain[-1]))),
    hourly("row names, one name short", c("\"time\" \"flow\" \"level\"", paste0("\"", 1:60, "\" \"",
                                                                                say(hours), "\" ", flow, " ",
                                                                                level)), ending = ".txt"),
    hourly("row names, one name short, by commas", c(plain[1], paste0(1:60, ",", plain[-1]))),
    hourly("a separator at every end", paste0(plain, ",")),
    hourly("a separator at the end of rows", c(plain[1], paste0(plain[-1], ","))),
    hourly("empty columns of a spreadsheet", c(paste0(plain, ",,"), ",,,,", ",,,,")),
    hourly("no name for the stamps", sub("^time", "", plain)),
    hourly("the separator told in the first line", c("sep=;", gsub(",", ";", plain))),
    hourly("latest first", c(plain[1], rev(plain[-1]))),
    hourly("the header again between", append(plain, plain[1], 25)),
    hourly("a table of a console", c(" time             | flow  | level", "------------------+-------+------",
                                     rows(paste0(" ", say(hours)), paste0(" ", flow, " "), paste0(" ", level),
                                          sep = "|"), "(60 rows)", ""), ending = ".txt"),
    hourly("a boxed table of a console", c(
      rule, "| time             | flow  | level |", rule,
      paste0("| ", rows(say(hours), flow, level, sep = " | "), " |"), rule, "60 rows in set (0.01 sec)"
    ), ending = ".txt"),
    hourly("a table for a page of notes", c("| time | flow | level |", "|---|---:|---:|", paste0(
      "| ", rows(say(hours), flow, level, sep = " | "), " |"
    )), ending = ".txt"),
    hourly("words of quality beside", c("time,flow,status,level", rows(say(hours), flow, ifelse(1:60 %% 7,
                                                                                                "ok",
                                                                                                "suspect"),
                                                                                                level))),
    hourly("notes with line breaks", c("time,flow,level,note", paste0(rows(say(hours), flow, level),
                                                                      ifelse(1:60 %% 9 == 0,
                                                                             ",\"first\nsecond, third\"",
                                                                             ",")))),
    hourly("packed", packed_to(plain), ending = ".csv.gz"),
    hourly("records", paste0("[", paste(records, collapse = ","), "]"), ending = ".json"),
    hourly("records by line", records, ending = ".jsonl"),
    hourly("fixed width", c("time             flow   level", sprintf("%-16s %6.2f %6.1f", say(hours), flow,
                                                                     level)), ending = ".txt",
                                                                     args = list(format = "fixed_width",
                                                                                 widths = c(time = 16,
                                                                                            flow = 7,
                                                                                            level = 7))),
    hourly("blanks between", c("time flow level", sprintf("%s %.2f %.1f", say(hours, "%Y-%m-%dT%H:%M"), flow,
                                                          level)), ending = ".txt"),
    hourly("aligned by blanks", c("date        clock     flow   level", sprintf("%s  %s  %6.2f  %6.1f",
                                                                                say(hours, "%Y-%m-%d"),
                                                                                say(hours, "%H:%M"), flow,
                                                                                level)), ending = ".txt")
  )
}
