# Completions of combwright for bash.
_combwright() {
    local word=${COMP_WORDS[COMP_CWORD]}
    COMPREPLY=($(compgen -W "--report --where" -- "$word") $(compgen -f -X '!*.comb' -- "$word"))
}
complete -o filenames -F _combwright combwright
