# The part of a change that acts on accounts and groups: by the system's own tools where it has them (useradd(8) and those beside
# it), else one field at a time under the locks that these take. Beside acts.sh. What shadow holds stays within awk and the files
# of /etc: it is never told, and stands in no argument. A row is VERB NAME OTHER, with parts of OTHER set apart by colons.
tab='	'
has() { command -v "$1" >/dev/null 2>&1; }
record() { # record DATABASE NAME CONDITION [VALUE]: whether the first record of this name fulfils it ($n are its fields)
    awk -F: -v name="$2" -v value="$4" '$1 == name { found = ('"$3"'); exit } END { exit !found }' "/etc/$1" 2>/dev/null
}
is_there() { record "$1" "$2" 1; }
is_member() { record group "$2" 'index("," $4 ",", "," value ",")' "$1"; }
in_groups() { awk -F: -v name="$1" 'index("," $4 ",", "," name ",") { found = 1 } END { exit !found }' /etc/group; }
is_day() { record shadow "$1" '$8 == value' "$([ "$2" = - ] || echo "$2")"; }
made() { # made OTHER: sets uid, gid, own_home and shell
    IFS=: read -r uid gid own_home shell <<MADE
$1
MADE
}
is_made() { # is_made NAME: whether that very account is there, under the uid and with the folder that it was given
    record passwd "$1" '$3 ":" $4 ":" $6 ":" $7 == value' "$uid:$gid:$own_home:$shell"
}
running() { # running UID: its processes, those of containers aside
    set +f # a subshell of its own: what is taken back is gone through without patterns
    own=$(readlink /proc/self/ns/pid)
    for each in $(grep -ls "^Uid:$tab$1$tab" /proc/[0-9]*/status 2>/dev/null); do
        each=${each#/proc/} each=${each%/status}
        [ "$(readlink "/proc/$each/ns/pid" 2>/dev/null)" != "$own" ] || echo "$each"
    done
}
end_all() { # end_all UID NAME: nobody works on under an account that goes; what another account of that number runs is its own
    ! awk -F: -v id="$1" -v name="$2" '$3 == id && $1 != name { found = 1 } END { exit !found }' /etc/passwd || return 0
    [ "$init" != systemd ] || systemctl stop "user@$1.service" "user-$1.slice" 2>/dev/null
    tries=0
    while pids=$(running "$1") && [ -n "$pids" ] && [ $tries -lt 30 ]; do
        kill -9 $pids 2>/dev/null
        tries=$((tries + 1))
        sleep 0.1
    done
}
account_check() { # account_check VERB NAME OTHER: nothing is begun that can't be done, or on an account that is not as it was read
    for each in passwd group shadow; do [ -f "/etc/$each" ] || { why="/etc/$each is missing"; return 1; }; done
    case $1 in
    account-add)
        made "$3"
        ! is_there passwd "$2" || { why="there is an account $2 already"; return 1; }
        ! is_there group "$2" || { why="there is a group $2 already"; return 1; }
        ! in_groups "$2" || { why="a group lists $2 already: the new account would be in it at once"; return 1; }
        ! { has getent && getent passwd "$uid"; } >/dev/null && ! awk -F: -v id="$uid" '$3 == id { f = 1 } END { exit !f }' /etc/passwd ||
            { why="uid $uid is somebody's already"; return 1; }
        ! awk -F: -v id="$gid" '$3 == id { f = 1 } END { exit !f }' /etc/group || { why="gid $gid is a group's already"; return 1; }
        [ -z "$(running "$uid")" ] || { why="programs run under uid $uid, which no account has"; return 1; }
        [ -x "$shell" ] || { why="there is no $shell"; return 1; }
        ;;
    account-drop)
        made "$3"
        is_made "$2" || { why="the account $2 is not as it was made"; return 1; }
        takes_given "$2" || record shadow "$2" '$2 == "*"' || { why="the account $2 has a password by now; retire it instead"; return 1; }
        ! in_groups "$2" || { why="$2 is in groups by now; retire it instead"; return 1; }
        ;;
    *)
        if grep -q "^account-add $2 " "$change/acts"; then # this change makes it
            [ "$1" != account-join ] || is_there group "$3" || { why="there is no group $3"; return 1; }
            [ "$1" != account-give ] || has chpasswd || { why="there is no chpasswd here: set the password of $2 at the console"; return 1; }
            return 0
        fi
        is_there passwd "$2" || { why="there is no account $2"; return 1; }
        ;;
    esac
    case $1 in
    account-join) is_there group "$3" && ! is_member "$2" "$3" || { why="the group $3 is not as it was read"; return 1; } ;;
    account-part) is_member "$2" "$3" || { why="$2 is not in the group $3"; return 1; } ;;
    account-lock) record shadow "$2" '$2 !~ /^!/' || { why="the password of $2 is locked already"; return 1; } ;;
    account-unlock) record shadow "$2" '$2 ~ /^!./' || { why="the password of $2 can't be unlocked"; return 1; } ;;
    account-give)
        record shadow "$2" '$2 == value' "${3%:*}" || { why="the password of $2 was changed since it was read"; return 1; }
        has chpasswd || { why="there is no chpasswd here: set the password of $2 at the console"; return 1; }
        ;;
    account-take) is_given "$2" || { why="$2 has changed the password since it was given; lock it instead of taking it away"; return 1; } ;;
    account-expire) is_day "$2" "${3#*:}" || { why="the day on which $2 expires was changed since it was read"; return 1; } ;;
    esac
}
account_act() { # account_act VERB NAME OTHER
    case $1 in
    account-add)
        made "$3"
        if has useradd && has groupadd; then
            groupadd -g "$gid" "$2" && useradd -M -N -u "$uid" -g "$gid" -d "$own_home" -s "$shell" -e '' -f -1 -p '*' "$2"
        else
            today=$(($(date +%s) / 86400))
            by_field group add "$2:x:$gid:" && by_field gshadow add "$2:!::" &&
                by_field shadow add "$2:*:$today:0:99999:7:::" && by_field passwd add "$2:x:$uid:$gid::$own_home:$shell"
        fi
        ;;
    account-drop)
        made "$3"
        end_all "$uid" "$2"
        if takes_given "$2"; then # the record in shadow, locked, stays until that is kept: nothing else could bring its hash back
            for base in passwd gshadow group; do by_field $base drop "$2" || return 1; done
        elif has userdel && has groupdel; then
            ! is_there passwd "$2" || userdel "$2" || return 1
            ! record group "$2" '$3 == value' "$gid" || groupdel "$2"
        else
            for base in passwd shadow gshadow group; do by_field $base drop "$2" || return 1; done
        fi
        ;;
    account-join) if has gpasswd; then gpasswd -a "$2" "$3" >/dev/null; else by_field group join "$3" "$2" && by_field gshadow join "$3" "$2"; fi ;;
    account-part) if has gpasswd; then gpasswd -d "$2" "$3" >/dev/null; else by_field group part "$3" "$2" && by_field gshadow part "$3" "$2"; fi ;;
    account-lock | account-take) if has usermod; then usermod -L "$2"; else by_field shadow lock "$2"; fi ;; # taken away once that is kept
    account-unlock) if has usermod; then usermod -U "$2"; else by_field shadow unlock "$2"; fi ;;
    account-expire)
        day=${3%:*}
        if has chage; then chage -E "$([ "$day" = - ] && echo -1 || echo "$day")" "$2"; else by_field shadow day "$2" "$([ "$day" = - ] || echo "$day")"; fi
        ;;
    account-give) ;; # it comes by a connection of its own while the change is on the latch (password_give)
    esac
}
password_give() { # password_give NAME: reads the password, which stands in no argument and in no file but shadow
    turn
    IFS= read -r word
    [ ! -e "$change/outcome" ] && grep -qx on-the-latch "$change/progress" && grep -q "^account-give $1 " "$change/acted" ||
        { echo "it is not on the latch"; return 1; }
    said=$(printf '%s:%s\n' "$1" "$word" | chpasswd 2>&1) || {
        case $said in *"$word"*) said='' ;; esac
        echo "chpasswd refuses it: $(printf '%s' "$said" | head -n 1)"
        return 1
    }
    if has chage; then chage -d 0 "$1"; else by_field shadow due "$1" 0; fi || return 1
    # Without flock(1) nothing has kept the guest from taking it back meanwhile.
    [ ! -e "$change/outcome" ] || { account_unact account-give "$1" "$(awk -v n="$1" '$1 == "account-give" && $2 == n { print $3 }' "$change/acts")"; return 1; }
    echo given
}
password_mark() { # password_mark NAME MARKER:DAY: no password, and the day of its last change, as before
    day=${2#*:}
    if has usermod && has chage; then
        usermod -p "${2%:*}" "$1" && chage -d "$([ "$day" = - ] && echo -1 || echo "$day")" "$1"
    else
        by_field shadow mark "$1" "${2%:*}" && by_field shadow due "$1" "$([ "$day" = - ] || echo "$day")"
    fi
}
takes_given() { grep -q "^account-take $1 " "$change/acts" 2>/dev/null; } # whether this change takes the password that one gave
is_given() { record shadow "$1" '$2 !~ /^[!*]*$/ && $3 == "0"'; }
accounts_kept() { # what is done only once it was decided to keep the change
    while read -r verb what other; do
        case $verb in
        account-take) is_there passwd "$what" && record shadow "$what" '$2 ~ /^!./ && $3 == "0"' && password_mark "$what" "$other" ;;
        account-drop) ! takes_given "$what" || is_there passwd "$what" || by_field shadow drop "$what" ;;
        esac
    done <"$change/acts"
}
account_unact() { # account_unact VERB NAME OTHER: the way back, from wherever it came to an end
    case $1 in
    account-add)
        made "$3"
        if ! is_there passwd "$2" || is_made "$2"; then account_act account-drop "$2" "$3"; fi
        ;;
    account-drop)
        if takes_given "$2"; then
            made "$3"
            by_field group add "$2:x:$gid:" && by_field gshadow add "$2:!::" && by_field passwd add "$2:x:$uid:$gid::$own_home:$shell"
        else
            is_there passwd "$2" || { account_unact account-add "$2" "$3" && account_act account-add "$2" "$3"; }
        fi
        ;;
    account-join) ! is_member "$2" "$3" || account_act account-part "$2" "$3" ;;
    account-part) is_member "$2" "$3" || account_act account-join "$2" "$3" ;;
    account-lock) ! record shadow "$2" '$2 ~ /^!./' || account_act account-unlock "$2" ;;
    account-unlock) ! record shadow "$2" '$2 !~ /^!/' || account_act account-lock "$2" ;;
    account-give) record shadow "$2" '$2 == value' "${3%:*}" || password_mark "$2" "$3" ;;
    account-take) ! record shadow "$2" '$2 ~ /^!./' || account_act account-unlock "$2" ;;
    account-expire) ! is_day "$2" "${3%:*}" || account_act account-expire "$2" "${3#*:}:${3%:*}" ;;
    esac
    ended=$?
    give_locks
    rm -f "/etc/passwd.nightlatch-$id" "/etc/shadow.nightlatch-$id" "/etc/group.nightlatch-$id" "/etc/gshadow.nightlatch-$id"
    return $ended
}
account_done() { # account_done VERB NAME OTHER: whether it is so already
    case $1 in
    account-add) made "$3"; is_made "$2" ;;
    account-drop) ! is_there passwd "$2" ;;
    account-join) is_member "$2" "$3" ;;
    account-part) ! is_member "$2" "$3" ;;
    account-lock) record shadow "$2" '$2 ~ /^!/' ;;
    account-unlock) record shadow "$2" '$2 !~ /^!/' ;;
    account-give) is_given "$2" ;;
    account-take) record shadow "$2" '$2 == value' "${3%:*}" ;;
    account-expire) is_day "$2" "${3%:*}" ;;
    esac
}

# Without the tools: what useradd(8) and passwd(1) exclude each other by is excluded here, too.
take_lock_of() { # a file with the process's number, which a tool that finds it honours while that process lives
    tries=0
    until (set -C && echo $$ >"/etc/$1.lock") 2>/dev/null; do
        held=$(cat "/etc/$1.lock" 2>/dev/null)
        [ -z "$held" ] || kill -0 "$held" 2>/dev/null || rm -f "/etc/$1.lock"
        tries=$((tries + 1))
        [ $tries -lt 100 ] || return 1
        sleep 0.1
    done
}
give_locks() { # ours, and those of a script of ours that was killed
    for each in passwd shadow group gshadow; do
        held=$(cat "/etc/$each.lock" 2>/dev/null) || continue
        [ -n "$held" ] && [ "$held" != $$ ] && kill -0 "$held" 2>/dev/null || rm -f "/etc/$each.lock"
    done
}
by_field() { # by_field DATABASE ACT NAME|RECORD [VALUE]: one record, in a copy with the same owner and mode that then takes its place
    [ -f "/etc/$1" ] || return 0
    [ "$1" != gshadow ] || [ "$2" = add ] || is_there gshadow "$3" || return 0
    take_lock_of "$1" || return 1
    fresh=/etc/$1.nightlatch-$id
    rm -f "$fresh"
    cp -p "/etc/$1" "$fresh" && { ! has chcon || chcon --reference="/etc/$1" "$fresh" 2>/dev/null || :; } && awk -F: -v OFS=: -v act="$2" -v name="${3%%:*}" -v value="$4" -v whole="$3" '
        { text = $0 }
        $1 == name && !seen++ {
            if (act == "drop") next
            if (act == "join") $4 = $4 ($4 == "" ? "" : ",") value
            if (act == "part") { n = split($4, all, ","); $4 = ""; for (i = 1; i <= n; i++) if (all[i] != value) $4 = $4 ($4 == "" ? "" : ",") all[i] }
            if (act == "lock") $2 = "!" $2
            if (act == "unlock") sub(/^!/, "", $2)
            if (act == "day") $8 = value
            if (act == "due") $3 = value
            if (act == "mark") $2 = value
            text = $0
        }
        { print text }
        END { if (act == "add" && !seen) print whole }' "/etc/$1" >"$fresh" && settle "$fresh" && mv -f "$fresh" "/etc/$1" && settle
    ended=$?
    at "written $1"
    give_locks
    return $ended
}
