# The looks of the figures that are sent most, held still. A change of a picture is looked at before it is
# accepted: testthat::snapshot_review().

test_that("the main figures look as they did", {
  skip_if_not_installed("vdiffr")
  before <- options(kairon.figure_width = 10)
  on.exit(options(before))
  # An open device would lend its letters' sizes.
  grDevices::graphics.off()
  looks <- vdiffr::expect_doppelganger
  billed <- demo_timeline("billed")
  river <- during(demo_timeline("river"), "2032-02-15/2032-02-25")
  filled <- quiet(impute(resample(river, "3 hours"), "linear"))
  looks("readings with gaps and filled values", autoplot(filled, flow))
  looks("marks and spans", autoplot(billed) + shaded_spans(c(works = "2027-03/2027-09")) +
    date_marks(c("new tariff" = "2029-04")))
  looks("forecast with intervals", autoplot(quiet(forecast(billed, "1 year", by_seasonal_naive()))))
  style <- figure_style("dark")
  b <- quiet(backtest(billed, list(by_naive(), by_drift()), 6, 2))
  looks("scores on a dark ground", autoplot(scores(b)))
  do.call(figure_style, style)
  looks("spread of many series", autoplot(demo_timeline("soil"), highlight = demo_timeline("soil")$cell[1]))
})
