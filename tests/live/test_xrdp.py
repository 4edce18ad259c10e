"""Where xrdp listens and how its connections are sealed, as it was read from files, held against the real one on generated files."""

from __future__ import annotations

import base64
import json
import random
from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from nightlatch.evidence.collect import collect
from nightlatch.evidence.extra_paths import ExtraPaths
from nightlatch.evidence.screen_files import MAIN
from nightlatch.evidence.snapshot import Entry, EntryKind, Snapshot
from nightlatch.lab.image import Account
from nightlatch.lab.machine import Guest
from nightlatch.net.literal import address_or_none
from nightlatch.readings import accounts
from nightlatch.services.rdp import seal, settings
from nightlatch.services.rdp.collected import COLLECTED
from nightlatch.services.rdp.ports import Listening
from nightlatch.services.rdp.server import listening_of
from nightlatch.transports.folder import Folder
from tests.budget import cases
from tests.live.station import Station

SCREENS = Path("/var/cache/nightlatch-lab/screens")  # tools/unpacked-programs.sh
pytestmark = pytest.mark.judge("unshare", "nsenter", "ip", "openssl", root=True, tree=SCREENS)
XRDP, TAPE = 1990, 1991  # the account of the process, and a group of its own for keys
PREPARED = """
mkdir -p /run/xrdp/sockdir && chmod 3777 /run/xrdp/sockdir && chmod 755 /run/xrdp && touch /var/log/xrdp.log
cd /etc/xrdp && xrdp-keygen xrdp auto >/dev/null && mkdir keys closed && cd keys
openssl req -x509 -newkey rsa:2048 -nodes -days 30 -subj /CN=pilot.skerry.example -keyout good.key -out good.pem 2>/dev/null
openssl req -x509 -newkey rsa:2048 -nodes -days -1 -subj /CN=pilot -keyout old.key -out old.pem 2>/dev/null
openssl x509 -in good.pem -outform DER -out der.pem && echo garbage >garbage.pem && : >empty.pem
cp good.key root.key && cp good.key tape.key && cp good.key ../closed/in.key && ln -s /etc/xrdp/closed/in.key linked.key
chown -R {uid}:{uid} /run/xrdp /var/log/xrdp.log /etc/xrdp/rsakeys.ini /etc/xrdp/keys && chown root:root root.key && chmod 600 root.key
chown root:{tape} tape.key && chmod 640 tape.key && chown {uid}:{uid} ../closed/in.key && chmod 700 ../closed
cp good.key ../key.pem && cp good.pem ../cert.pem && chown {uid}:{uid} ../key.pem
"""
ASKED = (0, 1, 3, 11)
PORTS = (
    """
3389|3389|3389|3390 3391|3389,3390|3389, 3390\t3391|tcp://.:3389|tcp://:3389|tcp://0.0.0.0:3389|tcp6://.:3389|tcp6://:3389|tcp6://{::1}:3389
tcp6://{::}:3389|tcp://127.0.0.1:3389|tcp://127.0.0.2:3390,tcp6://.:3390|tcp://192.168.56.21:3389|tcp6://{2001:db8:56::21}:3389|:3389|.:3389
127.0.0.1:3389|TCP://.:3389|tcp4://127.0.0.1:3389|rdp||0|65536|68925|3389x|x3389|3389.5000|3389-3391|"3389"|3389 3389|3389 tcp://.:3389
tcp://:3389 tcp6://:3389|tcp://.:3389tcp://.:3390|3389tcp://.:3390|tcp6://::1:3389|*:3389|[::1]:3389|tcp6://[::1]:3389|tcp://.:70000|+3389
tcp://.:x3389|tcp://localhost:3389|tcp://.:3389 3390|-3389|99999|80|tcp://.:443
""".strip()
    .replace("\n", "|")
    .split("|")
)
LAYERS = ["", '"tls"', "tls x", *"none tls negotiate rdp TLS Negotiate RDP nla tls,rdp hybrid".split()]
VERSIONS = [
    "TLSv1.2, TLSv1.3",
    "TLSv1.3",
    "TLSv1.2",
    "TLSv1.2,TLSv1.3",
    "tlsv1.2",
    "TLSv1, TLSv1.1",
    "",
    "TLSv1.2 TLSv1.3",
    "x,TLSv1.2",
]
CERTIFICATES = ["keys/good.pem", "keys/old.pem", "keys/der.pem", "keys/garbage.pem", "keys/empty.pem", "keys/absent.pem"]
KEYS = ["keys/good.key", "keys/root.key", "keys/tape.key", "keys/linked.key", "closed/in.key", "keys/absent.key", "keys"]
NOISE = ["", "# port=1", "; port=2", "\t# x", "fork=true", "max_bpp = 32 ; x", "nonsense", "=1", "x:y", "port2=7"]


@pytest.fixture(scope="module")
def pilot(station: Station) -> Guest:
    """A guest with xrdp's programs, and keys that its account can read, or can't."""
    more = [Account("xrdp", XRDP), Account("tape", TAPE)]
    made = station.guest("pilot", bare=True, unit="", more=more, programs=(SCREENS,))
    made.image.write("/etc/systemd/system/xrdp.service", "[Service]\nUser=xrdp\nExecStart=/usr/sbin/xrdp\n")
    made.image.write("/root/driver.py", Path(__file__).with_name("xrdp_driver.py").read_text())
    made.boot()
    made.inside("sh", "-c", PREPARED.format(uid=XRDP, tape=TAPE))
    return made


class Makes:
    """Generated files; what each of them used is counted."""

    def __init__(self, seed: int) -> None:
        self.random, self.used = random.Random(seed), Counter[str]()

    def one(self, kind: str, values: list[str]) -> str:
        found = self.random.choice(values)
        self.used[f"{kind} {found}"] += 1
        return found

    def spaced(self, key: str, value: str) -> str:
        """A line with blanks, letters and a remark as people write them."""
        rnd = self.random
        key = rnd.choice([key, key, key.upper(), key.capitalize()])
        sign = rnd.choice(["=", "=", " = ", "\t=", "= "])
        return rnd.choice(["", "", " ", "\t"]) + key + sign + value + rnd.choice(["", "", " ", " # x", ";x", "\t"])

    def text(self, ports: list[str] | None = None) -> bytes:
        """One file."""
        rnd = self.random
        lines = [self.spaced("port", self.one("port", ports or PORTS))]
        if rnd.random() < 0.2:
            lines.append(self.spaced("port", self.one("port", ports or PORTS)))
        if rnd.random() < 0.9:
            lines.append(self.spaced("security_layer", self.one("layer", LAYERS)))
        if rnd.random() < 0.4:
            lines.append(self.spaced("ssl_protocols", self.one("versions", VERSIONS)))
        for key, values in (("certificate", CERTIFICATES), ("key_file", KEYS)):
            if rnd.random() < 0.93:
                value = "" if rnd.random() < 0.2 else f"/etc/xrdp/{self.one(key, values)}"
                lines.append(self.spaced(key, value if rnd.random() < 0.95 else value.removeprefix("/")))
        lines += [rnd.choice(NOISE) for _ in range(rnd.randrange(3))]
        rnd.shuffle(lines)
        head = rnd.choice(
            ["[Globals]", "[Globals]", "[globals]", "  [GLOBALS] ", "[Globals] # x", "x[Globals]", "\ufeff[Globals]"]
        )
        whole = [head, *lines, "[Logging]", "LogFile=xrdp.log", "LogLevel=INFO", "EnableSyslog=false"]
        if rnd.random() < 0.15:
            whole += ["[Globals]", "port=3399", "security_layer=rdp"]
        if rnd.random() < 0.1:
            whole = ["port=3398", *whole]
        return rnd.choice(["\n", "\n", "\r\n"]).join([*whole, ""]).encode()


def said(sockets: list[list[Any]]) -> list[tuple[str, int]]:
    """What the real one took, as we write it."""
    return sorted(("" if address == "::" else address, port) for _, address, port in sockets)


def foretold(found: Listening) -> list[tuple[str, int]]:
    return sorted((str(address_or_none(each.address) or ""), each.port) for each in found.sockets)


def answer(sealed: seal.Seals, asks: int) -> list[int]:
    """The answer to a request: selected (2) and what, or failed (3) and why."""
    if sealed.selects:
        return [2, 1] if asks & 1 else [2, 0] if sealed.clear else [3, 1]
    return [2, 0] if sealed.clear else [3, 3]


def judged(guest: Guest, base: Snapshot, texts: list[bytes], groups: tuple[int, ...], wrong: list[str]) -> tuple[int, int]:
    """The number of cases that were decided, and of all."""
    given = "".join(json.dumps({"ini": base64.b64encode(each).decode(), "ask": ASKED}) + "\n" for each in texts)
    out = guest.inside("python3", "/root/driver.py", str(XRDP), *map(str, (XRDP, *groups)), stdin=given, timeout=900)
    decided = 0
    for text, line in zip(texts, out.splitlines(), strict=True):
        real = json.loads(line)
        snapshot = base.with_files({MAIN: Entry(EntryKind.FILE, 0o644, size=len(text), content=text)})
        found = settings.read(snapshot)
        held = accounts.read(snapshot)
        by_name = {
            name: replace(each, gids=each.gids | set(groups)) if name == "xrdp" else each for name, each in held.by_name.items()
        }
        takes, sealed = listening_of(found), seal.seals(found, snapshot, replace(held, by_name=by_name))
        if takes.gap is not None or sealed.unsure:
            continue
        decided += 1
        expected = (not takes.fault, [] if takes.fault else foretold(takes))
        if (real["alive"], said(real["sockets"])) != expected:
            wrong.append(f"{text!r}: {expected}, really {real}")
        elif real["answers"]:
            told = {each: answer(sealed, each) for each in ASKED}
            if {int(asks): got for asks, got in real["answers"].items()} != told:
                wrong.append(f"{text!r}: {told}, really {real}")
            elif sealed.selects and (real["tls"] != "fault") is not sealed.tls:
                wrong.append(f"{text!r}: tls {sealed.tls}, really {real['tls']}")
    return decided, len(texts)


@pytest.mark.parametrize("groups", [(), (TAPE,)])
def test_sockets_and_seals_are_those_of_the_real_one(pilot: Guest, groups: tuple[int, ...], tell: Callable[[str], None]) -> None:
    named = ExtraPaths(
        looked=tuple(f"/etc/xrdp/{name}" for name in KEYS), files=tuple(f"/etc/xrdp/{name}" for name in CERTIFICATES)
    )
    with Folder(pilot.root) as source:
        base = collect(source, "pilot", COLLECTED | named)
    makes, wrong = Makes(20261201 + len(groups)), list[str]()
    texts = [makes.text([each]) for each in PORTS] if not groups else []
    texts += [makes.text(["3389"]) for _ in range(cases(45, 700))]
    decided, of = judged(pilot, base, texts, groups, wrong)
    tell(f"xrdp: {of} files, {decided} decided, {len(wrong)} otherwise than said; {len(makes.used)} constructs used")
    assert not wrong, "\n".join(wrong[:5])
    assert decided > 0.8 * of
    assert len(makes.used) > 20
