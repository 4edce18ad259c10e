# Secrets in text, as formats/network_secrets.py and formats/text_secrets.py take them out; a test holds them together. Of files
# those are told that hold some. With keys=1: files of public keys, with keys=2 nothing but keys,
# with keys=3 tables of cron(8). With lines=1: plain
# lines, as a filter; where there is a mark, a line that begins with it is a heading, and all others get a space. Each line is
# gone through mark by mark: a pattern that begins anywhere in a long word would be tried from each letter.
function is_hers(name) { # network settings: too much rather than too little
    name = tolower(name)
    if (name ~ /^key[-_]?mgmt$/ || name ~ /^key[-_]management$/ || name ~ /-flags$/) return 0
    return name ~ /psk|pass|secret|private.?key|shared.?key|wep|cak|cookie|token|bearer|credential|authorization|^key[0-9]*$|^keys$|[-_]pin$|^pin$/
}
function is_secret(name, mark) {
    name = tolower(name)
    if (name ~ /(file|files|path|dir|directory|command|cmd|prompt|tries|timeout|flag|flags|mgmt|management|type|types|authentication|message|length|len|min|max|age|days|format|scheme|alg|algorithm|algorithms|usage|name|url|uri|expired|reuse|policy|service)$/) return 0
    if (name ~ /^(old)?pwd$/ || name ~ /^loadcredential/ || (mark == ":" && (name == "passwd" || name == "nopasswd"))) return 0
    return name ~ /passw|passphrase|pwd|secret|token|cookie|credential|bearer|authorization|psk|bindpw|default_authtok|(api|access|private|auth|session|encryption|shared)[_.-]?key/
}
function is_plain(value) {
    if (value ~ /^[$%]/ || substr(value, 1, 8) == "{secret}") return 1
    return tolower(value) ~ /^(yes|no|true|false|on|off|none|null|auto|always|never|required|default|ask|[0-9]?[0-9]?[0-9])$/
}
function last(text, count) { return length(text) > count ? substr(text, length(text) - count + 1) : text }
function ends(text, quote, escaped,  at, one) { # where a quoted text ends
    if (escaped) { at = index(text, quote); return at ? at - 1 : length(text) }
    for (at = 1; at <= length(text); at++) {
        one = substr(text, at, 1)
        if (one == quote) return at - 1
        if (one == "\\") at++
    }
    return length(text)
}
function find_value(rest, far,  bare, at, escaped, quote) { # sets lead and value
    match(rest, /^[ \t]*/); lead = substr(rest, 1, RLENGTH); bare = substr(rest, RLENGTH + 1); value = ""
    escaped = substr(bare, 1, 1) == "\\"
    quote = substr(bare, 1 + escaped, 1)
    if (quote == "\"" || quote == "'") {
        at = length(lead) + 1 + escaped
        lead = substr(rest, 1, at); value = substr(rest, at + 1); value = substr(value, 1, ends(value, quote, escaped))
    } else if (lead != "" && far) { value = bare; at = index(value, "\""); if (at) value = substr(value, 1, at - 1) }
    else if (lead == "") { match(bare, /^(\\[^"']|[^ \t"';|&<>()\\])*/); value = substr(bare, 1, RLENGTH) }
}
function hide(  at) { # goes on from out, rest, lead and value
    for (at = length(value); at > 0 && index(" \t\\", substr(value, at, 1)); at--);
    value = substr(value, 1, at)
    if (value == "" || is_plain(value)) return
    out = out lead "{secret}"; rest = substr(rest, length(lead) + length(value) + 1)
}
function named(body,  count, head, token, mark, quoted, before, open_) {
    out = ""; rest = body
    while (count++ < 500 && match(rest, /[:=]/)) {
        head = substr(rest, 1, RSTART - 1); mark = substr(rest, RSTART, 1); rest = substr(rest, RSTART + 1)
        out = out head mark
        token = last(head, 128)
        if (!match(token, /[A-Za-z0-9_.-]+["']?[ \t]*$/)) continue
        token = substr(token, RSTART); before = length(token) + 1
        far = mark == ":" || head ~ /[ \t]$/
        sub(/[ \t]+$/, "", token); quoted = sub(/["']$/, "", token)
        if (!is_secret(token, mark)) continue
        before = last(substr(out, 1, length(out) - before), 2)
        open_ = substr(before, length(before)); open_ = open_ == "[" ? "]" : open_ == "\"" || open_ == "'" ? open_ : ""
        if (!quoted && open_ != "") {
            lead = ""; value = substr(rest, 1, ends(rest, open_, length(before) > 1 && substr(before, 1, 1) == "\\"))
        } else find_value(rest, far)
        hide()
    }
    return out rest
}
function options(body,  count, head, blanks) {
    out = ""; rest = body
    while (count++ < 500 && match(rest, /[ \t]+/)) {
        head = substr(rest, 1, RSTART - 1); out = out substr(rest, 1, RSTART + RLENGTH - 1); rest = substr(rest, RSTART + RLENGTH)
        if (length(head) > 128 || !match(head, /(^|["'=([])--?[A-Za-z][A-Za-z0-9_.-]*$/)) continue
        head = substr(head, RSTART); sub(/^["'=([]?--?/, "", head)
        if (!is_secret(head, "-") || substr(rest, 1, 1) == "-") continue
        find_value(rest, 0)
        hide()
    }
    return out rest
}
function literal(body, shape, kept,  count, done, found) { # each match of a kind, its secret part hidden
    rest = body; done = ""
    while (count++ < 500 && match(rest, shape)) {
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
    if (tolower(body) !~ /pass|pwd|secret|token|cookie|credential|bearer|authorization|psk|bindpw|default_authtok|key|:\/\//) return body
    if (body ~ /:\/\//) body = literal(body, "://[^/@: \t\"'<>]*:[^/@ \t\"'<>]+@", "url")
    if (body ~ /AGE-SECRET-KEY-1/) body = literal(body, "AGE-SECRET-KEY-1[A-Za-z0-9]+", "")
    if (body ~ /Bearer|BEARER/) body = literal(body, "(Bearer|BEARER)[ \t]+[A-Za-z0-9._~+/=-]+", "word")
    if (body ~ /sshpass/) body = literal(body, "sshpass[ \t]+-p[ \t]*", "value")
    return options(named(body))
}
function cut(body, indent,  count, done, head, name, mark) { # the line up to its first secret; found says whether there is one
    found = 0; rest = body; done = ""
    while (match(rest, /[:=]/)) {
        head = substr(rest, 1, RSTART - 1); mark = substr(rest, RSTART, 1); rest = substr(rest, RSTART + 1)
        done = done head mark
        if (count++ == 500) { found = 1; return done "{secret}" }
        name = last(head, 128)
        if (!match(name, /[A-Za-z0-9_.-]+["']?[ \t]*$/)) continue
        name = substr(name, RSTART)
        first = length(done) - length(name) - 1 == indent
        sub(/[ \t]+$/, "", name); sub(/["']$/, "", name)
        if (is_hers(name) || (inside && first)) {
            found = 1
            if (rest ~ /^[ \t\r\f\v]*$/) return body
            return done (mark == ":" ? " \"{secret}\"" : "{secret}")
        }
    }
    if (substr(body, indent + 1, 1) == "?") {
        name = substr(body, indent + 2); gsub(/^[ \t"']+|[ \t"']+$/, "", name)
        found = is_hers(name) || index(name, "\\") > 0
        return body
    }
    # A key of YAML with escapes may spell anything; an anchor carries its value elsewhere.
    if (match(body, /"[^"\\]*\\[^"]*"[ \t]*:/) || match(body, /[ \t]&[A-Za-z0-9_-]+[ \t]/)) {
        found = 1
        return substr(body, RSTART + RLENGTH) ~ /^[ \t]*$/ ? body : substr(body, 1, RSTART + RLENGTH - 1) " \"{secret}\""
    }
    rest = body; done = ""; count = 0
    while (match(rest, /[ \t]+/)) {
        head = substr(rest, 1, RSTART - 1); done = done substr(rest, 1, RSTART + RLENGTH - 1); rest = substr(rest, RSTART + RLENGTH)
        if (rest == "") break
        if (count++ == 500) { found = 1; return done "{secret}" }
        name = last(head, 128)
        if (match(name, /[A-Za-z0-9_.-]+$/) && is_hers(substr(name, RSTART))) { found = 1; return done "{secret}" }
    }
    return body
}
function network_line(  bare, indent, made) {
    match(body, /^[ \t]*/); indent = RLENGTH; bare = substr(body, indent + 1)
    if (deep >= 0 && (indent > deep || bare == "" || (asked && substr(bare, 1, 1) == ":"))) return ""
    deep = -1; asked = 0
    if (substr(bare, 1, 1) == "[") inside = tolower(body) ~ /secret/
    made = cut(body, indent)
    if (found) { deep = indent; asked = substr(bare, 1, 1) == "?" }
    return made
}
function find_key(body,  rest, before, count) { # sets kind and blob
    rest = body; before = ""
    while (count++ <= 20 && match(rest, "[ \t]AAAA[A-Za-z0-9+/]*")) {
        before = last(before substr(rest, 1, RSTART - 1), 128); blob = substr(rest, RSTART + 1, RLENGTH - 1)
        rest = substr(rest, RSTART + RLENGTH)
        if (match(before, /(ssh-|ecdsa-|sk-)[A-Za-z0-9@.-]+[ \t]*$/)) { kind = substr(before, RSTART); return 1 }
        before = before " " blob
    }
    return 0
}
function plain_line(  made, bare, is_key, out_it) {
    if (keys == 3) { # an account's table of cron(8): what runs at a boot
        if (body ~ /^[ \t]*@[Rr][Ee][Bb][Oo][Oo][Tt][ \t]/) return taken(body)
        return body ~ /^[ \t]*$/ ? body : "{not carried}"
    }
    if (goes_on) { goes_on = body ~ /\\$/; made = "{secret}" (goes_on ? "\\" : "") }
    else { made = taken(body); goes_on = made != body && made ~ /[{]secret[}]\\$/ }
    if (!keys) return made
    bare = made; gsub(/^[ \t]+|[ \t]+$/, "", bare)
    within = within || (index(made, "BEGIN ") && index(made, "PRIVATE KEY")) || index(made, "PuTTY-User-Key-File-")
    is_key = find_key(made)
    if (is_key) torn = length(blob) < (kind ~ /ed25519/ ? 68 : kind ~ /ecdsa/ ? 136 : 200) # over several lines
    else torn = torn && keys == 1 && bare ~ "^[A-Za-z0-9+/]+=*$"
    out_it = !(torn || is_key || bare == "" || bare == "{not carried}" || (keys == 1 && (bare ~ /^#/ || (bare ~ /[ \t]/ && bare !~ /"kty"/))))
    out_it = out_it || within
    if (made ~ /---- END |-----END |(^|\r)Private-(MAC|Hash): /) within = 0
    return out_it ? "{not carried}" : made
}
function finish(  i) {
    if (file != "" && changed) {
        printf "\n@reduced %s\n", file
        for (i = 1; i <= count; i++) print " " kept[i]
    }
    count = changed = inside = within = torn = goes_on = asked = 0; deep = -1
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
