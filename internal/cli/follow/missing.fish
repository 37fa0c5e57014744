# A command that is not there: in a project it is said what would provide it.
if not set -q __trammel_says
    set -g __trammel_says 1
    functions -q fish_command_not_found; and functions -c fish_command_not_found __trammel_before
end
function fish_command_not_found
    if test -n "$__trammel_root$TRAMMEL_PROJECT"; and test -x PROGRAM
        PROGRAM follow --missing $argv[1] fish
        return 127
    end
    if functions -q __trammel_before
        __trammel_before $argv
    else
        echo "fish: Unknown command: $argv[1]" >&2
    end
    return 127
end
