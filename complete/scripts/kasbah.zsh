#compdef kasbah
# Completion of kasbah for zsh. In ~/.zshrc, after compinit: source <(kasbah completion zsh)

_kasbah() {
  local answer head line suffix=' '
  local -a lines values shown
  answer=$(kasbah completion zsh words -- "${(@)words[2,CURRENT]}" 2>/dev/null) || return 1
  lines=("${(@f)answer}")
  head=" $lines[1] "
  for line in "${(@)lines[2,-1]}"; do
    [[ -n $line ]] || continue
    values+=("${line%%$'\t'*}")
    shown+=("${line%%$'\t'*}${${line#*$'\t'}:+  -- ${line#*$'\t'}}")
  done
  [[ $head == *" open "* ]] && suffix=''
  (( $#values )) && compadd -l -S "$suffix" -d shown -- "${(@)values}"
  [[ $head == *" files "* ]] && _files
  [[ $head == *" folders "* ]] && _files -/
  return 0
}
compdef _kasbah kasbah
