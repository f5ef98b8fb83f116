# How far long work is: a bar where somebody watches; in a log one line at the end, where it took its time.

# `tick(by)` moves it on, `reach(at)` sets it, `done()` ends it; it ends with the caller's frame, too.
progress <- function(name, total, env = parent.frame()) {
  if (cli::is_dynamic_tty(stderr())) {
    bar <- cli::cli_progress_bar(name, total = total, auto_terminate = FALSE, .envir = env)
    return(list(
      tick = function(by = 1) cli::cli_progress_update(by, id = bar),
      reach = function(at) cli::cli_progress_update(set = at, id = bar),
      done = function() cli::cli_progress_done(id = bar)
    ))
  }
  begun <- proc.time()[["elapsed"]]
  list(
    tick = function(by = 1) NULL, reach = function(at) NULL,
    done = function() {
      took <- proc.time()[["elapsed"]] - begun
      if (took >= getOption("cli.progress_show_after", 2)) {
        shown <- show_number(took, 2)
        tell(c(i = "{name}: done in {shown} s."))
      }
    }
  )
}
