# The words of one call as files and options.

# --at-least=1, --at_least 1 and -o FILE; a value may begin with a dash, since an option that has one takes
# the next word, and two dashes alone end the options.
read_call <- function(args, name, verb) {
  known <- unlist(unname(verb_options(name, verb)), recursive = FALSE)
  files <- character()
  options <- list()
  i <- 1
  while (i <= length(args)) {
    word <- args[i]
    i <- i + 1
    if (word == "--") {
      files <- c(files, args[seq_len(length(args) - i + 1) + i - 1])
      break
    }
    if (!grepl("^--[A-Za-z]", word) && !word %in% c("-o", "-q")) {
      if (grepl("^-[A-Za-z]", word)) {
        abort_usage("{.val {name}} has no option {.val {word}}; options have two dashes, but for -o and -h.",
                    name)
      }
      files <- c(files, word)
      next
    }
    word <- switch(word, `-o` = "--output", `-q` = "--quiet", word)
    option <- known_option(word, known, name)
    glued <- grepl("=", word, fixed = TRUE)
    if (option$flag) {
      value <- if (glued) word_value(sub("^[^=]*=", "", word)) else TRUE
      if (!is.logical(value)) {
        flag <- dashed(option$name)
        abort_usage("{.val {flag}} takes no value; leave {.val {value}} out.", name)
      }
    } else if (glued) {
      value <- sub("^[^=]*=", "", word)
    } else if (i <= length(args) && !is_option(args[i], known)) {
      value <- args[i]
      i <- i + 1
    } else {
      flag <- dashed(option$name)
      abort_usage("{.val {flag}} needs a value: {.code {flag} {option$metavar}}.", name)
    }
    if (!is.null(options[[option$name]])) {
      flag <- dashed(option$name)
      abort_usage("{.val {flag}} is given twice.", name)
    }
    options[[option$name]] <- value
  }
  list(files = files, options = options)
}

# Whether a word is one of the options, so that a value has been forgotten before it.
is_option <- function(word, known) {
  word %in% c("-o", "-h") || grepl("^--[A-Za-z]", word) &&
    gsub("-", "_", sub("=.*", "", substring(word, 3))) %in% c(names(known), "help")
}

known_option <- function(word, known, verb) {
  name <- gsub("-", "_", sub("=.*", "", sub("^--", "", word)))
  if (name %in% names(known)) {
    return(known[[name]])
  }
  hint <- nearest_word(name, names(known))
  abort_usage(c(
    "{.val {verb}} has no option {.val {dashed(name)}}.",
    i = if (!is.null(hint)) "Did you mean {.val {dashed(hint)}}?"
  ), verb)
}
