# What somebody at the console runs: the change is put on the latch, kept, taken back, or shown. POSIX sh.
die() { # die CODE WORDS
    echo "$2" >&2
    exit "$1"
}
fits() { # this very guest, as far as a name can tell
    [ "$(id -u)" = 0 ] || die 4 "run it as root; nothing was changed"
    release=/etc/os-release
    [ -e $release ] || release=/usr/lib/os-release
    [ -z "$family" ] || grep -qE "^ID(_LIKE)?=.*$family" $release 2>/dev/null ||
        die 4 "this script was made for a guest of the $family family; nothing was changed"
}
is_done() { # whether every path is as this change makes it, and the service runs and starts at boot
    while read -r number bk bm bu bg bs ak am au ag as path; do
        case $ak in
        absent) [ ! -e "$path" ] ;;
        folder) [ -d "$path" ] && [ "$(stat -c '%a %u %g' "$path")" = "$am $au $ag" ] ;;
        *) [ -f "$path" ] && [ "$(stat -c '%a %u %g' "$path")" = "$am $au $ag" ] && [ "$(sha256sum <"$path" | cut -c1-64)" = "$as" ] ;;
        esac || return 1
    done <<TABLE
$rows
TABLE
    acts_done || return 1
    [ -z "$start" ] || [ ! -d /run/systemd/system ] || {
        for unit in $start; do systemctl cat "$unit" >/dev/null 2>&1 && break; done
        systemctl -q is-active "$unit" && systemctl -q is-enabled "$unit"
    }
}
acts_done() { # whether what is done beside files is so already
    [ -n "$acts" ] || return 0
    while read -r verb what other; do
        case $verb in
        enable) systemctl -q is-enabled "$what" ;;
        disable) ! systemctl -q is-enabled "$what" ;;
        start) systemctl -q is-active "$what" ;;
        stop) ! systemctl -q is-active "$what" ;;
        zone) [ "$(readlink -f /etc/localtime)" = "/usr/share/zoneinfo/$what" ] ;;
        name) [ "$(cat /proc/sys/kernel/hostname)" = "$what" ] ;;
        rules) true ;; # its files are compared above
        account-*) account_done "$verb" "$what" "$other" ;;
        label) semanage port -l | grep '^ssh_port_t ' | grep -qw "$what" ;;
        *) false ;;
        esac || return 1
    done <<ACTS
$acts
ACTS
}
before() { # what became of an earlier run of this very script
    if [ -e "$place/outcome" ]; then
        case $(cat "$place/outcome") in
        kept*) echo "this change was kept already; nothing to do"; exit 0 ;;
        *) rm -rf "$place" ;;
        esac
    elif [ -e "$place/progress" ] && [ -d "$home/lock" ]; then
        echo "this change is on the latch now: $(tail -n 1 "$place/progress")"
        how_on
        exit 0
    fi
    if is_done; then
        echo "everything is as this change makes it already; nothing to do"
        exit 0
    fi
}
install_it() { # the package can't be taken back, so it has its own yes; it is not started before it was checked
    [ -n "$package" ] && [ ! -x /usr/sbin/sshd ] || return 0
    if [ "$1" != install ]; then
        [ -t 0 ] || die 4 "it would install $package, which can't be taken back: run  sh $me install"
        printf 'It installs the package %s (%s), which can not be taken back. Type install to go on: ' "$package" "$tool"
        read -r answer
        [ "$answer" = install ] || die 4 "nothing was changed"
    fi
    units='ssh.service ssh.socket sshd.service sshd.socket'
    [ ! -d /run/systemd/system ] || systemctl -q mask --runtime $units 2>/dev/null
    (umask 022 && eval "$tool") </dev/null && [ -x /usr/sbin/sshd ] && installed=yes || installed=no
    if [ -d /run/systemd/system ]; then
        systemctl -q disable $units 2>/dev/null
        systemctl -q unmask --runtime $units 2>/dev/null
        systemctl daemon-reload
    fi
    [ $installed = yes ] || die 5 "the package $package could not be installed; see what its tool says above"
    ssh-keygen -A >/dev/null
    [ -d /etc/ssh/sshd_config.d ] ||
        die 5 "the package $package is installed and not started: it reads no /etc/ssh/sshd_config.d, so the door can't be kept narrow"
}
lacks_password() { # of the accounts that are given one, those without
    [ -n "$acts" ] || return 0
    while read -r verb what other; do
        [ "$verb" != account-give ] || ! record shadow "$what" '$2 ~ /^[!*]*$/' || echo "$what"
    done <<ACTS
$acts
ACTS
}
how_on() {
    for each in $(lacks_password); do echo "Give $each a password now: passwd $each$(has chage && echo "; chage -d 0 $each")"; done
    echo "This guest takes it back by itself within $seconds s, unless it is kept. Try it from outside, then"
    echo "    sh $me keep      to keep it"
    echo "    sh $me back      to take it back at once"
}
keys_to_compare() {
    echo "Host keys, to compare with what is seen from outside (nightlatch meet):"
    cat /etc/ssh/ssh_host_*_key.pub 2>/dev/null | ssh-keygen -l -f - 2>/dev/null | sed 's/^/    /'
}
go_on() {
    fits
    before
    install_it "$1"
    put || exit 4
    follow_begin >"$home/said.$$"
    told=$(grep -Ev '^(step |reverting|loading)' "$home/said.$$")
    grep -q '^step swapped' "$home/said.$$" && code=5 || code=4
    rm -f "$home/said.$$"
    case $told in
    *on-the-latch*)
        also=$(printf '%s' "${acts:+$acts
}" | wc -l)
        [ "$also" = 0 ] && also='' || also=", $also acts beside them"
        echo "done, and on the latch: $(wc -l <"$place/table") paths$also${start:+, the service is started}."
        [ -z "$start" ] || keys_to_compare
        how_on
        ;;
    *) die $code "${told:-it ended without a word}" ;;
    esac
}
decided() { # decided keep|back
    fits
    [ "$1" != keep ] || for each in $(lacks_password); do die 4 "$each has no password yet: run  passwd $each  first"; done
    what=$1 by=console
    said=$(decide)
    echo "$said"
    case $1$said in keepkept* | backput*) exit 0 ;; *) exit 5 ;; esac
}
case ${1:-go} in
go | install) go_on "$1" ;;
keep | back) decided "$1" ;;
state) pending ;;
*) echo "usage: sh $me [install | keep | back | state]"; exit 2 ;;
esac
