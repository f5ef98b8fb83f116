# Runs the examples of every help page of the installed package.
suppressPackageStartupMessages(library(kairon))
pages <- tools::Rd_db("kairon")
grDevices::pdf(NULL)
for (name in names(pages)) {
  code <- tempfile(fileext = ".R")
  tools::Rd2ex(pages[[name]], code)
  if (!file.exists(code)) next
  cat("==", name, "\n")
  source(code, local = new.env(), echo = FALSE)
}
