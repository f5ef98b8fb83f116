# placeholder
open_remote <- function(...) abort_state("not yet")
