#!/bin/sh
# Make the root of a Debian 13 for guests of the lab that are of another release than this machine: once, by debootstrap(8), outside
# of the project, so that every clone has it. Without root's rights or debootstrap nothing is made, and the tests that need it say so.
set -eu
tree=/var/cache/nightlatch-lab/debian-13
[ ! -e "$tree" ] || exit 0
[ "$(id -u)" = 0 ] && command -v debootstrap >/dev/null 2>&1 || exit 0
# The mirror that this machine's own apt uses.
mirror=$(apt-get indextargets --format '$(REPO_URI)' 'Created-By: Packages' 2>/dev/null | grep -m 1 '/debian/*$' || true)
part=$tree.part
rm -rf "$part"
mkdir -p "$part"
echo "making the root of a Debian 13 for the tests, which takes a minute or two: $tree"
# minbase has neither an SSH server nor a service manager; these are what a guest of the lab runs.
with=openssh-server,sudo,systemd,systemd-sysv,dbus,libpam-systemd,iproute2,procps,nftables
debootstrap --variant=minbase --include="$with" trixie "$part" "${mirror:-http://deb.debian.org/debian}" >"$part.log" 2>&1 || {
    tail -n 5 "$part.log" >&2
    rm -rf "$part"
    exit 1
}
rm -rf "$part/var/cache/apt/archives" "$part/var/lib/apt/lists" "$part.log"
mv "$part" "$tree"
