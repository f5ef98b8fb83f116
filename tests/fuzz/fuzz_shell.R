# Every verb of the program on every file that it was not made for, within this process.
#   Rscript tests/fuzz/fuzz_shell.R [VERB ...]
# Prints what was answered in words of something else than this package, or took over 10 seconds.
suppressMessages(library(kairon))
for (name in c("cli_verbs", "run_verb")) assign(name, get(name, asNamespace("kairon")))
for (file in c("helper-made.R", "helper-files.R")) source(file.path("tests/testthat", file))
files <- hostile_files(tempfile("hostile-"))
calls <- verbs_on_files()
wanted <- commandArgs(TRUE)
if (length(wanted)) calls <- calls[wanted]
troubles <- 0
for (verb in names(calls)) {
  for (shape in names(files)) {
    took <- system.time(found <- shell_trouble(verb, calls[[verb]], files[[shape]]))[[3]]
    if (took > 10) found <- paste(found, round(took), "s")
    troubles <- troubles + nzchar(found)
    if (nzchar(found)) cat(verb, "|", shape, "|", substr(gsub("\n", " ", found), 1, 300), "\n")
  }
}
cat(length(calls) * length(files), "calls,", troubles, "troubles\n")
quit(status = as.integer(troubles > 0))
