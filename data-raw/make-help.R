# Writes inst/cli-help, the help that the program prints without loading the package. Run after installing.
verbs <- kairon:::cli_verbs()
dir.create("inst/cli-help", showWarnings = FALSE)
unlink(list.files("inst/cli-help", full.names = TRUE))
save <- function(name, lines) writeLines(lines, file.path("inst/cli-help", paste0(name, ".txt")))
save("kairon", kairon:::main_help(verbs))
for (name in names(verbs)) save(name, kairon:::verb_help(name, verbs[[name]]))
