test_that("the holiday calendar of the demo is read day by day", {
  e <- events(demo_file("holidays.ics"))
  planted <- truth()$holidays
  planted <- planted[order(planted$date), ]
  expect_equal(format(e$start), planted$date)
  expect_equal(e$name, planted$name)
  expect_output(print(e), "24 events from 2029-01-01 to 2032-12-26")
})

test_that("rules name the days that a calendar shows", {
  on <- function(rule, years = 2031) format(events(c(x = rule), years = years)$start)
  expect_equal(on("last Monday of August"), "2031-08-25")
  expect_equal(on("first Monday of May"), "2031-05-05")
  expect_equal(on("25 December", 2031:2032), c("2031-12-25", "2032-12-25"))
  expect_equal(on("Monday on or after 25 May"), "2031-05-26")
  expect_equal(on("Monday before 25 May"), "2031-05-19")
  expect_equal(on("December 24 - 3"), "2031-12-21")
  # A day that only some years have.
  expect_equal(on("29 February", 2030:2033), "2032-02-29")
  expect_equal(on("fifth Friday of May", 2030:2031), c("2030-05-31", "2031-05-30"))
})

test_that("Easter falls on the days of the published tables", {
  # Meeus, Astronomical Algorithms, 2nd ed., chapter 8.
  years <- c(1818, 1886, 1943, 1954, 1991, 1992, 1993, 2000, 2285)
  days <- c("1818-03-22", "1886-04-25", "1943-04-25", "1954-04-18", "1991-03-31", "1992-04-19",
            "1993-04-11", "2000-04-23", "2285-03-22")
  expect_equal(format(kairon:::easter_sunday(years)), days)
})

calendar <- function(...) {
  path <- file_of(c("BEGIN:VCALENDAR", "VERSION:2.0", "BEGIN:VEVENT", ..., "END:VEVENT", "END:VCALENDAR"),
                  ".ics")
  path
}

days_of <- function(..., years = NULL) format(events(calendar(...), years = years)$start)

test_that("repeating events give the days of the examples in RFC 5545, section 3.8.5.3", {
  start <- "DTSTART;VALUE=DATE:19970902"
  expect_equal(days_of(start, "RRULE:FREQ=DAILY;INTERVAL=10;COUNT=5"),
               c("1997-09-02", "1997-09-12", "1997-09-22", "1997-10-02", "1997-10-12"))
  expect_equal(days_of(start, "RRULE:FREQ=WEEKLY;INTERVAL=2;COUNT=8;WKST=SU;BYDAY=TU,TH"),
               c("1997-09-02", "1997-09-04", "1997-09-16", "1997-09-18", "1997-09-30", "1997-10-02",
                 "1997-10-14", "1997-10-16"))
  expect_equal(days_of("DTSTART;VALUE=DATE:19970905", "RRULE:FREQ=MONTHLY;COUNT=4;BYDAY=1FR"),
               c("1997-09-05", "1997-10-03", "1997-11-07", "1997-12-05"))
  expect_equal(days_of("DTSTART;VALUE=DATE:19970928", "RRULE:FREQ=MONTHLY;BYMONTHDAY=-3;COUNT=4"),
               c("1997-09-28", "1997-10-29", "1997-11-28", "1997-12-29"))
  expect_equal(days_of("DTSTART;VALUE=DATE:19970519", "RRULE:FREQ=YEARLY;BYDAY=20MO;COUNT=3"),
               c("1997-05-19", "1998-05-18", "1999-05-17"))
  expect_equal(days_of("DTSTART;VALUE=DATE:19970512", "RRULE:FREQ=YEARLY;BYWEEKNO=20;BYDAY=MO;COUNT=3"),
               c("1997-05-12", "1998-05-11", "1999-05-17"))
  expect_equal(days_of("DTSTART;VALUE=DATE:19970101", "RRULE:FREQ=YEARLY;INTERVAL=3;COUNT=4;BYYEARDAY=1,100"),
               c("1997-01-01", "1997-04-10", "2000-01-01", "2000-04-09"))
  expect_equal(days_of("DTSTART;VALUE=DATE:19970929",
                       "RRULE:FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-2;COUNT=3"),
               c("1997-09-29", "1997-10-30", "1997-11-27"))
  expect_equal(days_of("DTSTART;VALUE=DATE:19961105",
                       "RRULE:FREQ=YEARLY;INTERVAL=4;BYMONTH=11;BYDAY=TU;BYMONTHDAY=2,3,4,5,6,7,8;COUNT=3"),
               c("1996-11-05", "2000-11-07", "2004-11-02"))
})

test_that("the two week starts of RFC 5545 differ as it says", {
  rule <- "RRULE:FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST="
  start <- "DTSTART;VALUE=DATE:19970805"
  expect_equal(days_of(start, paste0(rule, "MO")), c("1997-08-05", "1997-08-10", "1997-08-19", "1997-08-24"))
  expect_equal(days_of(start, paste0(rule, "SU")), c("1997-08-05", "1997-08-17", "1997-08-19", "1997-08-31"))
})

test_that("exceptions, additions, ends, zones, folding and escapes are undone", {
  path <- calendar("DTSTART;TZID=Europe/London:20320326T090000", "DTEND;TZID=Europe/London:20320326T103000",
                   "RRULE:FREQ=DAILY;UNTIL=20320330T080000Z", "EXDATE;TZID=Europe/London:20320327T090000",
                   "RDATE;TZID=Europe/London:20320405T090000", "SUMMARY:Pumps\\, a long na", " me")
  e <- events(path)
  expect_equal(format(e$start), c("2032-03-26", "2032-03-28", "2032-03-29", "2032-03-30", "2032-04-05"))
  # Nine o'clock stays nine o'clock when the clock changes.
  expect_equal(format(e$from, "%H:%M", tz = "UTC"), c("09:00", "08:00", "08:00", "08:00", "08:00"))
  expect_equal(unique(as.numeric(e$to) - as.numeric(e$from)), 5400)
  expect_equal(e$name[1], "Pumps, a long name")
  several <- events(calendar("DTSTART;VALUE=DATE:20310110", "DTEND;VALUE=DATE:20310113"))
  expect_equal(format(several$end), "2031-01-12")
  expect_equal(nrow(events(calendar("DTSTART;VALUE=DATE:20310110", "STATUS:CANCELLED"))), 0)
  expect_equal(days_of("DTSTART;VALUE=DATE:20310110", "RRULE:FREQ=YEARLY", years = 2040:2041),
               c("2040-01-10", "2041-01-10"))
})

test_that("a broken calendar is refused with the line", {
  broken <- function(..., line, says) {
    text <- error_text(events(calendar(...)))
    expect_match(text, paste0("Line ", line, ": ", says))
  }
  broken("DTSTART:20310231", line = 4, says = "no such day")
  broken("DTSTART:soon", line = 4, says = "DTSTART is no date")
  broken("SUMMARY:x", line = 3, says = "an event needs DTSTART")
  broken("DTSTART:20310101", "a line without", line = 5, says = "a property needs a colon")
  broken("DTSTART:20310101", "RRULE:FREQ=HOURLY", line = 5, says = "events cannot repeat by HOURLY")
  broken("DTSTART:20310101", "RRULE:FREQ=DAILY;BYHOUR=3", line = 5, says = "BYHOUR is not supported")
  broken("DTSTART;TZID=Mid/Nowhere:20310101T090000", line = 4, says = "there is no time zone")
  broken("DTSTART:20310105", "DTEND:20310101", line = 5, says = "an event must not end before")
  short <- file_of(c("BEGIN:VCALENDAR", "BEGIN:VEVENT", "DTSTART:20310101"), ".ics")
  expect_match(error_text(events(short)), "Line 3: the file ends before END:VEVENT")
  expect_match(error_text(events(file_of("hello", ".ics"))), "Line 1: it must begin with")
  expect_error(events(short), class = "kairon_error_file")
})

test_that("tables of events are read, and bad ones refused", {
  e <- events(data.frame(start = c("2031-05-01", "2031-03-01"), end = c("2031-05-04", "2031-03-01"),
                         name = c("b", "a")))
  expect_equal(e$name, c("a", "b"))
  expect_equal(length(kairon:::event_days(e)), 5)
  path <- file_of(c("date,name", "2031-08-25,Harvest"))
  expect_equal(events(path)$name, "Harvest")
  expect_match(error_text(events(data.frame(x = 1))), "needs a column date")
  expect_match(error_text(events(data.frame(date = "soon"))), "Row 1")
  expect_match(error_text(events(c(a = "lst Monday of May"), years = 2031)), "Did you mean \"last\"")
  expect_match(error_text(events(c(a = "Easter"))), "Rules need")
  expect_error(events("no-such.ics"), class = "kairon_error_file")
})

test_that("closures are no gaps and no steps, unlisted ones are told", {
  day <- days_from("2031-01-01", 120)
  day <- day[kairon:::since_monday(day) < 5]
  shut <- as.Date(c("2031-02-03", "2031-03-10"))
  data <- data.frame(day = setdiff(as.list(day), as.list(shut)) |> unlist() |> as.Date(origin = "1970-01-01"))
  data$v <- seq_len(nrow(data)) + 0
  x <- quiet(timeline(data, day))
  expect_match(format(x)[1], "every business day \\(2 unlisted closures\\)")
  expect_equal(nrow(gaps(x)), 2)
  y <- quiet(timeline(data, day, events = events(c(a = "3 February", b = "10 March"), years = 2031)))
  expect_match(format(y)[1], "every business day less 2 closures")
  expect_equal(nrow(gaps(y)), 0)
  expect_message(forecast(y, 10, by_naive()), "10 business days reach to 2031-05-14, 14 days ahead")
  closed <- cadence("business day", events = events(c(a = "1 May"), years = 2031))
  expect_equal(add_steps(as.Date("2031-04-30"), 1, closed), as.Date("2031-05-02"))
  expect_match(error_text(cadence("1 day", events = shut)), "business days only|must be a data frame")
})
