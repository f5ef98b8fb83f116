# A web server for one test: a process of its own that answers each request on
# a free port of this machine in the way it is told to.
serve <- function(answer, body = "") {
  ready <- tempfile()
  script <- tempfile(fileext = ".R")
  writeLines(c(
    "server <- NULL",
    "while (is.null(server)) {",
    "  port <- 20000 + sample(12000, 1)",
    "  server <- tryCatch(serverSocket(port), error = function(e) NULL)",
    "}",
    sprintf("saveRDS(port, %s)", deparse(paste0(ready, ".part"))),
    sprintf("file.rename(%s, %s)", deparse(paste0(ready, ".part")), deparse(ready)),
    "for (i in 1:4) {",
    "  con <- socketAccept(server, open = 'r+b', timeout = 20)",
    "  readLines(con, 1)",
    sprintf("  how <- %s", deparse(answer)),
    sprintf("  body <- %s", paste(deparse(body), collapse = "")),
    "  if (how == 'stall') Sys.sleep(8)",
    "  ok <- paste0('HTTP/1.0 200 OK\\r\\nContent-Length: ', nchar(body), '\\r\\n\\r\\n', body)",
    "  # The connection ends in the middle of what was announced.",
    "  cut <- paste0('HTTP/1.0 200 OK\\r\\nContent-Length: 9999\\r\\n\\r\\n', body)",
    "  if (how == 'cut') cat(cut, file = con)",
    "  if (how == 'ok') cat(ok, file = con)",
    "  if (how == 'missing') cat('HTTP/1.0 404 Not Found\\r\\nContent-Length: 0\\r\\n\\r\\n', file = con)",
    "  close(con)",
    "}"
  ), script)
  system2(file.path(R.home("bin"), "Rscript"), c("--vanilla", script), wait = FALSE,
          stdout = FALSE, stderr = FALSE)
  for (i in 1:600) if (!file.exists(ready)) Sys.sleep(0.05)
  sprintf("http://127.0.0.1:%.0f/readings.csv", readRDS(ready))
}
