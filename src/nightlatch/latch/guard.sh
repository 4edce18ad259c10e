# The part of a change that takes it back after a restart: units, or a script, that do nothing while the mark of this boot is there.
# The first comes before sshd and waits for this machine's own file systems only, never for one that may not come; what lies
# on such a one the second puts back, as soon as it is there, and nothing waits for that.
place_guard() {
    if [ "$init" = systemd ]; then place_units
    elif [ -d /etc/rcS.d ]; then
        printf '#!/bin/sh\nexec sh %s/latch.sh guard\n' "$change" >/etc/rcS.d/S02nightlatch-guard &&
            chmod 755 /etc/rcS.d/S02nightlatch-guard || return 1
    elif [ "$unguarded" != yes ]; then
        why="this guest has no systemd and no /etc/rcS.d: after a restart nothing would take the change back"
        return 1
    fi || return 1
    settle
}
place_units() {
    before="ssh.service ssh.socket sshd.service sshd.socket $units${net:+ network-pre.target systemd-networkd.service NetworkManager.service networking.service}${rules:+ $rules}"
    after='systemd-remount-fs.service systemd-tmpfiles-setup.service local-fs.target'
    if closes_a_cycle; then
        after='systemd-remount-fs.service'
        ! closes_a_cycle || { why="nothing can run before sshd at a boot of this guest: its units are ordered in a ring"; return 1; }
    fi
    place_unit nightlatch-guard.service sysinit.target <<UNIT || return 1
[Unit]
Description=Nightlatch: take change $id back after a restart
DefaultDependencies=no
After=$after
Before=$before
ConditionPathExists=!/run/nightlatch/$id
[Service]
Type=oneshot
TimeoutStartSec=90
ExecStart=/bin/sh $change/latch.sh guard
UNIT
    at guard-written
    place_unit nightlatch-guard-late.service multi-user.target <<UNIT || return 1
[Unit]
Description=Nightlatch: take back of change $id what was not there before
DefaultDependencies=no
After=nightlatch-guard.service basic.target local-fs.target remote-fs.target
Conflicts=shutdown.target
Before=shutdown.target
ConditionPathExists=!/run/nightlatch/$id
ConditionPathExists=$change/latch.sh
StartLimitIntervalSec=0
[Service]
Type=simple
Restart=on-failure
RestartSec=3s
ExecStart=/bin/sh $change/latch.sh late
UNIT
}
place_unit() { # place_unit NAME TARGET: its text comes in
    unit_file=/etc/systemd/system/$1
    cat >"$unit_file.part" && chmod 644 "$unit_file.part" && mv -f "$unit_file.part" "$unit_file" || return 1
    # What could not be noted could not be taken away again: a full disk ends it before the folder is made.
    [ -d "/etc/systemd/system/$2.wants" ] || printf '%s\n' "$2" >>"$change/wants-made" || return 1
    mkdir -p "/etc/systemd/system/$2.wants" && ln -sf "$unit_file" "/etc/systemd/system/$2.wants/"
}
closes_a_cycle() { # whether something that the guard waits for waits, over however many steps, for what waits for the guard
    systemctl show --no-pager -p Id,Names,After -- '*' 2>/dev/null | awk -v start="$after" -v goal="$before" '
        /^Id=/ { id = substr($0, 4) }
        /^Names=/ { n = split(substr($0, 7), words, " "); for (i = 1; i <= n; i++) real[words[i]] = id }
        /^After=/ { after[id] = substr($0, 7) }
        END {
            n = split(goal, words, " "); for (i = 1; i <= n; i++) wanted[words[i] in real ? real[words[i]] : words[i]]
            last = split(start, queue, " "); for (i = 1; i <= last; i++) seen[queue[i]]
            for (at = 1; at <= last; at++) {
                one = queue[at] in real ? real[queue[at]] : queue[at]
                if (one in wanted) found = 1
                n = split(after[one], words, " ")
                for (i = 1; i <= n; i++) if (!(words[i] in seen)) { seen[words[i]]; queue[++last] = words[i] }
            }
            exit !found
        }'
}
drop_guard() {
    for each in nightlatch-guard:sysinit nightlatch-guard-late:multi-user; do
        rm -f "/etc/systemd/system/${each#*:}.target.wants/${each%:*}.service" "/etc/systemd/system/${each%:*}.service" "/etc/systemd/system/${each%:*}.service.part"
    done
    rm -f /etc/rcS.d/S02nightlatch-guard
    [ ! -e "$change/wants-made" ] || while read -r target; do rmdir "/etc/systemd/system/$target.wants" 2>/dev/null; done <"$change/wants-made"
    rm -f "$change/wants-made"
}
