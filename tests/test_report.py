"""What is shown: nothing a guest wrote reaches the screen raw; places and sets have the names people gave them."""

from __future__ import annotations

import io
import os
import subprocess
import sys
import unicodedata
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.console import Console

from nightlatch.audit.names import Names, names_of
from nightlatch.demo.build import build
from nightlatch.estate.load import load as load_estate
from nightlatch.model.sources import COMMON
from nightlatch.net.addresses import ALL_V4, EVERY_ADDRESS, LOOPBACK, AddressSet, union
from nightlatch.net.literal import parse_network
from nightlatch.ops.audit import audit
from nightlatch.report import machine
from nightlatch.report.page import Page
from nightlatch.report.safe import shown
from tests.guests import AT, estate

NASTY = st.text(st.characters() | st.sampled_from("\x1b\x07\x9b\u202e\u2066\u200b\udcff\udc1b[]\n\r\t"), max_size=80)


@given(NASTY)
def test_nothing_invisible_is_shown(text: str) -> None:
    made = shown(text)
    assert all(char.isprintable() for char in made)
    assert not {unicodedata.category(char) for char in made} & {"Cc", "Cf", "Cs"}
    assert shown(made) == made


@pytest.mark.parametrize("size", [10, 60, 90, 190])
def test_no_cell_of_a_table_is_lost(size: int) -> None:
    out = io.StringIO()
    page = Page(Console(file=out, highlight=False, markup=False, emoji=False, width=80, color_system=None))
    where = " ".join(["192.0.2.1,"] * (size // 11 + 1))
    page.table([(where, "let in", "rules:1"), ("here", "dropped", "rules:2")], ["plain", "plain", "place"], indent=4)
    assert " ".join(out.getvalue().split()) == f"{where} let in rules:1 here dropped rules:2"
    assert max(len(line.rstrip()) for line in out.getvalue().splitlines()) <= 80


@given(NASTY, NASTY)
def test_a_page_prints_nothing_raw(text: str, label: str) -> None:
    out = io.StringIO()
    page = Page(Console(file=out, highlight=False, markup=False, emoji=False, width=80, color_system=None))
    page.wrapped(text, indent=2, label=shown(label)[:20], right="high")
    page.evidence([(text, label)], indent=4)
    page.line((text, "name"), label)
    assert all(char.isprintable() or char == "\n" for char in out.getvalue())


def test_plain_text_stays_as_it_is() -> None:
    for text in ("PasswordAuthentication yes", "Skerry Point, Føroyar", "a [red]b[/red]", "日本"):
        assert shown(text) == text
    assert shown("x" * 1000).endswith("...")


def test_an_interactive_terminal_gets_colours_and_a_pipe_none(tmp_path: Path) -> None:
    build(tmp_path / "skerry")
    words = [sys.executable, "-m", "nightlatch.cli", "audit"]
    env = {k: v for k, v in os.environ.items() if k != "NO_COLOR"}
    plain = subprocess.run(words, capture_output=True, cwd=tmp_path / "skerry", env=env, check=False).stdout
    assert b"\x1b" not in plain
    script = f"import pty; pty.spawn({words!r})"
    typed = subprocess.run(
        [sys.executable, "-c", script],
        capture_output=True,
        cwd=tmp_path / "skerry",
        env={**env, "TERM": "xterm"},
        check=False,
    ).stdout
    assert b"\x1b[31m" in typed
    quiet = subprocess.run(
        [sys.executable, "-c", script],
        capture_output=True,
        cwd=tmp_path / "skerry",
        env={**env, "TERM": "xterm", "NO_COLOR": "1"},
        check=False,
    ).stdout
    assert b"\x1b[31m" not in quiet


def named(tmp_path: Path) -> Names:
    return names_of(estate(tmp_path, "", more=""))


BENCH = parse_network("192.168.40.0/24")
SEEN = parse_network("203.0.113.20/31")


@pytest.mark.parametrize(
    "sources, text",
    [
        ({COMMON: BENCH}, "bench"),
        ({COMMON: BENCH | parse_network("10.0.0.1")}, "bench and 10.0.0.1"),
        ({COMMON: SEEN, "field": parse_network("10.77.0.0/16")}, "field"),
        ({COMMON: SEEN}, "203.0.113.20/31"),
        ({COMMON: EVERY_ADDRESS, "field": parse_network("10.77.0.0/16")}, "anywhere"),
        ({COMMON: EVERY_ADDRESS - BENCH, "field": parse_network("10.77.0.0/16")}, "anywhere but bench"),
        ({COMMON: AddressSet()}, "nowhere"),
        ({COMMON: parse_network("2001:db8::/32")}, "2001:db8::/32"),
        ({COMMON: BENCH - parse_network("192.168.40.9")}, "bench except 192.168.40.9"),
        ({COMMON: BENCH - parse_network("192.168.40.0/26")}, "bench except 192.168.40.0/26"),
        ({COMMON: parse_network("192.168.40.0/26")}, "192.168.40.0/26"),
        (
            {COMMON: union([parse_network("10.0.0.1"), parse_network("10.0.0.2"), parse_network("10.0.0.3")])},
            "10.0.0.1-10.0.0.3",
        ),
        ({COMMON: EVERY_ADDRESS - LOOPBACK, "field": parse_network("10.77.0.0/16")}, "anywhere"),
        ({COMMON: BENCH | LOOPBACK}, "bench"),
        ({COMMON: LOOPBACK}, "127.0.0.0/8 and ::1"),
        ({COMMON: ALL_V4 - LOOPBACK}, "anywhere but 10.77.0.0/16 behind field (IPv4)"),
        ({COMMON: ALL_V4 - LOOPBACK, "field": parse_network("10.77.0.0/16")}, "anywhere (IPv4)"),
        (
            {COMMON: ALL_V4 - LOOPBACK - BENCH, "field": parse_network("10.77.0.0/16")},
            "anywhere but bench (IPv4)",
        ),
        (
            {COMMON: union(parse_network(f"10.{2 * n}.0.0/{16 + n}") for n in range(9))},
            "10.0.0.0/16, 10.2.0.0/17, 10.4.0.0/18, 10.6.0.0/19 and 5 more",
        ),
    ],
)
def test_sets_are_named_as_people_would(tmp_path: Path, sources: dict[str, AddressSet], text: str) -> None:
    assert named(tmp_path).where(sources) == text


def test_several_processes_say_what_one_says(tmp_path: Path) -> None:
    made = load_estate(build(tmp_path / "skerry"))
    assert machine.audit(audit(made, AT, jobs=1)) == machine.audit(audit(made, AT, jobs=2))


@pytest.mark.skipif(os.geteuid() != 0, reason="root can become somebody else, others can't")
def test_the_demo_works_for_an_ordinary_user(tmp_path: Path) -> None:
    """All modules are loaded first, for the interpreter itself may lie where the other user can't read."""
    code = (
        "import importlib, os, pkgutil, tempfile, zoneinfo, _strptime, encodings.idna\n"
        "import nightlatch, rich.console, ruamel.yaml\n"
        "from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey\n"
        "import rich._unicode_data as u\n"
        "[importlib.import_module(m.name) for m in pkgutil.walk_packages(nightlatch.__path__, 'nightlatch.') if '__main__' not in m.name]\n"
        "[importlib.import_module(m.name) for m in pkgutil.iter_modules(u.__path__, u.__name__ + '.')]\n"
        "zoneinfo.ZoneInfo('Atlantic/Faroe')\n"
        "import contextlib, io\n"
        "with contextlib.redirect_stdout(io.StringIO()): nightlatch.tell_demo()\n"
        "os.setgroups([]); os.setresgid(65534, 65534, 65534); os.setresuid(65534, 65534, 65534)\n"
        "nightlatch.tell_demo()\n"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, cwd="/tmp", check=False)
    assert done.returncode == 0, done.stderr[-2000:]
    assert "owners are lost in this folder" in done.stdout
    assert "plotter   1 shut out" in done.stdout
    assert "no holes, nobody shut out" in done.stdout
    assert "taken back" in done.stdout
