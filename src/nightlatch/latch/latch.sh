# Nightlatch, one change on the latch: the guest itself takes it back unless a fresh connection keeps it. POSIX sh.
# usage: sh latch.sh go | revert | back | guard | late | rehearse | keep
# Everything is a function, called on the last line, so that a file cut short runs nothing.
say() { # say STATE WORDS: how far it got, for the one who waits
    printf '%s\n' "$*" >>"$change/progress"
} 2>/dev/null
tell() { # tell WORDS [ROWS]: how it ended. It is written over a file that is there, and what else was set aside is given free first
    rm -rf "$change/room"
    said=$(printf '%s\n%s' "$1" "$2" | head -c 4000)
    if [ -e "$change/outcome.part" ]; then printf '%s\n' "$said" 1<>"$change/outcome.part"; else printf '%s\n' "$said" >"$change/outcome.part"; fi &&
        mv -f "$change/outcome.part" "$change/outcome"
} 2>/dev/null
settle() { sync "$@" 2>/dev/null || sync; }
uptime_now() { read -r up rest </proc/uptime && printf '%s\n' "${up%.*}"; }

# 1 lock, 2 timer, 3 mark
take_lock() {
    mkdir "$home/lock" 2>/dev/null && return 0
    held=$(cat "$home/lock/id" 2>/dev/null)
    age=$(($(date +%s) - $(stat -c %Y "$home/lock" 2>/dev/null || date +%s)))
    [ $age -ge 0 ] || age=$((0 - age))
    if [ ! -e "/run/nightlatch/${held:-none}" ] && ! timer_runs "$held" && [ $age -gt 10 ]; then
        # Neither timer nor mark: the change that took it died before anything was changed, or the guest was restarted.
        if [ -n "$held" ] && [ -f "$home/changes/$held/latch.sh" ]; then sh "$home/changes/$held/latch.sh" clear || return 1; fi
        rm -rf "$home/lock"
        mkdir "$home/lock" 2>/dev/null && return 0
    fi
    return 1
}
timer_runs() { # timer_runs CHANGE: whether the guest will take it back by itself, or is trying to
    if [ "$init" = systemd ]; then
        for each in "nightlatch-revert-$1.timer" "nightlatch-revert-$1.service" nightlatch-guard-late.service; do
            case $(systemctl show -p ActiveState "$each" 2>/dev/null) in *=active | *=activating | *=reloading) return 0 ;; esac
        done
        return 1
    fi
    pid=$(cat "$home/lock/timer" 2>/dev/null) && [ -n "$pid" ] && kill -0 "$pid" 2>/dev/null && grep -q latch.sh "/proc/$pid/cmdline"
}
arm() { # arm NAME SECONDS MODE: run this file again after so many seconds, whatever becomes of this process
    if [ "$init" = systemd ]; then
        systemd-run --quiet --collect --unit="$1-$id" --on-active="$2" --timer-property=AccuracySec=200ms \
            --timer-property=IgnoreOnIsolate=yes --property=IgnoreOnIsolate=yes --property=Type=oneshot \
            --property=Restart=on-failure --property=RestartSec=3s --property=StartLimitIntervalSec=0 \
            --property=TimeoutStartSec=300s /bin/sh "$change/latch.sh" "$3"
    else
        setsid sh -c 'sleep "$1"; until sh "$2" "$3"; do sleep 3; done' sh "$2" "$change/latch.sh" "$3" </dev/null >/dev/null 2>&1 9<&- &
        [ "$3" = rehearse ] || printf '%s\n' $! >"$home/lock/timer"
    fi
}
rehearse() { # the same timer and file must really run here before anything depends on them
    arm nightlatch-rehearse 0.1 rehearse || return 1
    tries=0
    until [ -e "$change/rehearsed" ]; do
        tries=$((tries + 1))
        [ $tries -lt 100 ] || return 1
        sleep 0.1
    done
}

# 6 check: the guest's own daemon, with the options it runs with, on its own paths with the new files laid over them
lay_over() { # only what others can't swap is laid over; no file of a user's is one that sshd reads for -t or -T
    [ "$ak" = file ] && [ "$as" != "$bs" ] && [ "$(top_of "$folder")" = "$folder" ] || return 0
    case $bk in
    file) mount --bind "$staged" "$path" ;;
    absent) # nothing is there that could be laid over: a copy of its folder is, where sshd has its settings
        case $path in
        /etc/ssh/*)
            laid=$change/copy/laid$number
            mkdir -p "$laid" && cp -a "$folder/." "$laid" && cp -a "$staged" "$laid/$name" && mount --bind "$laid" "$folder"
            ;;
        esac ;;
    esac
}
check() { # runs in a mount namespace of its own, or on a copy with its paths rewritten
    [ "$check" = yes ] || return 0
    is_roots "$program" || { echo "others than root can change $program"; return 1; }
    mkdir -p /run/sshd 2>/dev/null && chmod 755 /run/sshd
    if [ "$over" = yes ]; then
        mount --make-rprivate / && rows there lay_over || { echo "the new files could not be laid over the old"; return 1; }
        main=$mainfile
    else
        main=$change/copy$mainpath
    fi
    eval "set -- \"\$program\" $options"
    [ "$over" = yes ] && [ "$mainfile" = /etc/ssh/sshd_config ] || set -- "$@" -f "$main"
    said=$("$@" -t 2>&1 </dev/null) || { printf '%s\n' "sshd refuses the new files: $said" | head -n 3; return 1; }
    who='' told=''
    while read -r kind rest; do
        if [ "$kind" = asked ]; then
            who=$rest
            told=$("$@" -T -C "$rest" 2>&1 </dev/null) || { echo "sshd -T fails for $rest"; return 1; }
        else
            printf '%s\n' "$told" | grep -qxF -e "$rest" || { echo "for $who, sshd does not say: $rest"; return 1; }
        fi
    done <"$change/expected"
}
rules_of_sudo() { # a rule that sudo can't read would take everybody's rights away
    case $path in /etc/sudoers | /etc/sudoers.d/*) ;; *) return 0 ;; esac
    [ "$ak" = file ] && command -v visudo >/dev/null 2>&1 || return 0
    said=$(visudo -c -q -f "$staged" 2>&1 </dev/null) || { why="visudo refuses the new $path: $(printf '%s' "$said" | head -n 1)"; return 1; }
}
checked() {
    rows there rules_of_sudo || return 1
    if unshare -m true 2>/dev/null; then
        why=$(unshare -m sh "$change/latch.sh" check-over 2>&1) || return 1
    else
        why=$(sh "$change/latch.sh" check-copy 2>&1) || return 1
    fi
    why=''
}

# 12 decide: there is one link, which either becomes the decision to keep or is taken away. Neither needs room on the disk, and
# only one of them can be done; where neither can, nothing was decided to be kept.
decide_keep() { mv -fT "$change/may-keep" "$change/decision" 2>/dev/null; is_kept; }
is_kept() { [ "$(readlink "$change/decision" 2>/dev/null)" = keep ]; }
stop_going() { # a script that still makes the change must not go on while it is taken back
    case $mode in go | guard | late | clear) return 0 ;; esac
    if [ "$init" = systemd ]; then stop_units; return 0; fi
    pid=$(cat "$change/going" 2>/dev/null)
    if [ -n "$pid" ] && grep -q latch.sh "/proc/$pid/cmdline" 2>/dev/null; then kill -9 -- "-$pid" 2>/dev/null || kill -9 "$pid"; fi
}
turn() { # one at a time: the timer, a decision and a boot may come together. The kernel gives the turn free when its holder ends
    command -v flock >/dev/null 2>&1 && [ -e "$change/turn" ] || return 0
    command exec 9<"$change/turn" || return 0
    flock -w 60 9 || { [ "$mode" != revert ] || stop_units nightlatch-decide.service; flock -w 30 9 || exit 1; }
    [ -e "$change/latch.sh" ] || exit 0 # the one that held the lock has finished
} 2>/dev/null
stop_units() { [ "$init" != systemd ] || systemctl stop nightlatch-go.service "$@" 2>/dev/null; }
revert() { # revert WHY [boot]: everything as it was; what somebody else changed meanwhile is left, and said
    turn
    rm -f "$change/may-keep" 2>/dev/null
    if is_kept; then finish_kept; return; fi
    stop_going
    rm -rf "$change/room"
    say reverting "$1"
    at reverting
    told_rows='' stuck='' moved='' worse=''
    [ "$2" = boot ] || [ "$net" != ifupdown ] || [ ! -e "$change/away" ] || ifdown "$interface"
    rows back put_back
    is_sound || rows back put_whole
    settle
    at restored
    sockets=$was_sockets
    [ -z "$acts" ] || acts_back "$2"
    stop_service "$2"
    service_back "$2"
    start=''
    [ "$was_running" = yes ] || sockets=''
    # What was restored counts at once, whatever else is still to be done.
    if [ "$2" != boot ] && { [ -n "$moved" ] || [ -e "$change/loading" ] || [ -e "$change/loaded" ] || [ -e "$change/away" ]; }; then
        [ -z "$net" ] || { [ ! -e "$change/loading" ] && [ ! -e "$change/away" ]; } || net_load back
        load
        start_again
        look || { start_again; look; } || worse="$worse; but sshd does not listen as before"
        rm -f "$change/loading" "$change/loaded" "$change/away" 2>/dev/null
    fi
    # A boot has read the unit's files before they were put back.
    [ "$2" != boot ] || [ -z "$rebind" ] || systemctl daemon-reload
    at reloaded
    [ -z "$stuck" ] || try_on
    tell "put back: $1$worse" "$(told_whole)" || try_on
    at told
    rows back drop_row
    drop_guard
    at unguarded
    release
}
told_whole() { # all rows, those of earlier tries too
    printf '%s' "$told_rows" >>"$change/rows" 2>/dev/null || printf '%s' "$told_rows"
    sort -u "$change/rows" 2>/dev/null
}
try_on() { # the timer, the guard and the lock stay; it is done again from the beginning until nothing is left to do
    printf '%s' "$told_rows" >>"$change/rows" 2>/dev/null
    case $mode in revert | late) exit 1 ;; esac
    say trying "$(printf '%s' "$stuck" | head -n 1)"
    if [ "$init" = systemd ]; then
        systemctl --no-block start "nightlatch-revert-$id.service" 2>/dev/null || [ "$mode" = guard ] || arm nightlatch-again 1 revert
    else
        pid=$(cat "$home/lock/timer" 2>/dev/null)
        [ "$mode" = guard ] || [ -z "$pid" ] || kill -- "-$pid" 2>/dev/null
        arm '' 3 revert
    fi
    exit 1
}
finish_kept() {
    settle
    say keeping
    at keeping
    rows there drop_row
    ! grep -q '^account-take ' "$change/acts" 2>/dev/null || accounts_kept
    if [ "$stay" = yes ]; then
        mv -f "$change/record.part" "$change/record.json" 2>/dev/null
    fi
    [ -z "$forget" ] || rm -rf "$home/changes/$forget"
    tell "kept${forget:+: it takes back change $forget}" || exit 1
    drop_guard
    at "kept unguarded"
    release
}
release() { # the lock goes last
    rm -f "/run/nightlatch/$id"
    rmdir /run/nightlatch 2>/dev/null
    for each in copy room generate expected table.back rehearsed loading loaded going service links started worked away acts acted rows mounts vaults parts may-keep turn identity; do
        rm -rf "$change/$each"
    done
    rm -f "$change"/rules.* "$change"/*.hunks
    if [ -e "$change/record.json" ]; then rm -f "$change"/table; else rm -f "$change"/*.before "$change"/*.after "$change/record.part" "$change/table"; fi
    prune
    settle
    at releasing
    held=$(cat "$home/lock/id" 2>/dev/null) pid=$(cat "$home/lock/timer" 2>/dev/null)
    if [ "$mode" != revert ]; then
        if [ "$init" = systemd ]; then systemctl stop "nightlatch-revert-$id.timer" "nightlatch-revert-$id.service" 2>/dev/null
        elif [ "$held" = "$id" ] && [ -n "$pid" ]; then kill -- "-$pid" 2>/dev/null; fi
    fi
    at timeless
    [ "$held" != "$id" ] || rm -rf "$home/lock"
    rm -f "$change/latch.sh"
}
prune() { # the last ten changes are kept for undo
    names=$(ls "$home/changes" | sort -r | awk 'NR > 10')
    for one in $names; do [ "$one" = "$id" ] || rm -rf "$home/changes/$one"; done
}

turned_away() { # before anything was begun: what was sent goes again, and why is told
    tell "refused: $1"
    for each in copy room expected table table.back parts acts record.part may-keep turn latch.sh; do rm -rf "$change/$each"; done
    rm -f "$change"/*.after "$change"/*.hunks
}
go() {
    echo $$ >"$change/going"
    at begun
    known_door || {
        turned_away "sshd is not the process that was read, or can't be told from others; survey again"
        return
    }
    take_lock || {
        turned_away "another change is on the latch: $(cat "$home/lock/who" 2>/dev/null || echo unknown)"
        return
    }
    at locked
    # A lock without a name could not be told from a dead one, and would not be given free again.
    printf '%s\n' "$id" >"$home/lock/id.part" && mv "$home/lock/id.part" "$home/lock/id" || {
        rm -rf "$home/lock"
        turned_away "$home has no room"
        return
    }
    at named
    if ! arm nightlatch-revert "$seconds" revert; then
        rm -rf "$home/lock"
        tell "refused: no timer could be set on this guest"
        return
    fi
    at armed
    mkdir -p /run/nightlatch && : >"/run/nightlatch/$id"
    printf '%s, change %s, since uptime %s s for %s s\n' "$owner" "$id" "$(uptime_now)" "$seconds" >"$home/lock/who"
    at marked
    remember || { give_up "$change has no room"; return; }
    rehearse || { give_up "the timer does not run this guest's own file"; return; }
    at rehearsed
    place_guard || { give_up "${why:-the boot guard could not be placed}"; return; }
    at guarded
    rows there plan || { give_up "$why"; return; }
    settle
    rows there save || { give_up "$why"; return; }
    rows there stage || { give_up "$why"; return; }
    at staged
    [ -z "$net" ] || net_check || { give_up "$why"; return; }
    [ -z "$acts" ] || acts_check || { give_up "$why"; return; }
    checked || { give_up "$why"; return; }
    at checked
    settle
    [ -z "$net" ] || net_note
    [ "$net" != ifupdown ] || net_leave # it takes down what its files say, so before they change
    rows there swap || { give_up "$why"; return; }
    settle
    at swapped
    : >"$change/loading" || { give_up "$change has no room"; return; }
    at loading
    [ -z "$acts" ] || acts_do || { give_up "$why"; return; }
    if [ -n "$net" ]; then
        [ "$net" = ifupdown ] || net_leave
        net_load fresh || { give_up "$net could not be told to read its files again"; return; }
        at moved
    fi
    load || { give_up "sshd could not be told to read its files again"; return; }
    : >"$change/loaded"
    at loaded
    [ -z "$net" ] || net_look || { give_up "$why"; return; }
    look || { give_up "sshd does not listen on $(echo $sockets)"; return; }
    [ -z "$acts" ] || acts_look || { give_up "$why"; return; }
    at looked
    say on-the-latch
}
give_up() { revert "$1"; }

main() {
    LC_ALL=C PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin:$PATH
    export LC_ALL PATH
    safe_path
    umask 077
    cd /
    home=/var/lib/nightlatch change=/var/lib/nightlatch/changes/$id mode=$1
    why='' staged='' told_rows='' stuck='' moved=''
    [ -d /run/systemd/system ] && init=systemd || init=other
    case $1 in
    go) go ;;
    clear) revert "the administrator who began it was cut off" ;;
    revert) revert "the time on the latch was over" ;;
    back) revert "taken back by ${2:-hand}" ;;
    guard) [ -e "/run/nightlatch/$id" ] || revert "the guest was restarted while the change was on the latch" boot ;;
    late) [ -e "/run/nightlatch/$id" ] || revert "the guest was restarted while the change was on the latch" ;;
    rehearse) : >"$change/rehearsed" ;;
    check-over) over=yes; check ;;
    check-copy) over=no; check ;;
    check-net) mount --make-rprivate / && rows there lay_over && ifup --no-act --force "$interface" ;;
    password) password_give "$2" ;;
    keep) turn; if decide_keep; then finish_kept; else revert "it could not be decided to keep it"; fi ;;
    esac
}
