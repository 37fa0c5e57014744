# A command that is not there: in a project it is said what would provide it.
if [[ -z ${__trammel_says-} ]]; then
  typeset -g __trammel_says=1
  if (( $+functions[command_not_found_handler] )); then functions -c command_not_found_handler __trammel_before; fi
fi
command_not_found_handler() {
  if [[ -n ${__trammel_root-}${TRAMMEL_PROJECT-} && -x PROGRAM ]]; then PROGRAM follow --missing "$1" zsh; return 127; fi
  if (( $+functions[__trammel_before] )); then __trammel_before "$@"; return; fi
  print -ru2 -- "zsh: command not found: $1"
  return 127
}
