# Completion of yeldro in fish: put this into ~/.config/fish/completions/yeldro.fish:
#   yeldro completion fish | source
function __yeldro_words
    yeldro completion words fish (commandline -cp | string collect) 2>/dev/null | tail -n +2
end
complete -c yeldro -f -a '(__yeldro_words)'
