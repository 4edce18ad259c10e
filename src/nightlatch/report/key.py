"""Key files as text and as JSON: what they hold, and what was made or written. Never a part of a private half."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

from nightlatch.access.credentials import Unlimited
from nightlatch.formats.keys import fingerprint
from nightlatch.keys.forms import NAMES, Form
from nightlatch.keys.strength import LEAST, TODAY
from nightlatch.keys.told import NOTES, Fault, Half, Signed, ToldKey
from nightlatch.report.page import Page
from nightlatch.report.safe import in_one_line

if TYPE_CHECKING:
    from nightlatch.formats.krl import RevocationList
    from nightlatch.ops.key import ConvertedKey, InspectedFile, NewKey
    from nightlatch.ops.revoke import Revocation, RevokedFile
    from nightlatch.ops.sign import SignedHostKey, SignedKey

MOST_KEYS = 40
LOCKS = {True: "a passphrase is on it", False: "no passphrase is on it", None: "it can't be told whether a passphrase is on it"}
FAULTS = {
    Fault.OPEN_TO_OTHERS: "Others may read or change this file, and ssh refuses it: chmod 600 {path}",
    Fault.PUBLIC_NAME: "It holds a private half under a name that says public. Rename it before somebody is sent it.",
    Fault.ANOTHER_BESIDE: "{path}.pub is the public half of another key. ssh offers that one and fails: write it anew with "
    "nightlatch key convert {path} --to line",
    Fault.DSA: "OpenSSH takes no DSA keys since release 10, and none by default since 7. Make a new key.",
    Fault.SHORT_RSA: f"RSA with fewer than {LEAST} bits is too short; new keys have {TODAY} and more. Make a new key.",
    Fault.BELOW_TODAY: f"RSA keys that are made today have {TODAY} bits and more.",
    Fault.NO_PASSPHRASE: "Anybody with this file can use the key.",
    Fault.WEAK_LOCK: "Its passphrase is stretched by a round or two of a fast digest, and can be guessed at millions a second. "
    "nightlatch key convert {path} --to openssh --out FILE locks it well.",
    Fault.ENDED: "The certificate has ended.",
    Fault.NOT_YET: "The certificate is not valid yet.",
}


def inspected(page: Page, files: Sequence[InspectedFile]) -> None:
    """Each file with its keys; of many keys the first, and how many there are."""
    for number, file in enumerate(files):
        if number:
            page.blank()
        first = file.keys[0]
        if len(file.keys) == 1:
            page.line((in_one_line(str(file.path)), "name"), f"  {first.half.value}, mode {file.mode:04o}")
            _key(page, file, first)
            continue
        page.line((in_one_line(str(file.path)), "name"), f"  {len(file.keys)} keys, mode {file.mode:04o}")
        for key in file.keys[:MOST_KEYS]:
            _row(page, key)
        if len(file.keys) > MOST_KEYS:
            page.wrapped(f"... and {len(file.keys) - MOST_KEYS} more; --format json has them all", indent=2, style="place")
        faulty = [key for key in file.keys if set(key.faults) - NOTES]
        for key in faulty[:MOST_KEYS]:
            _faults(page, file, key, f"line {key.line}: ")


def _key(page: Page, file: InspectedFile, key: ToldKey) -> None:
    size = f" with {key.bits} bits" if key.bits else ""
    page.wrapped(f"{key.kind}{size}" if key.kind else "hidden by the passphrase", label="kind", indent=2)
    page.wrapped(_form(key), label="form", indent=2)
    for label, text in (
        ("SHA256", key.sha256),
        ("MD5", key.md5),
        ("comment", in_one_line(key.comment)),
        ("before it", key.before),
    ):
        if text:
            page.wrapped(in_one_line(text), label=label, indent=2)
    if key.half is Half.PRIVATE:
        page.wrapped(LOCKS[key.locked], label="lock", indent=2)
    if key.signed is not None:
        for label, text in _signed(key.signed):
            page.wrapped(in_one_line(text), label=label, indent=2)
    if file.shut:
        page.wrapped("The passphrase hides its public half: --passphrase asks for it.", indent=2, style="note")
    _faults(page, file, key)


def _form(key: ToldKey) -> str:
    return NAMES[key.form or Form.LINE] + (f", line {key.line}" if key.line > 1 else "")


def _signed(signed: Signed) -> Iterator[tuple[str, str]]:
    names = ", ".join(signed.principals)
    yield "for", f"{signed.kind} {names}" if names else f"any {signed.kind}"
    since = f"from {signed.since:%Y-%m-%d %H:%M} " if signed.since else "from ever "
    yield "valid", since + (f"to {signed.until:%Y-%m-%d %H:%M} UTC" if signed.until else "for ever")
    yield "id", f"{signed.key_id or '(none)'}, serial {signed.serial}"
    yield "signed by", signed.authority
    for name, value in signed.critical:
        yield "limited", f"{name} {value}".strip()
    yield "allows", ", ".join(signed.extensions) or "nothing besides a session"


def _row(page: Page, key: ToldKey) -> None:
    kind = f"{key.kind} {key.bits or ''}".strip()
    words = f"line {key.line:<5} {kind:<12} {key.sha256}  {key.comment}"
    page.line("  ", (in_one_line(words), "plain"))


def _faults(page: Page, file: InspectedFile, key: ToldKey, before: str = "") -> None:
    for fault in key.faults:
        style = "note" if fault in NOTES else "high"
        page.wrapped(before + FAULTS[fault].format(path=in_one_line(str(file.path))), indent=2, style=style)


def inspected_document(files: Sequence[InspectedFile]) -> dict[str, Any]:
    """The same as JSON (docs/json.md)."""
    return {"format": "nightlatch/keys/1", "files": [_file(each) for each in files]}


def _file(file: InspectedFile) -> dict[str, Any]:
    keys = [_key_document(each) for each in file.keys]
    return {"path": str(file.path), "mode": f"{file.mode:04o}", "hidden": file.shut, "keys": keys}


def _key_document(key: ToldKey) -> dict[str, Any]:
    return {
        "half": key.half.name.lower(),
        "form": (key.form or Form.LINE).value,
        "line": key.line,
        "kind": key.kind or None,
        "bits": key.bits or None,
        "sha256": key.sha256 or None,
        "md5": key.md5 or None,
        "comment": key.comment or None,
        "options": key.before or None,
        "passphrase": key.locked if key.half is Half.PRIVATE else None,
        "certificate": _signed_document(key.signed) if key.signed else None,
        "faults": [fault.value for fault in key.faults],
    }


def _signed_document(signed: Signed) -> dict[str, Any]:
    return {
        "for": signed.kind,
        "principals": list(signed.principals),
        "serial": signed.serial,
        "id": signed.key_id,
        "since": signed.since.isoformat() if signed.since else None,
        "until": signed.until.isoformat() if signed.until else None,
        "critical": dict(signed.critical),
        "extensions": list(signed.extensions),
        "authority": signed.authority,
    }


def made(page: Page, key: NewKey) -> None:
    """Where the two halves of a new key are, and what comes next."""
    public = key.public
    page.wrapped(f"{key.path}: the private half, {LOCKS[key.locked]}. It stays on this machine.", label="made")
    page.wrapped(f"{key.public_path}: the public half, which guests and the estate file get.", label="made")
    page.wrapped(f"{public.kind} with {public.bits} bits, {public.fingerprint}", label="key")
    page.wrapped(f"write {key.public_path} under the person's keys in the estate file, then nightlatch draft", label="next")


def converted(page: Page, found: ConvertedKey) -> None:
    """What was written, and what the form does not carry on."""
    half = "private" if found.form.is_private else "public"
    lock = f", {LOCKS[found.locked]}" if found.form.is_private else ""
    if found.path is not None:
        page.wrapped(f"{found.path}: the {half} half in the form {NAMES[found.form]}{lock}", label="written")
    page.wrapped(f"{found.public.kind} with {found.public.bits} bits, {found.public.fingerprint}", label="key")
    if found.change.half_left:
        page.wrapped("This form holds the public half only; the private one stays where it is.", style="note")
    if found.change.lost_comment:
        page.wrapped(f'This form has no comment: "{in_one_line(found.change.lost_comment)}" is not in it.', style="note")


UNLIMITED = {
    Unlimited.HIDDEN_CALLERS: "It does not limit callers: the guests do not see their own addresses.",
    Unlimited.MANY_CALLERS: "It does not limit callers: they are too many ranges for a certificate.",
    Unlimited.SEVERAL_POWERS: "It does not limit the session: the grants give several, and a certificate has room for one.",
    Unlimited.FOLDER: "It lets only files through, but from any folder: the folder is limited on the guest.",
}


def signed(page: Page, made: SignedKey) -> None:
    """Where a certificate is, what it says, why it ends when it does, and what it could not be limited to."""
    assert made.key.signed is not None
    page.wrapped(f"{made.path}: a certificate for {made.wanted.person}'s key, beside which ssh finds it", label="made")
    page.wrapped(f"{made.key.kind} with {made.key.bits} bits, {made.key.sha256}", label="key")
    for label, text in _signed(made.key.signed):
        page.wrapped(in_one_line(text), label=label)
    page.wrapped(", ".join(made.wanted.guests), label="guests")
    if made.ends_with_grants:
        page.wrapped(f"It ends with the grants, before {made.days} days are over.", style="note")
    for why in made.wanted.unlimited:
        page.wrapped(UNLIMITED[why], style="medium")


def signed_host(page: Page, made: SignedHostKey) -> None:
    """Where a guest's certificate is, what it says, and what guest and callers need to use it."""
    assert made.key.signed is not None
    page.wrapped(f"{made.path}: a certificate for the host key of {made.guest}", label="made")
    page.wrapped(f"{made.key.kind} with {made.key.bits} bits, {made.key.sha256}", label="key")
    for label, text in _signed(made.key.signed):
        page.wrapped(in_one_line(text), label=label)
    page.wrapped(f"On {made.guest}: beside its key, and HostCertificate with its place in sshd's settings.", style="next")
    page.wrapped("Who calls needs one line in known_hosts for all guests of this authority:", style="next")
    page.line("  ", f"@cert-authority * {in_one_line(made.line)}")


def revoked(page: Page, found: Revocation) -> None:
    """What each file put on a list, what is on it now, and how sshd comes to know of it."""
    for each in found.files:
        label = "was there" if each.was_there else "revoked"
        page.wrapped(f"{in_one_line(str(each.path))}: {in_one_line(_revoked(each))}", label=label)
    those = found.list
    many = sum(high - low + 1 for _, low, high in those.ranges) + len(those.ids)
    more = f", parts that are not read here: {those.others}" if those.others else ""
    number = f"number {those.number}" + (f" of {those.made:%Y-%m-%d %H:%M} UTC" if those.made else "")
    keys = len(those.fingerprints) + len(those.sha1)
    page.wrapped(f"{found.path}: {number}, keys: {keys}, certificates: {many}{more}", label="list")
    if not found.files:
        _on_it(page, those)
    if any(not each.was_there for each in found.files):
        page.wrapped(
            f"Next: name it in the estate file (revoked: {found.path}), and nightlatch draft puts it on every guest, where "
            "sshd then refuses what is on it.",
            style="next",
        )


def _on_it(page: Page, those: RevocationList) -> None:
    """What stands on a list, the first of each kind."""
    lines = [("key", each) for each in sorted(those.fingerprints)]
    lines += [("key", f"SHA1 {each.hex()}") for each in sorted(those.sha1)]
    for authority, low, high in sorted(those.ranges):
        serials = f"serial {low}" if low == high else f"serials {low} to {high}"
        lines.append(("certificate", f"{serials} of {_authority(authority)}"))
    lines += [("certificate", f'id "{in_one_line(each)}" of {_authority(authority)}') for authority, each in sorted(those.ids)]
    for label, text in lines[:MOST_KEYS]:
        page.wrapped(text, label=label, indent=2)
    if len(lines) > MOST_KEYS:
        page.wrapped(f"... and {len(lines) - MOST_KEYS} more", indent=2, style="place")


def _authority(blob: bytes) -> str:
    return f"the authority {fingerprint(blob)}" if blob else "any authority"


def _revoked(each: RevokedFile) -> str:
    if each.key is not None:
        return f"{each.key.kind} {each.key.fingerprint}, and every certificate with it"
    assert each.certificate is not None
    said = each.certificate
    by = f"of {_authority(said.authority)}"
    return f"the certificate with serial {said.serial} {by}" if said.serial else f'certificates with the id "{said.key_id}" {by}'
