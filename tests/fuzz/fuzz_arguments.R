# Every argument of every exported function with values that nobody means, one at a time.
#   Rscript tests/fuzz/fuzz_arguments.R [FUNCTION ...]
# Prints what was answered in words of something else than this package, or took over 20 seconds.
suppressMessages(library(kairon))
options(kairon.quiet = TRUE)
for (file in c("helper-made.R", "helper-calls.R")) source(file.path("tests/testthat", file))
# Some values are taken for names of files.
setwd(tempdir())
grDevices::pdf(NULL)
calls <- usual_calls()
wanted <- commandArgs(TRUE)
if (length(wanted)) calls <- calls[wanted]
asked <- 0
troubles <- 0
for (name in names(calls)) {
  found <- argument_troubles(name, calls[[name]], hostile_values)
  asked <- asked + length(arguments_of(name)) * length(hostile_values)
  troubles <- troubles + NROW(found)
  if (!is.null(found)) write.table(found, quote = FALSE, sep = " | ", row.names = FALSE, col.names = FALSE)
}
cat(asked, "calls,", troubles, "troubles\n")
quit(status = as.integer(troubles > 0))
