#!/bin/sh
# Take one picture of each main command on the demo, in a real terminal on a virtual screen, into docs/screenshots.
# Needs Debian's packages xvfb, xterm, imagemagick, fonts-dejavu-core; and root, for the guests that run.
set -eu
cd "$(dirname "$0")/.."
out=$PWD/docs/screenshots
bin=$PWD/.venv/bin
work=$(mktemp -d)
display=:97
Xvfb $display -screen 0 1280x800x24 >/dev/null 2>&1 &
screen=$!
trap 'kill $screen 2>/dev/null; exec 9>&-; rm -rf "$work"' EXIT
sleep 1
"$bin/nightlatch" demo --leave --folder "$work/skerry" >/dev/null
cp -a "$work/skerry" "$work/clean"
for guest in plotter chartbox; do (cd "$work/clean" && "$bin/nightlatch" undo --on "$guest" >/dev/null); done
cp src/nightlatch/demo/skerry/outer/isle.json "$work/clean/outer/"
sed -i 's/taken: .*/taken: 2026-11-20/' "$work/clean/estate.yaml"

shot() { # name, folder, command as shown, command as run where that differs
    cat >"$work/run" <<RUN
#!/bin/sh
cd "$2"
PATH="$bin:\$PATH"
printf '\033[1m\$ %s\033[0m\n' "$3"
${4:-$3}
touch "$work/done"
sleep 30
RUN
    chmod 755 "$work/run"
    rm -f "$work/done"
    DISPLAY=$display xterm -fa 'DejaVu Sans Mono' -fs 10 -geometry 158x47+0+0 -b 0 -bw 0 -bg '#101418' -fg '#d7dde3' \
        -xrm 'XTerm*faceSize: 10' -sl 0 +sb -e "$work/run" &
    term=$!
    for _ in $(seq 400); do [ -e "$work/done" ] && break; sleep 0.1; done
    sleep 0.5
    DISPLAY=$display import -window root -depth 8 -colors 64 "$out/$1.png"
    kill $term
    wait $term 2>/dev/null || true
}
at='--as-of 2026-11-25'
shot audit "$work/clean" "nightlatch audit --on gate --on plotter $at"
shot first-look "$work/clean" "nightlatch audit images/chartbox $at"
shot draft "$work/clean" "nightlatch draft $at"
shot enact "$work/clean" "nightlatch enact --yes --on gate; nightlatch undo --on gate" \
    "nightlatch enact --yes --on gate $at; echo; nightlatch undo --on gate"
shot access "$work/clean" "nightlatch access --who joon --who tove; nightlatch access --key keys/nightcopy.pub; nightlatch access --matrix" \
    "nightlatch access --who joon --who tove $at; echo; nightlatch access --key keys/nightcopy.pub $at; echo; nightlatch access --matrix $at"
shot addresses "$work/clean" "nightlatch addresses --from bench $at"
(cd "$work/clean" && "$bin/nightlatch" exposure $at --picture "$out/exposure.png" >/dev/null)
"$bin/nightlatch" demo --outer "$work/clean/outer" >/dev/null &
table=$!
sleep 1
shot perimeter "$work/clean" "nightlatch perimeter; nightlatch perimeter --enact; nightlatch perimeter; nightlatch perimeter --undo" \
    "for how in '' --enact '' --undo; do nightlatch perimeter \$how $at; echo; done"
kill $table
shot new-from "$work/clean" "nightlatch new today.yaml --from images/gauge --from images/gate" \
    "nightlatch new today.yaml --from images/gauge --from images/gate $at; echo; cat today.yaml"
shot why "$work/clean" "nightlatch why joon plotter --symptom 'asks for a password'" \
    "nightlatch why joon plotter --symptom 'asks for a password' $at"
cp -a "$work/clean" "$work/days"
(
    cd "$work/days"
    "$bin/nightlatch" survey >/dev/null 2>&1
    mv evidence/20* evidence/2026-11-18
    "$bin/nightlatch" enact --yes --on gate --on plotter $at >/dev/null
    echo "tide:x:1500:1500::/home/tide:/bin/bash" >>images/gauge/etc/passwd
    cat keys/joon-desk.pub >>images/gauge/home/copier/.ssh/authorized_keys
)
shot compare "$work/days" "nightlatch compare 2026-11-18 --on gauge --on plotter" "nightlatch compare 2026-11-18 --on gauge --on plotter $at"
cp -a "$work/clean" "$work/people"
"$bin/python" -c 'import sys; from datetime import UTC, datetime; from pathlib import Path; from nightlatch.demo.people import edited
path = Path(sys.argv[1]); path.write_text(edited(path.read_text(), datetime(2026, 11, 25, tzinfo=UTC))[0])' "$work/people/estate.yaml"
(umask 077 && echo 'Aram-2026!' >"$work/people/typed")
shot accounts "$work/people" "nightlatch draft --on gauge; nightlatch password judge gate --for mara" \
    "nightlatch draft --on gauge $at; nightlatch password judge gate --for mara --password-file typed"
sed -i 's/let: team crew/let: [mara, jon]/; s/from: bench, with: key}            #/from: 192.168.40\/24, with: kee} #/' "$work/clean/estate.yaml"
shot errors "$work/clean" "nightlatch audit"

# The guests that run: the demo's prompt waits for a line while the pictures are taken.
"$bin/python" -c 'import pty, sys; pty.spawn(sys.argv[1:])' sh -c "stty cols 158; exec $bin/nightlatch demo --live" >"$work/told" </dev/null
tr -d '\r' <"$work/told" | sed -n '/== 3. nobody/,/== 5. enact/p' | sed '$d' >"$work/part"
shot demo-live "$work" "nightlatch demo --live" "cat $work/part"
tr -d '\r' <"$work/told" | sed -n '/chartbox.*kept: change/,/== 6/p; /== 9/,$p' | grep -v '== 6' >"$work/part"
shot port "$work" "nightlatch demo --live" "cat $work/part"
mkfifo "$work/enter"
"$bin/nightlatch" demo --live --leave --folder "$work/live" <"$work/enter" >"$work/left" &
demo=$!
exec 9>"$work/enter"
until grep -q 'nightlatch undo' "$work/left" 2>/dev/null; do kill -0 $demo; sleep 0.5; done
desk=$work/live/bin/nightlatch
sed 's/^  gate: .*via/  lamp:     {via: {ssh: 192.168.56.40, as: keeper}}\n&/' "$work/live/estate.yaml" >"$work/live/five.yaml"
shot enact-live "$work/live" "nightlatch enact --on gate --yes --leave; nightlatch pending" "$desk enact --on gate --yes --leave; echo; $desk pending"
shot reach "$work/live" "nightlatch reach five.yaml --on lamp --on chartbox --on gate" "$desk reach five.yaml --on lamp --on chartbox --on gate"
pin=$(sed -n '/^  gauge:/,/host_keys/s/.*host_keys: \["\([^"]*\)"\].*/\1/p' "$work/live/estate.yaml")
sed '/^  gauge:/,/host_keys/s/SHA256:[^"]*/SHA256:'"$(printf 'A%.0s' $(seq 43))"'/' "$work/live/estate.yaml" >"$work/live/met.yaml"
shot meet "$work/live" "nightlatch meet gauge met.yaml --fingerprint $pin" "$desk meet gauge met.yaml --fingerprint $pin"
sed 's/192.168.56.21/192.168.56.99/; s/192.168.56.24/192.168.56.98/' "$work/live/estate.yaml" >"$work/live/moved.yaml"
shot find "$work/live" "nightlatch find gauge moved.yaml; nightlatch find chartbox moved.yaml" "$desk find gauge moved.yaml || :; echo; $desk find chartbox moved.yaml || :"
echo exit >&9
wait $demo
