# Completion of trammel for bash. The program itself says what may come next.
_trammel() {
  local i n=-1 word line before words=()
  # A word with = or : in it arrives in pieces.
  for ((i = 0; i <= COMP_CWORD; i++)); do
    word=${COMP_WORDS[i]}
    if ((n > 0)) && { [[ $word == [=:]* ]] || [[ ${words[n]} == *[=:] ]]; }; then
      words[n]+=$word
    else
      words[++n]=$word
    fi
  done
  local current=${words[n]}
  [[ $current == -* ]] || unset "words[n]"
  before=${current%"${current##*[=:]}"}
  COMPREPLY=()
  while IFS= read -r line; do
    [[ $current == *:* ]] || line=${line%%:*}
    [[ -n $line && $line == "$current"* && $line != *[[:cntrl:]]* ]] || continue
    printf -v line %q "${line#"$before"}"
    COMPREPLY+=("$line")
  done < <(command trammel "${words[@]:1}" --generate-shell-completion 2>/dev/null)
}
complete -o bashdefault -o default -F _trammel trammel
