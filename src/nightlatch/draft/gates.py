"""A gate: who may open connections to the ports of SSH, written as rules of each packet filter (nft(8), iptables-restore(8),
ufw(8), firewalld.richlanguage(5)).

Its rules stand in objects of their own: a chain or table named nightlatch, rules of ufw with that comment, rich rules with a
priority of their own. Only packets to these ports are matched, and of those nobody is let in with, only first ones are dropped:
sessions, neighbour messages and all else go on as before. Whom it lets in it lets in with every packet, for what stands behind it
may drop the later ones (measured: nft 1.0.6, a drop by source before the line for established connections).
A gate that is written anew replaces the one that was there; without one, only the old one is taken away.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from nightlatch.formats import iptables_save, own_rules
from nightlatch.formats import lines as text_lines
from nightlatch.formats.iptables_save import Is, Line
from nightlatch.formats.lines import LineEdit
from nightlatch.net.addresses import ALL_V4, ALL_V6, EVERY_ADDRESS, AddressSet

OWN, COMMENT = own_rules.OWN, own_rules.COMMENT
ACCEPTING, REFUSING = own_rules.ACCEPTING, own_rules.REFUSING
HEAD = "# who may call SSH, as the estate file says; written by nightlatch draft"


@dataclass(frozen=True, slots=True)
class Gate:
    """Callers from `sources` are let in to `ports`; all others are dropped where it is `closed`, else left to rules behind."""

    ports: tuple[int, ...]
    sources: AddressSet
    closed: bool

    def of(self, family: str) -> list[str]:
        """The prefixes of one family, `ip` or `ip6`."""
        return (self.sources & (ALL_V4 if family == "ip" else ALL_V6)).prefixes()


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
    ports = str(gate.ports[0]) if len(gate.ports) == 1 else f"{{ {', '.join(map(str, gate.ports))} }}"
    lines = [HEAD]
    for hook in hooks:
        jump = f'iif != "lo" tcp dport {ports} jump {OWN}'
        lines += [f"table {hook.family} {hook.table} {{", f"\tchain {OWN} {{"]
        for family in ("ip", "ip6"):
            found = gate.of(family) if hook.family in (family, "inet") else []
            if found:
                lines.append(f"\t\t{family} saddr {{ {', '.join(found)} }} accept")
        lines += ["\t\tct state new drop"] if gate.closed else []
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


def saved(raw: bytes, gate: Gate | None, family: str) -> bytes:
    """A text for iptables-restore with the gate as the first thing that its INPUT does."""
    document = iptables_save.parse(raw)
    kept = tuple(line for line in _whole(document.lines) if not is_own(line))
    if gate is None:
        return b"".join(line.raw for line in kept)
    table = next((at for at, line in enumerate(kept) if line.kind is Is.TABLE and line.words[0].text == "filter"), None)
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
        yield line if line.raw.endswith(b"\n") else Line(line.number, line.kind, line.raw + b"\n", line.words)


def _begins_rules(line: Line) -> bool:
    return line.kind in (Is.RULE, Is.COMMIT, Is.FAULT)


def is_own(line: Line) -> bool:
    """Whether a line is the gate's: its chain, a rule in it, or the jump to it."""
    words = [word.text for word in line.words]
    if line.kind is Is.CHAIN:
        return words[0] == OWN
    return line.kind is Is.RULE and (words[1:2] == [OWN] or words[-2:] == ["-j", OWN])


def _saved_rules(gate: Gate, family: str) -> list[str]:
    listed = ",".join(map(str, gate.ports))
    ports = f"--dport {listed}" if len(gate.ports) == 1 else f"-m multiport --dports {listed}"
    rules = [f"-A INPUT ! -i lo -p tcp {ports} -j {OWN}\n"]
    rules += [f"-A {OWN} -s {prefix} -j ACCEPT\n" for prefix in gate.of(family)]
    return [*rules, f"-A {OWN} -m conntrack --ctstate NEW -j DROP\n"] if gate.closed else rules


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
        edits.append(LineEdit(place + 1, tuple(_ufw_rules(gate, family)), insert=True))
    return text_lines.apply(raw, edits)


def _ufw_rules(gate: Gate, family: str) -> Iterator[str]:
    six, everywhere = ("6", "::/0") if family == "ip6" else ("", "0.0.0.0/0")
    listed = ",".join(map(str, gate.ports))
    ports = f"-p tcp --dport {listed}" if len(gate.ports) == 1 else f"-p tcp -m multiport --dports {listed}"
    for prefix in gate.of(family):
        yield ""
        yield f"### tuple ### allow tcp {listed} {everywhere} any {prefix} in comment={COMMENT}"
        yield f"-A ufw{six}-user-input {ports} -s {prefix} -j ACCEPT"
    if gate.closed:
        yield ""
        yield f"### tuple ### deny tcp {listed} {everywhere} any {everywhere} in comment={COMMENT}"
        yield f"-A ufw{six}-user-input {ports} -j DROP"


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
    return (
        kept[:begin] + lines + kept[begin:] if not kept[begin:end].strip() else kept[:end] + b"\n" + lines + kept[end:]
    )


def _rich(gate: Gate) -> Iterator[str]:
    for port in gate.ports:
        element = f'<port port="{port}" protocol="tcp"/>'
        for family, name in (("ip", "ipv4"), ("ip6", "ipv6")):
            for prefix in gate.of(family):
                source = f'<source address="{prefix}"/>'
                yield f'<rule family="{name}" priority="{ACCEPTING}">{source}{element}<accept/></rule>'
        if gate.closed:
            yield f'<rule priority="{REFUSING}">{element}<drop/></rule>'


def is_narrow(gate: Gate) -> bool:
    """Whether it names whom it lets in: one for everybody, or for nobody, is not written."""
    return bool(gate.sources) and gate.sources != EVERY_ADDRESS
