#!/bin/sh
# Fetch programs of this machine's release for guests of the lab, and unpack them outside of the project, once:
#     unpacked-programs.sh NAME PACKAGE...
# Nothing of them is installed here: a guest gets the files. Without root's rights nothing is made, and the tests that need them say so.
set -eu
name=$1
shift
tree=/var/cache/nightlatch-lab/$name
[ ! -e "$tree" ] || exit 0
[ "$(id -u)" = 0 ] && command -v apt-get >/dev/null 2>&1 || exit 0
part=$tree.part
rm -rf "$part"
mkdir -p "$part/archives/partial"
fetch() {
    apt-get install -y --download-only --no-install-recommends -o Dir::Cache::archives="$part/archives" "$@" >"$part.log" 2>&1
}
fetch "$@" || { apt-get update -qq && fetch "$@"; } || {
    tail -n 5 "$part.log" >&2
    rm -rf "$part"
    exit 1
}
mkdir "$part/root"
for each in "$part"/archives/*.deb; do dpkg-deb -x "$each" "$part/root"; done
for each in bin lib sbin; do # links into usr by now
    [ ! -d "$part/root/$each" ] || { mkdir -p "$part/root/usr/$each" && cp -a "$part/root/$each/." "$part/root/usr/$each" && rm -rf "${part:?}/root/$each"; }
done
rm -rf "$part/root/usr/share/doc" "$part/root/usr/share/man" "$part/root/usr/share/locale"
mv "$part/root" "$tree"
rm -rf "$part" "$part.log"
