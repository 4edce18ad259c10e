"""Checks of keys: strength, owners, halves, shared host keys."""

from __future__ import annotations

from collections.abc import Iterator

from nightlatch.audit import cause_words
from nightlatch.audit.checks.registry import CheckResult, Context, Fleet, check, fleet_check
from nightlatch.audit.findings import Proof, Severity
from nightlatch.audit.names import listed
from nightlatch.evidence.snapshot import EntryKind
from nightlatch.formats import authorized_keys, keys
from nightlatch.formats.authorized_keys import KeyEntry
from nightlatch.keys.strength import LEAST, TODAY, Weakness, weakness
from nightlatch.model.causes import KeyLine
from nightlatch.model.grants import GrantKind
from nightlatch.model.secrets import Key
from nightlatch.model.services import SSH
from nightlatch.net.addresses import EVERY_ADDRESS
from nightlatch.origin import Origin
from nightlatch.services.base import ServerState
from nightlatch.services.ssh import revoked
from nightlatch.services.ssh.entries import SshAccess


def authorised(context: Context) -> Iterator[tuple[str, KeyEntry, Origin]]:
    """Every key line in the files that sshd looks at: account, line, place."""
    snapshot = context.access.reading.snapshot
    seen: set[str] = set()
    for path in context.access.paths:
        for cause in path.causes:
            if cause.origin.path in seen or not isinstance(cause, KeyLine):
                continue
            seen.add(cause.origin.path)
            for line in authorized_keys.parse(snapshot.content(cause.origin.path) or b""):
                if isinstance(line, KeyEntry):
                    yield path.account, line, Origin(cause.origin.path, line.number)


@check("ssh.weak-key", Severity.HIGH, source="RFC 8332; RFC 9142; ssh-keygen(1) -b")
def weak_key(context: Context) -> Iterator[CheckResult]:
    """A key that opens an account, or proves the guest, is of a weak kind or too short."""
    for account, line, origin in authorised(context):
        told = _weak(line.key)
        if told:
            text = f"The key {context.names.key(line.key.fingerprint)} that opens {account} is {told[0]}."
            yield CheckResult(text, (Proof(f"{line.key.kind} {line.key.bits} bits", origin),), (account,), told[1])
    snapshot = context.access.reading.snapshot
    for key in context.access.reading.host_keys:
        public = keys.parse_public(snapshot.content(key.path) or b"")
        told = _weak(public)
        if told:
            yield CheckResult(
                f"The guest's own {key.kind} key is {told[0]}.",
                (Proof(f"{public.bits} bits", Origin(key.path)),),
                (),
                told[1],
            )


@check("ssh.token-without-touch", Severity.MEDIUM, source="sshd(8), no-touch-required; sshd_config(5), PubkeyAuthOptions")
def untouched(context: Context) -> Iterator[CheckResult]:
    """A key on hardware opens an account without being touched: what runs at its owner's desk can use it unseen."""
    for account, line, origin in authorised(context):
        server = next(iter(context.access.of(SSH.name)), None)
        asked = isinstance(server, SshAccess) and all(
            "touch-required" in settings["pubkeyauthoptions"].value for settings in server.settings(account, EVERY_ADDRESS)
        )
        if line.key.on_hardware and not line.options.touch and not asked:
            text = f"The key {context.names.key(line.key.fingerprint)}, which is on hardware, opens {account} without a touch."
            yield CheckResult(text, (Proof("no-touch-required", origin),), (account,))


def _weak(key: keys.PublicKey) -> tuple[str, Severity] | None:
    found = weakness(key.kind, key.bits)
    return (_WEAK[found][0].format(bits=key.bits), _WEAK[found][1]) if found is not None else None


_WEAK = {
    Weakness.DSA: ("a DSA key, which no current sshd accepts", Severity.HIGH),
    Weakness.SHORT: (f"an RSA key of {{bits}} bits, below {LEAST}", Severity.HIGH),
    Weakness.BELOW_TODAY: (f"an RSA key of {{bits}} bits, below today's {TODAY}", Severity.LOW),
}


@check("ssh.orphan-key", Severity.HIGH, source="design: each key has a living owner")
def orphan_key(context: Context) -> Iterator[CheckResult]:
    """A key opens an account and belongs to nobody in the estate."""
    if context.estate is None:
        return
    for account, line, origin in authorised(context):
        known = context.names.authorities if line.options.authority else context.names.owners
        if line.key.fingerprint not in known:
            what = "authority" if line.options.authority else "key"
            text = f"The {what} {line.key.comment or line.key.fingerprint} opens {account} and belongs to nobody in the estate."
            yield CheckResult(text, (Proof(f"{line.key.kind} {line.key.fingerprint}", origin),), (account,))


@check("ssh.not-revoked", Severity.MEDIUM, source="sshd_config(5), RevokedKeys; revoked of the estate file")
def not_revoked(context: Context) -> Iterator[CheckResult]:
    """The estate revokes keys that this guest's sshd does not refuse: one whose line comes back opens again."""
    stated, server = context.estate.revoked if context.estate is not None else None, context.access.ssh
    if stated is None or server.state is not ServerState.SERVES:
        return
    found = revoked.read(server, stated.content)
    if found.state is not revoked.State.THERE:
        text = {
            revoked.State.MISSING: "This guest's sshd reads no list of revoked keys, and the estate has one.",
            revoked.State.OLDER: f"{found.word} is not the estate's list of revoked keys as it is now.",
            revoked.State.OTHER: f"{found.word} is a list of this guest's own, and lacks what the estate revokes.",
            revoked.State.NOT_ALL: "A Match block names another list of revoked keys, which lacks what the estate revokes.",
        }[found.state]
        yield CheckResult(text, (Proof(f"RevokedKeys {found.word}", found.origin), Proof("revoked", stated.origin)))


@check("ssh.shared-account", Severity.MEDIUM, source="design: each human has an account of their own")
def shared_account(context: Context) -> Iterator[CheckResult]:
    """Several people come in by one account, and no grant says why they share it."""
    if context.estate is None:
        return
    excused = {
        g.account
        for g in context.grants
        if g.kind is not GrantKind.GRANT or any(s.shared and g.origin == s.origin for s in context.estate.grants)
    }
    people: dict[str, dict[str, Proof]] = {}
    for path in context.access.paths:
        for secret in path.need:
            owner = context.names.owners.get(secret.fingerprint) if isinstance(secret, Key) else None
            person = context.estate.principals.get(owner or "")
            if person is not None and not person.is_robot:
                people.setdefault(path.account, {}).setdefault(person.name, cause_words.proof(path.causes[0]))
    for account, found in people.items():
        if len(found) > 1 and account not in excused:
            text = f"{listed(found)} share the account {account}, so the log can't tell them apart."
            yield CheckResult(text, tuple(found.values()), (account,))


@check("key.private-under-public-name", Severity.CRITICAL, source="ssh-keygen(1): the public half ends in .pub")
def private_under_public_name(context: Context) -> Iterator[CheckResult]:
    """A file that looks like the public half of a key holds the private one, and is passed on as if it were harmless."""
    for path, entry in context.access.reading.snapshot.entries.items():
        if entry.kind is EntryKind.FILE and path.endswith(".pub") and (entry.content or b"").startswith(keys.REDUCED):
            facts = (entry.content or b"")[len(keys.REDUCED) :].decode("utf-8", "replace").strip()
            yield CheckResult(f"{path} holds a private key.", (Proof(f"{facts}, mode {entry.mode:04o}", Origin(path)),))


@fleet_check("ssh.shared-host-key", Severity.HIGH, source="sshd(8), SSH_KNOWN_HOSTS: a host key names one host")
def shared_host_key(fleet: Fleet) -> Iterator[tuple[str, CheckResult]]:
    """Two guests prove themselves with the same host key, as clones of one image do."""
    holders: dict[str, list[tuple[str, str, str]]] = {}
    for guest in fleet.guests:
        for path, kind, fingerprint in guest.host_keys:
            holders.setdefault(fingerprint, []).append((guest.guest, path, kind))
    together: dict[tuple[str, ...], list[tuple[str, str, str]]] = {}
    for fingerprint, found in holders.items():
        if len(found) > 1:
            names = tuple(sorted(name for name, _, _ in found))
            together.setdefault(names, []).append((found[0][1], found[0][2], fingerprint))
    for names, keys_found in together.items():
        kinds = listed(kind for _, kind, _ in keys_found)
        text = f"{listed(names)} have the same host key ({kinds}): each can pose as the other."
        proofs = tuple(Proof(fingerprint, Origin(path)) for path, _, fingerprint in keys_found)
        yield names[0], CheckResult(text, proofs, names)
