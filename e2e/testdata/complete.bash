# Prints what bash offers when the tabulator key is pressed: complete.bash PROGRAM LINE
source /usr/share/bash-completion/bash_completion
source <("$1" completion bash)
line=$2
COMP_LINE=$line COMP_POINT=${#line} COMP_TYPE=9 COMP_KEY=9
COMP_WORDS=()
read -r -a parts <<<"$line"
for word in "${parts[@]}"; do # bash ends words at = and :, too
	while [[ $word == *[:=]* ]]; do
		start=${word%%[:=]*}
		[ -n "$start" ] && COMP_WORDS+=("$start")
		COMP_WORDS+=("${word:${#start}:1}")
		word=${word:$((${#start} + 1))}
	done
	[ -n "$word" ] && COMP_WORDS+=("$word")
done
[[ $line == *" " ]] && COMP_WORDS+=("")
COMP_CWORD=$((${#COMP_WORDS[@]} - 1))
__start_zipstamp 2>/dev/null
printf '%s\n' "${COMPREPLY[@]}"
