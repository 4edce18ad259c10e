# The part of a change that gives a guest an identity of its own: new host keys of the kinds that it has, and a new machine id. Beside
# acts.sh. The old ones lie in $change/identity, for root only, until it is decided: what is kept never comes back, for others hold it.
id_file=/etc/machine-id bus_file=/var/lib/dbus/machine-id
host_key() { echo "/etc/ssh/ssh_host_$1_key"; }
identity_check() { # identity_check KINDS MACHINE
    command -v ssh-keygen >/dev/null 2>&1 || { why='there is no ssh-keygen here'; return 1; }
    for kind in $(echo "$1" | tr , ' '); do
        key=$(host_key "$kind")
        for each in "$key" "$key.pub"; do [ -f "$each" ] && [ ! -L "$each" ] || { why="$each is not a file of its own"; return 1; }; done
    done
    [ "$2" = - ] || { [ -f $id_file ] && [ ! -L $id_file ] && ! is_mounted $id_file; } || { why="$id_file is not a file of its own"; return 1; }
}
is_mounted() { awk -v path="$1" '$5 == path { found = 1 } END { exit !found }' /proc/self/mountinfo; }
laid_by() { # laid_by FILE: the file as it is, whole or not at all
    kept=$change/identity/${1##*/}
    [ -e "$kept" ] || { cp -p "$1" "$kept.part" && settle "$kept.part" && mv "$kept.part" "$kept"; }
}
in_place() { # in_place FRESH FILE: owner, mode and label of the file it takes the place of
    chown "$(stat -c '%u:%g' "$2")" "$1" && chmod "$(stat -c %a "$2")" "$1" || return 1
    ! command -v chcon >/dev/null 2>&1 || chcon --reference="$2" "$1" 2>/dev/null || :
    settle "$1" && mv -f "$1" "$2"
}
identity_make() { # identity_make KINDS MACHINE
    mkdir -p "$change/identity" || return 1
    for kind in $(echo "$1" | tr , ' '); do
        key=$(host_key "$kind")
        laid_by "$key" && laid_by "$key.pub" || { why="$change has no room"; return 1; }
        at "laid by $kind"
        rm -f "$key.nightlatch-$id" "$key.nightlatch-$id.pub"
        ssh-keygen -q -t "$kind" -N '' -C "root@$(cat /proc/sys/kernel/hostname)" -f "$key.nightlatch-$id" </dev/null || return 1
        told=$(ssh-keygen -l -E sha256 -f "$key.nightlatch-$id.pub" | cut -d' ' -f2)
        in_place "$key.nightlatch-$id" "$key" || return 1
        at "half $kind"
        in_place "$key.nightlatch-$id.pub" "$key.pub" || return 1
        say "host key $told"
        at "made $kind"
    done
    [ "$2" = - ] || machine_make
    settle
}
machine_make() { # machine-id(5): 32 lower-case hexadecimal digits and a newline; what runs has the old one until the next start
    same=no
    [ ! -f $bus_file ] || [ -L $bus_file ] || ! cmp -s $id_file $bus_file || same=yes
    laid_by $id_file || { why="$change has no room"; return 1; }
    od -An -N16 -tx1 /dev/urandom | tr -d ' \n' >"$id_file.nightlatch-$id" && echo >>"$id_file.nightlatch-$id" || return 1
    [ "$(wc -c <"$id_file.nightlatch-$id")" -eq 33 ] || return 1
    if [ $same = yes ]; then
        : >"$change/identity/bus"
        cp "$id_file.nightlatch-$id" "$bus_file.nightlatch-$id" && in_place "$bus_file.nightlatch-$id" $bus_file || return 1
    fi
    at "half machine"
    in_place "$id_file.nightlatch-$id" $id_file
    at "made machine"
}
identity_back() { # each as it was laid by, from wherever it came to an end
    fine=0
    for name in $(ls "$change/identity" 2>/dev/null); do # what is taken back is gone through without patterns
        kept=$change/identity/$name
        case $name in
        *.part) ;; # nothing was put in its place yet
        ssh_host_*)
            back_in_place "$kept" "/etc/ssh/$name" || fine=1
            rm -f "/etc/ssh/$name.nightlatch-$id" "/etc/ssh/${name%.pub}.nightlatch-$id.pub"
            ;;
        machine-id) back_in_place "$kept" $id_file || fine=1 ;;
        bus) back_in_place "$change/identity/machine-id" $bus_file || fine=1 ;;
        esac
    done
    rm -f "$id_file.nightlatch-$id" "$bus_file.nightlatch-$id"
    return $fine
}
back_in_place() { # back_in_place KEPT FILE: once more where it was done already
    cmp -s "$1" "$2" || { cp -p "$1" "$2.nightlatch-$id" && in_place "$2.nightlatch-$id" "$2"; }
}
