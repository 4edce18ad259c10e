"""A guest as single facts that can be compared with those of another day: by what they mean, not by how files spell it.

Order, remarks, spacing and values that are written out though they are the default make no other fact.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from enum import StrEnum

from nightlatch.access.holdings import holdings
from nightlatch.access.paths import GuestAccess
from nightlatch.estate.model import GuestSpec
from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.formats import authorized_keys, sshd_tokens, sudoers
from nightlatch.formats.authorized_keys import KeyEntry, Options
from nightlatch.formats.pam import Line
from nightlatch.formats.sshd_keywords import KEYWORDS, spelled
from nightlatch.origin import Kind, Origin
from nightlatch.readings.accounts import Account
from nightlatch.readings.filters.rules import Chain, Rules
from nightlatch.readings.guest import GuestReading
from nightlatch.services.ssh.entries import SshAccess

WANTS = "/etc/systemd/system"
OURS = "/var/lib/nightlatch"
MACHINE_ID = "machine id"


class FactKind(StrEnum):
    """What a fact is about."""

    ACCOUNT = "account"
    PASSWORD = "password"
    KEY = "key"
    SUDO = "sudo rule"
    PAM = "PAM line"
    SETTING = "setting"
    RULE = "rule"
    STORED_RULE = "rule at boot"
    LISTENER = "listener"
    ADDRESS = "address"
    UNIT = "unit"
    MODE = "mode"
    HOST_KEY = "host key"
    SYSTEM = "system"


@dataclass(frozen=True, slots=True)
class Fact:
    """One fact: what it is about, its `name`, and its `value` in words; two of one kind and name are the same thing."""

    kind: FactKind
    name: str
    value: str
    origin: Origin


@dataclass(frozen=True, slots=True)
class FactChange:
    """A fact that came (`before` is None), went (`after` is None), or has another value; `change` is the one of ours that made it
    so, empty where none did."""

    guest: str
    before: Fact | None
    after: Fact | None
    change: str = ""

    @property
    def fact(self) -> Fact:
        """As it is now, or as it was."""
        found = self.after or self.before
        assert found is not None
        return found


Facts = Mapping[tuple[FactKind, str], Fact]


def facts_of(access: GuestAccess, spec: GuestSpec | None = None) -> Facts:
    """All facts of a guest."""
    reading = access.reading
    found: dict[tuple[FactKind, str], Fact] = {}
    for make in (_accounts, _keys, _sudo, _pam, _settings, _filters, _units, _modes, _system):
        for each in make(access):
            found.setdefault((each.kind, each.name), each)
    for each in (*_listeners(reading, access), *_addresses(reading, spec)):
        found.setdefault((each.kind, each.name), each)
    return found


def changes(guest: str, before: Facts, after: Facts) -> Iterator[FactChange]:
    """The facts that differ, kind by kind. An owner and a mode, and a password, count where the file or the account was there
    before and is there still."""
    order = list(FactKind)
    for key in sorted(before.keys() | after.keys(), key=lambda key: (order.index(key[0]), key[1])):
        was, now = before.get(key), after.get(key)
        if was is None or now is None:
            if key[0] not in (FactKind.MODE, FactKind.PASSWORD):
                yield FactChange(guest, was, now)
        elif was.value != now.value:
            yield FactChange(guest, was, now)


def _accounts(access: GuestAccess) -> Iterator[Fact]:
    for name, each in access.reading.accounts.by_name.items():
        groups = f"groups {', '.join(sorted(each.groups))}" if each.groups else "in no group"
        ends = f", expires on day {each.expires}" if each.expires is not None else ""
        value = f"uid {each.uid}, {groups}, home {each.home}, shell {each.shell or '/bin/sh'}{ends}"
        yield Fact(FactKind.ACCOUNT, name, value, each.origin)
        changed = f", set on day {each.changed}" if each.changed is not None else ""
        yield Fact(FactKind.PASSWORD, name, f"{_password(each)}{changed}", each.password_origin)


def _password(account: Account) -> str:
    if account.hash_method:
        return f"a password ({account.hash_method})"
    return "no password asked" if account.has_empty_password else "no password opens"


def _keys(access: GuestAccess) -> Iterator[Fact]:
    """Every key that stands in a file of an account, taken or not."""
    ssh = next((each for each in access.services if isinstance(each, SshAccess)), None)
    named = ssh.effective.top["authorizedkeysfile"].value if ssh is not None else ()
    for account in access.reading.accounts.by_name.values():
        for word in named:
            path = sshd_tokens.file_for(word, user=account.name, uid=account.uid, home=account.home)
            content = access.reading.snapshot.content(path) if path else None
            for line in authorized_keys.parse(content or b""):
                if isinstance(line, KeyEntry) and path:
                    name = f"{line.key.fingerprint} of {account.name}"
                    value = f"{line.key.kind} {line.key.comment}".rstrip() + _options(line.options)
                    yield Fact(FactKind.KEY, name, value, Origin(path, line.number))


def _options(options: Options) -> str:
    plain = Options()
    told = [f"{name} {getattr(options, name)}" for name in Options.__slots__ if getattr(options, name) != getattr(plain, name)]
    return f" ({'; '.join(told)})" if told else ""


def _sudo(access: GuestAccess) -> Iterator[Fact]:
    items = ((path, item) for path, item in access.reading.sudo.items if isinstance(item, sudoers.Rule))
    for path, item in items:
        asked = {True: "PASSWD: ", False: "NOPASSWD: "}.get(item.password, "") if item.password is not None else ""
        runas = f"({', '.join(item.runas)}) " if item.runas else ""
        words = f"{', '.join(item.who)} {', '.join(item.hosts)}={runas}{asked}{item.command}"
        yield Fact(FactKind.SUDO, words, "", Origin(path, item.line))


def _pam(access: GuestAccess) -> Iterator[Fact]:
    for service, lines in access.reading.pam.items():
        for line in lines:
            yield Fact(FactKind.PAM, f"{service}: {_pam_line(line.line)}", "", line.origin)


def _pam_line(line: Line) -> str:
    """A line as it counts, whatever words it spells its control with (pam.conf(5))."""
    if line.fault:
        return line.fault
    if line.include:
        return f"{line.facility} {'substack' if line.substack else 'include'} {line.include}".strip()
    control = " ".join(f"{key}={does}" for key, does in line.control)
    return " ".join((line.facility, f"[{control}]", line.module, *line.arguments))


def _settings(access: GuestAccess) -> Iterator[Fact]:
    ssh = next((each for each in access.services if isinstance(each, SshAccess)), None)
    if ssh is None:
        return
    top = ssh.effective.top
    for name in KEYWORDS:
        setting = top[name]
        yield Fact(FactKind.SETTING, spelled(name), " ".join(setting.value), setting.origin)
    reading = access.reading.sshd
    for directive in reading.directives:
        matches = [reading.matches[number] for number in directive.blocks]
        if any(not each.is_all for each in matches):
            where = "; ".join(" ".join(f"{c.name} {c.pattern}" for c in each.criteria) for each in matches)
            name = f"{spelled(directive.keyword)} for {where}"
            yield Fact(FactKind.SETTING, name, " ".join(directive.value), directive.origin)


def _filters(access: GuestAccess) -> Iterator[Fact]:
    found = access.reading.filter
    for rules in (*([found.rules] if found.rules is not None else []), *found.behind, *found.units.values()):
        yield from _rules(FactKind.RULE, "", rules)
    if access.reading.service.is_live:
        for stored in found.stored:
            yield from _rules(FactKind.STORED_RULE, f"{stored.manager}: ", stored.rules)
    for stored in found.stored:
        started = {True: "loaded at boot", False: "not loaded at boot", None: "perhaps loaded at boot"}[stored.started]
        yield Fact(FactKind.UNIT, f"{stored.unit}, with the rules of {stored.manager}", started, stored.place)


def _rules(kind: FactKind, prefix: str, rules: Rules) -> Iterator[Fact]:
    for chain in rules.chains.values():
        yield from _chain(kind, prefix, chain)


def _chain(kind: FactKind, prefix: str, chain: Chain) -> Iterator[Fact]:
    if chain.hook:
        yield Fact(kind, f"{prefix}{chain.key}: policy", "accept" if chain.accepts else "drop", chain.origin)
    many = Counter(rule.text for rule in chain.rules)
    for rule in chain.rules:
        times = f"{many[rule.text]} times" if many[rule.text] > 1 else ""
        yield Fact(kind, f"{prefix}{chain.key}: {rule.text}", times, rule.origin)


def _units(access: GuestAccess) -> Iterator[Fact]:
    for unit in access.reading.service.units.values():
        state = f"{'runs' if unit.active else 'does not run'}, {unit.file_state or 'not enabled'}"
        yield Fact(FactKind.UNIT, unit.name, state, unit.origin)
    snapshot = access.reading.snapshot
    for path, entry in snapshot.entries.items():
        folder, _, name = path.rpartition("/")
        if entry.kind is not EntryKind.ABSENT and folder.startswith(WANTS) and folder.endswith(".wants"):
            yield Fact(FactKind.UNIT, f"{name} for {folder.rpartition('/')[2].removesuffix('.wants')}", "at boot", Origin(path))


def _modes(access: GuestAccess) -> Iterator[Fact]:
    for path, entry in access.reading.snapshot.entries.items():
        if entry.kind in (EntryKind.FILE, EntryKind.FOLDER) and not path.startswith(OURS):
            yield Fact(FactKind.MODE, path, f"{entry.mode:04o}, owner {entry.uid}:{entry.gid}", Origin(path))


def _listeners(reading: GuestReading, access: GuestAccess) -> Iterator[Fact]:
    if reading.service.is_live:
        for each in (*reading.service.sockets, *reading.service.datagrams):
            held = ", ".join(sorted({name for name, _ in each.programs})) or "an unknown program"
            yield Fact(FactKind.LISTENER, f"{each.protocol} {each.address or '*'} port {each.port}", held, each.origin)
        return
    for server in access.services:
        for socket in server.listeners:
            where = socket.address or {"inet": "0.0.0.0", "inet6": "::"}.get(socket.family, "*")
            origin = socket.origin or Origin(server.words.program, kind=Kind.DEFAULT)
            yield Fact(FactKind.LISTENER, f"tcp {where} port {socket.port}", server.words.program, origin)


def _addresses(reading: GuestReading, spec: GuestSpec | None) -> Iterator[Fact]:
    for each in holdings(reading.network, reading.guest, spec):
        if (not each.temporary and each.stored is not None) or each.loaded is not None:
            how = each.method.value if each.method is not None else ""
            kept = "" if each.at_boot else ", not at boot"
            length = f"/{each.length}" if each.length is not None else ""
            yield Fact(FactKind.ADDRESS, f"{each.address}", f"{each.interface}{length} {how}{kept}".strip(), each.origin)


def _system(access: GuestAccess) -> Iterator[Fact]:
    reading = access.reading
    for key in reading.host_keys:
        yield Fact(FactKind.HOST_KEY, key.kind, key.fingerprint, Origin(key.path))
    machine = reading.network.machine_id
    if machine is not None:
        yield Fact(FactKind.SYSTEM, MACHINE_ID, machine.value, machine.origin)
    told: Iterable[tuple[str, str, str]] = (
        ("release", f"{reading.system} {reading.release}".strip(), "/etc/os-release"),
        ("openssh-server", reading.version, "/var/lib/dpkg/status"),
        ("host name", _line(reading.snapshot, "/etc/hostname"), "/etc/hostname"),
        ("time zone", reading.snapshot.resolve("/etc/localtime").path.rpartition("/zoneinfo/")[2], "/etc/localtime"),
    )
    for name, value, path in told:
        if value:
            yield Fact(FactKind.SYSTEM, name, value, Origin(path))


def _line(snapshot: Snapshot, path: str) -> str:
    return (snapshot.content(path) or b"")[:256].split(b"\n")[0].decode("utf-8", "replace").strip()
