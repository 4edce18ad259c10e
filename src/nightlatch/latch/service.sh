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
        for unit in ssh.service sshd.service; do systemctl try-restart "$unit" 2>/dev/null; done
        return 0
    fi
    pid=$(listener) || return 1
    [ -n "$pid" ] || { [ "$was_running" != yes ] && return 0; return 1; }
    unit=$(unit_of "$pid")
    wait_for 50 hears "$pid" # between its start and its first wait, sshd ignores the signal to read its files again
    read -r image rest <"/proc/$pid/maps"
    if [ "$init" = systemd ] && [ -n "$unit" ]; then systemctl reload "$unit"; else kill -HUP "$pid"; fi || return 1
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
        for unit in $start; do systemctl cat "$unit" >/dev/null 2>&1 && break; done
        printf '%s %s %s\n' "$unit" "$(systemctl is-enabled "$unit" 2>/dev/null || true)" "$(systemctl is-active "$unit")" >"$change/started"
        systemctl enable --quiet "$unit" && systemctl start "$unit"
    elif command -v rc-service >/dev/null 2>&1; then
        echo "rc sshd" >"$change/started"
        rc-update -q add sshd default && rc-service sshd start
    else
        echo "none sshd" >"$change/started"
        mkdir -p /run/sshd && chmod 755 /run/sshd
        eval "set -- $daemon"
        "$@"
    fi
}
stop_service() { # stop_service [boot]: as it was before it was started
    [ -e "$change/started" ] || return 0
    read -r unit enabled active <"$change/started"
    case $unit in
    rc) rc-service sshd stop; rc-update -q del sshd default ;;
    none) pid=$(listener) && [ -n "$pid" ] && kill "$pid" ;;
    *)
        [ "$enabled" = enabled ] || systemctl disable --quiet "$unit"
        # At boot its start is only planned yet: a stop in its place is planned instead, and not waited for.
        if [ "$1" = boot ]; then systemctl --no-block stop "$unit"
        elif [ "$active" != active ]; then systemctl stop "$unit"; fi
        ;;
    esac
    rm -f "$change/started"
}
unit_of() { sed -n 's/^\(0:\|1:name=systemd\):\(.*\/\)\{0,1\}\([^/]*\.service\)$/\3/p' "/proc/$1/cgroup" | head -n 1; }
remember() { # which unit the daemon belongs to, while it is there to be asked
    pid=$(listener)
    [ -z "$pid" ] || unit_of "$pid" >"$change/unit"
}
start_again() { # a daemon that died over its new files: started as it was
    [ "$was_running" = yes ] && [ -z "$(listener)" ] || return 0
    unit=$(cat "$change/unit" 2>/dev/null)
    if [ "$init" = systemd ] && [ -n "$unit" ]; then
        systemctl reset-failed "$unit" 2>/dev/null
        systemctl restart "$unit"
    else
        eval "set -- $daemon"
        [ "$mainfile" = /etc/ssh/sshd_config ] || set -- "$@" -f "$mainfile"
        "$@"
    fi
}
listener() { # the daemon that listens in our own namespaces
    for entry in /proc/[0-9]*; do
        read -r name <"$entry/comm" || continue
        [ "$name" = sshd ] || continue
        case $(tr '\000' ' ' <"$entry/cmdline") in *'[accepted]'* | *'[priv]'* | *'[net]'* | *@*) continue ;; esac
        [ "$(readlink "$entry/ns/net")" = "$(readlink /proc/self/ns/net)" ] || continue
        printf '%s\n' "${entry#/proc/}"
        break
    done 2>/dev/null
}
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
