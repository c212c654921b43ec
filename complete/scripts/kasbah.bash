# Completion of kasbah for bash. In ~/.bashrc: source <(kasbah completion bash)

_kasbah() {
  local answer head line typed
  COMPREPLY=()
  answer=$(kasbah completion bash words "${COMP_LINE:0:COMP_POINT}" 2>/dev/null) || return 0
  typed=${COMP_WORDS[COMP_CWORD]}
  { read -r head
    while IFS= read -r line; do
      COMPREPLY+=("${line%%$'\t'*}")
    done
  } <<<"$answer"
  case " $head " in
    *" files "*) compopt -o filenames; while IFS= read -r line; do COMPREPLY+=("$line"); done < <(compgen -f -- "$typed") ;;
    *" folders "*) compopt -o filenames; while IFS= read -r line; do COMPREPLY+=("$line"); done < <(compgen -d -- "$typed") ;;
  esac
  case " $head " in *" open "*) compopt -o nospace ;; esac
}
complete -F _kasbah kasbah
