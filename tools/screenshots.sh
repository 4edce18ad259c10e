#!/bin/sh
# Take one picture of each main command on the demo, in a real terminal on a virtual screen, into docs/screenshots.
# Needs Debian's packages xvfb, xterm, imagemagick, fonts-dejavu-core.
set -eu
cd "$(dirname "$0")/.."
out=$PWD/docs/screenshots
bin=$PWD/.venv/bin
work=$(mktemp -d)
display=:97
Xvfb $display -screen 0 1280x800x24 >/dev/null 2>&1 &
screen=$!
trap 'kill $screen 2>/dev/null; rm -rf "$work"' EXIT
sleep 1
"$bin/nightlatch" demo --leave --folder "$work/skerry" >/dev/null
cp -a "$work/skerry" "$work/clean"
for guest in plotter chartbox; do (cd "$work/clean" && "$bin/nightlatch" undo --on "$guest" >/dev/null); done

shot() { # name, folder, command
    cat >"$work/run" <<RUN
#!/bin/sh
cd "$2"
PATH="$bin:\$PATH"
printf '\033[1m\$ %s\033[0m\n' "$3"
$3
touch "$work/done"
sleep 30
RUN
    chmod 755 "$work/run"
    rm -f "$work/done"
    DISPLAY=$display xterm -fa 'DejaVu Sans Mono' -fs 10 -geometry 158x47+0+0 -b 0 -bw 0 -bg '#101418' -fg '#d7dde3' \
        -xrm 'XTerm*faceSize: 10' -sl 0 +sb -e "$work/run" &
    term=$!
    for _ in $(seq 100); do [ -e "$work/done" ] && break; sleep 0.1; done
    sleep 0.5
    DISPLAY=$display import -window root -depth 8 -colors 64 "$out/$1.png"
    kill $term
    wait $term 2>/dev/null || true
}
at='--as-of 2026-11-25'
shot audit "$work/clean" "nightlatch audit $at"
shot first-look "$work/clean" "nightlatch audit images/chartbox $at"
shot draft "$work/clean" "nightlatch draft $at"
shot enact "$work/clean" "nightlatch enact --yes --on gate $at"
shot undo "$work/clean" "nightlatch undo"
shot checks "$work/clean" "nightlatch checks"
sed -i 's/let: team crew/let: [mara, jon]/; s/from: bench, with: key}            #/from: 192.168.40\/24, with: kee} #/' "$work/clean/estate.yaml"
shot errors "$work/clean" "nightlatch audit"
