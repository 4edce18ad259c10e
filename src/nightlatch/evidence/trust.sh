# What may be believed of a process or a program: what the kernel says and what only root can write. A title, a name and a
# unit's name in a path are anybody's. Part of the collector, of the questions to sshd, and of latch.sh.
nl='
'
safe_path() { # PATH without folders that others than root may write, at any part of their way; where nothing can be asked it stays
    real=$(IFS=: && set -f && realpath -- $PATH) && [ -n "$real" ] || return 0
    safe=$(
        IFS=$nl parts='' seen=$nl
        set -f
        for each in $real; do
            while [ -n "$each" ]; do parts=$parts$nl$each each=${each%/*}; done
        done
        open=$(stat -c '%f %u %n' / $parts | while IFS= read -r each; do
            case $each in 4?[02468ace][014589cd]' 0 '*) ;; *) printf '%s\n' "${each#* * }" ;; esac
        done)
        for each in $real; do
            case $seen in *"$nl$each$nl"*) continue ;; esac
            seen=$seen$each$nl
            for part in $open; do case $each/ in "${part%/}"/*) continue 2 ;; esac; done
            printf '%s:' "$each"
        done
    )
    [ -z "$safe" ] || PATH=${safe%:}
} 2>/dev/null
is_roots() { # is_roots PROGRAM: whether it is a file that only root can write, below folders that only root can write, no link among them
    case $1 in *"$nl"* | *//* | */./* | */../*) return 1 ;; /*) ;; *) return 1 ;; esac
    (
        IFS=$nl parts=$1 above=$1 found=''
        set -f
        while above=${above%/*} && [ -n "$above" ]; do parts=$above$nl$parts; done
        for each in $(stat -c '%f %u %n' / $parts); do
            case $each in # the mode in hex: neither the group nor others may write
            4?[02468ace][014589cd]' 0 '*) ;;
            8?[02468ace][014589cd]" 0 $1") found=yes ;;
            *) exit 1 ;;
            esac
        done
        [ -n "$found" ]
    ) 2>/dev/null
}
kernel_says() { # kernel_says PID: sets uids and parent
    uids='' parent=''
    while IFS=' 	' read -r name rest; do
        case $name in
        Uid:) uids=$rest ;;
        PPid:) parent=$rest ;;
        esac
    done <"/proc/$1/status"
    case $uids in '0	0	0	0') uids=root ;; esac # real, effective, saved, for files
} 2>/dev/null
started() { # started PID: sets since, in ticks of the guest; it stands behind the name, which may hold anything (proc(5): stat)
    since=''
    while IFS= read -r line || [ -n "$line" ]; do since=$since$line; done <"/proc/$1/stat" || return 1
    since=${since##*) }
    for skipped in 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 20 21; do since=${since#* }; done
    since=${since%% *}
} 2>/dev/null
program_of() { # program_of PID: sets runs, the file that a process runs; one that was replaced counts as what is there now
    runs=$(readlink "/proc/$1/exe") || return 1
    [ -f "$runs" ] || runs=${runs% (deleted)}
} 2>/dev/null
