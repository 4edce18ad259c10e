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
FNR == 1 { finish(); printf "\n@reduced %s\n", FILENAME; lines = 0 }
/-----BEGIN ([A-Z0-9]+ )*PRIVATE KEY-----/ {
    finish(); sub(/^.*-----BEGIN /, "-----BEGIN "); sub(/KEY-----.*$/, "KEY-----"); print " " $0
    inside = $2; next
}
/-----END / { finish(); next }
/^Proc-Type: 4,ENCRYPTED/ && inside != "" { print " Proc-Type: 4,ENCRYPTED" }
/^PuTTY-User-Key-File-[0-9]+: / { print " " $1 " " $2; ppk = FILENAME }
/^Encryption: / && ppk == FILENAME { print " " $1 " " $2 }
inside == "OPENSSH" { gsub(/[ \t\r]/, ""); if (length(text) < 8000) text = text $0 }
END { finish() }
