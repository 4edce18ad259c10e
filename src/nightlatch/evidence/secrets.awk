# Secrets in text, as formats/network_secrets.py and formats/text_secrets.py take them out; a test holds them together. With
# list=1: only the names of files that hold some. With keys=1: files of public keys. With lines=1: plain lines,
# as a filter; where there is a mark, a line that begins with it is a heading, and all others get a space.
function is_hers(name) { # network settings: too much rather than too little
    name = tolower(name)
    if (name ~ /^key[-_]?mgmt$/ || name ~ /^key[-_]management$/ || name ~ /-flags$/) return 0
    return name ~ /psk|pass|secret|private.?key|shared.?key|wep|cak|cookie|token|bearer|credential|authorization|^key[0-9]*$|^keys$|[-_]pin$|^pin$/
}
function is_secret(name, mark) {
    name = tolower(name)
    if (name ~ /(file|files|path|dir|directory|command|cmd|prompt|tries|timeout|flag|flags|mgmt|management|type|types|authentication|message|length|len|min|max|age|days|format|scheme|alg|algorithm|algorithms|usage|name|url|uri|expired|reuse|policy|service)$/) return 0
    if (name ~ /^(old)?pwd$/ || name ~ /^loadcredential/ || (mark == ":" && (name == "passwd" || name == "nopasswd"))) return 0
    return name ~ /passw|passphrase|pwd|secret|token|cookie|credential|bearer|authorization|psk|bindpw|(api|access|private|auth|session|encryption|shared)[_.-]?key/
}
function is_plain(value) {
    if (value ~ /^[$%]/ || substr(value, 1, 8) == "{secret}") return 1
    return tolower(value) ~ /^(yes|no|true|false|on|off|none|null|auto|always|never|required|default|ask|[0-9]?[0-9]?[0-9])$/
}
function ends(text, quote, escaped,  at, one) { # where a quoted text ends
    for (at = 1; at <= length(text); at++) {
        one = substr(text, at, 1)
        if (one == quote) return at - 1
        if (one == "\\" && !escaped) at++
    }
    return length(text)
}
function find_value(rest, far,  bare, at, escaped, quote) { # sets lead and value
    bare = rest; sub(/^[ \t]+/, "", bare); lead = substr(rest, 1, length(rest) - length(bare)); value = ""
    escaped = substr(bare, 1, 1) == "\\"
    quote = substr(bare, 1 + escaped, 1)
    if (quote == "\"" || quote == "'") {
        at = length(lead) + 1 + escaped
        lead = substr(rest, 1, at); value = substr(rest, at + 1); value = substr(value, 1, ends(value, quote, escaped))
    } else if (lead != "" && far) { value = bare; at = index(value, "\""); if (at) value = substr(value, 1, at - 1) }
    else if (lead == "") { match(bare, /^(\\[^"']|[^ \t"';|&<>()\\])*/); value = substr(bare, 1, RLENGTH) }
}
function hide() { # goes on from out, rest, lead and value
    sub(/[ \t\\]+$/, "", value)
    if (value == "" || is_plain(value)) return
    out = out lead "{secret}"; rest = substr(rest, length(lead) + length(value) + 1)
}
function named(body,  token, name, bare, mark, before, blank, close_) {
    out = ""; rest = body
    while (match(rest, /[A-Za-z0-9_.-]+["']?[ \t]*[:=]/)) {
        token = substr(rest, RSTART, RLENGTH); before = out substr(rest, 1, RSTART - 1); rest = substr(rest, RSTART + RLENGTH)
        out = before token
        mark = substr(token, length(token)); blank = substr(token, length(token) - 1, 1)
        name = substr(token, 1, length(token) - 1); sub(/[ \t]+$/, "", name); bare = name; sub(/["']$/, "", bare)
        if (!is_secret(bare, mark)) continue
        close_ = substr(before, length(before)); close_ = close_ == "[" ? "]" : close_ == "\"" || close_ == "'" ? close_ : ""
        if (bare == name && close_ != "") {
            lead = ""; value = substr(rest, 1, ends(rest, close_, length(before) > 1 && substr(before, length(before) - 1, 1) == "\\"))
        } else find_value(rest, mark == ":" || blank == " " || blank == "\t")
        hide()
    }
    return out rest
}
function options(body,  name, before) {
    out = ""; rest = body
    while (match(rest, /--?[A-Za-z][A-Za-z0-9_.-]*[ \t]+/)) {
        name = substr(rest, RSTART, RLENGTH); before = out substr(rest, 1, RSTART - 1); rest = substr(rest, RSTART + RLENGTH)
        out = before name
        sub(/^-+/, "", name); sub(/[ \t]+$/, "", name); sub(/-+$/, "", name)
        if (before !~ /(^|[ \t"'=([])$/ || !is_secret(name, "-")) continue
        find_value(rest, 0)
        if (substr(value, 1, 1) != "-") hide()
    }
    return out rest
}
function literal(body, shape, kept,  done, found) { # each match of a kind, the part after what is kept hidden
    rest = body; done = ""
    while (match(rest, shape)) {
        found = substr(rest, RSTART, RLENGTH); done = done substr(rest, 1, RSTART - 1); rest = substr(rest, RSTART + RLENGTH)
        if (kept == "url") done = done substr(found, 1, 3 + index(substr(found, 4), ":")) "{secret}@"
        else if (kept == "word") {
            name = found; sub(/^[^ \t]+[ \t]+/, "", name)
            done = done (length(name) < 8 ? found : substr(found, 1, length(found) - length(name)) "{secret}")
        } else if (kept == "value") {
            lead = ""; value = ""; out = ""; done = done found; find_value(rest, 0)
            hide(); done = done out
        } else done = done "{secret}"
    }
    return done rest
}
function taken(body) {
    if (tolower(body) !~ /pass|pwd|secret|token|cookie|credential|bearer|authorization|psk|bindpw|key|eyj|:\/\//) return body
    if (body ~ /:\/\//) body = literal(body, "://[^/@: \t\"'<>]*:[^/@ \t\"'<>]+@", "url")
    if (body ~ /AGE-SECRET-KEY-1/) body = literal(body, "AGE-SECRET-KEY-1[A-Za-z0-9]+", "")
    if (body ~ /eyJ/) body = literal(body, "eyJ[A-Za-z0-9_-]+[.][A-Za-z0-9_-]+[.][A-Za-z0-9_-]+", "")
    if (body ~ /Bearer|BEARER/) body = literal(body, "(Bearer|BEARER)[ \t]+[A-Za-z0-9._~+/=-]+", "word")
    if (body ~ /sshpass/) body = literal(body, "sshpass[ \t]+-p[ \t]*", "value")
    return options(named(body))
}
function cut(body, indent,  rest, done, token, name, last) { # the line up to its first secret; found says whether there is one
    found = 0; rest = body; done = ""
    while (match(rest, /[A-Za-z0-9_.-]+["']?[ \t]*[:=]/)) {
        token = substr(rest, RSTART, RLENGTH); last = substr(token, RLENGTH)
        name = substr(token, 1, RLENGTH - 1); sub(/[ \t]+$/, "", name); sub(/["']$/, "", name)
        done = done substr(rest, 1, RSTART - 1)
        if (is_hers(name) || (inside && length(done) == indent)) {
            found = 1; rest = substr(rest, RSTART + RLENGTH)
            if (rest ~ /^[ \t\r\f\v]*$/) return body
            return done token (last == ":" ? " \"{secret}\"" : "{secret}")
        }
        done = done token; rest = substr(rest, RSTART + RLENGTH)
    }
    if (substr(body, indent + 1, 1) == "?") {
        name = substr(body, indent + 2); gsub(/^[ \t"']+|[ \t"']+$/, "", name)
        found = is_hers(name) || index(name, "\\") > 0
        return body
    }
    # A key of YAML with escapes may spell anything; an anchor carries its value elsewhere.
    if (match(body, /"[^"]*\\[^"]*"[ \t]*:/) || match(body, /[ \t]&[A-Za-z0-9_-]+[ \t]/)) {
        found = 1
        return substr(body, RSTART + RLENGTH) ~ /^[ \t]*$/ ? body : substr(body, 1, RSTART + RLENGTH - 1) " \"{secret}\""
    }
    rest = body; done = ""
    while (match(rest, /[A-Za-z0-9_.-]+[ \t]+/)) {
        token = substr(rest, RSTART, RLENGTH); name = token; sub(/[ \t]+$/, "", name)
        done = done substr(rest, 1, RSTART - 1) token; rest = substr(rest, RSTART + RLENGTH)
        if (is_hers(name) && rest != "") { found = 1; return done "{secret}" }
    }
    return body
}
function network_line(  bare, indent, made) {
    bare = body; sub(/^[ \t]+/, "", bare); indent = length(body) - length(bare)
    if (deep >= 0 && (indent > deep || bare == "" || (asked && substr(bare, 1, 1) == ":"))) return ""
    deep = -1; asked = 0
    if (substr(bare, 1, 1) == "[") inside = tolower(body) ~ /secret/
    made = cut(body, indent)
    if (found) { deep = indent; asked = substr(bare, 1, 1) == "?" }
    return made
}
function plain_line(  made) {
    if (goes_on) { goes_on = body ~ /\\$/; return "{secret}" (goes_on ? "\\" : "") }
    made = taken(body)
    goes_on = made != body && made ~ /[{]secret[}]\\$/
    if (!keys) return made
    bare = made; gsub(/^[ \t]+|[ \t]+$/, "", bare)
    if (bare == "" || bare ~ /^#/ || bare == "{not carried}" || made ~ /(ssh-|ecdsa-|sk-)[A-Za-z0-9@.-]+[ \t]+AAAA/) return made
    return "{not carried}"
}
function finish(  i) {
    if (file != "" && changed) {
        if (list) print file
        else { printf "\n@reduced %s\n", file; for (i = 1; i <= count; i++) print " " kept[i] }
    }
    count = changed = inside = goes_on = asked = 0; deep = -1
}
lines && mark != "" && index($0, mark) == 1 { printf "\n%s\n", substr($0, length(mark)); next }
lines { body = $0; goes_on = 0; print (mark != "" ? " " : "") plain_line(); next }
FNR == 1 { finish(); file = FILENAME; network = file ~ /\/netplan\/|\/NetworkManager\/|\/systemd\/network\/|\/etc\/network\/|\/etc\/sysconfig\/network/ }
{
    body = $0; end = ""
    if (sub(/\r+$/, "", body)) end = substr($0, length(body) + 1)
    if (network) { made = network_line(); if (made != "") made = taken(made) } else made = plain_line()
    if (made != body) changed = 1
    kept[++count] = made end
}
END { if (!lines) finish() }
