#compdef trammel
# Completion of trammel for zsh. The program itself says what may come next.
_trammel() {
  local -a asked found
  asked=("${(@)words[1,CURRENT-1]}")
  [[ $words[CURRENT] == -* ]] && asked+=("$words[CURRENT]")
  found=("${(@f)$(command trammel "${(@)asked[2,-1]}" --generate-shell-completion 2>/dev/null)}")
  if [[ -n $found[1] ]]; then
    _describe 'trammel' found
  else
    _files
  fi
}
if [[ $funcstack[1] == _trammel ]]; then
  _trammel "$@"
elif (( $+functions[compdef] )); then
  compdef _trammel trammel
else
  autoload -Uz compinit && compinit && compdef _trammel trammel
fi
