"""Formats: every byte comes back, edits are minimal and idempotent, hostile text raises nothing undeclared."""

from __future__ import annotations

import base64

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nightlatch.formats import accounts, authorized_keys, dpkg_status, keys, lines, pam, paths, sshd_config, sudoers
from nightlatch.formats.authorized_keys import KeyEntry, SkippedLine
from nightlatch.formats.lines import LineEdit
from tests.guests import KEYS, pub

WORDS = (
    "PasswordAuthentication",
    "yes",
    "no",
    "Match",
    "User",
    "mara",
    "all",
    "#",
    '"',
    "=",
    "Include",
    "\\",
    " ",
    "\t",
)
fragments = st.sampled_from([w.encode() for w in WORDS] + [b"\n", b"\r\n", b"\xff", b"\x00", b"  "])
documents = st.lists(fragments, max_size=40).map(b"".join) | st.binary(max_size=200)


@given(documents)
def test_every_byte_of_sshd_config_comes_back(raw: bytes) -> None:
    assert sshd_config.render(sshd_config.parse(raw)) == raw


@given(documents)
def test_an_edit_done_twice_is_done_once(raw: bytes) -> None:
    document = sshd_config.parse(raw)
    once = document.set("PasswordAuthentication", "no")
    assert once.set("PasswordAuthentication", "no") == once
    kept = [line.raw for line in once.lines]
    missing = [line.raw for line in document.lines if line.raw not in kept]
    assert len([m for m in missing if m.endswith(b"\n")]) <= 1, "an edit touches one line"


CASES = [
    ("PasswordAuthentication yes\n", "PasswordAuthentication no\n"),
    ("  passwordauthentication = yes   # for tablets\n", "  passwordauthentication = no   # for tablets\n"),
    ("PasswordAuthentication yes\r\nPort 22\r\n", "PasswordAuthentication no\r\nPort 22\r\n"),
    ("# head\n\nPort 22\nMatch User x\n", "# head\n\nPasswordAuthentication no\nPort 22\nMatch User x\n"),
    (
        "Match User x\n  PasswordAuthentication yes\n",
        "PasswordAuthentication no\nMatch User x\n  PasswordAuthentication yes\n",
    ),
    ("", "PasswordAuthentication no\n"),
    ("Port 22", "PasswordAuthentication no\nPort 22"),
    ("PasswordAuthentication yes", "PasswordAuthentication no"),
]


@pytest.mark.parametrize("before, after", CASES)
def test_settings_land_above_the_first_match(before: str, after: str) -> None:
    document = sshd_config.parse(before.encode())
    assert sshd_config.render(document.set("PasswordAuthentication", "no")).decode() == after


def test_settings_within_a_block() -> None:
    raw = b"Port 22\nMatch User a\n    X11Forwarding no\nMatch User b\n"
    document = sshd_config.parse(raw).set("PasswordAuthentication", "yes", within=1)
    expected = b"Port 22\nMatch User a\n    X11Forwarding no\n    PasswordAuthentication yes\nMatch User b\n"
    assert sshd_config.render(document) == expected
    with pytest.raises(ValueError, match="no Match block 3"):
        document.set("Port", "1", within=3)


@given(st.binary(max_size=120), st.integers(1, 5), st.booleans())
def test_line_edits_touch_nothing_else(raw: bytes, at: int, insert: bool) -> None:
    count = len(lines.split(raw))
    if at <= count + insert:
        made = lines.apply(raw, [LineEdit(at, ("new",), insert=insert)])
        assert b"new" in made
        assert len(lines.split(made)) == count + insert
    else:
        with pytest.raises(ValueError):
            lines.apply(raw, [LineEdit(at, ("new",), insert=insert)])


@given(st.binary(max_size=300))
def test_nothing_undeclared_is_raised(raw: bytes) -> None:
    for parse in (accounts.passwd, accounts.group, accounts.shadow, authorized_keys.parse, pam.parse, sudoers.parse):
        parse(raw)
    accounts.reduce_shadow(raw)
    dpkg_status.only(raw)
    keys.private_kind(raw)
    try:
        keys.parse_public(raw)
    except keys.KeyFault:
        pass


OPTIONS = ('from="192.168.40.0/24"', "restrict", 'command="echo \\"hi, there\\""', "no-pty", 'environment="A=b,c"')


@given(st.lists(st.sampled_from(OPTIONS), unique=True), st.sampled_from(["", "  "]))
def test_key_options_are_changed_in_place(chosen: list[str], indent: str) -> None:
    line = f"{indent}{','.join(chosen)} {pub('joon-desk')}" if chosen else indent + pub("joon-desk")
    (entry,) = authorized_keys.parse(line.encode())
    assert isinstance(entry, KeyEntry)
    changed = authorized_keys.with_options(line, entry, {"from": "10.0.0.1", "restrict": None})
    (after,) = authorized_keys.parse(changed.encode())
    assert isinstance(after, KeyEntry)
    assert after.key == entry.key
    assert after.options.source == "10.0.0.1"
    assert not after.options.restricted
    assert after.options.command == entry.options.command
    assert authorized_keys.with_options(changed, after, {"from": "10.0.0.1", "restrict": None}) == changed


@pytest.mark.parametrize(
    "line, because",
    [
        ("ssh-ed25519 AAAA", "cut short"),
        ("---- BEGIN SSH2 PUBLIC KEY ----", "no key"),
        ("nonsense <key>", "unknown option"),
        ("from=1.2.3.4 <key>", "without quotes"),
        ('from="a",from="b" <key>', "more than one"),
        ('command="x <key>', "no key"),
        ("ssh-rsa " + "A" * 70_000, "longer than"),
    ],
)
def test_broken_key_lines_say_why(line: str, because: str) -> None:
    (broken,) = authorized_keys.parse(line.replace("<key>", pub("joon-desk")).encode())
    assert isinstance(broken, SkippedLine)
    assert because in broken.because


def test_shadow_hashes_are_reduced() -> None:
    raw = b"a:$y$j9T$salt$hash:1::::::\nb:!$6$x$y:1::::::\nc:*:1::::::\nd::1::::::\ne:abcdefghijklm:1::::::\nf:secret:1::::::\nodd\n"
    made = accounts.reduce_shadow(raw)
    fields = [line.split(b":")[1] if b":" in line else line for line in made.split(b"\n")]
    assert fields == [b"{yescrypt}", b"!{sha512}", b"*", b"", b"{des}", b"*", b"", b""]
    assert accounts.reduce_shadow(made) == made


def test_private_keys_are_told_apart_and_reduced() -> None:
    from cryptography.hazmat.primitives import serialization
    from cryptography.hazmat.primitives.asymmetric import ed25519, rsa

    ed = ed25519.Ed25519PrivateKey.generate()
    openssh = ed.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.OpenSSH, serialization.NoEncryption())
    pem = rsa.generate_private_key(65537, 2048).private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.BestAvailableEncryption(b"x")
    )
    half = keys.private_kind(openssh)
    assert half is not None
    assert (half.format, half.encrypted, half.kind) == ("OpenSSH", False, "Ed25519")
    line = ed.public_key().public_bytes(serialization.Encoding.OpenSSH, serialization.PublicFormat.OpenSSH)
    assert half.fingerprint == keys.parse_public(line).fingerprint
    locked = keys.private_kind(pem)
    assert locked is not None
    assert locked.encrypted
    with pytest.raises(keys.KeyFault, match="private key"):
        keys.parse_public(openssh)


def test_rfc4716_and_openssh_are_the_same_key() -> None:
    key = keys.parse_public((KEYS / "joon-desk.pub").read_bytes())
    body = base64.b64encode(key.blob).decode()
    text = f'---- BEGIN SSH2 PUBLIC KEY ----\nComment: "x"\n{body[:60]}\n{body[60:]}\n---- END SSH2 PUBLIC KEY ----\n'
    assert keys.parse_public(text.encode()).fingerprint == key.fingerprint


def test_globs_expand_as_in_the_c_locale() -> None:
    tree = {"/": ["etc"], "/etc": ["b.conf", "a.conf", ".c.conf", "d", "a[1].conf"]}

    def names(folder: str) -> list[str]:
        return tree.get(folder, [])

    def exists(path: str) -> bool:
        folder, _, name = path.rpartition("/")
        return name in tree.get(folder or "/", [])

    assert paths.expand("/etc/*.conf", names, exists) == ["/etc/a.conf", "/etc/a[1].conf", "/etc/b.conf"]
    assert paths.expand("/etc/[!a]*", names, exists) == ["/etc/b.conf", "/etc/d"]
    assert paths.expand("/etc/.*.conf", names, exists) == ["/etc/.c.conf"]
    assert paths.expand("/etc/a\\[1\\].conf", names, exists) == ["/etc/a[1].conf"]
    assert paths.expand("/" + "*a" * 30 + "b", lambda _: ["a" * 255], exists) == []
