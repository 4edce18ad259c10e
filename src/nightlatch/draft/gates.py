"""A gate: who may open connections to the ports of services, written as rules of each packet filter (nft(8), iptables-restore(8),
ufw(8), firewalld.richlanguage(5)).

Its rules stand in objects of their own: a chain or table named nightlatch, rules of ufw with that comment, rich rules with a
priority of their own. Only packets to these ports are matched, and of those nobody is let in with, only first ones are dropped:
sessions, neighbour messages and all else go on as before. Callers it lets in come in with every packet, for what stands behind it
may drop the later ones (measured: nft 1.0.6, a drop by source before the line for established connections).
A gate that is written anew replaces the one that was there; without one, only the old one is taken away.
Each service has a door of its own in it; where there is one door only, its rules don't repeat the ports that led there.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from nightlatch.formats import iptables_save, own_rules
from nightlatch.formats import lines as text_lines
from nightlatch.formats.iptables_save import Line, LineKind
from nightlatch.formats.lines import LineEdit
from nightlatch.net.addresses import ALL_V4, ALL_V6, EVERY_ADDRESS, AddressSet

OWN, COMMENT = own_rules.OWN, own_rules.COMMENT
ACCEPTING, REFUSING = own_rules.ACCEPTING, own_rules.REFUSING
HEAD = "# who may call SSH, as the estate file says; written by nightlatch draft"


@dataclass(frozen=True, slots=True)
class GateOpening:
    """Callers from `sources` are let in to `ports`; all others are dropped where it is `closed`, else left to rules behind."""

    ports: tuple[int, ...]
    sources: AddressSet
    closed: bool

    @property
    def is_narrow(self) -> bool:
        """Whether it names its callers: a gate for everybody, or for nobody, is not written."""
        return bool(self.ports) and bool(self.sources) and self.sources != EVERY_ADDRESS

    @property
    def listed(self) -> str:
        """The ports as iptables lists them."""
        return ",".join(map(str, self.ports))

    def of(self, family: str) -> list[str]:
        """The prefixes of one family, `ip` or `ip6`."""
        return (self.sources & (ALL_V4 if family == "ip" else ALL_V6)).prefixes()


@dataclass(frozen=True, slots=True)
class Gate:
    """The doors of all services that are in it; no two have a port in common."""

    doors: tuple[GateOpening, ...]

    @property
    def ports(self) -> tuple[int, ...]:
        """The ports of all doors."""
        return tuple(sorted({port for door in self.doors for port in door.ports}))

    @property
    def closed(self) -> bool:
        """Whether a door drops all others."""
        return any(door.closed for door in self.doors)

    @property
    def many(self) -> bool:
        """Whether the ports have to be said again behind the jump."""
        return len(self.doors) > 1

    def of(self, family: str) -> list[str]:
        """The prefixes of one family that any of its doors lets in."""
        return [prefix for door in self.doors for prefix in door.of(family)]


@dataclass(frozen=True, slots=True)
class Hook:
    """A base chain of nftables that sends callers' packets through the gate; one in the table of the gate's own is made, too."""

    family: str
    table: str
    chain: str

    @property
    def own(self) -> bool:
        """Whether the table is the gate's own."""
        return self.table == OWN


def nftables(gate: Gate, hooks: tuple[Hook, ...]) -> bytes:
    """The file that nft(8) reads behind the guest's own."""
    lines = [HEAD]
    for hook in hooks:
        jump = f'iif != "lo" tcp dport {_nft_ports(gate.ports)} jump {OWN}'
        lines += [f"table {hook.family} {hook.table} {{", f"\tchain {OWN} {{"]
        lines += [f"\t\t{line}" for door in gate.doors for line in _nft_door(door, hook, said=gate.many)]
        lines.append("\t}")
        if hook.own:
            lines += [
                f"\tchain {hook.chain} {{",
                "\t\ttype filter hook input priority filter; policy accept;",
                f"\t\t{jump}",
                "\t}",
            ]
        lines.append("}")
        if not hook.own:
            lines.append(f"insert rule {hook.family} {hook.table} {hook.chain} {jump}")
    return text_lines.bytes_of("\n".join(lines) + "\n")


def _nft_ports(ports: tuple[int, ...]) -> str:
    return str(ports[0]) if len(ports) == 1 else f"{{ {', '.join(map(str, ports))} }}"


def _nft_door(door: GateOpening, hook: Hook, *, said: bool) -> Iterator[str]:
    to = f"tcp dport {_nft_ports(door.ports)} " if said else ""
    for family in ("ip", "ip6"):
        found = door.of(family) if hook.family in (family, "inet") else []
        if found:
            yield f"{to}{family} saddr {{ {', '.join(found)} }} accept"
    if door.closed:
        yield f"{to}ct state new drop"


def saved(raw: bytes, gate: Gate | None, family: str) -> bytes:
    """A text for iptables-restore with the gate as the first thing that its INPUT does."""
    document = iptables_save.parse(raw)
    kept = tuple(line for line in _whole(document.lines) if not is_own(line))
    if gate is None:
        return b"".join(line.raw for line in kept)
    table = next((at for at, line in enumerate(kept) if line.kind is LineKind.TABLE and line.words[0].text == "filter"), None)
    rules, chain = _saved_rules(gate, family), f":{OWN} - [0:0]\n"
    if table is None:
        fresh = [
            "*filter\n",
            ":INPUT ACCEPT [0:0]\n",
            ":FORWARD ACCEPT [0:0]\n",
            ":OUTPUT ACCEPT [0:0]\n",
            chain,
            *rules,
            "COMMIT\n",
        ]
        return b"".join(line.raw for line in kept) + "".join(fresh).encode()
    first = next(at for at in range(table + 1, len(kept) + 1) if at == len(kept) or _begins_rules(kept[at]))
    head, tail = kept[:first], kept[first:]
    return b"".join(
        [*(line.raw for line in head), chain.encode(), *(rule.encode() for rule in rules), *(line.raw for line in tail)]
    )


def _whole(lines: tuple[Line, ...]) -> Iterator[Line]:
    """The lines, the last one with its line end."""
    for line in lines:
        yield line if line.raw.endswith(b"\n") else Line(line.number, line.kind, line.raw + b"\n", line.said)


def _begins_rules(line: Line) -> bool:
    return line.kind in (LineKind.RULE, LineKind.COMMIT, LineKind.FAULT)


def is_own(line: Line) -> bool:
    """Whether a line is the gate's: its chain, a rule in it, or the jump to it."""
    words = [word.text for word in line.words]
    if line.kind is LineKind.CHAIN:
        return words[0] == OWN
    return line.kind is LineKind.RULE and (words[1:2] == [OWN] or words[-2:] == ["-j", OWN])


def _saved_rules(gate: Gate, family: str) -> list[str]:
    rules = [f"-A INPUT ! -i lo {_to(gate.ports)} -j {OWN}\n"]
    for door in gate.doors:
        to = f" {_to(door.ports)}" if gate.many else ""
        rules += [f"-A {OWN}{to} -s {prefix} -j ACCEPT\n" for prefix in door.of(family)]
        rules += [f"-A {OWN}{to} -m conntrack --ctstate NEW -j DROP\n"] if door.closed else []
    return rules


def _to(ports: tuple[int, ...]) -> str:
    """The match of iptables for packets to these ports."""
    listed = ",".join(map(str, ports))
    return f"-p tcp --dport {listed}" if len(ports) == 1 else f"-p tcp -m multiport --dports {listed}"


def ufw(raw: bytes, gate: Gate | None, family: str) -> bytes | None:
    """ufw's file of user rules with those of the gate first, as its own `prepend` would write them; None where the file is not as
    ufw writes it."""
    lines = text_lines.split(raw)
    texts = [text_lines.text_of(line).strip() for line in lines]
    edits: list[LineEdit] = []
    for number, text in enumerate(texts, 1):
        if text.startswith("### tuple ###") and f"comment={COMMENT}" in text.split():
            behind = number + 1
            while behind <= len(texts) and texts[behind - 1].startswith("-A "):
                behind += 1
            blank = behind <= len(texts) and not texts[behind - 1]
            edits += [LineEdit(at, ()) for at in range(number, behind + blank)]
    if gate is not None:
        place = next((number for number, text in enumerate(texts, 1) if text == "### RULES ###"), 0)
        if not place:
            return None
        rules = tuple(rule for door in gate.doors for rule in _ufw_rules(door, family))
        edits.append(LineEdit(place + 1, rules, insert=True))
    return text_lines.apply(raw, edits)


def _ufw_rules(door: GateOpening, family: str) -> Iterator[str]:
    six, everywhere = ("6", "::/0") if family == "ip6" else ("", "0.0.0.0/0")
    for prefix in door.of(family):
        yield ""
        yield f"### tuple ### allow tcp {door.listed} {everywhere} any {prefix} in comment={COMMENT}"
        yield f"-A ufw{six}-user-input {_to(door.ports)} -s {prefix} -j ACCEPT"
    if door.closed:
        yield ""
        yield f"### tuple ### deny tcp {door.listed} {everywhere} any {everywhere} in comment={COMMENT}"
        yield f"-A ufw{six}-user-input {_to(door.ports)} -j DROP"


_RULE = re.compile(rb"[ \t]*<rule\b[^>]*\bpriority=([\"'])-41(?:41|40)\1[^>]*>.*?</rule>[ \t]*\n?", re.DOTALL)
MOST_ZONE = 64 * 1024  # of a longer one nothing is taken away, for the search may take the square of its length


def zone(raw: bytes, gate: Gate | None) -> bytes | None:
    """A zone of firewalld with the rich rules of the gate; None where the file does not end as a zone does."""
    kept = _RULE.sub(b"", raw) if len(raw) <= MOST_ZONE else raw
    end = kept.rfind(b"</zone>")
    if end < 0:
        return None
    if gate is None:
        return kept
    lines = "".join(f"  {line}\n" for line in _rich(gate)).encode()
    begin = kept.rfind(b"\n", 0, end) + 1
    return kept[:begin] + lines + kept[begin:] if not kept[begin:end].strip() else kept[:end] + b"\n" + lines + kept[end:]


def _rich(gate: Gate) -> Iterator[str]:
    for port, door in ((each, by) for by in gate.doors for each in by.ports):
        element = f'<port port="{port}" protocol="tcp"/>'
        for family, name in (("ip", "ipv4"), ("ip6", "ipv6")):
            for prefix in door.of(family):
                source = f'<source address="{prefix}"/>'
                yield f'<rule family="{name}" priority="{ACCEPTING}">{source}{element}<accept/></rule>'
        if door.closed:
            yield f'<rule priority="{REFUSING}">{element}<drop/></rule>'


_JUMP = re.compile(rb"tcp (?:-m multiport )?-{0,2}dports? (\{[^}]*\}|[0-9,]+) (?:-j|jump) " + OWN.encode() + rb"\b")
_DROP = re.compile(rb"(?:dports? (\{[^}]*\}|[0-9,]+) )?(?:ct state new drop|-m conntrack --ctstate NEW -j DROP)")
_TUPLE = re.compile(rb"tuple ### (allow|deny) tcp ([0-9,]+) .* comment=" + COMMENT.encode())
_RICH_PORT = re.compile(rb'port port="([0-9]+)"')


def written(raw: bytes) -> dict[int, bool]:
    """The ports of the gate in a file of any of the managers, and whether all others are dropped there."""
    out: dict[int, bool] = {}
    for line in raw.split(b"\n"):
        jump, tuple_ = _JUMP.search(line), _TUPLE.search(line)
        if jump is not None:
            out.update((port, out.get(port, False)) for port in _numbers(jump[1]))
        elif tuple_ is not None:
            for port in _numbers(tuple_[2]):
                out[port] = out.get(port, False) or tuple_[1] == b"deny"
    for rule in _RULE.finditer(raw) if len(raw) <= MOST_ZONE else ():
        for port in map(int, _RICH_PORT.findall(rule[0])):
            out[port] = out.get(port, False) or f'priority="{REFUSING}"'.encode() in rule[0]
    for line in raw.split(b"\n") if out else ():
        drop = _DROP.search(line) if line.startswith((b"\t\t", f"-A {OWN} ".encode())) else None
        if drop is not None:
            out.update(dict.fromkeys(_numbers(drop[1]) if drop[1] else list(out), True))
    return out


def _numbers(text: bytes) -> list[int]:
    return [int(each) for each in re.findall(rb"[0-9]{1,5}", text)]
