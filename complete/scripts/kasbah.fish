# Completion of kasbah for fish. In ~/.config/fish/config.fish: kasbah completion fish | source

function __kasbah_words
    set -l line (commandline -opc) (commandline -ct)
    set -l answer (kasbah completion fish words -- $line[2..-1] 2>/dev/null)
    set -l head $answer[1]
    for word in $answer[2..-1]
        echo $word
    end
    if string match -q '* files*' -- $head
        __fish_complete_path (commandline -ct)
    else if string match -q '* folders*' -- $head
        __fish_complete_directories (commandline -ct)
    end
end
complete -c kasbah -f -a '(__kasbah_words)'
