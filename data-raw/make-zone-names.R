# The time zones of Windows by the names of the IANA database, from the table of the Unicode CLDR
# (package unicode-cldr-core of Debian). Run from the root: Rscript data-raw/make-zone-names.R

source <- "/usr/share/unicode/cldr/common/supplemental/windowsZones.xml"
lines <- grep("territory=\"001\"", readLines(source), value = TRUE)
value <- function(key) sub(paste0(".*", key, "=\"([^\"]*)\".*"), "\\1", lines)
write.csv(data.frame(name = value("other"), zone = sub(" .*", "", value("type"))), "inst/zones/windows.csv",
          row.names = FALSE, quote = FALSE)
