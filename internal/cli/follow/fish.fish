# Trammel: this shell follows the folders of projects. At a prompt it runs no
# process unless it came into another project or one of its files changed.
set -g __trammel_root
set -g __trammel_names
set -g __trammel_watch
set -g __trammel_missing
set -g __trammel_stamp /nowhere
set -g __trammel_pwd
function __trammel_keep
    set -ga __trammel_names $argv[1]
    if set -qgx $argv[1]
        set -g __trammel_had_$argv[1] export
        set -g __trammel_old_$argv[1] $$argv[1]
    else if set -qg $argv[1]
        set -g __trammel_had_$argv[1] global
        set -g __trammel_old_$argv[1] $$argv[1]
    else
        set -g __trammel_had_$argv[1] none
    end
end
function __trammel_leave
    for name in $__trammel_names
        set -l had __trammel_had_$name
        set -l old __trammel_old_$name
        switch $$had
            case export
                set -gx $name $$old
            case global
                set -eg $name
                set -gu $name $$old
            case none
                set -eg $name
        end
        set -e $had
        set -e $old
    end
    set -g __trammel_names
    set -g __trammel_root
    set -g __trammel_watch
    set -g __trammel_missing
end
function __trammel_moved
    for file in $__trammel_watch
        test $file -nt $__trammel_stamp; and return 0
    end
    for file in $__trammel_missing
        test -e $file; and return 0
    end
    return 1
end
function __trammel_same
    test "$PWD" = "$__trammel_pwd"; or return 1
    if test -z "$__trammel_root"
        not test -f trammel.toml
        return
    end
    test -f "$__trammel_root/trammel.toml"; or return 1
    not __trammel_moved
end
function __trammel_prompt --on-event fish_prompt
    __trammel_same; and return 0
    set -g __trammel_pwd $PWD
    set -l dir $PWD
    set -l root
    while true
        if test -f "$dir/trammel.toml"
            set root $dir
            test -n "$root"; or set root /
            break
        end
        test -n "$dir"; or break
        set dir (string replace -r '/[^/]*$' '' -- $dir)
    end
    if test "$root" = "$__trammel_root"
        test -n "$root"; or return 0
        __trammel_moved; or return 0
    end
    __trammel_leave
    test -n "$root"; or return 0
    set -g __trammel_root $root
    PROGRAM follow --enter $root --of $fish_pid fish | source
end
