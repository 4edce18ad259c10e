"""Packet filters and host access files that are there but can't be read yet: each widens every bound.

A rule set that plainly filters nothing (only empty chains that accept, only comments) is no gap.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from nightlatch.evidence.snapshot import Kind, Snapshot
from nightlatch.origin import Origin
from nightlatch.readings.gaps import Gap

_NFT_EMPTY = re.compile(
    rb"\s*(?:flush\s+ruleset\s*;?\s*)?"
    rb"(?:table\s+\w+\s+[\w-]+\s*\{\s*"
    rb"(?:chain\s+[\w-]+\s*\{\s*(?:type\s+\w+\s+hook\s+\w+\s+priority\s+[\w-]+\s*;\s*(?:policy\s+accept\s*;?)?)?\s*\}\s*)*"
    rb"\}\s*)*"
)
_TABLES_EMPTY = re.compile(rb"(?:\*\w+|:\w+ ACCEPT \[[0-9:]+\]|:\w+ - \[[0-9:]+\]|COMMIT)")


def read(snapshot: Snapshot) -> tuple[Gap, ...]:
    """A gap for each rule set that may filter."""
    return tuple(_gaps(snapshot))


def _gaps(snapshot: Snapshot) -> Iterator[Gap]:
    for path in ("/etc/nftables.conf", "/etc/sysconfig/nftables.conf"):
        text = _text(snapshot, path)
        # White space is folded first, so that the pattern has nothing to go back over.
        if text is not None and not _NFT_EMPTY.fullmatch(b" ".join(re.sub(rb"#[^\n]*", b"", text).split())):
            yield Gap("packet filter", "nftables rules are not read yet", Origin(path))
    names = ("/etc/iptables/rules.v4", "/etc/iptables/rules.v6", "/etc/sysconfig/iptables", "/etc/sysconfig/ip6tables")
    for path in names:
        lines = (_text(snapshot, path) or b"").split(b"\n")
        rules = [line.strip() for line in lines if line.strip() and not line.startswith(b"#")]
        if not all(_TABLES_EMPTY.fullmatch(rule) for rule in rules):
            yield Gap("packet filter", "iptables rules are not read yet", Origin(path))
    ufw = _text(snapshot, "/etc/ufw/ufw.conf")
    if ufw is not None and re.search(rb"(?im)^\s*ENABLED\s*=\s*[\"']?yes", ufw):
        yield Gap("packet filter", "ufw is on and its rules are not read yet", Origin("/etc/ufw/ufw.conf"))
    wanted = snapshot.resolve("/etc/systemd/system/multi-user.target.wants/firewalld.service", follow_last=False).entry
    if wanted is not None and wanted.kind is not Kind.ABSENT:
        origin = Origin("/etc/firewalld/firewalld.conf")
        yield Gap("packet filter", "firewalld starts at boot and its rules are not read yet", origin)
    for path in ("/etc/hosts.allow", "/etc/hosts.deny"):
        for number, line in enumerate((_text(snapshot, path) or b"").split(b"\n"), 1):
            if line.strip() and not line.lstrip().startswith(b"#"):
                yield Gap("host access file", "rules of tcpd are not read yet", Origin(path, number))
                break


def _text(snapshot: Snapshot, path: str) -> bytes | None:
    return snapshot.content(path)
