"""reach on lab networks: every way in which it can end, told apart, with its cause; and the wire held against evidence."""

from __future__ import annotations

import json
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from typing import Any

import pytest

from nightlatch.lab.inside import Inside
from nightlatch.lab.machine import Guest, environment
from nightlatch.ops.evidence import write_evidence
from nightlatch.ops.survey import survey_live
from tests.live.liars import FIRST, LIARS
from tests.live.station import ROOT, Station

pytestmark = pytest.mark.judge("sshd", "unshare", "nsenter", "ip", "systemctl", "nft", root=True)
GRANTS = """
let: mara, into: all guests, by: ssh, from: bench, with: key
let: joon, into: all guests, by: ssh, from: field, with: key
"""
FILTER = """table inet shut { chain i { type filter hook input priority 0;
    tcp dport 2301 drop; tcp dport 2302 reject; tcp dport 2303 reject with icmpx admin-prohibited; tcp dport 2304 reject with tcp reset; }; }
"""
GAUGE, LOCAL, WORDS, LIAR = "192.168.56.21", "192.168.56.22", "192.168.56.23", "192.168.56.60"


@pytest.fixture(scope="module")
def net(station: Station) -> Iterator[Station]:
    """A sound guest with a filter, one that listens on the loopback only, one that takes passwords only, and liars."""
    guests = [
        station.guest("gauge", GAUGE),
        station.guest("local", LOCAL, config="ListenAddress 127.0.0.1\n"),
        station.guest("words", WORDS, config="PubkeyAuthentication no\n"),
    ]
    for guest in guests:
        guest.boot()
    for guest in guests:
        guest.until_listening()
    guests[0].run("nft", "-f", "-", stdin=FILTER)
    station.desk.run("ip", "-6", "route", "add", "unreachable", "2001:db8:99::/64")
    node = station.lab.node("liar", {"isle": [f"{LIAR}/24"]})
    process = subprocess.Popen(
        node.words(sys.executable, "-m", "tests.live.liars", LIAR),
        stdout=subprocess.PIPE,
        text=True,
        env=environment({"PYTHONPATH": f"{ROOT / 'src'}:{ROOT}"}),
        cwd=ROOT,
    )
    assert process.stdout is not None
    assert process.stdout.readline() == "ready\n"
    yield station
    process.kill()
    process.wait(10)


def at(address: str, port: int = 22) -> str:
    return f'{{folder: nowhere, as: keeper, key: desk.pub, from: bench}}, dial: "{address}:{port}"'


def reached(net: Station, others: dict[str, str], *words: str, code: int | None = 1, **more: Any) -> dict[str, dict[str, Any]]:
    net.estate(GRANTS, others=others, **more)
    document = net.json("reach", "estate.yaml", *words, code=code)
    return {each["guest"]: each for each in document["guests"]}  # type: ignore[attr-defined]


ENDS = {
    "dropped": (at(GAUGE, 2301), "connect", "no answer", "a filter drops it"),
    "rejected": (at(GAUGE, 2302), "connect", "refused", "nothing listens"),
    "prohibited": (at(GAUGE, 2303), "connect", "reported as unreachable", "a filter rejects it"),
    "reset": (at(GAUGE, 2304), "connect", "refused", "nothing listens"),
    "deaf": (at(GAUGE, 2305), "connect", "refused", "nothing listens"),
    "gone": (at("192.168.56.99"), "connect", "nobody has that address", "the guest is off"),
    "unrouted": (at("2001:db8:99::1"), "route", "no route from here", "the interface"),
    "nameless": (at("nowhere.invalid"), "name", None, ""),
    "moved": (at(GAUGE), "host key", "another host key", "the guest was rebuilt"),
    "mute": (at(LIAR, FIRST), "identify", "connected, and nothing came", "a forward accepts"),
    "closing": (at(LIAR, FIRST + 1), "identify", "closed without a word", "the server is full"),
    "dribbling": (at(LIAR, FIRST + 2), "identify", "too slow", "overloaded"),
    "flooding": (at(LIAR, FIRST + 3), "identify", "no SSH server", "another service"),
    "lines": (at(LIAR, FIRST + 4), "identify", "no SSH server", "another service"),
    "web": (at(LIAR, FIRST + 5), "identify", None, ""),
    "old": (at(LIAR, FIRST + 6), "identify", "no SSH server", "another service"),
    "escaping": (at(LIAR, FIRST + 7), "host key", "the protocol was broken", "no sound SSH server"),
}
assert len(LIARS) == 8


def test_every_end_is_told_apart(net: Station) -> None:
    start = time.monotonic()
    found = reached(net, {name: way for name, (way, *_) in ENDS.items()}, code=3)
    assert time.monotonic() - start < 60, "they are looked at side by side"
    for name, (_, stage, how, cause) in ENDS.items():
        look = found[name]["look"]
        assert look["failed"] == stage, (name, look)
        assert how is None or look["how"] == how, (name, look)
        assert cause in str(found[name]["causes"]), (name, found[name]["causes"])
        assert found[name]["causes"], name
        assert look["steps"][-1]["stage"] == stage
    assert found["gauge"]["answers"]
    assert found["gauge"]["look"]["host_keys"][0]["sha256"] == net.host_keys["gauge"]
    assert {g["who"]: g["state"] for g in found["gauge"]["grants"]} == {
        "mara": "offered",
        "joon": "not proven from here",
        "management access": "offered",
    }
    assert found["local"]["look"]["how"] == "refused"
    words = found["words"]
    assert words["look"]["failed"] == "methods"
    assert {f["check"] for f in words["findings"]} == {"reach.proof-not-offered"}
    assert "password is offered" in words["findings"][0]["text"]
    moved = [f["severity"] for f in found["moved"]["findings"] if f["check"] == "reach.other-host-key"]
    assert moved == ["critical"]
    text = net.nightlatch("reach", "estate.yaml", "--on", "escaping", "--on", "moved", "--on", "words", code=None)
    assert "\x1b" not in text
    assert "\u202e" not in text
    assert "mara" in text


def test_the_wire_is_held_against_the_evidence(net: Station) -> None:
    net.estate(GRANTS)
    net.nightlatch("survey", "estate.yaml", "--ssh-config", "ssh_config", "--on", "gauge", "--into", "kept")
    good = reached(net, {}, "--evidence", "kept", "--on", "gauge", code=0)["gauge"]
    assert good["evidence"] == "kept/gauge.evidence.tar.gz"
    assert not good["findings"]
    # What runs is another than what was read: passwords are switched off and loaded afterwards.
    guest = net.lab.guests["gauge"]
    (guest.root / "etc/ssh/sshd_config.d/05-late.conf").write_text("PasswordAuthentication no\nKbdInteractiveAuthentication no\n")
    guest.inside("systemctl", "reload", "ssh")
    end, late = time.monotonic() + 30, good
    while not late["findings"] and time.monotonic() < end:  # a reload is not over when it returns
        late = reached(net, {}, "--evidence", "kept", "--on", "gauge", code=0)["gauge"]
    assert [f["check"] for f in late["findings"]] == ["reach.not-as-read"]
    assert "by the evidence it would be" in late["findings"][0]["text"]
    (guest.root / "etc/ssh/sshd_config.d/05-late.conf").unlink()
    guest.inside("systemctl", "reload", "ssh")
    # The evidence of one guest, and the address of another.
    (net.folder / "kept/gauge.evidence.tar.gz").unlink()
    other = survey_live(Inside(net.lab.guests["local"]))
    write_evidence(other, net.folder / "kept/gauge.evidence.tar.gz", datetime.now(UTC))
    mixed = reached(net, {}, "--evidence", "kept", "--on", "gauge", code=1)["gauge"]
    assert "reach.not-the-guest-read" in [f["check"] for f in mixed["findings"]]


def test_hundreds_at_once_are_bounded(net: Station) -> None:
    # Each of these would keep its caller for 15 s; all together they do not take much longer than a few of them.
    others = {f"mute-{n}": at(LIAR, FIRST) for n in range(300)}
    net.estate(GRANTS, others=others)
    words = [word for name in others for word in ("--on", name)]
    start = time.monotonic()
    document = net.json("reach", "estate.yaml", "--at-once", "300", *words, code=3)
    assert time.monotonic() - start < 45
    assert {g["look"]["how"] for g in document["guests"]} == {"connected, and nothing came"}  # type: ignore[attr-defined]


def refusals(guest: Guest) -> int:
    """The resets that the guest's network has sent (RFC 1213, tcpOutRsts): one for each try while nothing listens."""
    names, values = (line.split() for line in guest.run("cat", "/proc/net/snmp").splitlines() if line.startswith("Tcp:"))
    return int(values[names.index("OutRsts")])


def until(holds: Callable[[], bool], what: str, seconds: float = 60) -> None:
    """Wait for something that has to happen."""
    end = time.monotonic() + seconds
    while not holds():
        assert time.monotonic() < end, f"not in {seconds} s: {what}"
        time.sleep(0.05)


def test_a_real_login_and_a_guest_that_comes_back(net: Station) -> None:
    net.estate(GRANTS)
    said = net.nightlatch("reach", "estate.yaml", "--ssh-config", "ssh_config", "--on", "gauge", "--login")
    assert "logged in" in said
    assert "keeper, who can become root; up for" in said
    guest = net.lab.guests["gauge"]
    guest.power_cut()
    before = refusals(guest)
    words = net.words("reach", "estate.yaml", "--ssh-config", "ssh_config", "--on", "gauge", "--wait", "2m", "--login")
    process = subprocess.Popen(
        words, cwd=net.folder, stdout=subprocess.PIPE, text=True, env=environment({"PYTHONPATH": str(ROOT / "src")})
    )
    until(lambda: refusals(guest) > before, "the first try")
    guest.boot()
    guest.until_listening()
    out, _ = process.communicate(timeout=90)
    guest.run("nft", "-f", "-", stdin=FILTER)
    assert process.returncode == 0, out
    assert "answered after" in out
    assert "it was restarted while it was waited for" in out


def test_a_name_that_leads_elsewhere_meanwhile_is_told(net: Station) -> None:
    hosts = net.folder / "hosts"
    hosts.write_text("192.168.56.77 gauge.skerry.example\n")
    net.estate(
        GRANTS,
        others={"named": "{folder: nowhere, as: keeper, key: desk.pub, from: bench}, dial: gauge.skerry.example"},
    )
    inner = "import sys; from nightlatch.cli.main import main; main()"
    words = net.desk.words(
        "unshare",
        "--mount",
        "sh",
        "-c",
        'mount --bind "$0" /etc/hosts && exec "$@"',
        str(hosts),
        sys.executable,
        "-c",
        inner,
        "reach",
        "estate.yaml",
        "--on",
        "named",
        "--wait",
        "1m",
    )
    process = subprocess.Popen(
        words, cwd=net.folder, stdout=subprocess.PIPE, text=True, env=environment({"PYTHONPATH": str(ROOT / "src")})
    )
    until(lambda: "192.168.56.77" in net.lab.router.run("ip", "neigh", "show"), "the first try")
    hosts.write_text(f"{GAUGE} gauge.skerry.example\n")
    out, _ = process.communicate(timeout=90)
    told = " ".join(out.split())
    assert f"its name leads to {GAUGE} now, and to 192.168.56.77 before" in told, out
    assert "another host key" in told


def test_a_look_without_an_estate(net: Station) -> None:
    said = net.nightlatch("reach", GAUGE)
    for word in ("connect", "identify", "SSH-2.0-OpenSSH", "host key", "MD5:", "exchanges", "curve25519-sha256"):
        assert word in said
    assert net.json("reach", f"{GAUGE}:2301", code=3)["how"] == "no answer"
    assert "neither an estate file nor" in net.nightlatch("reach", "a b", code=2)
    assert "nobody called" in net.nightlatch("reach", "estate.yaml", "--who", "nobody", code=2)


def test_another_service_is_tried_too(net: Station) -> None:
    """The tide line, in a table of services: reached at its own port, beside SSH, and asked about the accounts it is granted to."""
    guest = net.lab.guests["gauge"]
    env = environment({"PYTHONPATH": f"{ROOT / 'src'}:{ROOT}", "NO_COLOR": "1"})
    words = guest.words(sys.executable, "-m", "tests.live.tided", "0.0.0.0", "4711", "joon")
    grants = "let: mara, into: gauge, by: tide, from: bench, with: password\nlet: joon, into: gauge, by: tide, from: bench, with: password"
    net.estate(GRANTS + grants)
    process = subprocess.Popen(words, stdout=subprocess.PIPE, text=True, env=env, cwd=ROOT)
    try:
        assert process.stdout is not None
        assert process.stdout.readline() == "ready\n"
        open_there = _reach_with_tide(net, env)
    finally:
        process.kill()
        process.wait(10)
    document, text = open_there
    gauge = next(each for each in document["guests"] if each["guest"] == "gauge")
    [tide] = gauge["services"]
    assert (tide["by"], tide["port"], tide["failed"], tide["identification"]) == ("tide", 4711, None, "tide 1 gauge")
    assert [(each["account"], each["let_in"]) for each in tide["asks"]] == [("mara", False), ("joon", True)]
    assert {each["who"]: each["state"] for each in tide["grants"]} == {"mara": "offered", "joon": "offered"}
    assert [f["text"] for f in gauge["findings"]] == ["joon is let in by tide without showing anything at all."]
    assert {each["who"] for each in gauge["grants"]} == {"mara", "joon", "management access"}
    assert "tide 1 gauge" in text
    shut, _ = _reach_with_tide(net, env)
    gauge = next(each for each in shut["guests"] if each["guest"] == "gauge")
    assert (gauge["look"]["failed"], gauge["services"][0]["how"], gauge["answers"]) == (None, "refused", False)
    assert "can't get in by tide from here" in gauge["findings"][0]["text"]


def _reach_with_tide(net: Station, env: dict[str, str]) -> tuple[dict[str, Any], str]:
    words = net.desk.words(sys.executable, "-m", "tests.live.reach_driver", str(net.folder / "estate.yaml"))
    done = subprocess.run(words, capture_output=True, text=True, env=env, cwd=ROOT, timeout=90, check=False)
    assert done.returncode == 0, done.stderr
    raw, _, text = done.stdout.partition("\n---\n")
    return json.loads(raw), text
