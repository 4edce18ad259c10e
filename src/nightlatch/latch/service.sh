# The part of a change that is about sshd's service: loading its files, starting and stopping it, looking whether it listens.
# Always beside latch.sh.
load() {
    if [ -n "$start" ]; then
        start_service || return 1
        [ "$was_running" = yes ] || return 0
    fi
    [ "$reload" = yes ] || return 0
    if [ -n "$rebind" ]; then
        # A socket can't be opened anew while its service runs; sessions live on (measured: systemd 252, KillMode=process).
        systemctl daemon-reload && systemctl stop "${rebind%.socket}.service" && systemctl restart "$rebind"
        return
    fi
    if [ "$init" = systemd ] && systemctl -q is-active ssh.socket sshd.socket 2>/dev/null; then
        for each in ssh.service sshd.service; do systemctl try-restart "$each" 2>/dev/null; done
        return 0
    fi
    [ "$was_running" = yes ] || find_door || return 0
    wait_for 20 find_door || return 1 # while it starts over it holds no socket
    wait_for 50 hears "$pid" # between its start and its first wait, sshd ignores the signal to read its files again
    read -r image rest <"/proc/$pid/maps"
    if [ "$init" = systemd ]; then systemctl reload "$unit"; else kill -HUP "$pid"; fi || return 1
    wait_for 20 renewed "$pid" "$image" || :
}
wait_for() { # wait_for TENTHS COMMAND...: whether it held in that time
    tries=$1
    shift
    until "$@"; do
        tries=$((tries - 1))
        [ $tries -gt 0 ] || return 1
        sleep 0.1
    done
}
hears() { # hears PID: whether it has a handler for SIGHUP; a process that is gone is not waited for
    while read -r name mask; do
        case $name:$mask in SigCgt::*[13579bdf]) return 0 ;; SigCgt::*) return 1 ;; esac
    done <"/proc/$1/status"
    return 0
} 2>/dev/null
renewed() { # renewed PID IMAGE: sshd reads its files by running itself anew, which lays it elsewhere in memory; its number stays
    read -r now rest <"/proc/$1/maps" || return 0
    [ "$now" != "$2" ] && hears "$1"
} 2>/dev/null
start_service() { # a service that did not run: enabled and started; what it was before is noted first
    if [ "$init" = systemd ]; then
        for each in $start; do systemctl cat "$each" >/dev/null 2>&1 && break; done
        printf '%s %s %s\n' "$each" "$(systemctl is-enabled "$each" 2>/dev/null || true)" "$(systemctl is-active "$each")" >"$change/started"
        systemctl enable --quiet "$each" && systemctl start "$each"
    elif command -v rc-service >/dev/null 2>&1; then
        echo "rc sshd" >"$change/started"
        rc-update -q add sshd default && rc-service sshd start
    else
        echo "none sshd" >"$change/started"
        mkdir -p /run/sshd && chmod 755 /run/sshd
        run_daemon && wait_for 50 find_door && started "$pid" && echo "none $pid $since" >"$change/started"
    fi
}
run_daemon() { # run_daemon [OPTION]: sshd as it ran, or would be started, where nobody else can have put another program
    is_roots "$program" || return 1
    eval "set -- \"\$program\" $options \"\$@\""
    [ "$mainfile" = /etc/ssh/sshd_config ] || set -- "$@" -f "$mainfile"
    "$@" 9<&-
}
is_sound() { # where lines of ours were taken out of somebody else's, sshd has to take what is left
    case $told_rows in *"merged "*) ;; *) return 0 ;; esac
    [ "$reload" != yes ] || run_daemon -t >/dev/null 2>&1
}
stop_service() { # stop_service [boot]: as it was before it was started
    [ -e "$change/started" ] || return 0
    read -r each enabled active <"$change/started"
    case $each in
    rc) rc-service sshd stop; rc-update -q del sshd default ;;
    none) [ "$enabled" = sshd ] || { started "$enabled" && [ "$since" = "$active" ] && kill "$enabled"; } ;;
    *)
        [ "$enabled" = enabled ] || systemctl disable --quiet "$each"
        # At boot its start is only planned yet: a stop in its place is planned instead, and not waited for.
        if [ "$1" = boot ]; then systemctl --no-block stop "$each"
        elif [ "$active" != active ]; then systemctl stop "$each"; fi
        ;;
    esac
    rm -f "$change/started"
}
remember() { # what sshd's units are like before anything is done, and the links by which they are started
    : >"$change/service" && : >"$change/links" || return 1
    [ "$init" = systemd ] || return 0
    for each in $units; do
        printf '%s %s %s\n' "$each" "$(systemctl is-enabled "$each" 2>/dev/null | head -n 1)" "$(systemctl is-active "$each" 2>/dev/null)" >>"$change/service" || return 1
        for link in /etc/systemd/system/*.wants/"$each" /etc/systemd/system/*.requires/"$each" "/etc/systemd/system/$each" /etc/systemd/system/ssh.* /etc/systemd/system/sshd.*; do
            [ ! -L "$link" ] || printf '%s %s\n' "$link" "$(readlink "$link")" >>"$change/links" || return 1
        done
    done
}
service_back() { # service_back [boot]: units that somebody masked, disabled or stopped meanwhile, or that failed, are as they were
    [ "$init" = systemd ] && [ -s "$change/service" ] || return 0
    relinked=''
    while read -r each was active; do
        now=$(systemctl is-enabled "$each" 2>/dev/null | head -n 1)
        case $was:$now in
        masked*:masked*) ;;
        *:masked) systemctl unmask "$each" 2>/dev/null && relinked=yes ;;
        *:masked-runtime) systemctl unmask --runtime "$each" 2>/dev/null && relinked=yes ;;
        esac
    done <"$change/service"
    while read -r link target; do
        [ -e "$link" ] || [ -L "$link" ] || { mkdir -p "${link%/*}" && ln -s "$target" "$link" && relinked=yes; }
    done <"$change/links"
    [ -z "$relinked" ] || systemctl daemon-reload
    while read -r each was active; do
        if [ "$1" = boot ]; then
            [ -z "$relinked" ] || [ "$active" != active ] || systemctl --no-block start "$each"
        elif [ "$active" = active ] && ! systemctl -q is-active "$each"; then
            systemctl reset-failed "$each" 2>/dev/null
            case $each in *.socket) systemctl stop "${each%.socket}.service" 2>/dev/null ;; esac
            systemctl start "$each" 2>/dev/null
        fi
    done <"$change/service"
}
start_again() { # a daemon that died over its new files: started as it was
    [ "$was_running" = yes ] && ! find_door || return 0
    if [ "$init" = systemd ]; then service_back; else run_daemon; fi
}

# Which process is sshd: told as the evidence told it (trust.sh), by nothing that others than root can write.
known_door() { # the very process that was read, and the same program
    [ "$door" = 0 ] || { started "$door" && [ "$since" = "$door_since" ] && wait_for 20 is_door "$door"; }
}
find_door() { # sets pid; of the unit that the service manager names, or without one a child of the first process
    pid=''
    if [ "$init" != systemd ]; then
        for entry in /proc/[0-9]*; do is_named "$entry" && is_door "${entry#/proc/}" && pid=${entry#/proc/} && return 0; done
        return 1
    fi
    [ -n "$unit" ] || return 1
    told=$(systemctl show -p MainPID -p ControlGroup "$unit" 2>/dev/null)
    main_pid=${told#*MainPID=} main_pid=${main_pid%%"$nl"*} group=${told#*ControlGroup=} group=${group%%"$nl"*}
    case $main_pid in '' | 0 | *[!0-9]*) ;; *) is_door "$main_pid" && pid=$main_pid && return 0 ;; esac
    [ -n "$group" ] || return 1
    for entry in /proc/[0-9]*; do
        is_named "$entry" && grep -qxE "(0:|[0-9]+:name=systemd):$group" "$entry/cgroup" && is_door "${entry#/proc/}" && pid=${entry#/proc/} && return 0
    done
    return 1
} 2>/dev/null
is_named() { read -r comm <"$1/comm" && [ "$comm" = sshd ]; } 2>/dev/null
is_door() { # is_door PID: root's, with a program that only root can write, waiting where sshd is to wait
    kernel_says "$1"
    [ "$uids" = root ] && { [ "$init" = systemd ] || [ "$parent" = 1 ] || [ "$1" = 1 ]; } || return 1
    program_of "$1" && [ "$runs" = "$program" ] && is_roots "$program" || return 1
    ports=' '
    [ "$init" = systemd ] || ports=$(hex_ports) # without a service manager another root's sshd looks the same but for its port
    waits=$(awk -v ports="$ports" '$4 == "0A" { port = $2; sub("^.*:", "", port); if (ports == " " || index(ports, " " port " ")) print "socket:[" $10 "]" }' /proc/net/tcp /proc/net/tcp6 2>/dev/null)
    holds=$(readlink "/proc/$1"/fd/* 2>/dev/null)
    for inode in $waits; do case "$nl$holds$nl" in *"$nl$inode$nl"*) return 0 ;; esac; done
    return 1
}
hex_ports() { # the ports in question, as the kernel lists them
    printf ' '
    for each in $sockets $was_sockets; do printf '%04X ' "${each##*:}"; done
}
listener() { find_door && printf '%s\n' "$pid"; }
look() { # what was listened on before must be listened on again
    wait_for 50 listens
}
listens() {
    if command -v ss >/dev/null 2>&1; then open=$(ss -Hltn | awk '{ print $4 }')
    else open=$(awk '$4 == "0A" { sub("^.*:", "", $2); print $2 }' /proc/net/tcp /proc/net/tcp6); fi
    for one in $sockets; do
        case $one in any:*) printf '%s\n' "$open" | grep -q ":${one#any:}\$" && continue ;; esac
        command -v ss >/dev/null 2>&1 || one=$(printf '%04X' "${one##*:}")
        printf '%s\n' "$open" | grep -qxF -e "$one" || return 1
    done
}
