# A command that is not there: in a project it is said what would provide it.
if [ -z "${__trammel_says-}" ]; then
  __trammel_says=1
  if declare -F command_not_found_handle >/dev/null; then
    __trammel_word=$(declare -f command_not_found_handle)
    eval "__trammel_before${__trammel_word#command_not_found_handle}"
    unset -v __trammel_word
  fi
fi
command_not_found_handle() {
  if [ -n "${__trammel_root-}${TRAMMEL_PROJECT-}" ] && [ -x PROGRAM ]; then PROGRAM follow --missing "$1" bash; return 127; fi
  if declare -F __trammel_before >/dev/null; then __trammel_before "$@"; return; fi
  printf '%s: %s: command not found\n' "${0##*/}" "$1" >&2
  return 127
}
