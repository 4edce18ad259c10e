# The part of a change that acts beside files: accounts (accounts.sh), the identity (identity.sh), units, the zone, the name, labels of ports. Beside
# latch.sh, for changes with such acts only. $change/acts has a row each: VERB WHAT ...; what was before is noted in $change/acted first.
acts_check() { # nothing is begun that can't be done
    while read -r verb what other; do
        case $verb in
        enable | disable | start | stop | reload)
            [ "$init" = systemd ] || { why="this guest has no systemd, so $what can't be acted on"; return 1; }
            systemctl cat "$what" >/dev/null 2>&1 || { why="$what is not there"; return 1; }
            ;;
        zone) [ "$what" = - ] || [ -f "/usr/share/zoneinfo/$what" ] || { why="this guest knows no time zone $what"; return 1; } ;;
        rules) rules_check "$what" || return 1 ;;
        account-*) account_check "$verb" "$what" "$other" || return 1 ;;
        identity) identity_check "$what" "$other" || return 1 ;;
        label | unlabel) command -v semanage >/dev/null || { why="semanage is not there, which labels ports (policycoreutils)"; return 1; } ;;
        esac
    done <"$change/acts"
}
acts_do() { # each act, after what it takes to undo it was noted
    number=0
    while read -r verb what other <&3; do
        number=$((number + 1))
        case $verb in
        zone) was=$(readlink /etc/localtime) || was=- ;;
        name) was=$(cat /proc/sys/kernel/hostname) ;;
        label | unlabel | rules | identity) was=- ;;
        account-*) was=${other:--} ;;
        *) was="$(systemctl is-enabled "$what" 2>/dev/null | head -n 1) $(systemctl is-active "$what" 2>/dev/null)" ;;
        esac
        printf '%s %s %s\n' "$verb" "$what" "$was" >>"$change/acted" && settle "$change/acted" || { why="$change has no room"; return 1; }
        at "acting $number"
        act "$verb" "$what" "$other" || { why="${why:-$verb $what failed}"; return 1; }
        at "acted $number"
    done 3<"$change/acts"
}
act() { # act VERB WHAT OTHER
    case $1 in
    enable) systemctl enable --quiet "$2" ;;
    disable) systemctl disable --quiet "$2" ;;
    start) systemctl start "$2" ;;
    stop) systemctl stop "$2" ;;
    reload) systemctl daemon-reload && systemctl try-reload-or-restart "$2" ;;
    zone) if [ "$2" = - ]; then rm -f /etc/localtime; else lead_zone "../usr/share/zoneinfo/$2"; fi ;;
    name) [ "$2" = - ] || printf '%s' "$2" >/proc/sys/kernel/hostname ;;
    rules) rules_load "$2" ;;
    account-*) account_act "$@" ;;
    identity) identity_make "$2" "$3" ;;
    label) semanage port -a -t ssh_port_t -p tcp "$2" || semanage port -m -t ssh_port_t -p tcp "$2" ;;
    unlabel) semanage port -d -t ssh_port_t -p tcp "$2" ;;
    esac
}
lead_zone() { # in one step: there is always one
    ln -s "$1" "/etc/localtime.nightlatch-$id" && mv -T "/etc/localtime.nightlatch-$id" /etc/localtime
}
acts_look() { # a unit that was started may die at once, though its start succeeded
    ! grep -q '^start ' "$change/acts" || sleep 1
    while read -r verb what other; do
        [ "$verb" = start ] || continue
        state=$(systemctl is-active "$what")
        case $state in active | activating | reloading) ;; *) why="$what was started, and is $state"; return 1 ;; esac
    done <"$change/acts"
}
acts_back() { # acts_back [boot]: what was noted, from the last to the first
    # At a boot the service manager has taken the name from the file before that was put back (measured: systemd 252).
    [ "$1" != boot ] || ! grep -q '^name ' "$change/acts" || act name "$(grep -v '^#' /etc/hostname | head -n 1)"
    [ -e "$change/acted" ] || return 0
    boot=$1
    set -f
    IFS=$nl
    for line in $(sed '1!G;h;$!d' "$change/acted"); do # no file is written for it: the disk may be full
        unset IFS
        set -- $line
        unact "$1" "$2" "$3" "$4" "$boot" || worse="$worse; $1 $2 could not be taken back"
        at "unacted $1 $2"
    done
    unset IFS
    set +f
    rm -f "$change/acted" "/etc/localtime.nightlatch-$id"
}
unact() { # unact VERB WHAT WAS NOW [boot]: a boot has not started anything yet, and is not waited for
    [ "$5" = boot ] && wait=--no-block || wait=''
    case $1 in
    enable)
        case $3 in enabled*) ;; *)
            systemctl disable --quiet "$2"
            [ "$5" != boot ] || systemctl $wait stop "$2"
            ;;
        esac
        ;;
    disable)
        case $3 in enabled*)
            systemctl enable --quiet "$2"
            [ "$5" != boot ] || systemctl $wait start "$2"
            ;;
        esac
        ;;
    start) [ "$5" = boot ] || [ "$4" = active ] || systemctl stop "$2" ;;
    stop) [ "$5" = boot ] || [ "$4" != active ] || systemctl start "$2" ;;
    reload) [ "$5" = boot ] || act reload "$2" ;;
    zone) if [ "$3" = - ]; then rm -f /etc/localtime; else lead_zone "$3"; fi ;;
    name) [ "$5" = boot ] || printf '%s' "$3" >/proc/sys/kernel/hostname ;;
    rules) [ "$5" = boot ] || rules_load "$2" ;; # at a boot the manager loads its files, which are back by then
    account-*) account_unact "$1" "$2" "$3" ;;
    identity) identity_back ;;
    label) semanage port -d -t ssh_port_t -p tcp "$2" ;;
    unlabel) semanage port -a -t ssh_port_t -p tcp "$2" ;;
    esac
}
