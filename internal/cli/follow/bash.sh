# Trammel: this shell follows the folders of projects. At a prompt it runs no
# process unless it came into another project or one of its files changed.
__trammel_root= __trammel_undo=() __trammel_pwd=
__trammel_changed() { [[ -f trammel.toml ]]; }
# What a variable was is kept as the command that makes it so again, with its attributes
# and all of an array (Bash Reference Manual, 3.5.3, the operators @A and @a).
__trammel_set() {
  local __trammel_word __trammel_kind
  if ((BASH_VERSINFO[0] * 100 + BASH_VERSINFO[1] >= 404)); then
    eval "__trammel_kind=\${$1@a} __trammel_word=\${$1[*]@A}"
    case $__trammel_kind in
      *r*) printf '%s\n' "trammel: $1 is readonly in this shell, and stays as it is" >&2; return 0 ;;
      *[aA]*) eval "__trammel_word=\${$1[@]@A}" ;;
      *) eval "__trammel_word=\${$1@A}" ;;
    esac
    case $__trammel_word in
      'declare -'*) __trammel_word="unset -v $1; declare -g ${__trammel_word#declare }" ;;
      ?*) __trammel_word="unset -v $1; declare -g $__trammel_word" ;;
      *) __trammel_word="unset -v $1" ;;
    esac
  elif [ -z "${!1+set}" ]; then __trammel_word="unset -v $1"
  else
    case $__trammel_exports in
      *"declare -x $1="*|*"declare -x $1"$'\n'*) printf -v __trammel_word 'export %s=%q' "$1" "${!1}" ;;
      *) printf -v __trammel_word 'unset %s; %s=%q' "$1" "$1" "${!1}" ;;
    esac
  fi
  unset -v "$1" 2>/dev/null
  if export "$1=$2" 2>/dev/null; then __trammel_undo+=("$__trammel_word")
  else printf '%s\n' "trammel: this shell does not let $1 be set" >&2; fi
}
# Each variable goes back by itself, whatever becomes of the others.
__trammel_leave() {
  local __trammel_word
  for __trammel_word in ${__trammel_undo[@]+"${__trammel_undo[@]}"}; do
    eval "$__trammel_word" 2>/dev/null || printf '%s\n' "trammel: not given back: ${__trammel_word%%;*}" >&2
  done
  [ -z "$__trammel_root" ] || hash -r
  __trammel_root= __trammel_undo=()
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
  local __trammel_exports=
  ((BASH_VERSINFO[0] * 100 + BASH_VERSINFO[1] >= 404)) || __trammel_exports=$(export -p)$'\n'
  __trammel_root=$root
  eval "$(PROGRAM follow --enter "$root" --of $$ bash)" || :
  return 0
}
case $(declare -p PROMPT_COMMAND 2>/dev/null) in
  *__trammel_prompt*) ;;
  'declare -a'*) PROMPT_COMMAND+=(__trammel_prompt) ;;
  *) PROMPT_COMMAND="${PROMPT_COMMAND:+$PROMPT_COMMAND$'\n'}__trammel_prompt" ;;
esac
