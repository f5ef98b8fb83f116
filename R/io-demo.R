# How each file of the demo world is read.
demo_files <- list(
  river = list(
    file = "river.csv.gz", what = "river gauge, readings about every 20 minutes",
    read = function(path) {
      read_timeline(
        path, time, levels = c("flow", "level"), units = c(flow = "l/s", level = "m"),
        zone = "Europe/London", missing = "---", repeats = "first"
      )
    }
  ),
  demand = list(
    file = "demand.csv.gz", what = "daily water demand of eight districts",
    read = function(path) {
      read_timeline(path, day, district, amounts = "demand", units = c(demand = "m3"))
    }
  ),
  energy = list(
    file = "energy.csv.gz", what = "hourly pump energy at two stations",
    read = function(path) {
      read_timeline(
        path, time, station, amounts = "energy", units = c(energy = "kWh"),
        zone = "Europe/London"
      )
    }
  ),
  billed = list(
    file = "billed.csv", what = "monthly billed volume over ten years",
    read = function(path) {
      read_timeline(path, month, amounts = "volume", units = c(volume = "Ml"))
    }
  ),
  accounts = list(
    file = "accounts.csv", what = "quarterly accounts, fiscal year from April",
    read = function(path) {
      read_timeline(
        path, quarter_end, amounts = c("revenue", "cost"),
        units = c(revenue = "million", cost = "million")
      )
    }
  ),
  rain = list(
    file = "rain.csv", what = "daily rain",
    read = function(path) {
      read_timeline(path, day, amounts = "rain", units = c(rain = "mm"))
    }
  ),
  pressure = list(
    file = "pressure.csv.gz", what = "pressure at a pumping station, every 18 minutes",
    read = function(path) {
      read_timeline(path, time, levels = "pressure", units = c(pressure = "bar"))
    }
  ),
  soil = list(
    file = "soil.csv.gz", what = "monthly soil moisture by elevation, in cells of different area",
    read = function(path) {
      read_timeline(
        path, month, "cell", attributes = c("elevation", "area"), levels = "moisture",
        units = c(moisture = "%")
      )
    }
  )
)

#' The demo data: Quillmere Water
#'
#' Invented data of an invented valley utility. What was planted in them (spikes, stuck stretches,
#' gaps, holidays, shifts, the true components) is recorded in the file `quillmere-truth.json`
#' beside them.
#'
#' @param name Which one; without a name, the list of them.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A timeline, or without a name a data frame with the columns `name`, `what` and `file`
#'   (path of the file it is read from).
#' @seealso [cadence_of()], [calendar-arithmetic], [events()], [rejects()], [ts-conversion]
#' @examples
#' demo_timeline()
#' demo_timeline("demand")
#' @export
demo_timeline <- function(name = NULL, ...) {
  refuse_more("demo_timeline", ...)
  if (is.null(name)) {
    return(data.frame(
      name = names(demo_files),
      what = vapply(demo_files, `[[`, "", "what"),
      file = vapply(demo_files, function(d) demo_path(d$file), ""),
      row.names = NULL
    ))
  }
  name <- check_choice(name, names(demo_files))
  entry <- demo_files[[name]]
  quiet <- options(kairon.quiet = TRUE)
  on.exit(options(quiet))
  entry$read(demo_path(entry$file))
}

demo_path <- function(file) {
  system.file("extdata", file, package = "kairon", mustWork = TRUE)
}
