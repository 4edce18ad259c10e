"""Filters outside of guests, drafted from grants, changed at a service, read back and taken back, as users drive it."""

from __future__ import annotations

import json
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from click.testing import CliRunner, Result

from nightlatch.cli.main import cli
from nightlatch.demo.table_service import Tables, server
from nightlatch.estate import perimeters
from nightlatch.estate.load import load
from nightlatch.faults import EstateError
from tests.guests import Guest, pub

HEAD = """\
nightlatch: 1
estate: Skerry Point
places: {bench: [192.168.40.0/24, "2001:db8:40::/64"], field: [203.0.113.0/24]}
people: {mara: {keys: [mara.pub]}}
networks:
  isle:
    subnet: 192.168.56.0/24
    perimeter: {read: isle.json, taken: 2026-11-20, columns: {source: src, port: dport, action: verdict, protocol: proto, priority: rank, target: dst}%s}   # outer
  hidden: {subnet: 10.0.2.0/24, private: true,
    forwards: [{at: 192.168.56.1, port: 2222, to: {guest: chartbox, port: 22}, guest_sees: 10.0.2.2}],
    perimeter: {read: hidden.json, taken: 2026-11-20, columns: {source: from, port: to, action: does}}}
guests:
  gauge: {network: isle, via: {folder: gauge}, addresses: {eth0: [192.168.56.21/24]}}
  chartbox: {network: hidden, via: {folder: chartbox}}
grants:
  - {let: mara, into: all guests, by: ssh, from: [bench, field], with: key}
"""
ISLE = [
    {"rank": 10, "src": "any", "dport": 22, "proto": "tcp", "verdict": "Allow", "dst": "", "note": "since 2019"},
    {"rank": 20, "src": "any", "dport": "443", "proto": "tcp", "verdict": "Allow", "dst": "", "note": ""},
]
HIDDEN = [
    {"from": ["192.168.40.0/25"], "to": "2222", "does": "permit"},
    {"from": ["0.0.0.0/0"], "to": "2222", "does": "deny"},
]


class Station:
    """An estate in a folder, with a service for one of its tables."""

    def __init__(self, folder: Path, port: int, tables: Tables) -> None:
        self.folder, self.tables = folder, tables
        (folder / "mara.pub").write_text(pub("mara-desk") + "\n")
        (folder / "isle.json").write_text(json.dumps(ISLE))
        (folder / "hidden.json").write_text(json.dumps(HIDDEN))
        (folder / "estate.yaml").write_text(HEAD % f', service: "http://127.0.0.1:{port}/tables/isle"')
        for name in ("gauge", "chartbox"):
            Guest(
                "PasswordAuthentication no\nKbdInteractiveAuthentication no\n",
                keys={"mara": pub("mara-desk") + "\n"},
                name=name,
            ).write(folder / name)

    def run(self, *words: str, code: int = 0) -> str:
        done: Result = CliRunner().invoke(cli, ["perimeter", str(self.folder / "estate.yaml"), "--as-of", "2026-11-25", *words])
        assert done.exit_code == code, done.output + str(done.exception)
        return " ".join(done.output.split())

    def isle(self) -> list[dict[str, Any]]:
        found = json.loads((self.folder / "isle.json").read_text())
        assert isinstance(found, list)
        return found


@pytest.fixture
def station(tmp_path: Path) -> Iterator[Station]:
    tables = Tables(tmp_path / "state", {"isle": list(ISLE)})
    with server(tables) as running:
        thread = threading.Thread(target=running.serve_forever, daemon=True)
        thread.start()
        yield Station(tmp_path, running.server_address[1], tables)
        running.shutdown()
        thread.join(5)


def test_outer_changes_are_drafted_enacted_read_back_and_undone(station: Station) -> None:
    before = (station.folder / "estate.yaml").read_text()
    told = station.run()
    assert "change row 1: src 192.168.40.0/24, 203.0.113.0/24, 2001:db8:40::/64, was any" in told
    assert 'add from ["192.168.40.128/25", "203.0.113.0/24"], to 2222, does permit' in told
    assert "2 tables, 2 rows to change. Next: nightlatch perimeter" in told
    assert "put and read back, version 2, 2 rows" in station.run("--network", "isle", "--enact")
    rows = station.isle()
    assert rows == station.tables.get("isle")["rows"]  # type: ignore[index]
    assert rows == [{**ISLE[0], "src": "192.168.40.0/24, 203.0.113.0/24, 2001:db8:40::/64"}, ISLE[1]]
    after = (station.folder / "estate.yaml").read_text()
    assert after == before.replace("isle.json, taken: 2026-11-20", "isle.json, taken: 2026-11-25")
    assert "as the grants want it" in station.run("--network", "isle")
    assert "nothing to change" in station.run("--network", "isle", "--enact")
    assert "put back, version 3, 2 rows" in station.run("--undo")
    assert station.isle() == ISLE
    station.run("--undo", code=4)


def test_what_somebody_else_changed_is_not_overwritten(station: Station) -> None:
    other = [
        *ISLE,
        {
            "rank": 30,
            "src": "198.51.100.0/24",
            "dport": "22",
            "proto": "tcp",
            "verdict": "Allow",
            "dst": "",
            "note": "",
        },
    ]
    station.tables.put("isle", {"version": 1, "rows": other, "by": "harbour"})
    assert "has other rows than" in station.run("--network", "isle", "--enact", code=4)
    assert station.tables.get("isle")["rows"] == other  # type: ignore[index]
    assert "taken, version 2, 3 rows" in station.run("--take")
    assert station.isle() == other
    assert "take away" in station.run("--network", "isle")


def test_a_service_that_gives_back_something_else(station: Station, monkeypatch: pytest.MonkeyPatch) -> None:
    keep = station.tables.put

    def lossy(name: str, made: dict[str, Any]) -> dict[str, Any] | None:
        return keep(name, {**made, "rows": made["rows"][1:]} if made["by"] == "nightlatch" else made)

    monkeypatch.setattr(station.tables, "put", lossy)
    assert "what was before is there again" in station.run("--network", "isle", "--enact", code=5)
    assert station.tables.get("isle")["rows"] == ISLE  # type: ignore[index]
    assert station.isle() == ISLE


def test_without_a_service_the_rows_are_told(station: Station) -> None:
    told = station.run("--network", "hidden")
    assert "Next: have them written by the people who keep that filter." in told
    assert "names no service" in station.run("--network", "hidden", "--enact", code=4)
    found = json.loads(CliRunner().invoke(cli, ["perimeter", str(station.folder / "estate.yaml"), "--format", "json"]).output)
    assert found["format"] == "nightlatch/perimeter/1"
    (table,) = [each for each in found["tables"] if each["network"] == "hidden"]
    assert table["rows"][0] == {
        "from": ["192.168.40.128/25", "203.0.113.0/24"],
        "to": "2222",
        "does": "permit",
    }


def test_a_service_that_is_not_there_and_one_that_is_none(station: Station) -> None:
    path = station.folder / "estate.yaml"
    text = path.read_text()
    path.write_text(text.replace("/tables/isle", "/tables/other"))
    assert "answered 404" in station.run("--network", "isle", "--enact", code=3)
    path.write_text(text.replace(f":{text.split('127.0.0.1:')[1].split('/')[0]}/", ":19/"))
    assert "no service answers there (Connection refused); start it" in station.run("--network", "isle", "--enact", code=3)
    for wrong in ("https://192.0.2.1/tables/isle", "http://192.0.2.1:80/tables/isle", "http://127.0.0.1:80/isle"):
        path.write_text(text.replace(text.split('service: "')[1].split('"')[0], wrong))
        with pytest.raises(EstateError, match="no table of a service"):
            load(path)
    path.write_text(text)
    assert "there is no network shoal" in station.run("--network", "shoal", "--take", code=2)


def test_no_row_is_narrowed_while_a_guest_behind_it_is_not_read(station: Station) -> None:
    path = station.folder / "estate.yaml"
    path.write_text(path.read_text().replace("guests:\n", "guests:\n  gone: {network: isle, via: {folder: gone}}\n"))
    told = station.run("--network", "isle", code=3)
    assert "gone could not be read, so no row is narrowed here." in told
    assert "0 rows to change" in told


def test_a_table_in_csv_is_told_by_its_lines_and_had_as_it_should_be(station: Station) -> None:
    path = station.folder / "estate.yaml"
    table = station.folder / "hidden.csv"
    table.write_bytes(b'from,to,does,"what, for"\r\n\r\n192.168.40.0/25,2222,permit,desks\r\n203.0.112.0/23,2222,permit,\r\n')
    path.write_text(path.read_text().replace("read: hidden.json", "read: hidden.csv"))
    told = station.run()
    assert "change line 4: from 203.0.113.0/24, was 203.0.112.0/23" in told
    assert "change row 1" in told
    assert "there are 2 tables here; --network NAME picks one" in station.run("--format", "csv", code=2)
    assert "is a table in JSON" in station.run("--network", "isle", "--format", "csv", code=4)
    command = ["perimeter", str(path), "--network", "hidden", "--format", "csv"]
    made = CliRunner().invoke(cli, command).stdout_bytes
    assert made.startswith(
        b'from,to,does,"what, for"\r\n192.168.40.128/25,2222,permit,\r\n192.168.40.0/25,2222,permit,desks\r\n203.0.113.0/24,'
    )
    assert perimeters.as_csv((), "from,to\r\n1,2\r\n") == "from,to\r\n", "an empty table keeps its heading"
    table.write_bytes(made)
    assert "as the grants want it" in station.run("--network", "hidden")


def test_forwards_of_both_families_to_one_guest_leave_each_its_rows(station: Station) -> None:
    """Each forward is reached by the callers of its own family, however many stand before it."""
    path = station.folder / "estate.yaml"
    one = "{at: 192.168.56.1, port: 2222, to: {guest: chartbox, port: 22}, guest_sees: 10.0.2.2}"
    more = [
        one.replace("192.168.56.1,", f'"{at}",').replace("2222", port)
        for at, port in (("2001:db8:56::1", "2223"), ("192.168.56.2", "2224"))
    ]
    path.write_text(path.read_text().replace(one, ", ".join([one, *more])))
    four, six = ["192.168.40.0/24", "203.0.113.0/24"], ["2001:db8:40::/64"]
    rows = [
        {"from": four, "to": "2222", "does": "permit"},
        {"from": six, "to": "2223", "does": "permit"},
        {"from": four, "to": "2224", "does": "permit"},
    ]
    deny = [{"from": ["0.0.0.0/0", "::/0"], "to": "1-65535", "does": "deny"}]
    (station.folder / "hidden.json").write_text(json.dumps([*rows, *deny]))
    assert "as the grants want it" in station.run("--network", "hidden")
    (station.folder / "hidden.json").write_text(json.dumps([*rows[:1], *rows[2:], *deny]))
    told = station.run("--network", "hidden")
    assert 'add from ["2001:db8:40::/64"], to 2223, does permit' in told
    assert "1 table, 1 row to change" in told
