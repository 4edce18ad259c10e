"""The guest's own packet filter: rules of nftables, as loaded on a running guest and as stored on one in a folder.

What other managers store is not read yet and is a gap, which widens every bound, unless the guest runs: then the kernel's own
list is what counts, whoever made it. A rule set that plainly filters nothing is no gap.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from nightlatch.evidence.snapshot import Kind, Snapshot
from nightlatch.origin import Kind as OriginKind
from nightlatch.origin import Origin
from nightlatch.readings import nftables
from nightlatch.readings.gaps import Gap
from nightlatch.readings.rules import Rules

_TABLES_EMPTY = re.compile(rb"(?:\*\w+|:\w+ ACCEPT \[[0-9:]+\]|:\w+ - \[[0-9:]+\]|COMMIT)")
STARTED = tuple(f"/etc/systemd/system/{target}.target.wants/nftables.service" for target in ("sysinit", "multi-user"))
AREA = "packet filter"


@dataclass(frozen=True)
class FilterReading:
    """The rules that count for callers now, or from the next boot on where only files were read; `gaps` is what could not
    be read, `idle` a file of rules that nothing loads."""

    rules: Rules | None = None
    gaps: tuple[Gap, ...] = ()
    idle: Origin | None = None


def read(snapshot: Snapshot) -> FilterReading:
    """The filter of a snapshot."""
    others = tuple(_host_access(snapshot))
    loaded = nftables.loaded(snapshot)
    if loaded is not None:
        return FilterReading(loaded, (*_legacy(snapshot), *others))
    others = (*_other_managers(snapshot), *others)
    for path in nftables.MAINS:
        if snapshot.content(path) is None:
            continue
        stored = nftables.stored(snapshot, path)
        filters = bool(stored.gaps) or any(chain.rules or not chain.accepts for chain in stored.chains.values())
        if not filters:
            continue
        started = _started(snapshot)
        if started is False:
            return FilterReading(None, others, Origin(path))
        if started is None or snapshot.is_live:  # a running guest whose kernel was not asked may have other rules
            return FilterReading(
                None, (Gap(AREA, "whether these rules are loaded is not known", Origin(path)), *others)
            )
        return FilterReading(stored, others)
    return FilterReading(None, others)


def _started(snapshot: Snapshot) -> bool | None:
    """Whether the rules are loaded at boot, by the links of nftables.service."""
    entries = [snapshot.resolve(path, follow_last=False).entry for path in STARTED]
    if any(entry is not None and entry.kind is not Kind.ABSENT for entry in entries):
        return True
    return None if any(entry is None for entry in entries) else False


def _legacy(snapshot: Snapshot) -> Iterator[Gap]:
    """Rules beside those of nftables, which its list does not show."""
    tables = snapshot.facts.get("legacy", "")
    if tables:
        origin = Origin("/proc/net/ip_tables_names", kind=OriginKind.LISTING)
        yield Gap(AREA, f"the tables {tables[:60]} of the older iptables are loaded, and not read yet", origin)


def _other_managers(snapshot: Snapshot) -> Iterator[Gap]:
    names = ("/etc/iptables/rules.v4", "/etc/iptables/rules.v6", "/etc/sysconfig/iptables", "/etc/sysconfig/ip6tables")
    for path in names:
        lines = (snapshot.content(path) or b"").split(b"\n")
        rules = [line.strip() for line in lines if line.strip() and not line.startswith(b"#")]
        if not all(_TABLES_EMPTY.fullmatch(rule) for rule in rules):
            yield Gap(AREA, "iptables rules are not read yet", Origin(path))
    ufw = snapshot.content("/etc/ufw/ufw.conf")
    if ufw is not None and re.search(rb"(?im)^\s*ENABLED\s*=\s*[\"']?yes", ufw):
        yield Gap(AREA, "ufw is on and its rules are not read yet", Origin("/etc/ufw/ufw.conf"))
    wanted = snapshot.resolve("/etc/systemd/system/multi-user.target.wants/firewalld.service", follow_last=False).entry
    if wanted is not None and wanted.kind is not Kind.ABSENT:
        origin = Origin("/etc/firewalld/firewalld.conf")
        yield Gap(AREA, "firewalld starts at boot and its rules are not read yet", origin)


def _host_access(snapshot: Snapshot) -> Iterator[Gap]:
    for path in ("/etc/hosts.allow", "/etc/hosts.deny"):
        for number, line in enumerate((snapshot.content(path) or b"").split(b"\n"), 1):
            if line.strip() and not line.lstrip().startswith(b"#"):
                yield Gap("host access file", "rules of tcpd are not read yet", Origin(path, number))
                break
