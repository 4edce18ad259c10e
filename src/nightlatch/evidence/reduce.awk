# shadow(5), passwd(5), group(5): a hash in the second field becomes {method}; all else stays (crypt(5)).
FNR == 1 { printf "\n@reduced %s\n", FILENAME; hashes = FILENAME == "/etc/shadow" }
NF < 3 { print " " (hashes ? "" : $0); next }
!hashes && ($2 == "x" || $2 == "*" || $2 == "!" || $2 == "") { print " " $0; next }
{
    lock = $2; sub("[^!].*$", "", lock)
    body = substr($2, length(lock) + 1)
    if (body != "" && body != "*" && body != "x") {
        if (match(body, /^[$][A-Za-z0-9]+[$,]/)) {
            name = substr(body, 2, RLENGTH - 2)
            split("1 md5 2a bcrypt 2b bcrypt 2y bcrypt 5 sha256 6 sha512 7 scrypt y yescrypt gy gost-yescrypt sha1 sha1 md5 sunmd5 3 nthash", word, " ")
            method = "unknown"
            for (i = 1; i in word; i += 2) if (word[i] == name) method = word[i + 1]
            body = "{" method "}"
        } else if (body ~ /^[.\/0-9A-Za-z]+$/ && length(body) == 13) body = "{des}"
        else if (body ~ /^_[.\/0-9A-Za-z]+$/ && length(body) == 20) body = "{des}"
        else body = "*"
    }
    $2 = lock body
    print " " $0
}
