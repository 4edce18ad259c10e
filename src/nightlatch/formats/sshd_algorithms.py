"""Lists of algorithm names in sshd_config: what is known, what is on by default, and what + - ^ make of it.

Measured on OpenSSH 9.2p1 (Debian 12): `ssh -Q`, `sshd -T`. Grammar: ssh_config(5), Ciphers and PATTERNS.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import lru_cache

from nightlatch.formats.patterns import matches
from nightlatch.formats.sshd_values import ValueRefusal, one

_AT = "@openssh.com"
_KEYS = (
    "ssh-ed25519",
    "ssh-ed25519-cert-v01" + _AT,
    "sk-ssh-ed25519" + _AT,
    "sk-ssh-ed25519-cert-v01" + _AT,
    "ecdsa-sha2-nistp256",
    "ecdsa-sha2-nistp256-cert-v01" + _AT,
    "ecdsa-sha2-nistp384",
    "ecdsa-sha2-nistp384-cert-v01" + _AT,
    "ecdsa-sha2-nistp521",
    "ecdsa-sha2-nistp521-cert-v01" + _AT,
    "sk-ecdsa-sha2-nistp256" + _AT,
    "sk-ecdsa-sha2-nistp256-cert-v01" + _AT,
    "webauthn-sk-ecdsa-sha2-nistp256" + _AT,
    "ssh-dss",
    "ssh-dss-cert-v01" + _AT,
    "ssh-rsa",
    "ssh-rsa-cert-v01" + _AT,
    "rsa-sha2-256",
    "rsa-sha2-256-cert-v01" + _AT,
    "rsa-sha2-512",
    "rsa-sha2-512-cert-v01" + _AT,
)
_PLAIN_DEFAULT = (
    "ssh-ed25519",
    "ecdsa-sha2-nistp256",
    "ecdsa-sha2-nistp384",
    "ecdsa-sha2-nistp521",
    "sk-ssh-ed25519" + _AT,
    "sk-ecdsa-sha2-nistp256" + _AT,
    "rsa-sha2-512",
    "rsa-sha2-256",
)
_CERT_DEFAULT = tuple(
    name.removesuffix(_AT) + "-cert-v01" + _AT for name in (*_PLAIN_DEFAULT[:6], "rsa-sha2-512", "rsa-sha2-256")
)
_ETM = ("umac-64-etm", "umac-128-etm", "hmac-sha2-256-etm", "hmac-sha2-512-etm", "hmac-sha1-etm")

KNOWN: dict[str, tuple[str, ...]] = {
    "cipher": (
        "3des-cbc",
        "aes128-cbc",
        "aes192-cbc",
        "aes256-cbc",
        "aes128-ctr",
        "aes192-ctr",
        "aes256-ctr",
        "aes128-gcm" + _AT,
        "aes256-gcm" + _AT,
        "chacha20-poly1305" + _AT,
    ),
    "mac": (
        "hmac-sha1",
        "hmac-sha1-96",
        "hmac-sha2-256",
        "hmac-sha2-512",
        "hmac-md5",
        "hmac-md5-96",
        "umac-64" + _AT,
        "umac-128" + _AT,
        "hmac-sha1-etm" + _AT,
        "hmac-sha1-96-etm" + _AT,
        "hmac-sha2-256-etm" + _AT,
        "hmac-sha2-512-etm" + _AT,
        "hmac-md5-etm" + _AT,
        "hmac-md5-96-etm" + _AT,
        "umac-64-etm" + _AT,
        "umac-128-etm" + _AT,
    ),
    "kex": (
        "diffie-hellman-group1-sha1",
        "diffie-hellman-group14-sha1",
        "diffie-hellman-group14-sha256",
        "diffie-hellman-group16-sha512",
        "diffie-hellman-group18-sha512",
        "diffie-hellman-group-exchange-sha1",
        "diffie-hellman-group-exchange-sha256",
        "ecdh-sha2-nistp256",
        "ecdh-sha2-nistp384",
        "ecdh-sha2-nistp521",
        "curve25519-sha256",
        "curve25519-sha256@libssh.org",
        "sntrup761x25519-sha512",
        "sntrup761x25519-sha512" + _AT,
    ),
    "key": _KEYS,
    "signature": tuple(name for name in _KEYS if "-cert-" not in name),
    "gss": (
        "gss-gex-sha1-",
        "gss-group1-sha1-",
        "gss-group14-sha1-",
        "gss-group14-sha256-",
        "gss-group16-sha512-",
        "gss-nistp256-sha256-",
        "gss-curve25519-sha256-",
    ),
}

DEFAULT: dict[str, tuple[str, ...]] = {
    "cipher": (
        "chacha20-poly1305" + _AT,
        "aes128-ctr",
        "aes192-ctr",
        "aes256-ctr",
        "aes128-gcm" + _AT,
        "aes256-gcm" + _AT,
    ),
    "mac": (
        *(name + _AT for name in _ETM),
        "umac-64" + _AT,
        "umac-128" + _AT,
        "hmac-sha2-256",
        "hmac-sha2-512",
        "hmac-sha1",
    ),
    "kex": (
        "sntrup761x25519-sha512",
        "sntrup761x25519-sha512" + _AT,
        "curve25519-sha256",
        "curve25519-sha256@libssh.org",
        "ecdh-sha2-nistp256",
        "ecdh-sha2-nistp384",
        "ecdh-sha2-nistp521",
        "diffie-hellman-group-exchange-sha256",
        "diffie-hellman-group16-sha512",
        "diffie-hellman-group18-sha512",
        "diffie-hellman-group14-sha256",
    ),
    "key": _CERT_DEFAULT + _PLAIN_DEFAULT,
    "signature": _PLAIN_DEFAULT,
    "gss": (
        "gss-group14-sha256-",
        "gss-group16-sha512-",
        "gss-nistp256-sha256-",
        "gss-curve25519-sha256-",
        "gss-group14-sha1-",
        "gss-gex-sha1-",
    ),
}


def names(kind: str, *, wildcards: bool = False) -> Callable[[Sequence[str], str], tuple[str, ...]]:
    """A reader of one list of `kind` (a name in KNOWN); the value is the list as it takes effect, joined by commas."""

    def read(words: Sequence[str], rest: str) -> tuple[str, ...]:
        return (effective(kind, one(words), wildcards),)

    return read


def plain_names(kind: str) -> Callable[[Sequence[str], str], tuple[str, ...]]:
    """A reader of a list without signs or wildcards (GSSAPIKexAlgorithms)."""

    def read(words: Sequence[str], rest: str) -> tuple[str, ...]:
        unknown = [name for name in one(words).split(",") if name not in KNOWN[kind]]
        if unknown:
            raise ValueRefusal(f'"{unknown[0]}" is no algorithm that this sshd knows')
        return (words[0],)

    return read


@lru_cache(maxsize=512)
def effective(kind: str, text: str, wildcards: bool = False) -> str:
    """The algorithms that a list with its leading + - or ^ makes of the default list; raises Refused."""
    known, base = KNOWN[kind], DEFAULT[kind]
    sign = text[0] if text[0] in "+-^" else ""
    listed = text[len(sign) :].split(",")
    if sign == "-":
        kept = [name for name in base if not any(matches(name, part) for part in listed)]
        if not kept:
            raise ValueRefusal(f'"{text}" leaves no algorithm')
        return ",".join(kept)
    if not any(listed):
        raise ValueRefusal("the list of algorithms is empty")
    for part in listed:
        good = any(matches(name, part) for name in known) if wildcards else part in known
        if not good:
            raise ValueRefusal(f'"{part}" is no algorithm that this sshd knows')
    order = [*base, *listed] if sign == "+" else [*listed, *base] if sign == "^" else listed
    out: dict[str, None] = {}
    for part in order:
        out.update({name: None for name in known if matches(name, part)})
    return ",".join(out)
