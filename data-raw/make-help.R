# Writes inst/cli-help, the help that the program prints without loading the package. Run after installing.
verbs <- kairon:::cli_verbs()
words <- kairon:::known_words("inst/schema/study-1.json")
dir.create("inst/cli-help", showWarnings = FALSE)
unlink(list.files("inst/cli-help", full.names = TRUE))
save <- function(name, lines) writeLines(lines, file.path("inst/cli-help", paste0(name, ".txt")))
save("kairon", kairon:::main_help(verbs))
for (name in names(verbs)) {
  save(name, kairon:::verb_help(name, verbs[[name]], words = words))
  save(paste0(name, "-all"), kairon:::verb_help(name, verbs[[name]], all = TRUE, words = words))
}
# What each method does is the title of its help page.
title_of <- function(rd) {
  part <- Filter(function(p) identical(attr(p, "Rd_tag"), "\\title"), rd)[[1]]
  gsub("\\s+", " ", trimws(paste(unlist(part), collapse = "")))
}
pages <- tools::Rd_db("kairon")
named <- function(rd) unlist(lapply(Filter(function(p) identical(attr(p, "Rd_tag"), "\\alias"), rd), unlist))
titles <- vapply(kairon:::known_methods(), function(m) {
  title_of(Filter(function(rd) paste0("by_", m) %in% named(rd), pages)[[1]])
}, "")
save("methods-list", kairon:::methods_table(titles))
