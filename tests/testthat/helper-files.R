# Files that a verb of the program was not made for, and a call of every verb on them.

# Writes them into a folder; returns their paths by what they are.
hostile_files <- function(folder) {
  dir.create(folder, showWarnings = FALSE, recursive = TRUE)
  set.seed(1)
  day <- format(as.Date("2030-01-01") + 0:59)
  v <- round(stats::rnorm(60), 3)
  rows <- function(stamps, ..., head = "day,v") c(head, paste(stamps, ..., sep = ","))
  months <- format(seq(as.Date("2030-01-01"), by = "1 month", length.out = 23))
  minutes <- format(as.POSIXct("2031-03-30 00:00", tz = "UTC") + 600 * 0:29, "%Y-%m-%dT%H:%M:%S+00:00")
  lines <- list(
    `a head alone` = "day,v", `one row` = rows(day[1], 5), `two rows` = rows(day[1:2], 5:6),
    `all missing` = rows(day, ""), `all missing but one` = rows(day, c(rep("", 59), 4)),
    constant = rows(day, 3), zeros = rows(day, 0), infinite = rows(day, c(v[1:30], "Inf", v[32:60])),
    huge = rows(day, paste0(v, "e308")), tiny = rows(day, paste0(v, "e-308")),
    `high level` = rows(day, format(1e15 + v, digits = 17)),
    repeats = rows(rep(day[1:30], 2), v), unsorted = rows(rev(day), v),
    `many series` = rows(rep(day[1:3], 400), rep(1:400, each = 3), 1:3, head = "day,id,v"),
    `two series` = rows(rep(day, 2), rep(c("a", "b"), each = 60), c(v, v + 1), head = "day,id,v"),
    `a dead series` = rows(rep(day, 2), rep(c("a", "b"), each = 60), c(v, rep("", 60)), head = "day,id,v"),
    `odd names` = rows(day, v, v, head = "day,\"v {x} %s\",\"<b>\u00e9 & ,\""),
    `reserved words` = rows(day, "x", v, v, head = "origin,method,NA,value"),
    `names twice` = rows(day, v, v, head = "day,v,v"), `no names` = rows(day, v, head = ","),
    `year 1` = rows(sprintf("%04d-01-01", 1:9), 1:9), `year 9999` = rows(sprintf("9999-%02d-01", 1:12), 1:12),
    `text alone` = rows(day, "x"), `no stamps` = rows(v, v, head = "a,b"), `one column` = c("day", day),
    `two seasons less one` = rows(months, v[1:23]), `clock change` = rows(minutes, v[1:30]),
    ragged = c("day,v", paste0(day, ",", v, c("", ",1", ",,"))), gap = rows(day[c(1:5, 55:60)], v[1:11]),
    negative = rows(day, -abs(v)),
    quotes = c("day,v", "2030-01-01,\"1", "2030-01-02,2\"", rows(day[3:20], 1)[-1]),
    wide = c(paste(c("day", paste0("v", 1:300)), collapse = ","),
             vapply(day[1:5], function(d) paste(c(d, 1:300), collapse = ","), ""))
  )
  paths <- vapply(names(lines), function(name) {
    path <- file.path(folder, paste0(gsub(" ", "-", name), ".csv"))
    con <- file(path, "wb")
    on.exit(close(con))
    writeLines(enc2utf8(lines[[name]]), con, useBytes = TRUE)
    path
  }, "")
  bytes <- file.path(folder, "bytes.csv")
  writeBin(as.raw(sample(0:255, 2000, replace = TRUE)), bytes)
  empty <- file.path(folder, "empty.csv")
  file.create(empty)
  c(paths, bytes = bytes, empty = empty)
}

# The verbs that read a file, each with the options of its own example that do not name the example's columns.
verbs_on_files <- function() {
  verbs <- cli_verbs()
  left <- c("series", "amounts", "zone", "missing", "repeats", "measures", "units", "attributes", "highlight",
            "events", "join", "bands", "by", "fail-above")
  calls <- lapply(names(verbs), function(name) {
    words <- scan(text = verbs[[name]]$example, what = "", quiet = TRUE, quote = "\"")[-(1:2)]
    named <- grepl("^--", words)
    taken <- sub("=.*", "", sub("^--", "", words)) %in% left & named
    # The value of an option that is left out goes with it.
    value <- c(FALSE, named[-length(named)] & !grepl("=", words[-length(words)])) & !named
    drop <- taken | value & c(FALSE, taken[-length(taken)])
    keep <- words[!drop]
    list(files = sum(!named & !value), words = keep[-seq_len(sum(!named & !value))])
  })
  calls <- rlang::set_names(calls, names(verbs))
  # Spans of these files instead of those of the example.
  own <- list(change = "--over=1", rebase = "--against=2030", `lead-lag` = c("--a=a", "--b=b"),
              `remove-seasons` = "--seasons=week", decomposition = "--seasons=week",
              `effect-of` = "--when=2030-01-20/2030-01-25",
              `leak-check` = c("--methods=theta", "--horizon=2"), forecast = "--horizon=3",
              backtest = "--horizon=3", `season-profile` = "--each=day of week",
              correlogram = "--lags=10", `for-each-part` = c("--into=made", "--horizon=3", "--method=theta"))
  for (name in names(own)) calls[[name]]$words <- own[[name]]
  alone <- c("demo", "run-study", "methods", "formats", "version", "manual", "completion")
  calls[setdiff(names(calls), alone)]
}

# Calls the program within this process on a file; what is answered in words of something else, or "".
shell_trouble <- function(verb, call, file) {
  raw <- character()
  into <- tempfile("made-")
  dir.create(into)
  before <- setwd(into)
  on.exit(setwd(before))
  on.exit(unlink(into, recursive = TRUE), add = TRUE)
  grDevices::pdf(NULL)
  on.exit(grDevices::dev.off(), add = TRUE)
  words <- c(verb, rep(file, call$files), call$words)
  # What R itself warns of comes to `say()` as what this package warns of does.
  note <- function(w) {
    if (!inherits(w, "kairon_warning")) raw <<- c(raw, paste("warning:", conditionMessage(w)))
  }
  sink(tempfile())
  on.exit(sink(), add = TRUE)
  suppressMessages(trace_warnings(note, tryCatch(
    run_verb(words),
    kairon_error = function(e) NULL,
    error = function(e) raw <<- c(raw, paste("error:", conditionMessage(e)))
  )))
  paste(unique(raw), collapse = "; ")
}

# Runs with a look at every warning that the command line says.
trace_warnings <- function(look, expr) {
  space <- asNamespace("kairon")
  own <- get("say", space)
  utils::assignInNamespace("say", function(...) {
    w <- get0("w", parent.frame(), inherits = FALSE)
    if (inherits(w, "warning")) look(w)
    invisible()
  }, space)
  on.exit(utils::assignInNamespace("say", own, space))
  expr
}
