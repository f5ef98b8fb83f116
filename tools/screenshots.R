# The figures of docs/screenshots, and the report that is photographed.
suppressPackageStartupMessages(library(kairon))
options(kairon.quiet = TRUE)
out <- commandArgs(TRUE)[1]

shot <- function(name, plot) {
  ragg::agg_png(file.path(out, paste0(name, ".png")), 1280, 800, res = 110)
  print(plot)
  invisible(dev.off())
}

river <- demo_timeline("river")
demand <- demo_timeline("demand")
spring <- river[river$time >= as.POSIXct("2032-02-15", tz = "Europe/London") &
                  river$time < as.POSIXct("2032-04-15", tz = "Europe/London"), ]
shot("timeline", autoplot(impute(resample(spring, "1 hour"), "linear", longest = "2 days")))
shot("coverage", autoplot(inspect(demand)))
birchmoor <- demand[demand$district == "Birchmoor", ]
shot("rolling", autoplot(roll(birchmoor, trailing("28 days"), c("mean", "sd"))))
shot("vetting", autoplot(repair(vet(river), "linear", longest = 3)))
shot("standing", autoplot(standing(demo_timeline("billed"), better = "higher")))
shot("totals", autoplot(with_totals(merge(demand, read.csv(system.file("extdata", "districts.csv", package = "kairon"))),
                                    zone)))
shot("spectrum", autoplot(power_spectrum(resample(demo_timeline("pressure"), "1 hour"))))
shot("highlight", autoplot(demand, highlight = c("Birchmoor", "Dunmere")) +
       shaded_spans(c("hot spell" = "2031-07-01/2031-07-20")) + date_marks(c("new tariff" = "2031-04-01")))
shot("profile", autoplot(season_profile(demo_timeline("energy"), c("hour of day", "day of week"))))
holidays <- system.file("extdata", "holidays.ics", package = "kairon")
shot("decomposition", autoplot(decomposition(demand, c("week", "year"), events = holidays, robust = TRUE)))
parts <- holdout(demand, "28 days")
f <- forecast(parts$train, "28 days", by_auto())
shot("forecast", autoplot(f, observed = parts$test, series = c("Alderbrook", "Dunmere")))
b <- backtest(demand, horizon = "14 days")
shot("backtest", autoplot(b, series = c("Alderbrook", "Eastweir")))
shot("scores", autoplot(scores(b)))
shot("effect", autoplot(effect_of(demand[demand$district == "Dunmere", ], "2030-02-11/2030-02-16", events = holidays)))
report(demand, "build/shots/quillmere.html", title = "Quillmere Water: demand of eight districts")
