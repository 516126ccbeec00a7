# Completion of yeldro in bash: put this line into ~/.bashrc:
#   eval "$(yeldro completion bash)"
_yeldro() {
    local line goes_on=
    COMPREPLY=()
    while IFS= read -r line; do
        if [ -z "$goes_on" ]; then goes_on=$line; else COMPREPLY+=("$line"); fi
    done < <(yeldro completion words bash "${COMP_LINE:0:COMP_POINT}" "$COMP_WORDBREAKS" 2>/dev/null)
    if [ "$goes_on" = on ]; then compopt -o nospace; fi
}
complete -F _yeldro yeldro
