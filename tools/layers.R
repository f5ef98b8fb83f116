# Reads the real calls between the files of R/ and prints the layers with the
# arrows between them. Fails on an arrow from a layer to one below it, on files
# of one layer that call each other in a circle, and on an R header in the core. Run from the
# repository root.

layers <- c(
  "bindings", "base", "core", "time", "timeline", "verb", "look", "method", "assess", "io",
  "figure", "report", "study", "cli"
)
# What a layer may call beside itself. io stands beside the middle layers: it
# needs the timeline only.
before <- function(layer) layers[seq_len(match(layer, layers))]
may_call <- lapply(setNames(layers, layers), before)
may_call$io <- c("bindings", "base", "core", "time", "timeline", "io")
may_call$bindings <- "bindings"

layer_of <- function(file) {
  name <- basename(file)
  if (name == "RcppExports.R") return("bindings")
  sub("-.*", "", name)
}

# Top-level functions of each file, and the globals that each of them uses.
read_file <- function(file) {
  exprs <- parse(file, keep.source = FALSE)
  env <- new.env(parent = globalenv())
  out <- list()
  for (e in exprs) {
    if (!is.call(e) || !as.character(e[[1]])[1] %in% c("<-", "=")) next
    if (!is.name(e[[2]])) next
    name <- as.character(e[[2]])
    body <- e[[3]]
    if (is.call(body) && identical(body[[1]], as.name("function"))) {
      used <- codetools::findGlobals(eval(body, env), merge = TRUE)
    } else {
      used <- all.names(body)
    }
    out[[name]] <- used
  }
  out
}

files <- list.files("R", "\\.R$", full.names = TRUE)
files <- files[basename(files) != "kairon-package.R"]
content <- lapply(setNames(files, files), read_file)
home <- unlist(lapply(files,
                      function(f) setNames(rep(f, length(content[[f]])), names(content[[f]]))))
problems <- character()
twice <- unique(names(home)[duplicated(names(home))])
if (length(twice)) problems <- c(problems, paste("function defined in two files:", twice))
unknown <- setdiff(vapply(files, layer_of, ""), layers)
if (length(unknown)) problems <- c(problems, paste("file prefix without a layer:", unknown))

calls <- list()
arrows <- matrix(0L, length(layers), length(layers), dimnames = list(layers, layers))
for (f in files) {
  from <- layer_of(f)
  for (fun in names(content[[f]])) {
    for (called in intersect(unique(content[[f]][[fun]]), names(home))) {
      to <- layer_of(home[[called]])
      # A generic is called by its name; its methods live where their class does.
      arrows[from, to] <- arrows[from, to] + 1L
      if (to == from && home[[called]] != f) calls[[f]] <- union(calls[[f]], home[[called]])
      if (!to %in% may_call[[from]]) {
        problems <- c(problems,
                      sprintf("%s: %s() calls %s() of %s", f, fun, called, home[[called]]))
      }
    }
  }
}

# Files from which calls come back to where they began.
reached <- function(from) {
  seen <- character()
  next_ones <- calls[[from]]
  while (length(next_ones)) {
    seen <- c(seen, next_ones)
    next_ones <- setdiff(unlist(calls[next_ones]), seen)
  }
  seen
}
circling <- Filter(function(f) f %in% reached(f), names(calls))
circling <- split(circling, vapply(circling, layer_of, ""))
for (layer in names(circling)) {
  problems <- c(problems,
                paste("files that call each other in a circle:", toString(circling[[layer]])))
}

core <- list.files("src/core", "\\.(cpp|h)$", full.names = TRUE)
headers <- grep('#include *[<"](R|Rcpp|Rinternals|Rmath)', unlist(lapply(core, readLines)),
                value = TRUE)
if (length(headers)) problems <- c(problems, paste("R header in the core:", headers))

cat("calls from each layer (rows) to each layer (columns):\n")
shown <- arrows[rowSums(arrows) + colSums(arrows) > 0, rowSums(arrows) + colSums(arrows) > 0]
print(ifelse(shown == 0, ".", shown), quote = FALSE, right = TRUE)
if (length(problems)) {
  cat("\nArrows that run the wrong way:\n", paste0("  ", problems, "\n"), sep = "")
  quit(status = 1)
}
cat("All arrows run the right way.\n")
