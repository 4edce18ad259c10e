# Nightlatch, one change on the latch: the guest itself takes it back unless a fresh connection keeps it. POSIX sh.
# usage: sh latch.sh go | revert | back | guard | rehearse | keep
# Everything is a function, called on the last line, so that a file cut short runs nothing.
say() { # say STATE WORDS: how far it got, for whoever waits
    printf '%s\n' "$*" >>"$change/progress"
}
tell() { # tell WORDS [MORE]: how it ended; the room kept for this is given free first, for the disk may be full
    rm -f "$change/room"
    printf '%s\n%s' "$1" "$2" >"$change/outcome.part" && mv -f "$change/outcome.part" "$change/outcome"
}
settle() { sync "$@" 2>/dev/null || sync; }
digest() { sha256sum <"$1" 2>/dev/null | cut -c1-64; }
uptime_now() { read -r up rest </proc/uptime && printf '%s\n' "${up%.*}"; }
each_path() { # each_path FUNCTION: for every row of the table, in order; stops at the first that fails
    while read -r number bk bm bu bg bs ak am au ag as path; do
        folder=${path%/*}
        staged=$folder/.nightlatch-$id-$number~
        [ -d "${folder:-/}" ] || staged=${folder%/*}/.nightlatch-$id-$(row_of "$folder")~/${path##*/}
        "$1" || return 1
    done <"$change/table"
}
row_of() { # the number of a path's own row
    awk -v wanted="$1" '{ path = $0; for (i = 0; i < 11; i++) sub("^[^ ]* ", "", path); if (path == wanted) print $1 }' "$change/table"
}
folder_goes() { # whether the folder of this path is taken away by the same change
    other=$(row_of "$folder")
    [ -n "$other" ] && awk -v other="$other" '$1 == other { exit $7 != "absent" }' "$change/table"
}
in_reverse() { # the same from the last row to the first, and never stopping
    sed '1!G;h;$!d' "$change/table" >"$change/table.back"
    while read -r number bk bm bu bg bs ak am au ag as path; do
        folder=${path%/*}
        staged=$folder/.nightlatch-$id-$number~
        "$1"
    done <"$change/table.back"
}
meta() { stat -c '%a %u %g' "$1" 2>/dev/null; }
is_before() { # whether the path is as the draft was proved on
    [ ! -L "$path" ] || return 1
    case $bk in
    absent) [ ! -e "$path" ] ;;
    folder) [ -d "$path" ] && [ "$(meta "$path")" = "$bm $bu $bg" ] ;;
    *) [ -f "$path" ] && [ "$(meta "$path")" = "$bm $bu $bg" ] && [ "$(digest "$path")" = "$bs" ] ;;
    esac
}
is_ours() { # whether the path is as this change makes it, or on the way there
    [ ! -L "$path" ] || return 1
    case $ak in
    absent) [ ! -e "$path" ] ;;
    folder) [ -d "$path" ] && known_meta ;;
    *) [ -f "$path" ] && known_meta && case $(digest "$path") in "$as" | "$bs") true ;; *) false ;; esac ;;
    esac
}
known_meta() {
    seen=$(meta "$path")
    for one in "$bm $bu $bg" "$am $au $ag" "$bm $au $ag" "$bm $au $bg" "$bm $bu $ag"; do [ "$seen" != "$one" ] || return 0; done
    return 1
}

# 1 lock, 2 timer, 3 mark
take_lock() {
    mkdir "$home/lock" 2>/dev/null && return 0
    held=$(cat "$home/lock/id" 2>/dev/null)
    age=$(($(date +%s) - $(stat -c %Y "$home/lock" 2>/dev/null || date +%s)))
    [ $age -ge 0 ] || age=$((0 - age))
    if [ ! -e "/run/nightlatch/${held:-none}" ] && ! timer_runs "$held" && [ $age -gt 10 ]; then
        # Neither timer nor mark: whoever took it died before anything was changed, or the guest was restarted.
        if [ -n "$held" ] && [ -f "$home/changes/$held/latch.sh" ]; then sh "$home/changes/$held/latch.sh" clear; fi
        rm -rf "$home/lock"
        mkdir "$home/lock" 2>/dev/null && return 0
    fi
    return 1
}
timer_runs() {
    if [ "$init" = systemd ]; then systemctl -q is-active "nightlatch-revert-$1.timer" "nightlatch-revert-$1.service" 2>/dev/null; else
        pid=$(cat "$home/lock/timer" 2>/dev/null) && [ -n "$pid" ] && kill -0 "$pid" 2>/dev/null && grep -q latch.sh "/proc/$pid/cmdline"
    fi
}
arm() { # arm NAME SECONDS MODE: run this file again after so many seconds, whatever becomes of this process
    if [ "$init" = systemd ]; then
        systemd-run --quiet --collect --unit="$1-$id" --on-active="$2" --timer-property=AccuracySec=200ms \
            --timer-property=IgnoreOnIsolate=yes --property=IgnoreOnIsolate=yes --property=Type=oneshot \
            --property=Restart=on-failure --property=RestartSec=1s --property=StartLimitIntervalSec=0 \
            --property=TimeoutStartSec=300s /bin/sh "$change/latch.sh" "$3"
    else
        setsid sh -c 'sleep "$1"; until sh "$2" "$3"; do sleep 1; done' sh "$2" "$change/latch.sh" "$3" </dev/null >/dev/null 2>&1 &
        [ "$3" != revert ] || printf '%s\n' $! >"$home/lock/timer"
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

# 7 guard: a restart on the latch comes up with what was before
place_guard() {
    if [ "$init" = systemd ]; then
        unit=/etc/systemd/system/nightlatch-guard.service
        cat >"$unit.part" <<UNIT || return 1
[Unit]
Description=Nightlatch: take change $id back after a restart
DefaultDependencies=no
RequiresMountsFor=/var/lib/nightlatch $(cut -d' ' -f12- "$change/table" | tr '\n' ' ')
After=systemd-remount-fs.service systemd-tmpfiles-setup.service
Before=ssh.service ssh.socket sshd.service sshd.socket${net:+ network-pre.target systemd-networkd.service NetworkManager.service networking.service}${rules:+ $rules}
ConditionPathExists=!/run/nightlatch/$id
[Service]
Type=oneshot
TimeoutStartSec=90
ExecStart=/bin/sh $change/latch.sh guard
UNIT
        mv -f "$unit.part" "$unit" || return 1
        at guard-written
        [ -d /etc/systemd/system/sysinit.target.wants ] || : >"$change/wants-made"
        mkdir -p /etc/systemd/system/sysinit.target.wants && ln -sf "$unit" /etc/systemd/system/sysinit.target.wants/ || return 1
    elif [ -d /etc/rcS.d ]; then
        printf '#!/bin/sh\nexec sh %s/latch.sh guard\n' "$change" >/etc/rcS.d/S02nightlatch-guard &&
            chmod 755 /etc/rcS.d/S02nightlatch-guard || return 1
    elif [ "$unguarded" != yes ]; then
        why="this guest has no systemd and no /etc/rcS.d: after a restart nothing would take the change back"
        return 1
    fi
    settle
}
drop_guard() {
    rm -f /etc/systemd/system/sysinit.target.wants/nightlatch-guard.service /etc/rcS.d/S02nightlatch-guard
    rm -f /etc/systemd/system/nightlatch-guard.service /etc/systemd/system/nightlatch-guard.service.part
    [ ! -e "$change/wants-made" ] || rmdir /etc/systemd/system/sysinit.target.wants 2>/dev/null
    rm -f "$change/wants-made"
}

# 4 save, 5 stage
save() {
    is_before || { why="$path was changed since it was read; survey again"; return 1; }
    [ "$bk" = file ] || return 0
    cp -a "$path" "$change/$number.before" && [ "$(digest "$change/$number.before")" = "$bs" ] ||
        { why="$path could not be copied"; return 1; }
    at "saved $number"
}
stage() {
    if [ "$bk" != absent ]; then
        awk -v path="$path" '$5 == path { found = 1 } END { exit found }' /proc/self/mountinfo ||
            { why="$path is a mount of its own, and can't be replaced in one step"; return 1; }
        case $(lsattr -d "$path" 2>/dev/null | cut -d' ' -f1) in
        *[ia]*) why="$path is marked as not to be changed (chattr)" && return 1 ;;
        esac
    fi
    [ "$ak" = file ] || [ "$bk$ak" = absentfolder ] || return 0
    if [ "$ak" = folder ]; then
        mkdir -m 700 "$staged" || { why="$staged could not be made"; return 1; }
    elif [ "$bk" = file ]; then
        cp -a "$path" "$staged" || { why="$staged could not be made"; return 1; }
        [ "$as" = "$bs" ] || cat "$change/$number.after" >"$staged" || { why="$staged could not be written"; return 1; }
    else
        cat "$change/$number.after" >"$staged" || { why="$staged could not be written"; return 1; }
    fi
    [ "$bk" = absent ] && restorecon "$staged" 2>/dev/null
    chown "$au:$ag" "$staged" && chmod "$am" "$staged" || { why="$staged could not be given its owner and mode"; return 1; }
    [ "$ak" = folder ] || [ "$(digest "$staged")" = "$as" ] || { why="$staged is not what was sent"; return 1; }
    settle "$staged"
    at "staged $number"
}

# 6 check: the guest's own daemon, with the options it runs with, on its own paths with the new files laid over them
lay_over() {
    [ "$ak" = file ] && [ "$as" != "$bs" ] || return 0
    case $bk in
    file) mount --bind "$staged" "$path" ;;
    absent) # nothing is there that could be laid over: a copy of its folder is, where sshd has its settings
        case $path in
        /etc/ssh/*)
            laid=$change/copy/laid$number
            mkdir -p "$laid" && cp -a "$folder/." "$laid" && cp -a "$staged" "$laid/${path##*/}" && mount --bind "$laid" "$folder"
            ;;
        esac ;;
    esac
}
check() { # runs in a mount namespace of its own, or on a copy with its paths rewritten
    [ "$check" = yes ] || return 0
    mkdir -p /run/sshd 2>/dev/null && chmod 755 /run/sshd
    if [ "$over" = yes ]; then
        mount --make-rprivate / && each_path lay_over || { echo "the new files could not be laid over the old"; return 1; }
        main=$mainfile
    else
        main=$change/copy$mainpath
    fi
    eval "set -- $daemon"
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
checked() {
    if unshare -m true 2>/dev/null; then
        why=$(unshare -m sh "$change/latch.sh" check-over 2>&1) || return 1
    else
        why=$(sh "$change/latch.sh" check-copy 2>&1) || return 1
    fi
    why=''
}

# 8 swap
swap() {
    if [ "$bk$ak" = absentfile ] && [ ! -e "$staged" ] && [ "$(digest "$path")" = "$as" ]; then
        at "swapped $number" # it came with its folder
        return 0
    fi
    is_before || { why="$path was changed by somebody else meanwhile"; return 1; }
    # The original stays beside it under another name, the very file: taking it back needs no room on the disk.
    # Not where its folder goes, too, which has to be empty then: the copy does.
    if [ "$bk" = file ] && ! folder_goes; then ln "$path" "$staged.old" 2>/dev/null || true; fi
    if [ "$ak" = absent ]; then
        if [ "$bk" = folder ]; then rmdir "$path"; else { [ -e "$staged.old" ] || folder_goes; } && rm -f "$path"; fi || { why="$path could not be taken away"; return 1; }
    elif [ "$bk" = folder ]; then
        chown "$au:$ag" "$path" && chmod "$am" "$path" || { why="$path could not be changed"; return 1; }
    elif [ -e "$path" ] || [ -e "$staged" ]; then
        mv -T "$staged" "$path" || { why="$path could not be replaced"; return 1; }
    fi
    at "swapped $number"
}

# 12 decide: a link is made whole or not at all, so it is one or the other, never both
decide() { ln -s "$1" "$change/decision" 2>/dev/null; [ "$(readlink "$change/decision")" = "$1" ]; }
put_back() {
    rm -rf "$staged"
    if is_before; then rm -f "$staged.old"
    elif is_ours; then
        case $bk in
        absent) if [ "$ak" = folder ]; then rmdir "$path" 2>/dev/null || leave; else rm -f "$path"; fi ;;
        folder) { [ -d "$path" ] || mkdir "$path"; } && chown "$bu:$bg" "$path" && chmod "$bm" "$path" ;;
        *) the_original && mv -T "$staged.old" "$path" ;;
        esac || { broken=yes; say broken "$path could not be put back"; }
    else
        rm -f "$staged.old"
        leave
    fi
    at "put back $number"
}
leave() { # somebody else changed it meanwhile, or put something into it
    left="$left$path
"
}
the_original() {
    [ "$(digest "$staged.old")" = "$bs" ] || { rm -f "$staged.old" && cp -a "$change/$number.before" "$staged.old" && settle "$staged.old"; }
    chown "$bu:$bg" "$staged.old" && chmod "$bm" "$staged.old" # where only these were changed, it is the same file
}
drop_original() { rm -f "$staged.old"; }
stop_going() { # whoever is still on the way in must not go on while it is taken back
    case $mode in go | guard | clear) return 0 ;; esac
    if [ "$init" = systemd ]; then systemctl stop nightlatch-go.service 2>/dev/null; return 0; fi
    pid=$(cat "$change/going" 2>/dev/null)
    if [ -n "$pid" ] && grep -q latch.sh "/proc/$pid/cmdline" 2>/dev/null; then kill -9 -- "-$pid" 2>/dev/null || kill -9 "$pid"; fi
}
revert() { # revert WHY: everything as it was; what somebody else changed meanwhile is left, and said
    if ! decide revert; then finish_kept; return; fi
    stop_going
    rm -f "$change/room"
    say reverting "$1"
    at reverting
    left='' broken='' worse=''
    [ "$2" = boot ] || [ "$net" != ifupdown ] || [ ! -e "$change/away" ] || ifdown "$interface"
    in_reverse put_back
    settle
    at restored
    [ -z "$broken" ] || exit 1
    sockets=$was_sockets
    [ -z "$acts" ] || acts_back "$2"
    stop_service "$2"
    start=''
    [ "$was_running" = yes ] || sockets=''
    if [ "$2" != boot ] && { [ -e "$change/loading" ] || [ -e "$change/loaded" ] || [ -e "$change/away" ]; }; then
        [ -z "$net" ] || net_load back
        load
        start_again
        look || { start_again; look; } || worse="$worse; but sshd does not listen as before"
    fi
    # A boot has read the unit's files before they were put back.
    [ "$2" != boot ] || [ -z "$rebind" ] || systemctl daemon-reload
    at reloaded
    tell "put back: $1$worse" "$left"
    at told
    drop_guard
    at unguarded
    release
}
finish_kept() {
    say keeping
    at keeping
    [ ! -e "$change/table" ] || each_path drop_original
    if [ "$stay" = yes ]; then
        mv -f "$change/record.part" "$change/record.json" 2>/dev/null
    fi
    [ -z "$forget" ] || rm -rf "$home/changes/$forget"
    tell "kept${forget:+: it takes back change $forget}"
    drop_guard
    at "kept unguarded"
    release
}
release() {
    rm -f "/run/nightlatch/$id"
    rmdir /run/nightlatch 2>/dev/null
    rm -rf "$change/copy" "$change/expected" "$change/table.back" "$change/rehearsed" "$change/loading" "$change/loaded" "$change/going" "$change/unit" "$change/started" "$change/worked" "$change/away" "$change/generate" "$change/acts" "$change/acted" "$change/acted.back" "$change"/rules.*
    if [ -e "$change/record.json" ]; then rm -f "$change"/table; else rm -f "$change"/*.before "$change"/*.after "$change/record.part" "$change/table"; fi
    prune
    settle
    at releasing
    held=$(cat "$home/lock/id" 2>/dev/null) pid=$(cat "$home/lock/timer" 2>/dev/null)
    if [ "$mode" != revert ]; then
        if [ "$init" = systemd ]; then systemctl stop "nightlatch-revert-$id.timer" 2>/dev/null
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
    rm -f "$change"/*.after "$change/record.part" "$change/table" "$change/expected" "$change/latch.sh"
    rm -rf "$change/copy"
}
go() {
    echo $$ >"$change/going"
    at begun
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
    remember
    rehearse || { give_up "the timer does not run this guest's own file"; return; }
    at rehearsed
    place_guard || { give_up "${why:-the boot guard could not be placed}"; return; }
    at guarded
    each_path save || { give_up "$why"; return; }
    each_path stage || { give_up "$why"; return; }
    at staged
    [ -z "$net" ] || net_check || { give_up "$why"; return; }
    [ -z "$acts" ] || acts_check || { give_up "$why"; return; }
    checked || { give_up "$why"; return; }
    at checked
    settle
    [ -z "$net" ] || net_note
    [ "$net" != ifupdown ] || net_leave # it takes down what its files say, so before they change
    each_path swap || { give_up "$why"; return; }
    settle
    at swapped
    : >"$change/loading"
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
    umask 077
    home=/var/lib/nightlatch change=/var/lib/nightlatch/changes/$id mode=$1
    why='' left='' staged=''
    [ -d /run/systemd/system ] && init=systemd || init=other
    case $1 in
    go) go ;;
    clear) revert "whoever began it was cut off" ;;
    revert) revert "the time on the latch was over" ;;
    back) revert "taken back by ${2:-hand}" ;;
    guard) [ -e "/run/nightlatch/$id" ] || revert "the guest was restarted while the change was on the latch" boot ;;
    rehearse) : >"$change/rehearsed" ;;
    check-over) over=yes; check ;;
    check-copy) over=no; check ;;
    check-net) mount --make-rprivate / && each_path lay_over && ifup --no-act --force "$interface" ;;
    keep) if decide keep; then finish_kept; else revert "it was decided already"; fi ;;
    esac
}
