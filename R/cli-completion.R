# Completion of verbs and options in the shell, made from the verbs themselves.

cli_completion <- function(files, options) {
  shell <- if (length(files) == 1) files else "none"
  if (!shell %in% c("bash", "zsh")) {
    abort_usage("{.val completion} needs the shell: bash or zsh.", "completion")
  }
  show_lines(completion_script(shell))
}

completion_script <- function(shell) {
  verbs <- cli_verbs()
  cases <- vapply(names(verbs), function(name) {
    flags <- vapply(verb_options(verbs[[name]]), function(o) gsub("_", "-", o@long_flag), "")
    paste0("    ", name, ") options=\"", paste(sort(c(flags, "--help")), collapse = " "), "\" ;;")
  }, "")
  c(
    "# Completion of kairon; to load it: source <(kairon completion SHELL)",
    if (shell == "zsh") "autoload -U +X bashcompinit && bashcompinit",
    "_kairon() {",
    "  local word=${COMP_WORDS[COMP_CWORD]} options=\"\"",
    "  COMPREPLY=()",
    "  if [ \"$COMP_CWORD\" -eq 1 ]; then",
    paste0("    COMPREPLY=($(compgen -W \"", paste(names(verbs), collapse = " "), "\" -- \"$word\"))"),
    "    return",
    "  fi",
    "  case \"${COMP_WORDS[1]}\" in", unname(cases), "  esac",
    "  case \"$word\" in",
    "    -*) COMPREPLY=($(compgen -W \"$options\" -- \"$word\")) ;;",
    "    *) COMPREPLY=($(compgen -f -- \"$word\")) ;;",
    "  esac",
    "}",
    "complete -o filenames -F _kairon kairon"
  )
}
