# Figures of the page that can be asked: their numbers are those of the data, and a browser tells them.

spread_steps <- function(v) if (!is.null(names(v))) v$from + v$by * (seq_len(v$n) - 1) else unlist(v)

# Values of a line by stamp, as the page reads them.
read_line <- function(panel, line) {
  at <- spread_steps(line$at) + 1
  y <- vapply(line$y, function(v) if (is.null(v)) NA_real_ else as.numeric(v), 1)
  stats::setNames(y, spread_steps(panel$x)[at])
}

parsed <- function(live) jsonlite::fromJSON(kairon:::live_json(live), simplifyVector = FALSE)

test_that("what a page tells of readings is what was measured, and what was not", {
  x <- demo_timeline("demand")
  live <- parsed(kairon:::live_readings(x))
  panel <- live$panels[[1]]
  expect_equal(c(panel$title, panel$unit), c("demand", "m3"))
  expect_equal(vapply(panel$series, `[[`, "", "name"), unique(as.character(x$district)))
  for (i in c(1, 8)) {
    own <- as.data.frame(x)[x$district == panel$series[[i]]$name, ]
    y <- read_line(panel, panel$series[[i]]$lines[[1]])
    y <- y[!is.na(y)]
    known <- own[!is.na(own$demand), ]
    expect_equal(unname(y), known$demand)
    expect_equal(as.numeric(names(y)), as.numeric(known$day) * 86400)
  }
  # Steps that are not there break the line: they are there as missing.
  holed <- daily(c(1, 2, NA, 4, 5))[c(1, 2, 4, 5), ]
  panel <- parsed(kairon:::live_readings(holed))$panels[[1]]
  expect_equal(unname(read_line(panel, panel$series[[1]]$lines[[1]])), c(1, 2, NA, 4, 5))
  filled <- quiet(impute(daily(c(1, 2, NA, 4, 5)), "linear"))
  lines <- parsed(kairon:::live_readings(filled))$panels[[1]]$series[[1]]$lines
  expect_equal(vapply(lines, `[[`, "", "kind"), c("measured", "invented"))
  expect_equal(unlist(lines[[2]]$y), 3)
  # Long ones are the lowest and highest of each stretch of time.
  set.seed(1)
  long <- quiet(timeline(data.frame(at = as.POSIXct("2031-01-01", tz = "UTC") + 60 * seq_len(50000),
                                    v = cumsum(rnorm(50000))), at))
  thin <- parsed(kairon:::live_readings(long))
  y <- unlist(thin$panels[[1]]$series[[1]]$lines[[1]]$y)
  expect_lte(length(y), 2 * kairon:::live_columns)
  expect_equal(range(y), range(long$v), tolerance = 1e-6)
  expect_match(thin$note, "lowest and the highest")
  hostile <- kairon:::live_json(kairon:::live_readings(quiet(timeline(
    data.frame(s = "</script><b>", day = days_from("2031-01-01", 5), v = 1:5), day, s
  ))))
  expect_no_match(hostile, "<", fixed = TRUE)
})

test_that("a forecast and a backtest on the page are those of the calls", {
  x <- demo_timeline("billed")
  f <- quiet(forecast(x, 12, "theta"))
  live <- parsed(kairon:::live_forecast(f))
  panel <- live$panels[[1]]
  lines <- panel$series[[1]]$lines
  expect_equal(vapply(lines, `[[`, "", "kind"), c("measured", "forecast"))
  expect_equal(unname(read_line(panel, lines[[2]])), f$table$value, tolerance = 1e-6)
  expect_equal(unlist(lines[[2]]$low), f$table$lower_90, tolerance = 1e-6)
  expect_equal(unlist(lines[[2]]$high), f$table$upper_90, tolerance = 1e-6)
  b <- quiet(backtest(x, 6, c("theta", "naive"), cutoffs = 3))
  panel <- parsed(kairon:::live_backtest(b, x))$panels[[1]]
  lines <- panel$series[[1]]$lines
  expect_equal(vapply(lines, `[[`, "", "label"), c("observed", "theta", "naive"))
  y <- read_line(panel, lines[[2]])
  own <- b$table[b$table$method == "theta", ]
  # Where cutoffs overlap, the nearest forecast.
  own <- own[order(own$month, own$ahead), ]
  own <- own[!duplicated(own$month), ]
  expect_equal(unname(y), own$value, tolerance = 1e-6)
})

# Runs a script in the page and gives what it logs, with everything else that lands in the console.
in_browser <- function(page, script, width = 1280) {
  browser <- Sys.which("chromium")
  skip_if(browser == "", "chromium is not installed")
  probed <- tempfile(fileext = ".html")
  writeLines(c(readLines(page, encoding = "UTF-8"), "<script>setTimeout(async () => { try {",
               "const wait = ms => new Promise(r => setTimeout(r, ms));", script,
               "} catch (e) { console.log('failed: ' + e.stack); }",
               "console.log('probe done'); }, 300);</script>"),
             probed, useBytes = TRUE)
  log <- tempfile()
  args <- c("--headless", "--no-sandbox", "--disable-gpu", "--no-first-run",
            "--disable-background-networking", "--disable-component-update", "--disable-sync",
            "--enable-logging=stderr", "--remote-debugging-port=0",
            paste0("--user-data-dir=", tempfile()), paste0("--window-size=", width, ",800"),
            paste0("file://", probed))
  command <- paste("exec", shQuote(browser), paste(shQuote(args), collapse = " "), "> /dev/null 2>",
                   shQuote(log))
  pid <- tempfile()
  started <- paste("sh -c", shQuote(command), "& echo $! >", shQuote(pid))
  system(paste("sh -c", shQuote(started)), wait = TRUE)
  on.exit(system(paste("kill", readLines(pid), "2> /dev/null")))
  said <- character()
  for (i in 1:300) {
    Sys.sleep(0.1)
    said <- grep("CONSOLE", readLines(log, warn = FALSE), value = TRUE)
    if (any(grepl("probe done", said))) break
  }
  sub("\", source.*", "", sub(".*CONSOLE[^\"]*\"", "", said))
}

test_that("in a browser figures tell values and zoom, tables are sorted, and nothing leaves the page", {
  x <- demo_timeline("demand")
  path <- tempfile(fileext = ".html")
  quiet(report(x, path, horizon = 14, methods = "seasonal_naive",
               sections = c("findings", "readings", "forecast")))
  said <- in_browser(path, "
    for (const f of document.querySelectorAll('figure[data-live]')) {
      f.scrollIntoView(); await wait(300);
      const u = f.kairon.chart(), r = u.over.getBoundingClientRect();
      const point = (x, y) =>
        u.over.dispatchEvent(new MouseEvent('mousemove', {clientX: x, clientY: y, bubbles: true}));
      // Onto a reading, near enough for days to be pixels apart.
      const i = Math.floor(u.data[0].length * 0.6), k = f.dataset.live === 'readings' ? 4 : 1;
      const all = f.kairon.range();
      u.setScale('x', {min: u.data[0][i - 20], max: u.data[0][i + 20]}); await wait(100);
      point(r.left + u.valToPos(u.data[0][i], 'x'), r.top + u.valToPos(u.data[k][i], 'y')); await wait(100);
      console.log('told ' + f.dataset.live + ' ' + u.data[0][i] + ' ' + u.data[k][i] + ' ' + f.kairon.said());
      u.setScale('x', {min: all[0], max: all[1]}); await wait(100);
      const before = f.kairon.range();
      const press = text => [...f.querySelectorAll('.bar button')].find(b => b.textContent === text).click();
      press('Zoom in'); await wait(100);
      const after = f.kairon.range();
      console.log('zoomed ' + ((after[1] - after[0]) / (before[1] - before[0])).toFixed(3));
      press('Everything'); await wait(100);
      console.log('back ' + (f.kairon.range()[1] === before[1] && f.kairon.range()[0] === before[0]));
      const stage = f.querySelector('.stage');
      const key = k => stage.dispatchEvent(new KeyboardEvent('keydown', {key: k, bubbles: true}));
      key('ArrowRight'); await wait(50); key('+'); await wait(100);
      const now = f.kairon.range();
      console.log('keys ' + (now[1] - now[0] < before[1] - before[0]) + ' ' + (f.kairon.said() !== ''));
      const drawn = f.kairon.chart().series.length;
      const toggle = f.querySelector('.toggle');
      toggle.click(); await wait(100);
      const fewer = drawn > f.kairon.chart().series.length;
      console.log('off ' + fewer + ' ' + toggle.getAttribute('aria-pressed'));
    }
    const tables = [...document.querySelectorAll('table')];
    const table = tables.find(t => t.caption.textContent.startsWith('Health'));
    const sort = [...table.querySelectorAll('button.sort')].find(b => b.textContent === 'max');
    const column = [...table.tHead.rows[0].cells].indexOf(sort.parentElement);
    sort.click();
    const cells = [...table.tBodies[0].rows].map(r => r.cells[column].textContent.replace(',', ''));
    console.log('sorted ' + cells.join(' '));
    console.log('resources ' + performance.getEntriesByType('resource').length);")
  expect_true("probe done" %in% said)
  expect_identical(grep("Uncaught|failed|Refused|rror", said, value = TRUE), character())
  told <- grep("^told", said, value = TRUE)
  expect_length(told, 2)
  days <- as.data.frame(x)
  for (line in told) {
    parts <- strsplit(line, " ")[[1]]
    hit <- days[days$day == as.Date(as.numeric(parts[3]) / 86400, origin = "1970-01-01"), ]
    hit <- hit[which.min(abs(hit$demand - as.numeric(parts[4]))), ]
    expect_equal(hit$demand, as.numeric(parts[4]))
    shown <- paste0(trimws(format(hit$day, "%e %B %Y")), ", ", hit$district, ": ",
                    format(hit$demand, big.mark = ","))
    expect_match(line, shown, fixed = TRUE)
  }
  expect_equal(grep("^zoomed", said, value = TRUE), rep("zoomed 0.500", 2))
  expect_equal(grep("^back", said, value = TRUE), rep("back true", 2))
  expect_equal(grep("^keys", said, value = TRUE), rep("keys true true", 2))
  expect_equal(grep("^off", said, value = TRUE), rep("off true false", 2))
  most <- as.numeric(strsplit(sub("sorted ", "", grep("^sorted", said, value = TRUE)), " ")[[1]])
  expect_equal(most, sort(most))
  expect_equal(grep("^resources", said, value = TRUE), "resources 0")
})

test_that("on a phone nothing is wider than the screen, and wide tables say so", {
  path <- tempfile(fileext = ".html")
  quiet(report(demo_timeline("demand"), path, horizon = 7, methods = "naive",
               sections = c("findings", "readings", "forecast")))
  # A browser's window has at least 500 pixels here; a narrower page is one within.
  said <- in_browser(path, "
    document.body.style.width = '400px'; window.dispatchEvent(new Event('resize')); await wait(400);
    const main = document.querySelector('main').getBoundingClientRect();
    const out = [...document.querySelectorAll('p, li, h1, h2, .stage, .bar, .names, .wide')]
      .filter(e => e.offsetParent && e.getBoundingClientRect().right > main.right + 1);
    console.log('out ' + out.length + ' ' + out.map(e => e.className || e.tagName).join());
    const more = [...document.querySelectorAll('.more')].filter(e => !e.hidden);
    console.log('more ' + more.length);", width = 500)
  expect_true("out 0 " %in% said)
  expect_true(any(grepl("^more [1-9]", said)))
})

test_that("words have enough contrast, on light ground and on dark", {
  css <- readLines(system.file("report", "report.css", package = "kairon"))
  blocks <- split(css, cumsum(grepl(":root", css)))
  light <- function(hex) {
    v <- grDevices::col2rgb(hex)[, 1] / 255
    v <- ifelse(v <= 0.03928, v / 12.92, ((v + 0.055) / 1.055)^2.4)
    sum(v * c(0.2126, 0.7152, 0.0722))
  }
  contrast <- function(a, b) (max(light(a), light(b)) + 0.05) / (min(light(a), light(b)) + 0.05)
  for (block in blocks) {
    text <- paste(block, collapse = " ")
    found <- regmatches(text, gregexpr("--[a-z0-9]+: #[0-9a-f]{6}", text))[[1]]
    inks <- stats::setNames(sub(".*: ", "", found), sub(": .*", "", found))
    for (ground in inks[c("--ground", "--card", "--code")]) {
      for (ink in inks[c("--text", "--quiet", "--link")]) expect_gte(contrast(ink, ground), 4.5)
    }
    for (ink in inks[paste0("--line", 1:8)]) expect_gte(contrast(ink, inks[["--ground"]]), 3)
  }
})
