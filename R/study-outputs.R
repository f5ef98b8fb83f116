# What a study writes: all of it, or nothing.

write_outputs <- function(run) {
  stage <- partial_name(run$folder)
  dir.create(stage)
  on.exit(unlink(stage, recursive = TRUE))
  out <- run$value$outputs
  tables <- out$tables %||% "csv"
  figures <- out$figures %||% "svg"
  before <- figure_style(if (isTRUE(out$dark)) "dark" else "light", figure_size())
  tryCatch(
    {
      if (isTRUE(out$prepared)) write_timeline(run$made$prepared, file.path(stage, "prepared.csv"))
      results <- study_results(run)
      side_by_side(names(results), function(name) {
        write_result_table(results[[name]], stage, name, tables)
        write_result_figure(results[[name]], stage, name, figures)
      })
      if (length(out$report)) {
        write_report(study_report_parts(run), file.path(stage, out$report), study_title(run$study))
      }
      told <- jsonlite::toJSON(provenance(run), auto_unbox = TRUE, pretty = 2, digits = NA)
      write_text(told, file.path(stage, "provenance.json"))
    },
    finally = do.call(figure_style, before)
  )
  move_all(stage, run$folder)
}

study_title <- function(study) {
  study$value$title %||% paste("Report on", word_list(basename(unlist(study$value$data$source))))
}

study_results <- function(run) {
  m <- run$made
  looks <- m$looks
  if (length(looks)) names(looks) <- gsub("_", "-", names(looks))
  Filter(Negate(is.null),
         c(looks, list(decomposition = m$decomposition, scores = m$scores, backtest = m$backtest,
                                        forecast = m$forecast)))
}

write_result_table <- function(result, stage, name, form) {
  if (form == "none") {
    return(invisible())
  }
  rows <- plain_columns(as.data.frame(result))
  write_whole(file.path(stage, paste0(name, ".", form)), function(partial) {
    if (form == "json") writeLines(as_json(rows), partial) else write_rows(rows, partial)
  })
}

write_result_figure <- function(result, stage, name, form) {
  if (form == "none" || !has_figure(result)) {
    return(invisible())
  }
  draw_file(autoplot(result), file.path(stage, paste0(name, ".", form)))
}

# A file of a figure, by its ending.
figure_endings <- c("png", "svg", "pdf")

# `size` in inches; 110 dots each in a picture of dots.
draw_file <- function(plot, path, size = NULL) {
  dots <- if (is.null(size)) c(1280, 800) else round(110 * size)
  size <- size %||% c(11.6, 7.3)
  write_whole(path, function(partial) {
    switch(tolower(tools::file_ext(path)),
      png = ragg::agg_png(partial, dots[1], dots[2], res = 110),
      svg = svglite::svglite(partial, size[1], size[2]),
      pdf = grDevices::pdf(partial, size[1], size[2])
    )
    tryCatch(print(plot), finally = grDevices::dev.off())
  })
}

# Versions, digests and settings: what it takes to do it again.
provenance <- function(run) {
  value <- run$value
  sources <- c(list(value$data), value$other_data)
  digests <- unlist(lapply(sources, function(s) file_digests(s[intersect(names(s), path_keys)])))
  list(
    kairon = as.character(utils::packageVersion("kairon")),
    r = paste(R.version$major, R.version$minor, sep = "."),
    made = format(Sys.time(), "%Y-%m-%dT%H:%M:%SZ", tz = "UTC"), seed = value$seed %||% 1,
    studies = lapply(run$study$files, function(f) list(file = basename(f$file), md5 = f$digest)),
    data = lapply(names(digests), function(n) list(file = basename(n), md5 = digests[[n]])),
    rows = nrow(run$made$data),
    steps = lapply(run$steps, function(s) list(step = s$step, from_cache = s$from_cache))
  )
}

move_all <- function(stage, folder) {
  names <- list.files(stage)
  # A folder takes the place of none but an empty one: that of an earlier run goes first.
  for (name in names[dir.exists(file.path(stage, names))]) unlink(file.path(folder, name), recursive = TRUE)
  done <- file.rename(file.path(stage, names), file.path(folder, names))
  if (!all(done)) {
    abort_file(c("{.file {names[!done][1]}} cannot be written to {.file {folder}}.",
                 i = "Is there a folder of that name?"), call = NULL, .envir = environment())
  }
  file.path(folder, names)
}
