# Trammel: this shell follows the folders of projects. At a prompt it runs no
# process unless it came into another project or one of its files changed.
__trammel_root= __trammel_undo= __trammel_pwd=
__trammel_changed() { [[ -f trammel.toml ]]; }
__trammel_keep() {
  case $__trammel_exports in
    *"declare -x $1="*|*"declare -x $1"$'\n'*) printf -v __trammel_word 'export %s=%q;' "$1" "${!1}" ;;
    *) if [ -n "${!1+set}" ]; then printf -v __trammel_word 'unset %s; %s=%q;' "$1" "$1" "${!1}"
       else __trammel_word="unset $1;"; fi ;;
  esac
  __trammel_undo+=$__trammel_word
}
__trammel_leave() {
  [ -z "$__trammel_undo" ] || { eval "$__trammel_undo"; hash -r; }
  __trammel_root= __trammel_undo=
  __trammel_changed() { [[ -f trammel.toml ]]; }
}
__trammel_prompt() {
  if [[ $PWD == "$__trammel_pwd" ]] && ! __trammel_changed; then return 0; fi
  local dir=$PWD root=
  __trammel_pwd=$PWD
  while :; do
    if [ -f "$dir/trammel.toml" ]; then root=${dir:-/}; break; fi
    [ -n "$dir" ] || break
    dir=${dir%/*}
  done
  if [ "$root" = "$__trammel_root" ] && { [ -z "$root" ] || ! __trammel_changed; }; then return 0; fi
  __trammel_leave
  [ -n "$root" ] || return 0
  local __trammel_exports __trammel_word
  __trammel_exports=$(export -p)$'\n'
  __trammel_root=$root
  eval "$(PROGRAM follow --enter "$root" --of $$ bash)" || :
  return 0
}
case $(declare -p PROMPT_COMMAND 2>/dev/null) in
  *__trammel_prompt*) ;;
  'declare -a'*) PROMPT_COMMAND+=(__trammel_prompt) ;;
  *) PROMPT_COMMAND="${PROMPT_COMMAND:+$PROMPT_COMMAND$'\n'}__trammel_prompt" ;;
esac
