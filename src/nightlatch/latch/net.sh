# The part of a change that moves an interface: loading its system's files, and looking whether the guest is still connected.
# Beside latch.sh, for changes of addresses only. $net is the system, $interface the interface, $gives its addresses to be.
net_check() { # the system's own program on the new files, where it has one that changes nothing
    case $net in
    netplan) net_generate ;;
    ifupdown)
        unshare -m true 2>/dev/null || return 0
        why=$(unshare -m sh "$change/latch.sh" check-net 2>&1 >/dev/null) || { why="ifup refuses the new files: $why"; return 1; }
        why=''
        ;;
    manager) ! nmcli --help 2>&1 | grep -q -e --offline || rows there net_parse ;;
    esac
}
net_parse() {
    [ "$ak" = file ] && [ -e "$staged" ] || return 0
    nmcli --offline connection modify connection.autoconnect yes <"$staged" >/dev/null 2>&1 || { why="nmcli refuses the new $path"; return 1; }
}
net_generate() { # on a copy with the new files
    copy=$change/generate
    rm -rf "$copy"
    mkdir -p "$copy/etc" "$copy/lib" "$copy/run" || return 1
    for top in etc lib run; do [ ! -d "/$top/netplan" ] || cp -a "/$top/netplan" "$copy/$top/" || return 1; done
    rows there net_lay || return 1
    said=$(netplan generate --root-dir "$copy" 2>&1 </dev/null) || { why="netplan refuses the new files: $(printf '%s\n' "$said" | head -n 2)"; return 1; }
    rm -rf "$copy"
}
net_lay() {
    [ "$ak" = file ] && [ -e "$staged" ] || return 0
    mkdir -p "$copy${path%/*}" && cat "$staged" >"$copy$path" && chmod 600 "$copy$path"
}
net_leave() { # the client that follows is told, and hangs up, before the address goes
    say moving
    sleep 1
    : >"$change/away"
    [ "$net" != ifupdown ] || ifdown "$interface"
}
net_load() { # net_load back|fresh
    case $net in
    ifupdown) ifup "$interface"; return ;;
    manager) nmcli connection reload && { nmcli device reapply "$interface" || nmcli -w 30 device connect "$interface"; }; return ;;
    netplan) netplan generate || return 1 ;; # what it wrote is loaded below; nothing else is started anew
    esac
    networkctl reload || return 1
    net_settles "$1" && return 0
    networkctl reconfigure "$interface" || return 1
    net_settles "$1" || [ "$1" = fresh ] || networkctl reconfigure "$interface"
}
# A reload configures an interface whose files changed anew, and told a second time while a lease is on its way the interface
# may stay without any address for good (systemd 252, measured: once in about 100): so it is told once, and looked at.
net_settles() {
    tries=0
    until net_is "$1"; do
        tries=$((tries + 1))
        [ $tries -lt 40 ] || return 1
        sleep 0.2
    done
}
net_is() { # it may stay "configuring" while it waits for a router of IPv6, so its addresses are what counts
    if [ "$1" = fresh ]; then net_has; return; fi
    ! net_has || return 1
    [ -z "$(ip -o addr show dev "$interface" scope global 2>/dev/null)" ] || return 0
    case $(networkctl --no-legend --no-pager list "$interface" 2>/dev/null) in *configured*) true ;; *) false ;; esac
}
net_note() { # what works now has to work afterwards
    rm -f "$change/worked"
    ! net_leads || echo leads >>"$change/worked"
    ! net_names || echo names >>"$change/worked"
}
net_leads() { # a default route whose gateway answers
    way=$(ip -o route show default 2>/dev/null | head -n 1)
    [ -n "$way" ] || return 1
    hop=$(printf '%s\n' "$way" | sed -n 's/.* via \([0-9a-fA-F.:]*\) .*/\1/p')
    [ -n "$hop" ] || return 0
    command -v ping >/dev/null 2>&1 || return 0 # nothing here can ask it: that there is a route has to do
    ping -c 1 -W 1 "$hop" >/dev/null 2>&1
}
net_names() { [ -n "$asked_name" ] && getent ahosts "$asked_name" >/dev/null 2>&1; }
net_look() { # the addresses are there, and what worked before works
    tries=0
    until net_has; do
        tries=$((tries + 1))
        [ $tries -lt 100 ] || { why="$interface does not get $gives"; return 1; }
        sleep 0.1
    done
    ! grep -qx leads "$change/worked" 2>/dev/null || net_again net_leads || { why="the way out that worked before does not"; return 1; }
    ! grep -qx names "$change/worked" 2>/dev/null || net_again net_names || { why="names that were known before are not"; return 1; }
}
net_has() {
    now=$(ip -o addr show dev "$interface" 2>/dev/null)
    case $now in *tentative*) return 1 ;; esac
    for one in $gives; do case $now in *" $one "*) ;; *) return 1 ;; esac; done
}
net_again() {
    tries=0
    until "$1"; do
        tries=$((tries + 1))
        [ $tries -lt 5 ] || return 1
        sleep 1
    done
}
