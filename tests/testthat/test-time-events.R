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

# One example of RFC 5545 (section 3.8.5.3): its first day and rule, and its days as it lists them ("9.2" is
# 2 September, a year alone begins one), or how many there are.
rfc_examples <- list(
  c("19970902", "FREQ=DAILY;COUNT=10", "1997 9.2 9.3 9.4 9.5 9.6 9.7 9.8 9.9 9.10 9.11"),
  c("19970902", "FREQ=DAILY;UNTIL=19971224T000000Z", "113"),
  c("19970902", "FREQ=DAILY;INTERVAL=2", "1997 9.2 9.4 9.6 9.8"),
  c("19970902", "FREQ=DAILY;INTERVAL=10;COUNT=5", "1997 9.2 9.12 9.22 10.2 10.12"),
  c("19980101", "FREQ=YEARLY;UNTIL=20000131T140000Z;BYMONTH=1;BYDAY=SU,MO,TU,WE,TH,FR,SA", "93"),
  c("19980101", "FREQ=DAILY;UNTIL=20000131T140000Z;BYMONTH=1", "93"),
  c("19970902", "FREQ=WEEKLY;COUNT=10", "1997 9.2 9.9 9.16 9.23 9.30 10.7 10.14 10.21 10.28 11.4"),
  c("19970902", "FREQ=WEEKLY;UNTIL=19971224T000000Z", "17"),
  c("19970902", "FREQ=WEEKLY;INTERVAL=2;WKST=SU", "1997 9.2 9.16 9.30 10.14 10.28 11.11"),
  c("19970902", "FREQ=WEEKLY;UNTIL=19971007T000000Z;WKST=SU;BYDAY=TU,TH",
    "1997 9.2 9.4 9.9 9.11 9.16 9.18 9.23 9.25 9.30 10.2"),
  c("19970901", "FREQ=WEEKLY;INTERVAL=2;UNTIL=19971224T000000Z;WKST=SU;BYDAY=MO,WE,FR", "25"),
  c("19970902", "FREQ=WEEKLY;INTERVAL=2;COUNT=8;WKST=SU;BYDAY=TU,TH",
    "1997 9.2 9.4 9.16 9.18 9.30 10.2 10.14 10.16"),
  c("19970905", "FREQ=MONTHLY;COUNT=10;BYDAY=1FR", "1997 9.5 10.3 11.7 12.5 1998 1.2 2.6 3.6 4.3 5.1 6.5"),
  c("19970905", "FREQ=MONTHLY;UNTIL=19971224T000000Z;BYDAY=1FR", "1997 9.5 10.3 11.7 12.5"),
  c("19970907", "FREQ=MONTHLY;INTERVAL=2;COUNT=10;BYDAY=1SU,-1SU",
    "1997 9.7 9.28 11.2 11.30 1998 1.4 1.25 3.1 3.29 5.3 5.31"),
  c("19970922", "FREQ=MONTHLY;COUNT=6;BYDAY=-2MO", "1997 9.22 10.20 11.17 12.22 1998 1.19 2.16"),
  c("19970928", "FREQ=MONTHLY;BYMONTHDAY=-3", "1997 9.28 10.29 11.28 12.29 1998 1.29 2.26"),
  c("19970902", "FREQ=MONTHLY;COUNT=10;BYMONTHDAY=2,15",
    "1997 9.2 9.15 10.2 10.15 11.2 11.15 12.2 12.15 1998 1.2 1.15"),
  c("19970930", "FREQ=MONTHLY;COUNT=10;BYMONTHDAY=1,-1",
    "1997 9.30 10.1 10.31 11.1 11.30 12.1 12.31 1998 1.1 1.31 2.1"),
  c("19970910", "FREQ=MONTHLY;INTERVAL=18;COUNT=10;BYMONTHDAY=10,11,12,13,14,15",
    "1997 9.10 9.11 9.12 9.13 9.14 9.15 1999 3.10 3.11 3.12 3.13"),
  c("19970902", "FREQ=MONTHLY;INTERVAL=2;BYDAY=TU",
    "1997 9.2 9.9 9.16 9.23 9.30 11.4 11.11 11.18 11.25 1998 1.6 1.13 1.20 1.27"),
  c("19970610", "FREQ=YEARLY;COUNT=10;BYMONTH=6,7",
    "1997 6.10 7.10 1998 6.10 7.10 1999 6.10 7.10 2000 6.10 7.10 2001 6.10 7.10"),
  c("19970310", "FREQ=YEARLY;INTERVAL=2;COUNT=10;BYMONTH=1,2,3",
    "1997 3.10 1999 1.10 2.10 3.10 2001 1.10 2.10 3.10 2003 1.10 2.10 3.10"),
  c("19970101", "FREQ=YEARLY;INTERVAL=3;COUNT=10;BYYEARDAY=1,100,200",
    "1997 1.1 4.10 7.19 2000 1.1 4.9 7.18 2003 1.1 4.10 7.19 2006 1.1"),
  c("19970519", "FREQ=YEARLY;BYDAY=20MO", "1997 5.19 1998 5.18 1999 5.17"),
  c("19970512", "FREQ=YEARLY;BYWEEKNO=20;BYDAY=MO", "1997 5.12 1998 5.11 1999 5.17"),
  c("19970313", "FREQ=YEARLY;BYMONTH=3;BYDAY=TH", "1997 3.13 3.20 3.27 1998 3.5 3.12 3.19 3.26 1999 3.4"),
  c("19970605", "FREQ=YEARLY;BYDAY=TH;BYMONTH=6,7,8",
    "1997 6.5 6.12 6.19 6.26 7.3 7.10 7.17 7.24 7.31 8.7 8.14 8.21 8.28 1998 6.4"),
  c("19970902", "FREQ=MONTHLY;BYDAY=FR;BYMONTHDAY=13", "1997 9.2 1998 2.13 3.13 11.13 1999 8.13 2000 10.13"),
  c("19970913", "FREQ=MONTHLY;BYDAY=SA;BYMONTHDAY=7,8,9,10,11,12,13",
    "1997 9.13 10.11 11.8 12.13 1998 1.10 2.7 3.7 4.11 5.9 6.13"),
  c("19961105", "FREQ=YEARLY;INTERVAL=4;BYMONTH=11;BYDAY=TU;BYMONTHDAY=2,3,4,5,6,7,8",
    "1996 11.5 2000 11.7 2004 11.2"),
  c("19970904", "FREQ=MONTHLY;COUNT=3;BYDAY=TU,WE,TH;BYSETPOS=3", "1997 9.4 10.7 11.6"),
  c("19970929", "FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-2",
    "1997 9.29 10.30 11.27 12.30 1998 1.29 2.26 3.30"),
  c("20070115", "FREQ=MONTHLY;BYMONTHDAY=15,30;COUNT=5", "2007 1.15 1.30 2.15 3.15 3.30")
)

listed_days <- function(text) {
  words <- strsplit(text, " ")[[1]]
  year <- grepl("^[0-9]{4}$", words)
  days <- paste0(words[year][cumsum(year)], ".", words)[!year]
  as.Date(days, "%Y.%m.%d")
}

test_that("repeating events give the days of all examples in RFC 5545, section 3.8.5.3", {
  for (example in rfc_examples) {
    e <- events(calendar(paste0("DTSTART;TZID=America/New_York:", example[1], "T090000"),
                         paste0("RRULE:", example[2])))
    expect_true(all(format(e$from, "%H:%M", tz = "America/New_York") == "09:00"), label = example[2])
    if (grepl(" ", example[3])) {
      wanted <- listed_days(example[3])
      expect_equal(utils::head(e$start, length(wanted)), wanted, label = example[2])
      if (grepl("COUNT", example[2])) expect_equal(nrow(e), length(wanted))
    } else {
      expect_equal(nrow(e), as.numeric(example[3]), label = example[2])
    }
  }
})

test_that("events that repeat within a day give the times of RFC 5545", {
  times <- function(rule, ..., n = 6) {
    e <- events(calendar("DTSTART;TZID=America/New_York:19970902T090000", paste0("RRULE:", rule)), ...)
    format(utils::head(e$from, n), "%d %H:%M", tz = "America/New_York")
  }
  # Its text says until five o'clock in the afternoon; its rule ends at 17:00 UTC, which is one o'clock.
  expect_equal(times("FREQ=HOURLY;INTERVAL=3;UNTIL=19970902T170000Z"), c("02 09:00", "02 12:00"))
  expect_equal(times("FREQ=MINUTELY;INTERVAL=15;COUNT=6"),
               paste("02", c("09:00", "09:15", "09:30", "09:45", "10:00", "10:15")))
  expect_equal(times("FREQ=MINUTELY;INTERVAL=90;COUNT=4"), paste("02", c("09:00", "10:30", "12:00", "13:30")))
  daily <- times("FREQ=DAILY;BYHOUR=9,10,11,12,13,14,15,16;BYMINUTE=0,20,40", years = 1997, n = 60)
  expect_equal(daily[c(1:4, 24, 25)], c("02 09:00", "02 09:20", "02 09:40", "02 10:00", "02 16:40",
                                        "03 09:00"))
  counted <- times("FREQ=MINUTELY;INTERVAL=20;BYHOUR=9,10,11,12,13,14,15,16", years = 1997, n = 60)
  expect_equal(counted, daily)
  # Asking for later years gives what walking there from the start gives.
  rule <- "RRULE:FREQ=MINUTELY;INTERVAL=50;BYHOUR=7,8"
  all <- events(calendar("DTSTART:20310101T071000", rule), years = 2031:2033)
  part <- events(calendar("DTSTART:20310101T071000", rule), years = 2033)
  expect_equal(part$from, all$from[all$start >= as.Date("2033-01-01")])
  broad <- events(calendar("DTSTART:20300206", "RRULE:FREQ=WEEKLY;INTERVAL=3;BYDAY=WE"), years = 2030:2040)
  late <- events(calendar("DTSTART:20300206", "RRULE:FREQ=WEEKLY;INTERVAL=3;BYDAY=WE"), years = 2040)
  expect_equal(late$start, broad$start[broad$start >= as.Date("2040-01-01")])
})

whole_calendar <- function(...) file_of(c("BEGIN:VCALENDAR", ..., "END:VCALENDAR"), ".ics")
one_event <- function(...) c("BEGIN:VEVENT", ..., "END:VEVENT")

test_that("changes and cancellations of single occurrences take their place", {
  run <- one_event("UID:a", "DTSTART;TZID=Europe/London:20310326T090000", "DURATION:PT1H",
                   "RRULE:FREQ=DAILY;COUNT=6", "SUMMARY:run")
  late <- one_event("UID:a", "RECURRENCE-ID;TZID=Europe/London:20310331T090000",
                    "DTSTART;TZID=Europe/London:20310331T140000", "DURATION:PT2H", "SUMMARY:late run")
  none <- one_event("UID:a", "RECURRENCE-ID:20310328T090000Z", "STATUS:CANCELLED")
  e <- events(whole_calendar(none, run, late))
  expect_equal(e$name, c("run", "run", "run", "run", "late run"))
  expect_equal(format(e$start, "%d"), c("26", "27", "29", "30", "31"))
  # The clock changes on the 30th.
  expect_equal(format(e$from, "%H:%M", tz = "UTC"), c("09:00", "09:00", "09:00", "08:00", "13:00"))
  expect_equal(nrow(events(whole_calendar(run, late, one_event("UID:a", "SEQUENCE:2", "STATUS:CANCELLED")))),
               0)
  again <- sub("SUMMARY:run", "SUMMARY:new run", sub("UID:a", "UID:a\nSEQUENCE:3", run))
  expect_equal(unique(events(whole_calendar(run, again))$name), "new run")
  onward <- function(lines) sub("RECURRENCE-ID", "RECURRENCE-ID;RANGE=THISANDFUTURE", lines)
  e <- events(whole_calendar(run, onward(sub("31T", "29T", late))))
  expect_equal(e$name, rep(c("run", "late run"), c(3, 3)))
  expect_equal(format(e$from, "%d %H:%M", tz = "UTC"),
               c("26 09:00", "27 09:00", "28 09:00", "29 14:00", "30 13:00", "31 13:00"))
  expect_equal(as.numeric(difftime(e$to, e$from, units = "hours")), rep(c(1, 2), c(3, 3)))
  # A single change after it keeps its own; a later one of all that follow goes on from there; no more of
  # them.
  e <- events(whole_calendar(run, onward(sub("31T", "27T", late)), sub("late run", "one", sub("31T", "29T",
                                                                                              late)),
                             onward(sub("late run", "last", sub("31T", "30T", late)))))
  expect_equal(e$name, c("run", "late run", "late run", "one", "last", "last"))
  expect_equal(nrow(events(whole_calendar(run, onward(none)))), 2)
  expect_match(error_text(events(whole_calendar(run, sub("RECURRENCE-ID", "RECURRENCE-ID;RANGE=ALL", late)))),
               "THISANDFUTURE")
})

test_that("zones of other names, or defined in the file, are the same clocks", {
  zone <- c("BEGIN:VTIMEZONE", "TZID:Works Clock", "BEGIN:DAYLIGHT", "DTSTART:19700329T020000",
            "TZOFFSETFROM:+0100", "TZOFFSETTO:+0200", "RRULE:FREQ=YEARLY;BYMONTH=3;BYDAY=-1SU",
            "END:DAYLIGHT",
            "BEGIN:STANDARD", "DTSTART:19701025T030000", "TZOFFSETFROM:+0200", "TZOFFSETTO:+0100",
            "RRULE:FREQ=YEARLY;BYMONTH=10;BYDAY=-1SU", "END:STANDARD", "END:VTIMEZONE")
  of <- function(name) {
    events(whole_calendar(zone, one_event(paste0("DTSTART;TZID=\"", name, "\":20310101T033000"),
                                          "DURATION:P1DT1H", "RRULE:FREQ=WEEKLY;COUNT=60")))
  }
  known <- of("Europe/Berlin")
  for (name in c("Works Clock", "W. Europe Standard Time", "/old.example/20250101/Europe/Berlin")) {
    expect_equal(of(name), known, label = name)
  }
  # A day of the calendar may have 23 or 25 hours.
  expect_setequal(round(as.numeric(known$to - known$from, units = "hours")), 25)
  change <- events(whole_calendar(one_event("DTSTART;TZID=Europe/Berlin:20310329T120000", "DURATION:P1D")))
  expect_equal(as.numeric(change$to - change$from, units = "hours"), 23)
  table <- kairon:::windows_zones()
  expect_gt(nrow(table), 130)
  expect_true(all(table$zone %in% c(OlsonNames(), "UTC")))
})

test_that("listed times may be periods of their own, and what repeats without end is bounded", {
  e <- events(calendar("DTSTART:19970902T090000Z", "DURATION:PT1H",
                       "RDATE;VALUE=PERIOD:19970101T180000Z/19970102T070000Z,19970109T180000Z/PT5H30M"))
  expect_equal(as.numeric(e$to - e$from, units = "hours"), c(13, 5.5, 1))
  for (rule in c("FREQ=SECONDLY", "FREQ=DAILY;COUNT=3000000", "FREQ=MINUTELY;UNTIL=20990101T000000Z")) {
    expect_match(error_text(events(calendar("DTSTART:20310101T000000Z", paste0("RRULE:", rule)))),
                 "Line 5: the event repeats more than 100,000 times. . Ask for fewer years")
  }
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
  broken("DTSTART:20310101", "RRULE:FREQ=HOURLY", line = 5, says = "an event of whole days cannot")
  broken("DTSTART:20310101", "RRULE:FREQ=DAILY;BYTIDE=3", line = 5, says = "BYTIDE is no part")
  broken("DTSTART:20310101", "RRULE:FREQ=DAILY;INTERVAL=0", line = 5, says = "INTERVAL cannot be 0")
  broken("DTSTART:20310101", "RRULE:FREQ=DAILY;COUNT=2;UNTIL=20320101", line = 5,
         says = "a rule has COUNT or UNTIL")
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
