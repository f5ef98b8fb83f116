test_that("numbers are written as people write them", {
  show <- kairon:::show_number
  expect_equal(show(c(0, 3, 12.3456, 1234567, NA, 0.0004567)),
               c("0", "3", "12.3", "1,234,567", "-", "0.000457"))
  expect_equal(kairon:::show_percent(0.0412), "4.1 %")
  expect_equal(kairon:::show_percent(0.00001), "under 0.1 %")
  expect_equal(kairon:::show_percent(1), "100 %")
})

test_that("numbers under each other have the same decimals", {
  expect_equal(kairon:::show_column(c(0.904, 0.91, 1)), c("0.904", "0.910", "1.000"))
  expect_equal(kairon:::show_column(c(439, 467.1)), c("439.0", "467.1"))
  expect_equal(kairon:::show_column(c(12000, 3)), c("12,000", "3"))
})

test_that("what is not nothing is not printed as 0, and what rounding leaves is", {
  for (large in c(1, 1e3, 1e6, 1e9)) {
    shown <- kairon:::show_column(c(large + 0.25 * 0:3, large * 1e-8, large * 1e-16, -large * 1e-16, 0),
                                  measured = TRUE)
    expect_equal(as.numeric(shown[5]), large * 1e-8)
    expect_equal(as.numeric(shown[6:8]), c(0, 0, 0))
    expect_false(any(grepl("^-", shown)))
  }
})

test_that("durations and lists read well", {
  expect_equal(kairon:::show_duration(1200), "20 minutes")
  expect_equal(kairon:::show_duration(90), "90 seconds")
  expect_equal(kairon:::show_duration(3 * 86400), "3 days")
  expect_equal(kairon:::word_list(c("a", "b", "c")), "a, b and c")
  expect_equal(kairon:::word_list(letters, 3), "a, b and 24 more")
})

test_that("the nearest word is offered, and none when nothing is near", {
  expect_equal(kairon:::nearest_word("mounth", c("month", "minute")), "month")
  expect_null(kairon:::nearest_word("zebra", c("month", "minute")))
  expect_null(kairon:::nearest_word("", "month"))
})

test_that("neighbours are told apart in print, and what was measured is saved exactly", {
  for (base in c(0, 1, 1e3, 123456, 1e9)) {
    for (step in c(10, 0.5, 0.001)) {
      v <- base + step * 1:5
      shown <- kairon:::show_column(v)
      expect_false(anyDuplicated(shown) > 0, label = paste(base, step))
      expect_equal(as.numeric(gsub(",", "", shown)), v, tolerance = 1e-3 * step / max(abs(v)) + 1e-14)
      expect_identical(kairon:::saved_numbers(v), v)
    }
  }
  expect_identical(kairon:::saved_numbers(c(123456792.25, NA, 7e-8)), c(123456792.25, NA, 7e-8))
  set.seed(1)
  for (scale in c(1e-6, 1, 1e8)) {
    v <- scale * (5 + rnorm(50) / 3)
    made <- kairon:::saved_numbers(v)
    expect_lt(max(abs(made - v)), 1e-5 * diff(range(v)))
    expect_lt(sum(nchar(as.character(made))), sum(nchar(as.character(v))))
  }
  expect_equal(kairon:::saved_numbers(c(pi, exp(1) * 1e6)), c(pi, exp(1) * 1e6), tolerance = 1e-6)
})
