
# Bash splits words at colons and keeps backslashes. Both occur in names such as rack:a and my\ card.img.
_imbrik() {
    local line=${COMP_LINE:0:COMP_POINT} typed index word
    local -a words
    read -a words <<< "$line"
    [[ $line == *" " && $line != *"\\ " ]] && words+=("")
    local -a COMP_WORDS=("${words[@]}")
    local COMP_CWORD=$((${#words[@]} - 1))
    typed=${words[COMP_CWORD]}
    _clap_complete_imbrik imbrik "$typed"
    for index in "${!COMPREPLY[@]}"; do
        word=${COMPREPLY[index]}
        if [[ $COMP_WORDBREAKS == *:* && $typed == *:* ]]; then
            word=${word#"${typed%:*}:"}
        fi
        printf -v "COMPREPLY[$index]" %q "$word"
    done
}
complete -o nospace -o bashdefault -F _imbrik imbrik
