# Trammel: this shell follows the folders of projects. At a prompt it runs no
# process unless it came into another project or one of its files changed.
typeset -g __trammel_root= __trammel_pwd=
typeset -ga __trammel_undo
__trammel_undo=()
__trammel_changed() { [[ -f trammel.toml ]] }
# What a variable was is kept as the command that makes it so again, with its attributes
# and all of an array (zshexpn(1), the flags P and t).
__trammel_set() {
  emulate -L zsh
  local __trammel_kind=${(Pt)1} __trammel_flags= __trammel_word=
  if [[ $__trammel_kind == *readonly* ]]; then
    print -ru2 -- "trammel: $1 is readonly in this shell, and stays as it is"
    return 0
  fi
  [[ $__trammel_kind == *export* ]] && __trammel_flags+=x
  [[ $__trammel_kind == *-lower* ]] && __trammel_flags+=l
  [[ $__trammel_kind == *-upper* ]] && __trammel_flags+=u
  [[ $__trammel_kind == *-unique* ]] && __trammel_flags+=U
  case $__trammel_kind in
    '') __trammel_word="unset $1" ;;
    *special*)
      if [[ $__trammel_kind == *export* ]]; then __trammel_word="export $1=${(qq)${(P)1}}"
      else __trammel_word="typeset +x $1; $1=${(qq)${(P)1}}"; fi ;;
    association*)
      local -a __trammel_pairs
      eval "__trammel_pairs=( \"\${(@kv)$1}\" )"
      __trammel_word="unset $1; typeset -gA$__trammel_flags $1; $1=(${(j: :)${(qq@)__trammel_pairs}})" ;;
    array*) __trammel_word="unset $1; typeset -ga$__trammel_flags $1; $1=(${(j: :)${(qq@)${(P@)1}}})" ;;
    integer*) __trammel_word="unset $1; typeset -gi$__trammel_flags $1=${(qq)${(P)1}}" ;;
    float*) __trammel_word="unset $1; typeset -gF$__trammel_flags $1=${(qq)${(P)1}}" ;;
    *) __trammel_word="unset $1; typeset -g${__trammel_flags:+$__trammel_flags} $1=${(qq)${(P)1}}" ;;
  esac
  local __trammel_ok=
  {
    [[ $__trammel_kind == *special* ]] || unset $1 2>/dev/null
    { export "$1=$2" && __trammel_ok=yes } 2>/dev/null
  } always { TRY_BLOCK_ERROR=0 }
  if [[ -n $__trammel_ok ]]; then __trammel_undo+=("$__trammel_word")
  else print -ru2 -- "trammel: this shell does not let $1 be set"; fi
}
# Each variable goes back by itself, whatever becomes of the others.
__trammel_leave() {
  emulate -L zsh
  local __trammel_word
  for __trammel_word in "${__trammel_undo[@]}"; do
    {
      eval "$__trammel_word" 2>/dev/null || print -ru2 -- "trammel: not given back: ${__trammel_word%%;*}"
    } always { TRY_BLOCK_ERROR=0 }
  done
  [[ -z $__trammel_root ]] || rehash
  __trammel_root=
  __trammel_undo=()
  __trammel_changed() { [[ -f trammel.toml ]] }
}
__trammel_prompt() {
  emulate -L zsh
  if [[ $PWD == $__trammel_pwd ]] && ! __trammel_changed; then return 0; fi
  local dir=$PWD root=
  __trammel_pwd=$PWD
  while :; do
    if [[ -f $dir/trammel.toml ]]; then root=${dir:-/}; break; fi
    [[ -n $dir ]] || break
    dir=${dir%/*}
  done
  if [[ $root == $__trammel_root ]] && { [[ -z $root ]] || ! __trammel_changed }; then return 0; fi
  __trammel_leave
  [[ -n $root ]] || return 0
  __trammel_root=$root
  eval "$(PROGRAM follow --enter "$root" --of $$ zsh)" || :
  return 0
}
typeset -ga precmd_functions
[[ -n ${precmd_functions[(r)__trammel_prompt]-} ]] || precmd_functions+=(__trammel_prompt)
