"""Who gets through to which port: the pieces with their rules, the command in all its forms, and the picture."""

from __future__ import annotations

import csv
import io
import json
import re
from dataclasses import replace
from pathlib import Path

import pytest
from click.testing import CliRunner

from nightlatch.access.arrivals import Arrival
from nightlatch.access.exposure import BY_ANOTHER, ExposedSocket, Fate, exposure
from nightlatch.cli.main import cli
from nightlatch.demo.build import build
from nightlatch.evidence.snapshot import from_files
from nightlatch.model.rules import RuleAction
from nightlatch.net.addresses import ALL_V4, ALL_V6, LOOPBACK, union
from nightlatch.net.ports import PortSet
from nightlatch.origin import Origin
from nightlatch.readings import guest as readings
from nightlatch.readings.filters.rules import Chain, Match, Rule, Rules
from tests.guests import Guest, listening

RULES = """table inet f {
    chain i {
        type filter hook input priority 0; policy drop;
        ip saddr 192.0.2.0/24 reject
        ip saddr 198.51.100.0/24 tcp dport { 22, 8022 } accept
        meta mark 7 tcp dport 22 accept
        udp dport 3389 accept
    }
}
table ip n {
    chain p {
        type nat hook prerouting priority dstnat;
        ip saddr 203.0.113.0/24 tcp dport 22 redirect to :8022
    }
}
"""
SOCKETS = listening(
    ("tcp", "0.0.0.0", 22, "sshd", 7),
    ("tcp", "[::]", 22, "sshd", 7),
    ("tcp", "192.0.2.9", 8022, "proxy", 9),
    ("tcp", "127.0.0.1", 5432, "postgres", 8),
    ("udp", "*", 3389, "xrdp", 6),
)
ONE = listening(("tcp", "0.0.0.0", 22, "sshd", 7))


def of_listings(rules: str, sockets: dict[str, bytes] = SOCKETS) -> tuple[ExposedSocket, ...]:
    snapshot = replace(
        from_files("gauge", Guest().contents()),
        listings=sockets | {"rules": rules.encode(), "links": b"", "addresses": b""},
        facts={"init": "systemd", "uid": "0"},
    )
    return exposure(readings.read(snapshot))


def test_every_address_has_one_fate_with_its_rule() -> None:
    found = {(each.protocol, each.port): each for each in of_listings(RULES)}
    assert set(found) == {("tcp", 22), ("tcp", 8022), ("udp", 3389)}  # what only the guest itself reaches is left out
    ssh = found["tcp", 22]
    assert [(piece.fate, piece.text) for piece in ssh.pieces if piece.family == "IPv4"] == [
        (Fate.IN, "ip saddr 198.51.100.0/24 tcp dport { 22, 8022 } accept"),
        (Fate.UNDECIDED, "whether this rule matches is not known: meta mark 7 tcp dport 22 accept"),
        (Fate.ELSEWHERE, "ip saddr 203.0.113.0/24 tcp dport 22 redirect to :8022"),
        (Fate.REFUSED, "ip saddr 192.0.2.0/24 reject"),
    ]
    for each in found.values():
        pieces = [piece.sources for piece in each.pieces]
        whole = (ALL_V4 if each.port == 8022 else ALL_V4 | ALL_V6) - LOOPBACK
        assert union(pieces) == whole
        assert sum(len(p.v4) for p in pieces) >= len(whole.v4)
        for number, one in enumerate(pieces):
            assert not one & union(pieces[:number] + pieces[number + 1 :])
    assert found["udp", 3389].sources(Fate.IN) | found["udp", 3389].sources(Fate.REFUSED) == (ALL_V4 | ALL_V6) - LOOPBACK
    assert "203.0.113.7" not in found["tcp", 8022].sources(Fate.IN)  # sent there, and dropped behind


def test_who_dials_another_port_passes_what_stands_outside_by_that_one() -> None:
    """The perimeter sees the port that is dialled, the filter behind it the one that the packet is sent to."""
    inner = """table inet f {
    chain p { type nat hook prerouting priority dstnat; tcp dport 8022 redirect to :22
    }
    chain i { type filter hook input priority 0; policy drop; tcp dport 22 ct status dnat accept
    }
}
"""
    outer = Rules(
        {
            "o": Chain(
                "o",
                (Rule((Match(ports=PortSet.of([(8022, 8022)])),), RuleAction.ACCEPT, Origin("o")),),
                Origin("o"),
                "prerouting",
                accepts=False,
            )
        }
    )
    listings = ONE | {"rules": inner.encode(), "links": b"", "addresses": b""}
    snapshot = replace(
        from_files("gauge", Guest().contents()),
        listings=listings,
        facts={"uid": "0"},
    )
    reading = readings.read(snapshot)
    (ssh,) = exposure(reading, ways=(Arrival(around=(outer,)),))
    assert [(piece.fate, piece.text) for piece in ssh.pieces] == [(Fate.IN, BY_ANOTHER)]
    shut = Rules({"o": Chain("o", (), Origin("o"), "prerouting", accepts=False)})
    (ssh,) = exposure(reading, ways=(Arrival(around=(shut,)),))
    assert {piece.fate for piece in ssh.pieces} == {Fate.DROPPED}


def test_without_a_filter_everybody_gets_through() -> None:
    (ssh,) = of_listings("", ONE)
    assert [(p.family, p.fate, p.text) for p in ssh.pieces] == [("IPv4", Fate.IN, "no filter")]


@pytest.fixture
def station(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    made = build(tmp_path / "skerry")
    monkeypatch.chdir(made.parent)
    return made.parent


def run(*words: str) -> tuple[int, str]:
    result = CliRunner().invoke(cli, ["exposure", *words])
    return result.exit_code, result.output


def test_the_command_tells_guest_by_guest(station: Path) -> None:
    code, told = run()
    assert code == 0
    assert re.search(r"gauge\n  22/tcp  sshd on all addresses\n    bench \(IPv4\) and 192.168.56.109\s+let in", told)
    assert re.search(r"bench \(IPv6\)\s+let in\s+/etc/nftables.conf:15:9   tcp dport 22 ip6 saddr 2001:db8:40::/64 accept", told)
    assert re.search(r"anywhere else\s+dropped\s+/etc/nftables.conf:9:5   policy drop", told)
    assert "4 ports, 2 open to everybody, nothing undecided.   Next: nightlatch audit" in told
    code, told = run("images/gate", "--port", "23")
    assert (code, "Nothing of gate is known to listen for" in told) == (0, True)


OUTWARD = """    chain output {
        type filter hook output priority filter; policy drop;
        tcp sport 22 ip daddr 192.168.40.0/25 ct state established accept
    }
}
"""


def test_whose_answers_are_lost_is_not_let_in_and_told_so(station: Path) -> None:
    file = station / "images/gauge/etc/nftables.conf"
    file.write_text(file.read_text().rstrip().removesuffix("}") + OUTWARD)
    code, told = run("--on", "gauge")
    assert (code, bool(re.search(r"\n    192\.168\.40\.0/25 +let in", told))) == (0, True)
    assert re.search(r"anywhere else +dropped *\n        /etc/nftables.conf:17:5   policy drop, for answers", told)
    assert max(map(len, told.splitlines())) <= 80
    result = CliRunner().invoke(cli, ["draft", "--on", "gauge"])
    assert "the packet filter drops what the guest answers from port 22" in " ".join(result.output.split())


def test_the_same_as_json_csv_and_picture(station: Path) -> None:
    document = json.loads(run("--on", "plotter", "--format", "json")[1])
    assert document["format"] == "nightlatch/exposure/1"
    pieces = document["sockets"][0]["pieces"]
    assert {piece["fate"] for piece in pieces} == {"let in", "dropped"}
    assert {"kind": "file", "path": "/etc/ufw/user.rules", "line": 6, "column": 1} in [piece["origin"] for piece in pieces]
    rows = list(csv.DictReader(io.StringIO(run("--format", "csv")[1])))
    assert len([row for row in rows if row["guest"] == "gauge" and row["fate"] == "let in"]) == 2
    assert max(len(row["sources"].split()) for row in rows) < 20, "nobody is spelled out as a hundred prefixes"
    assert any(row["sources"].startswith("all of IPv4 but ") for row in rows)
    code, told = run("--picture", "exposure.png")
    assert (code, "drawn: exposure.png" in told) == (0, True)
    assert (station / "exposure.png").read_bytes().startswith(b"\x89PNG")
    code, told = run("--picture", "gone/exposure.png")
    assert (code, "there is no folder gone" in told, "gauge" in told) == (
        2,
        True,
        False,
    )  # told before anything is read
    code, told = run("--picture", "exposure.txt")
    assert (code, "expected a name that ends with .png, .svg, .pdf" in told) == (2, True)


def test_a_guest_that_is_not_there_is_told_beside_the_others(station: Path) -> None:
    (station / "estate.yaml").write_text((station / "estate.yaml").read_text().replace("images/gate", "images/gone"))
    code, told = run()
    assert code == 3
    assert "images/gone: there is no such folder" in told
    assert "plotter" in told
