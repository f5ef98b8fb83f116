library(testthat)
library(kairon)

test_check("kairon")
