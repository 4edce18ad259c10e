"""hosts.allow and hosts.deny for sshd in the common form of rules (hosts_access(5)): the first line that matches decides, of the
files in this order, and who is in none is let in.

They count where sshd is linked with libwrap, which is so on Debian and its kin, and nowhere told by files. What goes by names of
callers, by their users, or by what a program says, matches perhaps.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

from nightlatch.evidence.remembered import remembered
from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.formats import hosts_access
from nightlatch.formats.hosts_access import Line
from nightlatch.model.bounds import EVERYBODY, NOBODY, Addresses, Bounds, exactly, in_any, only_perhaps
from nightlatch.model.gaps import Gap
from nightlatch.model.rules import Layer, RuleAction
from nightlatch.net.addresses import NO_ADDRESS, AddressSet, prefix
from nightlatch.net.literal import AddressError, parse_address
from nightlatch.net.numbers import whole
from nightlatch.origin import Origin
from nightlatch.readings.filters.rules import Chain, Match, Rule, Rules

FILES = (("/etc/hosts.allow", RuleAction.ACCEPT), ("/etc/hosts.deny", RuleAction.REJECT))
AREA = "host access file"
DAEMON = "sshd"
DEEPEST = 50
HARMLESS = ("spawn", "severity", "umask", "banners", "keepalive", "linger", "nice", "rfc931", "setenv", "user", "group")
BARE = ("keepalive", "rfc931")
ANYBODY = only_perhaps(EVERYBODY)


@remembered(64)
def read(snapshot: Snapshot) -> Rules | None:
    """The rules for callers of sshd; None where nothing is written, or sshd is not linked with libwrap as far as is known."""
    rules: list[Rule] = []
    gaps: list[Gap] = []
    for path, does in FILES:
        entry = snapshot.resolve(path).entry
        if entry is not None and entry.kind is EntryKind.FILE and entry.content is None:
            gaps.append(Gap(AREA, "this file could not be read", Origin(path)))
        for line in hosts_access.parse(snapshot.content(path) or b""):
            rules += _rules(line, path, does)
    if not rules and not gaps:
        return None
    chain = Chain("libwrap", tuple(rules), Origin(FILES[0][0]), "input", 1000)
    return Rules({"libwrap": chain}, tuple(gaps), layer=Layer.WRAPPER)


def _rules(line: Line, path: str, does: RuleAction) -> list[Rule]:
    if line.incomplete and does is RuleAction.REJECT:  # libwrap takes its own error for a match (measured: 7.6)
        return [Rule((Match(),), does, Origin(path, line.number, 1), f"{line.text}   (without a line end: everybody)")]
    if line.fault or not line.clients:
        return []
    daemons = _listed(line.daemons, _daemon)
    clients = _listed(line.clients, _client)
    if not daemons.perhaps:
        return []
    surely = clients.surely if daemons.surely else NO_ADDRESS
    origin, does = Origin(path, line.number, 1), _verdict(line.options, does)
    out = [Rule((Match(surely),), does, origin, line.text)] if surely else []
    unsure = clients.perhaps - surely
    if unsure:
        out.append(Rule((Match(unsure, unread=("names",)),), does, origin, line.text))
    return out


def _verdict(options: Sequence[str], does: RuleAction) -> RuleAction:
    for option in options:
        word = option.split()[0].lower() if option.split() else ""
        if word in ("allow", "deny"):
            return RuleAction.ACCEPT if word == "allow" else RuleAction.REJECT
        if word == "twist":
            return RuleAction.REJECT
        if word and (word not in HARMLESS or (word not in BARE and not option.split()[1:])):
            return RuleAction.UNKNOWN
    return does


def _listed(tokens: Sequence[str], match: Callable[[str], Addresses], depth: int = 0) -> Addresses:
    """`a b EXCEPT c EXCEPT d`: what matches the first list and not what follows the word."""
    at = next((n for n, token in enumerate(tokens) if token.upper() == "EXCEPT"), len(tokens))
    if depth > DEEPEST:
        return ANYBODY
    found = in_any(match(token) for token in tokens[:at])
    if at < len(tokens):
        but = _listed(tokens[at + 1 :], match, depth + 1)
        return Bounds(found.surely - but.perhaps, found.perhaps - but.surely)
    return found


def _daemon(token: str) -> Addresses:
    if "@" in token or any(sign in token for sign in "*?"):
        return ANYBODY
    return EVERYBODY if token.lower() in (DAEMON, "all") else NOBODY


def _client(token: str) -> Addresses:
    """Who a pattern stands for: addresses are plain, names are looked up when somebody calls."""
    if "@" in token and not token.startswith("@"):
        user, _, host = token.rpartition("@")
        found = _client(host)
        return found if user.upper() == "ALL" else only_perhaps(found)
    if token.upper() == "ALL":
        return EVERYBODY
    those = _addresses(token)
    if those is not None:
        return exactly(those)
    return NOBODY if token.replace(".", "").isdigit() else ANYBODY


def _addresses(token: str) -> AddressSet | None:
    """`192.0.2.7`, `192.0.2.`, `192.0.2.0/255.255.255.0`, `192.0.2.0/24`, `[2001:db8::]/32`; None for what is no address."""
    try:
        if token.startswith("[") and "]" in token:
            bare, _, length = token[1:].partition("]")
            address = parse_address(bare)
            size = int(length[1:]) if length else 128
            return prefix(6, int(address), size) if address.version == 6 and 0 <= size <= 128 else None
        if token.endswith(".") and 0 < token.count(".") < 4:
            octets = token[:-1].split(".")
            whole = parse_address(".".join([*octets, *["0"] * (4 - len(octets))]))
            return prefix(4, int(whole), 8 * len(octets))
        bare, slash, mask = token.partition("/")
        address = parse_address(bare)
        if address.version != 4:
            return None
        return _masked(int(address), mask) if slash else prefix(4, int(address), 32)
    except (AddressError, ValueError):
        return None


def _masked(number: int, mask: str) -> AddressSet | None:
    """An address that has bits behind its mask matches nobody."""
    size = whole(mask)
    if size is None:
        bits = int(parse_address(mask))
        size = bits.bit_count()
        if bits != ((1 << size) - 1) << (32 - size):
            return None
    if not 0 <= size <= 32:
        return None
    return NO_ADDRESS if number & ((1 << (32 - size)) - 1) else prefix(4, number, size)
