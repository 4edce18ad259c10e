"""Filters outside of guests: tables in every spelling, claims, labels, several in series, and what an audit says of them."""

from __future__ import annotations

from pathlib import Path

import pytest

from nightlatch.access.exposure import Fate
from nightlatch.access.grants import address_spaces
from nightlatch.access.verdicts import Flow, passed
from nightlatch.audit.run import guest_audit
from nightlatch.estate.load import load
from nightlatch.estate.model import Estate
from nightlatch.faults import EstateError
from nightlatch.net.literal import parse_network
from nightlatch.ops.exposure import exposure
from tests.guests import AT, Guest, pub

SPOKEN = {"perimeter.claimed", "perimeter.old", "perimeter.unused-label"}
HEAD = """\
nightlatch: 1
estate: Skerry Point
places: {bench: [192.168.40.0/24], field: [203.0.113.0/24]}
people: {mara: {keys: [mara.pub]}}
networks:
  isle:
    subnet: 192.168.56.0/24
    perimeter: %s
guests:
  gauge: {network: isle, labels: [loggers], via: {folder: gauge}}
  gate: {network: isle, via: {folder: gate}}
  mole: {via: {folder: mole}}
grants:
  - {let: mara, into: all guests, by: ssh, from: [bench, field], with: key}
"""
COLUMNS = "columns: {source: src, port: dport, action: verdict, protocol: proto, priority: prio, direction: way, label: tag, target: dst}"
TABLE = """\
prio,way,src,dport,proto,verdict,tag,dst
20,in,0.0.0.0/0,any,tcp,deny,,
10,in,"192.168.40.0/25, 203.0.113.7",22,TCP,Allow,,
10,out,any,any,any,allow,,
11,ingress,198.51.100.1-198.51.100.9,20-30,6,permit,loggers,192.168.56.21
12,in,198.18.0.0/15,22,udp,allow,,
13,in,10.0.0.0/8,22,icmp,allow,,
30,in,0.0.0.0/0,22,tcp,allow,,
"""


def made(folder: Path, perimeter: str, table: str = TABLE, name: str = "outer.csv") -> Estate:
    (folder / "mara.pub").write_text(pub("mara-desk") + "\n")
    (folder / name).write_text(table)
    (folder / "estate.yaml").write_text(HEAD % perimeter)
    return load(folder / "estate.yaml")


READ = f"{{read: outer.csv, taken: 2026-11-20, {COLUMNS}}}"


def let_in(
    estate: Estate, guest: str, source: str, protocol: str = "tcp", dialled: str = "192.168.56.21", port: int = 22
) -> bool:
    target = parse_network(dialled)
    return all(
        parse_network(source) <= passed(rules, Flow(protocol, port, target)).surely
        for rules in address_spaces(estate).ways(guest)[0].around
    )


def test_a_table_counts_by_priority_direction_label_and_target(tmp_path: Path) -> None:
    estate = made(tmp_path, READ)
    assert let_in(estate, "gate", "192.168.40.7")
    assert not let_in(estate, "gate", "192.168.40.200")
    assert let_in(estate, "gate", "203.0.113.7")
    assert let_in(estate, "gauge", "198.51.100.4", port=30)
    assert not let_in(estate, "gauge", "198.51.100.4", port=31)
    assert not let_in(estate, "gate", "198.51.100.4")  # it lacks the label
    assert not let_in(estate, "gauge", "198.51.100.4", dialled="192.168.56.22")
    assert let_in(estate, "gate", "198.18.0.1", "udp")
    assert not let_in(estate, "gate", "10.0.0.1")
    assert not let_in(estate, "gate", "2001:db8::1")
    towards = made(tmp_path, READ, "prio,way,src,dport,proto,verdict,tag,dst\n1,in,any,22,tcp,allow,,192.168.56.22\n")
    assert let_in(towards, "gate", "10.0.0.1", dialled="192.168.56.22")
    assert not let_in(towards, "gate", "2001:db8::1", dialled="192.168.56.22")
    assert let_in(estate, "gate", "192.168.56.99")  # on the same network
    assert let_in(estate, "mole", "10.0.0.1")  # behind none


def test_json_claims_and_several_in_series(tmp_path: Path) -> None:
    rows = '[{"from": ["192.168.40.0/24"], "to": 22, "does": "pass"}, {"from": null, "to": "any", "does": "block"}]'
    read = "{read: outer.json, taken: 2026-11-20, columns: {source: from, port: to, action: does}}"
    claimed = "{claimed: [{from: [bench, 203.0.113.0/25], port: [22, 8000-8080]}]}"
    estate = made(tmp_path, f"[{claimed}, {read}]", rows, "outer.json")
    assert let_in(estate, "gate", "192.168.40.7")
    assert not let_in(estate, "gate", "203.0.113.7")
    alone = made(tmp_path, claimed)
    assert let_in(alone, "gate", "203.0.113.7", port=8080)
    assert not let_in(alone, "gate", "203.0.113.200")
    assert not let_in(alone, "gate", "192.168.40.7", "udp")


FAULTS = [
    (READ, TABLE.replace("dport", "port"), "outer.csv:1:1", 'the heading has no "dport"'),
    (READ, TABLE.replace("0.0.0.0/0,any", "0.0.0.0/33,any"), "outer.csv:2:7", "is no prefix length"),
    (READ, TABLE.replace("Allow", "maybe"), "outer.csv:3:", '"maybe" is no verdict'),
    (READ, TABLE.replace("20-30", "30-20"), "outer.csv:5:", '"30-20" is no port'),
    (READ, TABLE.replace("10,out", "10,sideways"), "outer.csv:4:", '"sideways" is no direction'),
    (READ, TABLE.replace("30,in", "soon,in"), "outer.csv:8:", '"soon" is no priority'),
    (READ, TABLE + "1,2\n", "outer.csv:9:1", "2 fields where the heading has 8"),
    (READ.replace("source: src, ", ""), TABLE, "estate.yaml:8", "columns lacks source"),
    (READ.replace("taken: 2026-11-20, ", ""), TABLE, "estate.yaml:8", "lacks taken"),
    (
        "{read: gone.csv, taken: 2026-11-20, columns: {source: a, port: b, action: c}}",
        TABLE,
        "estate.yaml:8",
        "gone.csv can't be read",
    ),
    ("{claimed: [{from: benhc, port: 22}]}", TABLE, "estate.yaml:8", '"benhc" is no address'),
    ("{claimed: [{from: bench, port: 70000}]}", TABLE, "estate.yaml:8", "is no port"),
    ("{taken: 2026-11-20}", TABLE, "estate.yaml:8", "read from a table, or claimed"),
]


@pytest.mark.parametrize("perimeter, table, place, words", FAULTS, ids=[words for *_, words in FAULTS])
def test_what_is_wrong_is_told_with_its_place(tmp_path: Path, perimeter: str, table: str, place: str, words: str) -> None:
    with pytest.raises(EstateError) as error:
        made(tmp_path, perimeter, table)
    told = str(error.value).split("\n")
    assert any(words in line and place in line for line in told), told


def test_an_audit_counts_it_and_says_how_old_it_is(tmp_path: Path) -> None:
    """A key without from= is no hole behind a perimeter that lets only granted places in; one of them is shut out."""
    estate = made(tmp_path, READ)
    off = Guest("PasswordAuthentication no\nKbdInteractiveAuthentication no\n", {"mara": pub("mara-desk") + "\n"}, name="gate")
    found = {f.check: f for f in guest_audit(off.access(address_spaces(estate)), AT, estate).findings}
    assert "the perimeter of isle (outer.csv, taken 2026-11-20) keeps it out" in found["shut-out"].text
    assert found["shut-out"].proofs[0].origin.path.endswith("outer.csv")
    assert "also gets a shell as mara, from 192.168.56.0/24" in found["hole"].text  # neighbours pass no perimeter
    free = Guest("PasswordAuthentication no\nKbdInteractiveAuthentication no\n", {"mara": pub("mara-desk") + "\n"}, name="mole")
    found = {f.check: f for f in guest_audit(free.access(address_spaces(estate)), AT, estate).findings}
    assert "from anywhere but" in found["hole"].text


def test_exposure_names_the_deciding_row(tmp_path: Path) -> None:
    estate = made(tmp_path, READ)
    for name in ("gauge", "gate", "mole"):
        for path, content in Guest().contents().items():
            target = tmp_path / name / path.lstrip("/")
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_bytes(content)
    (gate,) = exposure(estate, AT, ["gate"]).sockets
    told = {(piece.family, piece.fate): str(piece.origin) for piece in gate.pieces}
    assert told["IPv4", Fate.DROPPED].endswith("outer.csv:2:1")
    assert told["IPv6", Fate.DROPPED].endswith("estate.yaml:8:16")
    assert "192.168.40.7" in gate.sources(Fate.IN)


def hygiene(estate: Estate, name: str = "gate") -> dict[str, str]:
    guest = Guest("PasswordAuthentication no\n", name=name)
    return {
        f.check: f.text
        for f in guest_audit(guest.access(address_spaces(estate)), AT, estate).findings
        if f.check.startswith("perimeter.")
    }


def test_what_a_perimeter_rests_on_is_told(tmp_path: Path) -> None:
    assert hygiene(made(tmp_path, READ)) == {}
    assert hygiene(made(tmp_path, READ), "mole") == {}
    assert hygiene(made(tmp_path, READ.replace("2026-11-20", "2026-08-01")))["perimeter.old"].endswith("is 116 days old.")
    assert "is claimed, and not read" in hygiene(made(tmp_path, "{claimed: [{from: bench, port: 22}]}"))["perimeter.claimed"]
    unused = hygiene(made(tmp_path, READ, TABLE.replace("loggers", "lamps")))["perimeter.unused-label"]
    assert unused == "A row of the perimeter of isle is for the label lamps, which no guest there carries."
