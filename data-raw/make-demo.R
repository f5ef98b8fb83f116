# Makes the Quillmere files in inst/extdata, with a fixed seed, and the truth
# behind them in quillmere-truth.json. Everything here is invented.
# Run from the repository root: Rscript data-raw/make-demo.R

set.seed(20320630)
RNGkind("Mersenne-Twister", "Inversion", "Rejection")
set.seed(20320630)
out <- "inst/extdata"
truth <- list(
  note = "What make-demo.R put into the Quillmere files; all of it is invented."
)
zone <- "Europe/London"

write_csv <- function(data, name, gz = FALSE) {
  path <- file.path(out, name)
  con <- if (gz) gzfile(path, "wb", compression = 9) else file(path, "wb")
  write.csv(data, con, row.names = FALSE, quote = FALSE, na = "", eol = "\n")
  close(con)
}

iso_local <- function(t) {
  sub("(..)$", ":\\1", format(t, "%Y-%m-%dT%H:%M:%S%z", tz = zone))
}

ar1 <- function(n, phi, sd) {
  e <- rnorm(n, 0, sd)
  e[1] <- e[1] / sqrt(1 - phi^2)
  as.numeric(Reduce(function(a, b) phi * a + b, e, accumulate = TRUE))
}

# Holidays ----

easter <- function(year) {
  a <- year %% 19; b <- year %/% 100; c <- year %% 100
  d <- b %/% 4; e <- b %% 4; f <- (b + 8) %/% 25; g <- (b - f + 1) %/% 3
  h <- (19 * a + b - d - g + 15) %% 30; i <- c %/% 4; k <- c %% 4
  l <- (32 + 2 * e + 2 * i - h - k) %% 7
  m <- (a + 11 * h + 22 * l) %/% 451
  month <- (h + l - 7 * m + 114) %/% 31
  day <- (h + l - 7 * m + 114) %% 31 + 1
  as.Date(sprintf("%d-%02d-%02d", year, month, day))
}
nth_monday <- function(year, month, n) {
  first <- as.Date(sprintf("%d-%02d-01", year, month))
  first + (8 - as.integer(format(first, "%u"))) %% 7 + 7 * (n - 1)
}
last_monday <- function(year, month) {
  end <- seq(as.Date(sprintf("%d-%02d-01", year, month)), by = "month", length.out = 2)[2] - 1
  end - (as.integer(format(end, "%u")) - 1)
}
years <- 2029:2032
holidays <- do.call(rbind, lapply(years, function(y) data.frame(
  date = c(as.Date(sprintf("%d-01-01", y)), easter(y) + 1, nth_monday(y, 5, 1),
           last_monday(y, 8), as.Date(sprintf("%d-12-25", y)), as.Date(sprintf("%d-12-26", y))),
  name = c("New Year", "Spring Monday", "Weir Day", "Harvest Monday", "Midwinter", "Second Midwinter")
)))
ics <- c(
  "BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//Quillmere Water//Calendar//EN",
  unlist(lapply(seq_len(nrow(holidays)), function(i) {
    d <- holidays$date[i]
    c("BEGIN:VEVENT", sprintf("UID:%s@quillmere.example", format(d, "%Y%m%d")),
      "DTSTAMP:20281101T090000Z",
      paste0("DTSTART;VALUE=DATE:", format(d, "%Y%m%d")),
      paste0("DTEND;VALUE=DATE:", format(d + 1, "%Y%m%d")),
      paste0("SUMMARY:", holidays$name[i]), "TRANSP:TRANSPARENT", "END:VEVENT")
  })),
  "END:VCALENDAR"
)
con <- file(file.path(out, "holidays.ics"), "wb")
writeLines(ics, con, sep = "\r\n")
close(con)
truth$holidays <- holidays

# Rain: amounts a day, a wet winter, many dry days ----

days <- seq(as.Date("2029-01-01"), as.Date("2032-06-30"), by = "day")
n <- length(days)
yday <- as.integer(format(days, "%j"))
season <- cos(2 * pi * (yday - 20) / 365.25)
wet <- numeric(n)
for (i in seq_len(n)) {
  p <- 0.38 + 0.1 * season[i] + if (i > 1 && wet[i - 1]) 0.22 else -0.08
  wet[i] <- runif(1) < p
}
rain <- round(wet * rgamma(n, 0.9, scale = 6 + 2 * season), 1)
rain_gap <- which(days >= as.Date("2030-11-04") & days <= as.Date("2030-11-10"))
rain_seen <- rain
rain_seen[rain_gap] <- NA
write_csv(data.frame(day = days, rain = rain_seen), "rain.csv")
truth$rain <- list(missing = days[rain_gap], true_values = rain[rain_gap])

# District demand ----

districts <- data.frame(
  district = c("Alderbrook", "Birchmoor", "Coldharbour", "Dunmere", "Eastweir", "Fernhollow",
               "Goosegate", "Hartsfell"),
  valley = c("upper", "upper", "upper", "lower", "lower", "lower", "lower", "upper"),
  zone = c("Tarn", "Tarn", "Mill", "Mill", "Mill", "Estuary", "Estuary", "Tarn"),
  people = c(21400, 8300, 4100, 33800, 17600, 9900, 12500, 2700),
  elevation = c(214, 268, 305, 88, 61, 97, 74, 341)
)
write_csv(districts, "districts.csv")
weekday <- as.integer(format(days, "%u"))
week_shape <- c(0.4, 0.6, 0.5, 0.3, -0.2, -1.0, -0.6)
hot <- days >= as.Date("2031-07-14") & days <= as.Date("2031-07-27")
tariff <- as.Date("2031-04-01")
burst <- list(district = "Dunmere", from = as.Date("2030-02-11"), to = as.Date("2030-02-16"))
closed <- list(district = "Hartsfell", last = as.Date("2031-05-31"))
opened <- list(district = "Goosegate", first = as.Date("2030-09-01"))
demand <- do.call(rbind, lapply(seq_len(nrow(districts)), function(j) {
  d <- districts[j, ]
  base <- d$people * 0.145
  trend <- base * (1 + (seq_len(n) - 1) / 365.25 * c(.012, .004, -.01, .018, .008, 0, .03, -.02)[j])
  week <- base * 0.06 * week_shape[weekday]
  year <- -base * 0.09 * cos(2 * pi * (yday - 25) / 365.25)
  holiday <- ifelse(days %in% holidays$date, -0.07 * base, 0)
  heat <- ifelse(hot, 0.16 * base, 0)
  leak <- ifelse(d$district == burst$district & days >= burst$from & days <= burst$to, 0.45 * base, 0)
  price <- ifelse(days >= tariff, -0.035 * base, 0)
  noise <- ar1(n, 0.45, 0.018 * base)
  data.frame(day = days, district = d$district,
             demand = round(trend + week + year + holiday + heat + leak + price + noise, 1))
}))
gone <- (demand$district == closed$district & demand$day > closed$last) |
  (demand$district == opened$district & demand$day < opened$first)
demand <- demand[!gone, ]
lost <- (demand$district == "Birchmoor" & demand$day >= as.Date("2031-10-06") & demand$day <= as.Date("2031-10-15")) |
  (demand$district == "Eastweir" & demand$day >= as.Date("2030-05-20") & demand$day <= as.Date("2030-05-22")) |
  runif(nrow(demand)) < 0.002
truth$demand <- list(
  week_shape = week_shape, week_share = 0.06, year_share = 0.09, holiday_share = -0.07,
  hot_spell = list(from = min(days[hot]), to = max(days[hot]), share = 0.16),
  burst_main = c(burst, share = 0.45), tariff = list(date = tariff, share = -0.035),
  closed = closed, opened = opened, yearly_growth = c(.012, .004, -.01, .018, .008, 0, .03, -.02),
  base_per_head = 0.145, missing = demand[lost, c("day", "district", "demand")]
)
demand$demand[lost] <- NA
write_csv(demand, "demand.csv.gz", gz = TRUE)

# River gauge: readings about every 20 minutes, at odd instants ----

start <- as.POSIXct("2031-12-01 00:07:00", tz = zone)
end <- as.POSIXct("2032-06-30 23:59:00", tz = zone)
steps <- round(pmax(240, rnorm(17000, 1200, 150)))
at <- start + cumsum(c(0, steps))
at <- at[at <= end]
m <- length(at)
hours <- as.numeric(at - start, units = "hours")
daily_rain <- rain[match(as.Date(at, tz = zone), days)]
run_off <- as.numeric(Reduce(function(a, b) 0.9985 * a + b, 0.0011 * daily_rain, accumulate = TRUE))
local_hour <- as.POSIXlt(at, tz = zone)$hour + as.POSIXlt(at, tz = zone)$min / 60
tide <- 6 * sin(2 * pi * (local_hour - 7) / 24) + 2.5 * sin(2 * pi * (local_hour - 2) / 12)
flow <- 85 + 30 * run_off + tide + ar1(m, 0.9, 0.9)
level <- 0.42 + 0.055 * sqrt(pmax(flow, 1)) + rnorm(m, 0, 0.002)
gap <- list(c(2500, 2640), c(7700, 7790))
cut <- unlist(lapply(gap, function(g) g[1]:g[2]))
free <- setdiff(seq(200, m - 200), cut)
pick <- function(k) sort(sample(free, k))
spike_at <- pick(24)
flow_true <- flow
flow[spike_at] <- flow[spike_at] + sample(c(-1, 1), 24, TRUE) * runif(24, 45, 120)
stuck <- list(c(4200, 4259), c(9100, 9219))
for (s in stuck) level[s[1]:s[2]] <- level[s[1]]
shift_from <- 12000
level[shift_from:m] <- level[shift_from:m] + 0.08
marker <- setdiff(sample(m, 60), c(spike_at, cut))
flow_text <- formatC(flow, format = "f", digits = 1)
flow_text[marker] <- "---"
river <- data.frame(time = iso_local(at), flow = flow_text, level = formatC(level, format = "f", digits = 3))
repeats <- setdiff(pick(9), marker)
truth$river <- list(
  spikes = data.frame(time = iso_local(at[spike_at]), flow = round(flow[spike_at], 1),
                      true_flow = round(flow_true[spike_at], 1)),
  stuck = data.frame(from = iso_local(at[vapply(stuck, `[`, 1, 1)]),
                     to = iso_local(at[vapply(stuck, `[`, 1, 2)]), readings = vapply(stuck, diff, 1) + 1),
  level_shift = list(from = iso_local(at[shift_from]), size = 0.08),
  gaps = data.frame(from = iso_local(at[vapply(gap, `[`, 1, 1) - 1]),
                    to = iso_local(at[vapply(gap, `[`, 1, 2) + 1])),
  missing_marker = "---", missing = length(marker), repeats = iso_local(at[repeats]),
  zone = zone, clock_change = "2032-03-28T01:00:00Z", cycles_hours = c(24, 12),
  reading_step_minutes = 20
)
order_in_file <- sort(c(setdiff(seq_len(m), cut), repeats))
write_csv(river[order_in_file, ], "river.csv.gz", gz = TRUE)

# Pump energy: hourly amounts at two stations, local clock ----

first <- as.POSIXct("2031-07-01 00:00:00", tz = zone)
last <- as.POSIXct("2032-06-30 23:00:00", tz = zone)
clock <- seq(first, last, by = 3600)
lt <- as.POSIXlt(clock, tz = zone)
shape <- 1 + 0.55 * exp(-((lt$hour - 7) / 2.2)^2) + 0.4 * exp(-((lt$hour - 18.5) / 2.6)^2) -
  0.35 * exp(-((lt$hour - 3) / 2.5)^2)
weekend <- ifelse(lt$wday %in% c(0, 6), 0.86, 1)
energy <- do.call(rbind, lapply(c("Millrace", "Highwell"), function(s) {
  size <- c(Millrace = 140, Highwell = 62)[[s]]
  yearly <- 1 - 0.08 * cos(2 * pi * (lt$yday - 25) / 365.25)
  v <- size * shape * weekend * yearly * exp(ar1(length(clock), 0.6, 0.035))
  stop_hours <- s == "Highwell" & clock >= as.POSIXct("2032-02-03 08:00", tz = zone) &
    clock < as.POSIXct("2032-02-03 19:00", tz = zone)
  v[stop_hours] <- 0
  data.frame(time = sub("(..)$", ":\\1", format(clock, "%Y-%m-%dT%H:%M%z")), station = s,
             energy = round(v, 1))
}))
truth$energy <- list(zone = zone, stop = list(station = "Highwell", from = "2032-02-03T08:00",
                                              to = "2032-02-03T19:00"), weekend_factor = 0.86)
write_csv(energy, "energy.csv.gz", gz = TRUE)

# Billed volume: ten years of months, growing in proportion ----

months <- seq(as.Date("2022-07-01"), by = "month", length.out = 120)
index <- c(0.93, 0.88, 0.95, 0.96, 1.01, 1.07, 1.13, 1.16, 1.06, 0.99, 0.94, 0.92)
index <- index / mean(index)
growth <- 1.045
trend <- 412 * growth^((seq_len(120) - 1) / 12)
billed <- round(trend * index[as.integer(format(months, "%m"))] * exp(rnorm(120, 0, 0.012)), 1)
write_csv(data.frame(month = months, volume = billed), "billed.csv")
truth$billed <- list(month_index = index, yearly_growth = growth, start = 412, noise = 0.012)

# Quarterly accounts, fiscal year from April, stamped on the last day ----

quarter_end <- seq(as.Date("2022-07-01"), by = "3 months", length.out = 40) - 1
fiscal <- c(1.06, 1.12, 0.93, 0.89)[(as.integer(format(quarter_end, "%m")) / 3 - 2) %% 4 + 1]
revenue <- round(5.2 * 1.036^(seq_len(40) / 4) * fiscal * exp(rnorm(40, 0, 0.01)), 3)
cost <- round(4.3 * 1.029^(seq_len(40) / 4) * (0.6 + 0.4 * fiscal) * exp(rnorm(40, 0, 0.012)), 3)
write_csv(data.frame(quarter_end, revenue, cost), "accounts.csv")
truth$accounts <- list(fiscal_start = "april", quarter_index = c(1.06, 1.12, 0.93, 0.89),
                       revenue_growth = 1.036, cost_growth = 1.029)

# Soil moisture in cells of different size, by elevation; five strips along the valley ----

cells <- expand.grid(elevation = c(60, 120, 180, 240, 300, 360), strip = 1:5)
cells$cell <- sprintf("S%02d", seq_len(nrow(cells)))
cells$area <- round(14 + 31 * (seq_len(nrow(cells)) * 0.618034) %% 1, 1)
soil_months <- seq(as.Date("2029-07-01"), by = "month", length.out = 36)
soil <- do.call(rbind, lapply(seq_len(nrow(cells)), function(i) {
  k <- as.integer(format(soil_months, "%m"))
  v <- 27 + 0.012 * cells$elevation[i] + 0.36 * (cells$strip[i] - 3) +
    6.5 * cos(2 * pi * (k - 1) / 12) + ar1(36, 0.5, 0.8)
  data.frame(month = soil_months, cells[i, c("cell", "elevation", "area"), drop = FALSE], row.names = NULL,
             moisture = round(v, 2))
}))
write_csv(soil, "soil.csv.gz", gz = TRUE)
truth$soil <- list(base = 27, per_metre = 0.012, per_strip = 0.36, swing = 6.5)

# Pressure at a pumping station that works in three shifts a day, and less towards the weekend. The logger has a step of its
# own, 18 minutes: hourly means are honest, and a grid of 10 minutes makes lines of its own about 22 minutes ----

pressure_at <- as.POSIXct("2032-04-05 00:07", tz = "UTC") + 18 * 60 * (seq_len(84 * 80) - 1)
hours <- as.numeric(pressure_at - as.POSIXct("2032-04-05", tz = "UTC"), units = "hours")
pressure <- 4.55 + 0.36 * sin(2 * pi * hours / 8) + 0.11 * sin(2 * pi * hours / 4 + 1) + 0.15 * sin(2 * pi * hours / 168 + 0.4) +
  as.numeric(stats::filter(rnorm(length(hours), 0, 0.008), c(1.5, -0.56), "recursive"))
write_csv(data.frame(time = format(pressure_at, "%Y-%m-%dT%H:%M:%SZ"), pressure = sprintf("%.3f", pressure)),
          "pressure.csv.gz", gz = TRUE)
truth$pressure <- list(reading_minutes = 18, shift_hours = 8, shift_amplitude = 0.36, half_shift_amplitude = 0.11,
                       week_amplitude = 0.15)

writeLines(jsonlite::toJSON(truth, auto_unbox = TRUE, pretty = TRUE, digits = 6), file.path(out, "quillmere-truth.json"))

# What a planner wrote down at four cutoffs: last year's month and three percent, within eight percent.
billed <- read.csv("inst/extdata/billed.csv")
month <- as.Date(billed$month)
planned <- do.call(rbind, lapply(c("2030-06-01", "2030-12-01", "2031-06-01", "2031-12-01"), function(cutoff) {
  ahead <- seq(as.Date(cutoff), by = "month", length.out = 7)[-1]
  before <- seq(as.Date(cutoff), by = "-11 months", length.out = 2)[2]
  value <- round(1.03 * billed$volume[match(seq(before, by = "month", length.out = 6), month)])
  data.frame(month = ahead, cutoff = cutoff, method = "planner", value = value, lower_90 = round(0.92 * value),
             upper_90 = round(1.08 * value))
}))
write.csv(planned, "inst/extdata/forecasts.csv", row.names = FALSE, quote = FALSE)
