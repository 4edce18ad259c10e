# Secrets in network settings, as formats/network_secrets.py takes them out. With list=1: only the names of files that hold some.
function secret(name) {
    name = tolower(name)
    if (name ~ /^key[-_]?mgmt$/ || name ~ /^key[-_]management$/ || name ~ /-flags$/) return 0
    return name ~ /psk|pass|secret|private.?key|shared.?key|wep|cak|^key[0-9]*$|^keys$|[-_]pin$|^pin$/
}
function finish(  i) {
    if (file != "" && changed) {
        if (list) print file
        else { printf "\n@reduced %s\n", file; for (i = 1; i <= count; i++) print " " kept[i] }
    }
    count = changed = inside = 0; deep = -1
}
function cut(body, indent,  rest, done, token, name, last) { # the line up to its first secret; found says whether there is one
    found = 0; rest = body; done = ""
    while (match(rest, /[A-Za-z0-9_.-]+["']?[ \t]*[:=]/)) {
        token = substr(rest, RSTART, RLENGTH); last = substr(token, RLENGTH)
        name = substr(token, 1, RLENGTH - 1); sub(/[ \t]+$/, "", name); sub(/["']$/, "", name)
        done = done substr(rest, 1, RSTART - 1)
        if (secret(name) || (inside && length(done) == indent)) {
            found = 1; rest = substr(rest, RSTART + RLENGTH)
            if (rest ~ /^[ \t\r\f\v]*$/) return body
            return done token (last == ":" ? " \"{secret}\"" : "{secret}")
        }
        done = done token; rest = substr(rest, RSTART + RLENGTH)
    }
    if (match(body, /^[ \t]*[A-Za-z0-9_.-]+[ \t]+/)) {
        name = substr(body, indent + 1); sub(/[ \t].*$/, "", name)
        if (secret(name) && length(body) > RLENGTH) { found = 1; return substr(body, 1, indent) name " {secret}" }
    }
    return body
}
FNR == 1 { finish(); file = FILENAME }
{
    body = $0; end = ""
    if (sub(/\r+$/, "", body)) end = substr($0, length(body) + 1)
    bare = body; sub(/^[ \t]+/, "", bare); indent = length(body) - length(bare)
    if (deep >= 0 && (indent > deep || bare == "")) { if (body != "") changed = 1; kept[++count] = end; next }
    deep = -1
    if (substr(bare, 1, 1) == "[") inside = tolower(body) ~ /secret/
    made = cut(body, indent)
    if (found) deep = indent
    if (made != body) changed = 1
    kept[++count] = made end
}
END { finish() }
