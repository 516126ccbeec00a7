#compdef yeldro
# Completion of yeldro in zsh: put this line into ~/.zshrc, after compinit:
#   eval "$(yeldro completion zsh)"
_yeldro() {
    local line goes_on= words_to_offer=() shown=()
    local typed="${(j: :)words[1,CURRENT-1]} $QIPREFIX$IPREFIX$PREFIX"
    while IFS= read -r line; do
        if [[ -z $goes_on ]]; then
            goes_on=$line
        else
            words_to_offer+=("${line%%$'\t'*}")
            if [[ $line == *$'\t'* ]]; then
                shown+=("${line%%$'\t'*}  ${line#*$'\t'}")
            else
                shown+=("$line")
            fi
        fi
    done < <(yeldro completion words zsh "$typed" 2>/dev/null)
    (( $#words_to_offer )) || return 1
    if [[ $goes_on == on ]]; then
        compadd -U -S '' -l -d shown -a words_to_offer
    else
        compadd -U -l -d shown -a words_to_offer
    fi
}
compdef _yeldro yeldro
