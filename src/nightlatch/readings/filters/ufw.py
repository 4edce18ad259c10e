"""Rules of ufw in the common form, from the files that it loads at boot (ufw(8), ufw-framework(8)).

Its files are texts for iptables-restore, loaded into chains that its start-up makes and hangs into those of the kernel: what
stands before, the user's rules, what stands after, then the default policy.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache

from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.formats import shell_vars
from nightlatch.model.gaps import Gap
from nightlatch.origin import Origin
from nightlatch.readings.filters.iptables import AREA, MOST_KEPT, SET_FILES, RestoredTables, sets_of
from nightlatch.readings.filters.places import UFW_SWITCH
from nightlatch.readings.filters.rules import Rules

Contents = dict[str, bytes | None]
DEFAULTS = "/etc/default/ufw"
SCRIPTS = ("/etc/ufw/before.init", "/etc/ufw/after.init")
FILES = tuple(f"/etc/ufw/{name}{six}.rules" for six in ("", "6") for name in ("before", "after", "user"))
POLICIES = ("ACCEPT", "DROP", "REJECT")
HELD = ("input", "output")  # the sides that callers of the guest and its answers meet
SIDES = ("input", "output", "forward")
PARTS = ("before-logging", "before", "after", "after-logging", "reject", "track")
USERS = (
    *(f"user-{side}" for side in SIDES),
    *(f"user-logging-{side}" for side in SIDES),
    "user-limit",
    "user-limit-accept",
)


def is_on(snapshot: Snapshot) -> Origin | None:
    """Where ufw is switched on; None where it is not."""
    found = _setting(snapshot.content, "ENABLED")
    return found[1] if found[0] in ("yes", "YES") and snapshot.content(UFW_SWITCH) is not None else None


def written_and_off(snapshot: Snapshot) -> tuple[Origin, Origin] | None:
    """Where ufw is switched off, and the first of the rules that somebody wrote for it; None where it is on or holds none."""
    switch, origin = _setting(snapshot.content, "ENABLED")
    if snapshot.content(UFW_SWITCH) is None or switch in ("yes", "YES"):
        return None
    for path in FILES[2::3]:
        for number, line in enumerate((snapshot.content(path) or b"").split(b"\n"), 1):
            if line.startswith(b"### tuple ###"):
                return origin, Origin(path, number, 1)
    return None


def stored(snapshot: Snapshot) -> Rules:
    """What ufw loads at boot, when it is on."""
    entries = {path: snapshot.resolve(path).entry for path in SCRIPTS}
    ran = (path for path, each in entries.items() if each is not None and each.kind is EntryKind.FILE and each.mode & 0o111)
    read = (*FILES, DEFAULTS, UFW_SWITCH, *SET_FILES)
    return _stored(tuple((path, snapshot.content(path)) for path in read), tuple(ran))


@lru_cache(maxsize=MOST_KEPT)
def _stored(held: tuple[tuple[str, bytes | None], ...], scripts: tuple[str, ...]) -> Rules:
    contents = dict(held)
    tables = RestoredTables(sets_of(contents, [contents[path] or b"" for path in FILES]))
    because = "ufw runs this script besides, and it may change any rule"
    tables.gaps += [Gap(AREA, because, Origin(path)) for path in scripts]
    _family(contents, tables, "ip", "")
    six, origin = _setting(contents.get, "IPV6")
    if six in ("yes", "YES"):
        _family(contents, tables, "ip6", "6")
    else:  # everything of IPv6 but the loopback is dropped
        text = "*filter\n:INPUT DROP [0:0]\n-A INPUT -i lo -j ACCEPT\nCOMMIT\n"
        tables.restore(text.encode(), DEFAULTS, "ip6", at=origin)
    return tables.done()


def _family(contents: Contents, tables: RestoredTables, family: str, six: str) -> None:
    policies = {side: _setting(contents.get, f"DEFAULT_{side.upper()}_POLICY") for side in HELD}
    if policies["output"][0] == "":
        policies["output"] = ("ACCEPT", policies["output"][1])
    for policy, origin in policies.values():
        if policy not in POLICIES:
            tables.gaps.append(Gap(AREA, f'ufw has no policy "{policy[:20]}"', origin))
            return

    def load(lines: list[str], side: str = "input") -> None:
        text = "\n".join(["*filter", *lines, "COMMIT", ""])
        origin = policies[side][1]
        tables.restore(text.encode(), origin.path, family, keep=True, at=origin)

    name = f"ufw{six}"
    load([f":{name}-{part}-{side} - [0:0]" for part in PARTS for side in SIDES])
    load([f":{name}-logging-deny - [0:0]", f":{name}-logging-allow - [0:0]"])
    load([f":{name}-skip-to-policy-{side} - [0:0]" for side in SIDES])
    for side, (policy, _) in policies.items():
        load([f"-A {side.upper()} -j {name}-{part}-{side}" for part in PARTS], side)
        load(_of_policy(name, side, policy), side)
    for part in ("before", "after", "user"):
        path = f"/etc/ufw/{part}{six}.rules"
        if part == "user":
            load([f":{name}-{user} - [0:0]" for user in USERS])
        raw = contents[path]
        if raw is None:
            tables.gaps.append(Gap(AREA, "this file of ufw was not collected, or is not there", Origin(path)))
        else:
            tables.restore(raw, path, family, keep=True)
    load([f"-A {name}-before-{side} -j {name}-user-{side}" for side in SIDES])
    for side, (policy, _) in policies.items():
        load([f":{side.upper()} {'DROP' if policy == 'REJECT' else policy} [0:0]"], side)


def _of_policy(name: str, side: str, policy: str) -> list[str]:
    """What the start-up adds for a default policy."""
    out = [f"-A {name}-skip-to-policy-{side} -j {policy}"]
    if policy == "REJECT":
        out.append(f"-A {name}-reject-{side} -j REJECT")
    if policy == "ACCEPT":
        out += [f"-A {name}-track-{side} -p {protocol} -m conntrack --ctstate NEW -j ACCEPT" for protocol in ("tcp", "udp")]
    return out


def _setting(content: Callable[[str], bytes | None], name: str) -> tuple[str, Origin]:
    """A setting and where it stands: the switch's file is read after the defaults."""
    found = ("", Origin(DEFAULTS))
    for path in (DEFAULTS, UFW_SWITCH):
        line = shell_vars.parse(content(path) or b"").last(name)
        if line is not None:
            found = (line.value, Origin(path, line.number, 1))
    return found
