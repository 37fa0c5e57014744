# Trammel: this shell follows the folders of projects. At a prompt it runs no
# process unless it came into another project or one of its files changed.
typeset -g __trammel_root= __trammel_undo= __trammel_pwd=
__trammel_changed() { [[ -f trammel.toml ]] }
__trammel_keep() {
  emulate -L zsh
  if [[ ${(Pt)1} == *export* ]]; then __trammel_undo+="export $1=${(qq)${(P)1}};"
  elif (( ${(P)+1} )); then __trammel_undo+="unset $1; typeset -g $1=${(qq)${(P)1}};"
  else __trammel_undo+="unset $1;"; fi
}
__trammel_leave() {
  emulate -L zsh
  [[ -z $__trammel_undo ]] || { eval "$__trammel_undo"; rehash }
  __trammel_root= __trammel_undo=
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
