# No power operator: small awks come without it.
# Private keys: what stands in the clear before anything secret (PROTOCOL.key; RFC 7468; PuTTY's format, appendix C).
function byte(  value) { # the next byte of the base64 text, -1 at its end
    while (bits < 8) {
        if (at > length(text)) return -1
        value = index("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/", substr(text, at++, 1)) - 1
        if (value < 0) return -1
        held = held * 64 + value; bits += 6
    }
    bits -= 8 # 0, 2 or 4 are left
    unit = bits == 0 ? 1 : bits == 2 ? 4 : 16; value = int(held / unit); held -= value * unit
    return value
}
function number(  i, value, one) { value = 0; for (i = 0; i < 4; i++) { one = byte(); if (one < 0) return 0; value = value * 256 + one }; return value }
function skip(count,  i) { for (i = 0; i < count && byte() >= 0; i++); }
function openssh() { # magic, cipher, kdf, its options, how many keys, the public half
    at = 1; bits = held = 0
    skip(15); skip(number()); skip(number()); skip(number()); skip(4); skip(number())
    print " " substr(text, 1, int((at + 2) / 4) * 4)
}
function finish() { if (inside == "OPENSSH") openssh(); inside = ""; text = "" }
function told(line) { # one line, however lines end in its file
    if (line ~ /-----BEGIN ([A-Z0-9]+ )*PRIVATE KEY( BLOCK)?-----/) {
        finish(); sub(/^.*-----BEGIN /, "-----BEGIN ", line)
        match(line, /KEY( BLOCK)?-----/); line = substr(line, 1, RSTART + RLENGTH - 1); print " " line
        split(line, word, " "); inside = word[2]; return
    }
    if (line ~ /-----END /) { finish(); return }
    if (line ~ /^Proc-Type: 4,ENCRYPTED/ && inside != "") print " Proc-Type: 4,ENCRYPTED"
    if (line ~ /^PuTTY-User-Key-File-[0-9]+: [A-Za-z0-9@.-]+$/) { print " " line; ppk = FILENAME }
    if (line ~ /^Encryption: [a-z0-9-]+$/ && ppk == FILENAME) print " " line
    if (line ~ /^Public-Lines: [0-9]+$/ && ppk == FILENAME) { print " " line; wanted = substr(line, 15); return }
    if (wanted > 0) { wanted--; if (line ~ "^[A-Za-z0-9+/=]+$" && length(line) < 80) print " " line; else wanted = 0 }
    if (line ~ /BEGIN SSH2 ENCRYPTED PRIVATE KEY/) print " ---- BEGIN SSH2 ENCRYPTED PRIVATE KEY ----"
    if (line ~ /AGE-SECRET-KEY-1/) print " AGE-SECRET-KEY-1"
    if (line ~ /SSH PRIVATE KEY FILE FORMAT/) print " SSH PRIVATE KEY FILE FORMAT"
    if (inside == "OPENSSH") { gsub(/[ \t]/, "", line); if (length(text) < 8000) text = text line }
}
FNR == 1 { finish(); printf "\n@reduced %s\n", FILENAME; wanted = 0 }
{ line = $0; sub(/\r+$/, "", line); n = split(line, part, "\r"); if (n == 0) told(""); for (i = 1; i <= n; i++) told(part[i]) }
END { finish() }
