# Reading from the web, from an archive on this computer that goes wrong on request.

skip_if_not_installed("httpuv")
archive <- demo_archive(page = 1000)
withr_stop <- function() archive$stop()
reg.finalizer(environment(), function(e) withr_stop(), onexit = TRUE)

fresh_cache <- function() options(kairon.fetch_folder = tempfile())
read_from <- function(what, ..., timeout = 20) {
  quiet(read_timeline(paste0(archive$address, what), ..., timeout = timeout))
}
# The rule that the archive's readings follow.
flow_of <- function(time, i) {
  day <- 2 * pi * as.numeric(time) / 86400
  round(40 * i + 6 * sin(day + i) + 2 * cos(day / 7), 2)
}

test_that("all pages are read, in both forms, and attributes joined from an address", {
  fresh_cache()
  x <- read_from("readings", series = "station", join = paste0(archive$address, "stations"))
  expect_equal(nrow(x), 3 * 2160)
  expect_equal(kairon:::timeline_meta(x)$attributes, c("elevation", "latitude"))
  for (i in 1:3) {
    one <- x[x$station == c("weir", "mill", "spring")[i], ]
    expect_equal(one$flow, flow_of(one$time, i))
  }
  expect_equal(read_from("readings?format=json", series = "station")$flow, x$flow)
  part <- read_from("readings?station=mill&from=2031-03-02&to=2031-03-03")
  expect_equal(nrow(part), 72)
})

test_that("an unchanged answer is not sent again, and the cache can be emptied or left out", {
  fresh_cache()
  address <- paste0(archive$address, "readings?station=weir&to=2031-03-05")
  first <- read_from("readings?station=weir&to=2031-03-05")
  kept <- list.files(getOption("kairon.fetch_folder"), "body$", full.names = TRUE)
  expect_length(kept, 1)
  expect_equal(kairon:::ask_server(address, 5, kairon:::kept_answer(address))$status, 304)
  expect_identical(read_from("readings?station=weir&to=2031-03-05"), first)
  # A body in the cache that was cut short is not believed.
  writeLines("time,flow", kept)
  expect_null(kairon:::kept_answer(address))
  expect_identical(read_from("readings?station=weir&to=2031-03-05"), first)
  expect_equal(clear_fetched(), 1)
  options(kairon.fetch_cache = FALSE)
  on.exit(options(kairon.fetch_cache = NULL))
  expect_identical(read_from("readings?station=weir&to=2031-03-05"), first)
  expect_length(list.files(getOption("kairon.fetch_folder")), 0)
})

test_that("a server that fails is asked again; what is final, endless, large or rubbish is told", {
  fresh_cache()
  expect_equal(nrow(read_from("readings?station=weir&fail=503&times=2&key=one")), 2160)
  expect_match(error_text(read_from("readings?fail=500")), "answered 500. It was asked 3 times")
  final <- error_text(read_from("readings?fail=404"))
  expect_match(final, "answered 404\\.")
  expect_no_match(final, "asked 3 times")
  expect_match(error_text(read_from("readings?fail=empty")), "answer was empty")
  rubbish <- tryCatch(read_from("readings?fail=rubbish"), error = identity)
  expect_s3_class(rubbish, "kairon_error_file")
  expect_match(conditionMessage(rubbish), "127.0.0.1")
  expect_match(error_text(read_from("readings?fail=stall", timeout = 1)), "within 1 second.*timeout = 2")
  options(kairon.fetch_limit = 5000)
  on.exit(options(kairon.fetch_limit = NULL))
  expect_match(error_text(read_from("readings")), "larger than 5,000 bytes")
  expect_match(error_text(read_from("readings", timeout = -1)), "timeout")
})

test_that("a connection that ends in mid-transfer gives an error, not a shorter table", {
  fresh_cache()
  cut <- tryCatch(quiet(read_timeline(serve("cut", "day,flow\n2031-03-01,1\n2031-03-02,2\n"), timeout = 5)),
                  error = identity)
  expect_s3_class(cut, "kairon_error_file")
  expect_match(conditionMessage(cut), "asked 3 times")
})

test_that("next pages are found in any of the written ways", {
  after <- function(link) kairon:::next_page(link, "http://a.example/b/c?page=1")
  expect_equal(after("</x?page=2>; rel=\"next\""), "http://a.example/x?page=2")
  expect_equal(after("<http://a.example/1>; rel=\"prev\", <d?page=2>; rel=next"),
               "http://a.example/b/d?page=2")
  expect_null(after("<http://a.example/1>; rel=\"prev\""))
})

test_that("the program reads from an archive and says what went wrong", {
  told <- kairon("inspect", paste0(archive$address, "readings"), "--series", "station", "--quiet")
  expect_equal(told$code, 0)
  card <- csv_of(told$out)
  expect_equal(card$rows[card$measure == "flow"], rep(2160, 3))
  out <- tempfile(fileext = ".parquet")
  skip_if_not_installed("nanoparquet")
  daily <- kairon("resample", paste0(archive$address, "readings?station=weir"), "--every", "1 day",
                  "--output", out,
                  "--quiet")
  expect_equal(daily$code, 0)
  expect_equal(nrow(quiet(read_timeline(out))), 30)
  lost <- kairon("inspect", paste0(archive$address, "nothing"))
  expect_gt(lost$code, 0)
  expect_match(paste(lost$err, collapse = " "), "answered 404")
})

test_that("the archive ends when it is told to", {
  expect_output(print(archive), "readings\\?station=weir")
  archive$stop()
  Sys.sleep(0.5)
  expect_error(curl::curl_fetch_memory(archive$address))
})
