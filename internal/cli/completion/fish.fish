# Completion of trammel for fish. The program itself says what may come next.
function __trammel_next
    set -l words (commandline -opc)
    set -l current (commandline -ct)
    string match -q -- '-*' $current; and set -a words $current
    for line in (command trammel $words[2..-1] --generate-shell-completion 2>/dev/null)
        set -l parts (string split -m 1 ':' -- $line)
        if test (count $parts) -eq 2
            printf '%s\t%s\n' $parts[1] $parts[2]
        else if test -n "$line"
            printf '%s\n' $line
        end
    end
end
complete -c trammel -f -a '(__trammel_next)'
