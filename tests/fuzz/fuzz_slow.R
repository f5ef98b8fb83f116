# The same by the package and by slow lines of plain R, on inputs at random.
#   Rscript tests/fuzz/fuzz_slow.R SECONDS [SEED] [KIND]    prints how many inputs of each kind there were
# Says what differs, with the seed of its input.
suppressPackageStartupMessages(library(kairon))
options(kairon.quiet = TRUE, warn = 1)
given <- commandArgs(TRUE)
seconds <- if (length(given)) as.numeric(given[1]) else 60
seed <- if (length(given) > 1) as.integer(given[2]) else as.integer(Sys.time()) %% 1e6
one <- function(...) sample(c(...), 1)
zones <- setdiff(OlsonNames(), c("posixrules", "localtime", "Factory"))
near <- function(a, b, scale = max(abs(b), 1, na.rm = TRUE)) {
  identical(is.na(a), is.na(b)) && all(abs(a - b) <= 1e-8 * scale, na.rm = TRUE)
}
series <- function(n) {
  noise <- stats::rnorm(n)
  v <- one(1, 1, 1e-6, 1e6) * switch(one(1:3), noise, cumsum(noise), round(noise)) + one(0, 0, 10, 1e5)
  v[stats::runif(n) < one(0, 0.1, 0.6)] <- NA
  v
}

kinds <- list(
  # Rolling windows of whole steps, a value wherever one is in the window.
  windows = function() {
    n <- one(5:80)
    v <- series(n)
    x <- timeline(data.frame(day = as.Date("2030-01-01") + seq_len(n) - 1, v = v), day, levels = "v")
    width <- one(seq_len(min(n, 12)))
    name <- one("mean", "sum", "sd", "min", "max", "median", "count")
    if (all(is.na(v))) return(TRUE)
    made <- as.data.frame(roll(x, trailing(width), name, at_least = 1))
    slow <- vapply(seq_len(n), function(i) {
      w <- v[max(1, i - width + 1):i]
      w <- w[!is.na(w)]
      if (length(w) == 0) NA_real_ else if (name == "count") length(w) + 0 else match.fun(name)(w)
    }, 1)
    near(made[[paste0("v_", name)]], slow)
  },
  # Periods of the calendar in any zone.
  calendar = function() {
    zone <- one(zones)
    t <- as.POSIXct(stats::runif(20, -2e9, 4e9), origin = "1970-01-01", tz = zone)
    day <- as.POSIXlt(t, tz = zone)
    date <- as.Date(format(t, "%Y-%m-%d"))
    month <- as.Date(format(date, "%Y-%m-01"))
    near(as.numeric(as.Date(floor_to(date, "1 month"))), as.numeric(month)) &&
      near(as.numeric(floor_to(date, "1 week")), as.numeric(date - (day$wday + 6) %% 7)) &&
      identical(format(floor_to(t, "1 month"), "%Y-%m"), format(t, "%Y-%m")) &&
      identical(format(floor_to(t, "1 day"), "%Y-%m-%d"), format(t, "%Y-%m-%d")) &&
      all(floor_to(t, "1 day") <= t & t - floor_to(t, "1 day") <= 86400 + 7200 * 13)
  },
  # Months later, the last day where a month is short.
  months = function() {
    date <- as.Date("1900-01-01") + one(0:80000)
    k <- one(-50:50)
    lt <- as.POSIXlt(date)
    count <- lt$year * 12 + lt$mon + k
    first <- as.Date(sprintf("%04d-%02d-01", 1900 + count %/% 12, count %% 12 + 1))
    last <- as.POSIXlt(seq(first, by = "1 month", length.out = 2)[2] - 1)$mday
    near(as.numeric(add_steps(date, k, "1 month")), as.numeric(first + pmin(lt$mday, last) - 1))
  },
  # Gaps filled between, before and after.
  gaps = function() {
    n <- one(4:60)
    v <- series(n)
    there <- which(!is.na(v))
    if (length(there) < 2) return(TRUE)
    x <- timeline(data.frame(day = as.Date("2030-01-01") + seq_len(n) - 1, v = v), day, levels = "v")
    line <- stats::approx(there, v[there], seq_len(n))$y
    before <- vapply(seq_len(n), function(i) c(NA, v[there])[sum(there <= i) + 1], 1)
    near(impute(x, "linear")$v, line) && near(impute(x, "previous")$v, before)
  },
  # Files in many dialects.
  files = function() {
    n <- one(3:30)
    grid <- seq(as.POSIXct("2031-01-01", tz = "UTC"), by = one(900, 3600, 86400), length.out = 200)
    data <- data.frame(stamp = sort(sample(grid, n)),
                       site = one("Dunmere", "a,b", "a \"b\" c", "x;y", "50 %"), v = round(series(n), 4))
    form <- one("%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%M:%SZ", "%d/%m/%Y %H:%M:%S", "%Y%m%dT%H%M%S",
                "%d.%m.%Y %H:%M:%S")
    separator <- one(",", ";", "\t", "|")
    comma <- separator != "," && stats::runif(1) < 0.4
    shown <- formatC(data$v, digits = 12, format = "fg", flag = "#")
    shown <- ifelse(is.na(data$v), one("", "NA"), sub("\\.$", "", trimws(shown)))
    if (comma) shown <- sub(".", ",", shown, fixed = TRUE)
    table <- data.frame(stamp = format(data$stamp, form), site = data$site, v = shown)
    path <- tempfile(fileext = ".csv")
    on.exit(unlink(path))
    con <- file(path, "wb")
    utils::write.table(table, con, sep = separator, row.names = FALSE, eol = one("\n", "\r\n"), na = "",
                       qmethod = "double", quote = if (stats::runif(1) < 0.5) TRUE else 2)
    close(con)
    if (all(is.na(data$v))) return(TRUE)
    # A day above twelve says which number is the day; else it is told.
    told <- if (grepl("^%d", form)) list(day_first = TRUE) else list()
    if (comma) told$decimal <- ","
    told <- c(list(path, time = "stamp", series = "site", levels = "v", zone = "UTC"), told)
    x <- do.call(read_timeline, told)
    near(as.numeric(x$stamp), as.numeric(data$stamp)) && near(x$v, data$v) && all(x$site == data$site)
  },
  # Simple smoothing from the fitted share and first level.
  smoothing = function() {
    n <- one(12:60)
    v <- series(n)
    v[is.na(v)] <- mean(v, na.rm = TRUE)
    if (stats::sd(v) == 0 || anyNA(v)) return(TRUE)
    x <- timeline(data.frame(day = as.Date("2030-01-01") + seq_len(n) - 1, v = v), day, levels = "v")
    f <- fit(x, by_smoothing(case = "simple"))
    steps <- as.data.frame(recursion(f))
    share <- coef(f)$estimate[coef(f)$term == "alpha"]
    if (length(share) != 1) share <- coef(f)$estimate[1]
    level <- steps$level[1]
    for (i in seq_len(n)[-1]) level[i] <- level[i - 1] + share * (v[i] - level[i - 1])
    near(steps$level, level, max(abs(v)))
  }
)
if (length(given) > 2) kinds <- kinds[given[3]]
count <- differ <- stats::setNames(numeric(length(kinds)), names(kinds))
began <- proc.time()[[3]]
while (proc.time()[[3]] - began < seconds) {
  for (kind in names(kinds)) {
    seed <- seed + 1
    set.seed(seed)
    same <- tryCatch(kinds[[kind]](), error = function(e) conditionMessage(e))
    count[kind] <- count[kind] + 1
    if (isTRUE(same)) next
    differ[kind] <- differ[kind] + 1
    cat(kind, "differs, seed", seed, if (is.character(same)) substr(gsub("\n", " ", same), 1, 200), "\n")
  }
}
cat(sprintf("%-10s %6.0f inputs, %.0f differ\n", names(count), count, differ), sep = "")
quit(status = as.integer(sum(differ) > 0))
