# What a connection runs on the guest: start a change apart from itself and follow it; decide; tell what is pending.
# Nothing here lives longer than the connection, and a file cut short runs nothing.
follow_begin() { # no output until the work runs apart: a cut connection must not stop it halfway
    sync "$place/table" "$place/latch.sh" 2>/dev/null || sync
    if [ -d /run/systemd/system ]; then
        # The change before this one may have told its outcome and still be tidying up under the unit's name.
        tries=0
        while [ $tries -lt 50 ] && goes_on; do tries=$((tries + 1)); sleep 0.1; done
        systemd-run --quiet --collect --unit=nightlatch-go --property=IgnoreOnIsolate=yes --property=KillSignal=SIGKILL \
            /bin/sh "$place/latch.sh" go || {
            echo 'refused: another change is just being made, or the service manager did not start this one'
            rm -rf "$place"
            return
        }
    else
        setsid sh "$place/latch.sh" go </dev/null >/dev/null 2>&1 &
        going=$!
    fi
    shown=0 tries=0 ended=''
    while [ $tries -lt 900 ]; do
        lines=$(wc -l 2>/dev/null <"$place/progress" || echo 0)
        if [ "$lines" -gt $shown ]; then
            sed -n "$((shown + 1)),${lines}p" "$place/progress"
            shown=$lines tries=0 ended=''
        fi
        # It may have got there since these lines were read: what is left of them is told first.
        if [ -e "$place/outcome" ]; then the_rest; outcome; return; fi
        if grep -qx on-the-latch "$place/progress" 2>/dev/null; then the_rest; return; fi
        # The address goes now, and this connection with it: the client comes again by the new one.
        if grep -qx moving "$place/progress" 2>/dev/null; then the_rest; return; fi
        tries=$((tries + 1))
        # Once it is decided, somebody else (the timer) is taking it back: then the outcome is waited for.
        if { [ $((tries % 10)) = 0 ] || [ -n "$ended" ]; } && ! goes_on && { [ -L "$place/may-keep" ] || [ $tries -gt 300 ]; }; then
            if stuck_at; then return; fi
            # It may have got there just now: only what is silent and gone has died.
            [ -z "$ended" ] || { echo 'died: the change ended before it was done'; return; }
            ended=yes
            sleep 0.3
            continue
        fi
        sleep 0.1
    done
    echo 'died: the change takes too long'
}
stuck_at() { # what can't be put back yet; the guest goes on trying
    [ ! -e "$place/outcome" ] && last=$(grep '^stuck ' "$place/progress" 2>/dev/null | tail -n 1) && [ -n "$last" ] && echo "stuck: ${last#stuck }"
}
the_rest() { sed -n "$((shown + 1)),\$p" "$place/progress" 2>/dev/null; }
goes_on() { # only a clear no counts: a service manager that can't answer just now is asked again
    if [ -d /run/systemd/system ]; then
        systemctl -q is-active nightlatch-go
        case $? in 3 | 4) return 1 ;; *) return 0 ;; esac
    fi
    kill -0 "$going" 2>/dev/null
}
outcome() { cat "$place/outcome" && echo; }
install() { # apart from this connection; the unit is not started before the change that starts it
    [ ! -d /run/systemd/system ] || [ -z "$unit" ] || systemctl -q mask --runtime "$unit" 2>/dev/null
    told=/run/nightlatch-install.$$
    setsid sh -c "umask 022; ($tool) </dev/null >$told 2>&1; echo ended \$? >>$told" </dev/null >/dev/null 2>&1 &
    tries=0
    until grep -q '^ended ' "$told" 2>/dev/null; do
        tries=$((tries + 1))
        [ $((tries % 5)) -gt 0 ] || echo working
        [ $tries -lt 900 ] || break
        sleep 1
    done
    if [ -d /run/systemd/system ] && [ -n "$unit" ]; then
        systemctl -q unmask --runtime "$unit" 2>/dev/null
        systemctl daemon-reload
        systemctl -q disable "$unit" 2>/dev/null
    fi
    grep -q '^ended 0$' "$told" && echo installed || grep -v '^ended ' "$told" | tail -n 3
    rm -f "$told"
}
give() { # the password goes from here to the guest's own script by a pipe
    [ -e "$place/latch.sh" ] || { echo 'refused: it is not on the latch any more'; return; }
    said=$(printf '%s\n' "$word" | sh "$place/latch.sh" password "$who" 2>&1 | tail -n 1)
    [ "$said" = given ] && echo given || echo "refused: ${said:-no answer}"
}
decide() {
    if [ "$what" = keep ] && [ ! -e "$place/outcome" ] && ! grep -qx on-the-latch "$place/progress" 2>/dev/null; then
        echo 'gone: it is not on the latch, or not yet'
        return
    fi
    # What another release put there may want to be spoken to otherwise.
    if [ -d "$place" ] && [ "$(cat "$place/format" 2>/dev/null)" != "$format" ]; then
        echo "other $(head -c 60 "$place/format" 2>/dev/null)"
        return
    fi
    if [ -e "$place/latch.sh" ]; then
        if [ -d /run/systemd/system ]; then
            systemd-run --quiet --collect --wait --unit=nightlatch-decide --property=IgnoreOnIsolate=yes \
                /bin/sh "$place/latch.sh" "$what" "$by"
        else
            setsid sh "$place/latch.sh" "$what" "$by" </dev/null >/dev/null 2>&1 &
            wait $!
        fi
    elif [ ! -e "$place/outcome" ]; then
        echo 'gone: there is no such change on this guest'
        return
    fi
    tries=0
    until [ -e "$place/outcome" ]; do
        tries=$((tries + 1))
        [ $tries -lt 100 ] || break
        sleep 0.1
    done
    if [ -e "$place/outcome" ]; then outcome; else stuck_at || echo 'died: no outcome was told'; fi
}
pending() {
    read -r up rest </proc/uptime
    echo "uptime ${up%.*}"
    if [ -d "$home/lock" ]; then
        id=$(cat "$home/lock/id" 2>/dev/null)
        echo "lock $id"
        echo "who $(head -n 1 "$home/lock/who" 2>/dev/null | cut -c1-300)"
        [ ! -e "/run/nightlatch/${id:-none}" ] || echo marked
        place=$home/changes/$id
        echo "format $(head -c 60 "$place/format" 2>/dev/null)"
        echo "state $(tail -n 1 "$place/progress" 2>/dev/null | cut -c1-200)"
        stuck_at
        if [ -d /run/systemd/system ]; then
            # What failed is started again in a moment: that, too, is a timer that runs.
            for each in "nightlatch-revert-$id.timer" "nightlatch-revert-$id.service" nightlatch-guard-late.service; do
                case $(systemctl show -p ActiveState "$each") in *=active | *=activating | *=reloading) echo timer ;; esac
            done
        else
            pid=$(cat "$home/lock/timer" 2>/dev/null) && [ -n "$pid" ] && kill -0 "$pid" 2>/dev/null && echo timer
        fi
    fi
    for one in "$home"/changes/*; do
        [ ! -e "$one/outcome" ] || echo "outcome ${one##*/} $(head -n 1 "$one/outcome" | cut -c1-300)"
    done
    echo end
}
