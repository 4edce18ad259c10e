# The part of a change that loads rules of a packet filter, beside acts.sh: objects named nightlatch and nothing else, as the
# manager's file has them now, so that taking a change back is the same once its files are back. Nothing is flushed.
rules_sent() { # rules_sent PATH: the content that this change gives a path, where it gives one
    number=$(row_of "$1")
    [ -n "$number" ] && [ -f "$change/$number.after" ] && printf '%s\n' "$change/$number.after"
}
rules_check() { # the manager's own check, before anything is changed
    case $1 in
    nftables) sent=$(rules_sent /etc/nightlatch.nft) || return 0
        said=$( { nft_gone; cat "$sent"; } >"$change/rules.load" && nft -c -f "$change/rules.load" 2>&1) ;;
    iptables) said=$(
        for name in /etc/iptables/rules.v4 /etc/sysconfig/iptables; do ! sent=$(rules_sent $name) || iptables-restore --test <"$sent" || exit 1; done 2>&1
        for name in /etc/iptables/rules.v6 /etc/sysconfig/ip6tables; do ! sent=$(rules_sent $name) || ip6tables-restore --test <"$sent" || exit 1; done 2>&1
    ) ;;
    ufw) said=$(
        ! sent=$(rules_sent /etc/ufw/user.rules) || iptables-restore --noflush --test <"$sent" 2>&1 || exit 1
        ! sent=$(rules_sent /etc/ufw/user6.rules) || ip6tables-restore --noflush --test <"$sent" 2>&1
    ) ;;
    firewalld) said=$(
        rm -rf "$change/copy/firewalld" && mkdir -p "$change/copy" && cp -a /etc/firewalld "$change/copy/firewalld" || exit 1
        mkdir -p "$change/copy/firewalld/zones"
        cut -d' ' -f12- "$change/table" | while read -r name; do
            case $name in /etc/firewalld/zones/*) ! sent=$(rules_sent "$name") || cp "$sent" "$change/copy/firewalld/zones/${name##*/}" ;; esac
        done
        firewall-offline-cmd --system-config "$change/copy/firewalld" --check-config 2>&1
    ) ;;
    esac || { why="$1 refuses the rules: $(printf '%s\n' "$said" | head -n 2 | tr '\n' ' ')"; return 1; }
}
rules_load() {
    case $1 in
    nftables) { nft_gone; [ ! -f /etc/nightlatch.nft ] || cat /etc/nightlatch.nft; } >"$change/rules.load" && nft -f "$change/rules.load" ;;
    iptables)
        saved_load iptables /etc/iptables/rules.v4 /etc/sysconfig/iptables && saved_load ip6tables /etc/iptables/rules.v6 /etc/sysconfig/ip6tables
        ;;
    ufw) ufw reload >/dev/null ;;
    firewalld) zones_load ;;
    esac || { why="$1 did not load the rules"; return 1; }
}
nft_gone() { # the words that take the gate out of the kernel: its jumps by their handles, then its chains and its table
    nft -a list ruleset 2>/dev/null | awk '
        $1 == "table" { family = $2; table = $3 }
        $1 == "table" && $3 == "nightlatch" { last = last "delete table " family " nightlatch\n" }
        table == "nightlatch" { next }
        $1 == "chain" { chain = $2 }
        $1 == "chain" && $2 == "nightlatch" { at = family " " table " nightlatch\n"; last = last "flush chain " at "delete chain " at }
        / jump nightlatch # handle [0-9]+$/ { print "delete rule", family, table, chain, "handle", $NF }
        END { printf "%s", last }'
}
saved_load() { # saved_load PROGRAM FILE...: the gate of the file that is there, in place of that in the kernel
    program=$1 held=''
    shift
    command -v "$program" >/dev/null || return 0
    for name; do [ ! -f "$name" ] || held=$name; done
    jumps=$("$program" -S INPUT 2>/dev/null | grep -e ' -j nightlatch$' | sed 's/^-A/-D/')
    {
        echo '*filter'
        [ -z "$jumps" ] || printf '%s\n' "$jumps"
        if [ -n "$held" ] && grep -q '^:nightlatch ' "$held"; then
            echo ':nightlatch - [0:0]'
            grep -e '^-A nightlatch ' "$held"
            grep -e '^-A INPUT .* -j nightlatch$' "$held" | sed 's/^-A/-I/'
        elif "$program" -S nightlatch >/dev/null 2>&1; then
            printf '%s\n' '-F nightlatch' '-X nightlatch'
        fi
        echo COMMIT
    } >"$change/rules.load"
    "$program-restore" --noflush <"$change/rules.load"
}
zones_load() { # rich rules of the gate: those that are stored and not loaded come in, those that are loaded and not stored go
    firewall-offline-cmd --list-all-zones 2>/dev/null | zones_own >"$change/rules.want"
    firewall-cmd --list-all-zones | zones_own >"$change/rules.have" || return 1
    grep -vxF -f "$change/rules.have" "$change/rules.want" | sort -t "$(printf '\t')" -k 2 >"$change/rules.add"
    grep -vxF -f "$change/rules.want" "$change/rules.have" | sort -r -t "$(printf '\t')" -k 2 >"$change/rules.drop"
    while IFS="$(printf '\t')" read -r zone rank rule <&5; do
        firewall-cmd --quiet --zone="$zone" --add-rich-rule="$rule" || return 1
    done 5<"$change/rules.add"
    while IFS="$(printf '\t')" read -r zone rank rule <&5; do
        firewall-cmd --quiet --zone="$zone" --remove-rich-rule="$rule" || return 1
    done 5<"$change/rules.drop"
}
zones_own() { # ZONE, RANK and RULE: those that let in rank before those that drop
    awk '/^[^ \t]/ { zone = $1 } /priority="-414[01]"/ { sub(/^[ \t]+/, ""); print zone "\t" (/-4141/ ? 1 : 2) "\t" $0 }'
}
