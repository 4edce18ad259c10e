"""Where VNC servers listen, what they offer and whom they let in, as it was read, held against the real ones on generated settings."""

from __future__ import annotations

import base64
import json
import random
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest

from nightlatch.evidence.collect import collect
from nightlatch.evidence.extra_paths import ExtraPaths
from nightlatch.evidence.snapshot import Entry, EntryKind, Snapshot
from nightlatch.lab.image import PASSWORD, Account
from nightlatch.lab.machine import Guest
from nightlatch.model.secrets import Password, ScreenPassword
from nightlatch.net.addresses import EVERY_ADDRESS, AddressSet
from nightlatch.net.literal import parse_network
from nightlatch.origin import Origin
from nightlatch.readings import guest as readings
from nightlatch.services.base import LoginEntry, ServerState
from nightlatch.services.rdp.collected import COLLECTED as OF_SESSIONS
from nightlatch.services.vnc import layers, parameters, server, session
from nightlatch.services.vnc.collected import COLLECTED
from nightlatch.services.vnc.entries import VncAccess, VncServer
from nightlatch.services.vnc.layers import DEFAULTS, MANDATORY
from nightlatch.services.vnc.serving import Serving
from nightlatch.services.vnc.starts import Program, Start
from nightlatch.transports.folder import Folder
from tests.budget import cases
from tests.live.station import Station
from tests.live.test_xrdp import SCREENS

pytestmark = pytest.mark.judge("unshare", "nsenter", "ip", "openssl", "perl", root=True, tree=SCREENS)
AT = datetime(2026, 12, 2, 12, tzinfo=UTC)
UID, OTHER = 1990, 1991
HOME = "/home/pilot"
WORD, LOOK = "tide-gauge-long", "look-only"
STATUS = "Package: tigervnc-standalone-server\nStatus: install ok installed\nVersion: 1.12.0+dfsg-8\n\n"
KEYS = "/etc/pilot"
PREPARED = f"""
chgrp shadow /etc/shadow && mkdir -p {KEYS}/closed && cd {KEYS}
openssl req -x509 -newkey rsa:2048 -nodes -days 30 -subj /CN=pilot.skerry.example -keyout good.key -out good.pem 2>/dev/null
cat good.key good.pem >both.pem && echo garbage >garbage.pem && cp good.key root.key && cp good.key closed/in.key
chown {UID}:{UID} *.pem good.key closed/in.key && chmod 600 good.key root.key && chmod 700 closed
printf '{WORD}\\n{LOOK}\\n' | tigervncpasswd -f >two && head -c 8 two >one && head -c 4 two >cut && : >empty && cp one roots
chown {UID}:{UID} one two cut empty && chmod 600 one two cut empty roots
printf '{WORD}\\n' >plain && printf '{WORD}\\n{LOOK}\\n' >plain-two && chown {UID}:{UID} plain plain-two && chmod 600 plain plain-two
echo "127.0.1.1 pilot.skerry.example pilot" >>/etc/hosts; : >/etc/resolv.conf
mkdir -p /tmp/.X11-unix && chmod 1777 /tmp/.X11-unix /tmp && mkdir -p /etc/tigervnc {HOME}/.vnc && chown -R {UID}:{UID} {HOME}
"""
FILES = [f"{KEYS}/{name}" for name in ("one", "two", "cut", "empty", "roots", "absent", "closed")]
CERTIFICATES = [f"{KEYS}/{name}" for name in ("good.pem", "good.pem", "garbage.pem", "absent.pem")]
PRIVATE = [f"{KEYS}/{name}" for name in ("good.key", "good.key", "root.key", "closed/in.key", "absent.key")]
TYPES = "None VncAuth Plain TLSNone TLSVnc TLSPlain X509None X509Vnc X509Plain RA2 RA2ne RA2_256 DH nonsense".split()
PERL_NOISE = [
    "# $localhost = 'no';",
    'my $localhost = "no";',
    '$Localhost = "no";',
    '$securitytypes = "None";',
    "$localhost = undef;",
    '$geometry = "640x480";',
    "",
    '$desktopName = "pilot";',
    "$PlainUsers = undef;",
]
USERS = ["pilot", "*", "other", "pilot,other", "PILOT", "", "other, pilot", "pilot ", "%u"]
LOGINS = [
    *([kind] for kind in ("None", "TLSNone", "X509None")),
    *([kind, word] for kind in ("VncAuth", "TLSVnc", "X509Vnc") for word in (WORD, LOOK)),
    *([kind, "pilot", PASSWORD] for kind in ("Plain", "TLSPlain", "X509Plain")),
    ["Plain", "other", PASSWORD],
]


@pytest.fixture(scope="module")
def pilot(station: Station) -> Guest:
    """A guest with the programs of VNC servers, passwords and certificates."""
    more = [Account("pilot", UID, PASSWORD), Account("other", OTHER, PASSWORD)]
    made = station.guest("pilot", bare=True, unit="", more=more, programs=(SCREENS,))
    made.image.write("/root/driver.py", Path(__file__).with_name("vnc_driver.py").read_text())
    made.image.write("/var/lib/dpkg/status", STATUS)
    made.image.link("/usr/bin/x-window-manager", "openbox")
    made.boot()
    made.inside("sh", "-c", PREPARED)
    return made


@pytest.fixture(scope="module")
def base(pilot: Guest) -> Snapshot:
    """What is read of it."""
    named = ExtraPaths(looked=(*FILES, *PRIVATE, f"{KEYS}/plain", f"{KEYS}/plain-two"), files=(*CERTIFICATES, f"{KEYS}/both.pem"))
    with Folder(pilot.root) as source:
        return collect(source, "pilot", COLLECTED | named | OF_SESSIONS)


@dataclass
class Makes:
    """Generated settings; what each of them used is counted."""

    random: random.Random
    used: Counter[str] = field(default_factory=Counter)

    def one(self, kind: str, values: list[str]) -> str:
        found = self.random.choice(values)
        self.used[f"{kind} {found}"] += 1
        return found

    def types(self) -> str:
        some = self.random.sample(TYPES, self.random.randrange(1, 5))
        for each in some:
            self.used[f"type {each}"] += 1
        joint = self.random.choice([",", ",", ",", ", "])
        return joint.join(self.random.choice([each, each, each.lower(), each.upper()]) for each in some)

    def values(self) -> Iterator[tuple[str, str]]:
        """Parameters that decide, as pairs; the same name may come twice."""
        rnd = self.random
        if rnd.random() < 0.85:
            yield "SecurityTypes", self.types()
        if rnd.random() < 0.6:
            yield "localhost", self.one("localhost", ["1", "0", "yes", "no", "true", "false", "on", "off"])
        if rnd.random() < 0.8:
            yield rnd.choice(["PasswordFile", "rfbauth"]), self.one("password", FILES)
        if rnd.random() < 0.6:
            yield "PlainUsers", self.one("users", USERS)
        if rnd.random() < 0.75:
            yield "X509Cert", self.one("certificate", CERTIFICATES)
            if rnd.random() < 0.9:
                yield "X509Key", self.one("key", PRIVATE)
        for name, values in (
            ("interface", ["127.0.0.1", "all", "::1", "127.0.0.3", "nonsense"]),
            ("rfbport", ["5977", "0", "-1", "5977"]),
            ("UseIPv6", ["0", "1", "no"]),
            ("UseIPv4", ["0", "1"]),
            ("AlwaysShared", ["1", "0"]),
            ("IdleTimeout", ["0"]),
        ):
            if rnd.random() < 0.15:
                yield name, self.one(name, values)

    def spelt(self, name: str) -> str:
        return self.random.choice([name, name, name.lower(), name.upper()])

    def server_words(self, number: int) -> list[str]:
        """A command line of the server itself."""
        rnd = self.random
        words = [f":{number}", *rnd.choice([[], ["-geometry", "640x480"], ["-ac"], ["-depth", "24", "-nolisten", "tcp"]])]
        for name, value in self.values():
            form = rnd.choice(["two", "two", "dash", "plain", "double"])
            switch = name in ("localhost", "UseIPv6", "UseIPv4", "AlwaysShared")
            self.used[f"form {form}"] += 1
            spelt = self.spelt(name)
            if switch and value in ("1", "yes") and rnd.random() < 0.5:
                words.append(f"-{spelt}")
            elif form == "two" and not switch:
                words += [f"-{spelt}", value]
            else:
                words.append(
                    {"dash": "-", "double": "--"}.get(form, "-" if switch and form == "two" else "") + f"{spelt}={value}"
                )
        return words

    def perl(self) -> str:
        """A file of the wrapper's settings in Perl."""
        rnd, lines = self.random, list[str]()
        for name, value in self.values():
            kind = self.one("perl", ["double", "single", "our", "spaced", "remark", "bare"])
            quoted = f"'{value}'" if kind == "single" else value if kind == "bare" and value.isdigit() else f'"{value}"'
            text = f"${name}={quoted};" if kind == "double" else f"${name} = {quoted};"
            lines.append(
                ("our " if kind == "our" else "  " if kind == "spaced" else "") + text + (" # x" if kind == "remark" else "")
            )
        for _ in range(rnd.randrange(3)):
            lines.append(self.one("noise", PERL_NOISE))
        rnd.shuffle(lines)
        return rnd.choice(["\n", "\n", "\r\n"]).join([*lines, "1;", ""])

    def plain(self) -> str:
        """The plain file."""
        lines = [f"{self.spelt(name)}{self.random.choice(['=', ' = '])}{value}" for name, value in self.values()]
        return "\n".join([*lines, self.one("noise", ["# x", "", "localhost", "$x", "alwaysshared", "unknownword=1"]), ""])

    def files(self, paths: list[str], uid: int) -> dict[str, tuple[int, int, str]]:
        """Some of these in Perl; some can't be read by the account."""
        out = dict[str, tuple[int, int, str]]()
        for path in paths:
            if self.random.random() < 0.4:
                mode = self.random.choice([0o644, 0o644, 0o644, 0o600])
                self.used[f"file {path.rpartition('/')[2]} {mode:o}"] += 1
                out[path] = (mode, uid, self.perl())
        return out

    def home(self, home: str) -> dict[str, tuple[int, int, str]]:
        """The files of one home."""
        out = self.files([f"{home}/.vnc/{name}" for name in layers.PERL], UID)
        if self.random.random() < 0.4:
            out[f"{home}/.vnc/config"] = (0o644, UID, self.plain())
        if self.random.random() < 0.7:
            word = self.random.choice([0o600, 0o600, 0o600, 0o644])
            out[f"{home}/.vnc/passwd"] = (word, UID, "x" * 8)
        return out

    def wrapper_words(self) -> list[str]:
        """A command line of the wrapper."""
        words = [":7"] if self.random.random() < 0.95 else []
        for name, value in self.values():
            form = self.one("wrapper's form", ["two", "dash", "double", "plain"])
            spelt = self.spelt(name)
            words += [f"-{spelt}", value] if form == "two" else [{"dash": "-", "double": "--"}.get(form, "") + f"{spelt}={value}"]
        if self.random.random() < 0.2:
            words.append(f"--{layers.INSECURE}")
        return words

    def mirror_options(self) -> list[list[str]]:
        """Options of x11vnc, in a random order."""
        rnd, out = self.random, list[list[str]]()
        for name, share, values in (
            ("listen", 0.3, ["127.0.0.1", "0.0.0.0", "localhost", "127.0.0.3"]),
            ("rfbport", 0.4, ["5977", "5901"]),
            ("localhost", 0.25, [""]),
            ("rfbauth", 0.3, [f"{KEYS}/{name}" for name in ("one", "two", "cut", "roots", "absent")]),
            ("passwd", 0.2, [WORD, WORD[:8]]),
            ("passwdfile", 0.3, [f"{KEYS}/plain", f"{KEYS}/plain-two"]),
            ("usepw", 0.1, [""]),
            ("nopw", 0.2, [""]),
            ("viewonly", 0.2, [""]),
            ("forever", 1, [""]),
            ("shared", 1, [""]),
            ("allow", 0.2, ["127.0.0.", "192.0.2.7", "127.0.0.1,192.0.2.", "127.", "127.0.1."]),
            ("ssl", 0.15, [f"{KEYS}/both.pem", f"{KEYS}/good.pem", f"{KEYS}/absent.pem"]),
        ):
            if rnd.random() < share:
                value = self.one(name, values)
                out.append([name, *([value] if value else [])])
        rnd.shuffle(out)
        return out


def entries(files: dict[str, tuple[int, int, str]]) -> dict[str, Entry]:
    """Files of a case as they are read; of a password's only mode, owner and size."""
    out = {}
    for path, (mode, uid, text) in files.items():
        raw = text.encode()
        out[path] = Entry(EntryKind.FILE, mode, uid, uid, size=len(raw), content=None if path.endswith("passwd") else raw)
    return out


def foretold(
    base: Snapshot, files: dict[str, tuple[int, int, str]], start: Start, source: AddressSet = EVERY_ADDRESS
) -> tuple[Serving, list[LoginEntry]]:
    """What is said of one start, and its logins."""
    snapshot = base.with_files(entries(files)) if files else base
    found = server.served(snapshot, start, {})
    reading = readings.read(snapshot)
    access = VncAccess(reading, ServerState.SERVES, start, found, found.listeners)
    out = []
    for socket in found.listeners[:1]:
        for each in VncServer(access, found, AT).entries(socket, source):
            out += [entry for world in each.worlds for entry in world]
    return found, out


def opens(serving: Serving, logins: list[LoginEntry], login: list[str]) -> bool | None:
    """Whether a login by one type is said to come through; None where that is not decided."""
    kind, *proof = login
    mine = [
        entry
        for entry in logins
        if any(getattr(cause, "keyword", "") == "security type" and getattr(cause, "value", "") == kind for cause in entry.causes)
    ]
    shown: set[Any] = set()
    if proof and len(proof) == 1:
        if proof[0] == LOOK and not serving.touches:
            return None  # both passwords give a look there, and are one to us
        shown.add(ScreenPassword("pilot", serving.screen, proof[0] == LOOK or not serving.touches))
    elif proof:
        shown.add(Password("pilot", proof[0]))
    fits = [entry for entry in mine if entry.need <= shown and entry.seen.perhaps]
    return None if fits and not any(entry.seen.surely for entry in fits) else bool(fits)


def listening(serving: Serving) -> list[tuple[str, int]]:
    out = set()
    for each in serving.listeners:
        places = {"": ("0.0.0.0", "::")}.get(each.address, (each.address,))
        out |= {(place, each.port) for place in places}
    return sorted(out)


Case = tuple[Start, dict[str, tuple[int, int, str]], dict[str, Any]]


def held(guest: Guest, base: Snapshot, made: list[Case], source: AddressSet = EVERY_ADDRESS) -> list[str]:
    """What is really otherwise than said, of a list of cases, for callers from `source`."""
    given = []
    for _, files, more in made:
        given.append({"uid": UID, "home": HOME, "user": "pilot", "files": packed(files), "logins": LOGINS, **more})
    out = guest.inside("python3", "/root/driver.py", stdin="".join(json.dumps(each) + "\n" for each in given), timeout=900)
    wrong = []
    for (start, files, more), line in zip(made, out.splitlines(), strict=True):
        real, (serving, logins) = json.loads(line), foretold(base, files, start, source)
        what = f"{more['words']} {files}"
        sockets = sorted((address, port) for _, address, port in real["sockets"])
        if (not serving.fault and listening(serving)) != (sockets or []) and not (serving.fault and not sockets):
            wrong.append(f"listens {listening(serving)} ({serving.fault}), really {sockets}: {what}")
            continue
        if not sockets:
            continue
        offers = {door.type.name for door in serving.doors} if serving.callers.perhaps & source else set()
        if offers != set(real["types"]) - {"TLS"}:  # x11vnc offers its TLS by a type of its own as well
            wrong.append(f"offers {sorted(offers)}, really {sorted(real['types'])}: {what}")
            continue
        for login, really in zip(LOGINS, real["let_in"], strict=True):
            said = opens(serving, logins, login)
            if login[0] in offers and said is (not really):
                wrong.append(f"{login} said {not really}, really {really}: {what}")
    return wrong


def test_the_server_itself(pilot: Guest, base: Snapshot, tell: Callable[[str], None]) -> None:
    makes, made = Makes(random.Random(20261202)), list[Any]()
    for number in range(cases(40, 500)):
        words = makes.server_words(7 + number % 50)
        start = Start(Program.SERVER, "pilot", tuple(words), Origin("/etc/systemd/system/screen.service", 4))
        made.append((start, {}, {"words": ["/usr/bin/Xtigervnc", *words]}))
    wrong = held(pilot, base, made)
    tell(f"Xtigervnc: {len(made)} command lines, {len(wrong)} otherwise than said; {len(makes.used)} constructs used")
    assert not wrong, "\n".join(wrong[:8])
    assert len(makes.used) > 40


LEFT_OUT = ("x509cert", "x509key", "passwordfile", "plainusers", "pamservice")
COMPARED = "securitytypes localhost passwordfile plainusers x509cert x509key interface rfbport useipv4 useipv6 pamservice".split()


def packed(files: dict[str, tuple[int, int, str]]) -> dict[str, list[Any]]:
    return {path: [mode, uid, base64.b64encode(text.encode()).decode()] for path, (mode, uid, text) in files.items()}


def compared(
    base: Snapshot, files: dict[str, tuple[int, int, str]], home: str, words: list[str], real: dict[str, str]
) -> str | None:
    """What is otherwise than said of one start by the wrapper; empty where nothing is, None where it is not decided."""
    folders = {path: Entry(EntryKind.FOLDER, 0o755, UID, UID) for path in (home, f"{home}/.vnc")}
    absent = {f"{home}/.vnc/passwd": Entry(EntryKind.ABSENT)}
    snapshot = base.with_files({**folders, **absent, **entries(files)})
    account = replace(readings.read(snapshot).accounts.by_name["pilot"], home=home)
    found = layers.gathered(snapshot, account, words, Origin("/etc/systemd/system/screen.service", 4))
    if found.gap is not None:
        return None
    started = real["starts"].split(" ")[1:] if real["starts"] else []
    if bool(found.parameters.fault) is bool(started):
        return f"fault {found.parameters.fault!r}, really {real}: {words} {files}"
    read = parameters.read(started, Origin("wrapper"))
    for name in COMPARED if started else ():
        mine, theirs = found.parameters.of(name).value, read.of(name).value
        if name in ("x509cert", "x509key", "passwordfile"):  # a copy of its own
            mine, theirs = mine.rpartition("/")[2], theirs.rpartition("/")[2]
        left_out = name in LEFT_OUT and not theirs  # where no type needs it
        if mine != theirs and " " not in mine and not left_out and not (name.startswith("x509") and not mine):
            return f"{name} {mine!r}, really {theirs!r}: {words} {files} {real['starts']}"
    return ""


def test_what_the_wrapper_starts(pilot: Guest, base: Snapshot, tell: Callable[[str], None]) -> None:
    makes, given = Makes(random.Random(20261203)), list[Any]()
    for _ in range(cases(8, 80)):
        system = makes.files([DEFAULTS, MANDATORY], 0)
        homes = [f"{HOME}/{number}" for number in range(12)]
        given.append((system, [(home, makes.home(home), makes.wrapper_words()) for home in homes]))
    lines = []
    for system, each in given:
        batch = [
            {"uid": UID, "home": home, "files": packed(files), "words": ["tigervncserver", "-dry-run", "-verbose", *words]}
            for home, files, words in each
        ]
        lines.append(json.dumps({"files": packed(system), "batch": batch}))
    clean = f"rm -rf {HOME}/[0-9]*"
    found: list[str | None] = []
    for (system, each), line in zip(given, lines, strict=True):
        pilot.inside("sh", "-c", clean)
        out = json.loads(pilot.inside("python3", "/root/driver.py", stdin=line + "\n", timeout=900))
        found += [
            compared(base, {**system, **files}, home, words, real) for (home, files, words), real in zip(each, out, strict=True)
        ]
    wrong, decided = [each for each in found if each], [each for each in found if each is not None]
    tell(f"tigervncserver: {len(found)} homes, {len(decided)} decided, {len(wrong)} otherwise; {len(makes.used)} constructs used")
    assert not wrong, "\n".join(wrong[:8])
    assert len(decided) > 0.7 * len(found)


def test_x11vnc(pilot: Guest, base: Snapshot, tell: Callable[[str], None]) -> None:
    shown = "setpriv --reuid {uid} --regid {uid} --clear-groups Xtigervnc :60 -ac -SecurityTypes None -rfbport -1 -rfbunixpath /tmp/x60"
    pilot.inside("sh", "-c", f"{shown.format(uid=OTHER)} >/dev/null 2>&1 & sleep 1")
    makes, made = Makes(random.Random(20261204)), list[Any]()
    for _ in range(cases(30, 400)):
        options = makes.mirror_options()
        in_file = [each for each in options if makes.random.random() < 0.3]
        words = [
            "-display",
            ":60",
            "-noshm",
            *(word for each in options if each not in in_file for word in (f"-{each[0]}", *each[1:])),
        ]
        files = {}
        if in_file:
            lines = [makes.random.choice(["", "-"]) + " ".join(each) + makes.random.choice(["", "", " # x"]) for each in in_file]
            files[f"{HOME}/.x11vncrc"] = (0o644, UID, "\n".join([*lines, ""]))
        start = Start(Program.X11VNC, "pilot", tuple(words), Origin("/etc/systemd/system/screen.service", 4))
        made.append(
            (
                start,
                files,
                {
                    "words": ["/usr/bin/x11vnc", *words],
                    "seconds": 4,
                    "still": 0.5,
                    "source": "127.0.0.1",
                    "environment": {"DISPLAY": ":60"},
                },
            )
        )
    wrong = held(pilot, base, made, parse_network("127.0.0.1"))
    tell(f"x11vnc: {len(made)} sets of options, {len(wrong)} otherwise than said; {len(makes.used)} constructs used")
    assert not wrong, "\n".join(wrong[:8])


SH = "#!/bin/sh\n"
HOMES: list[dict[str, tuple[int, str]]] = [
    {},
    {".vnc/xstartup": (0o755, f"{SH}exec openbox\n")},
    {".vnc/xstartup": (0o644, f"{SH}exec openbox\n")},
    {".vnc/xstartup": (0o755, f"{SH}unset SESSION_MANAGER\nopenbox &\n")},
    {".vnc/xstartup": (0o755, "exec openbox\n")},
    {".vnc/xstartup": (0o755, f"{SH}exec openbox\n".replace("\n", "\r\n"))},
    {".vnc/xstartup": (0o755, f"{SH}exec startxfce4\n")},
    {".vnc/xstartup": (0o755, SH)},
    {".vnc/xstartup": (0o755, f"{SH}openbox &\n"), ".vnc/Xvnc-session": (0o755, f"{SH}exec openbox\n")},
    {".vnc/xstartup": (0o755, f"{SH}exec openbox\n"), ".vnc/Xtigervnc-session": (0o755, f"{SH}openbox &\n")},
    {".xsession": (0o644, "exec openbox\n")},
    {".xsession": (0o644, "openbox &\n")},
    {".xsession": (0o644, "openbox &\n"), ".vnc/tigervnc.conf": (0o644, "$vncStartup = undef;\n")},
    {".vnc/xstartup": (0o755, f"{SH}xterm &\nopenbox\n")},
    {".vnc/xstartup": (0o755, f"{SH}openbox &\n")},
    {".vnc/xstartup": (0o755, f"{SH}exec openbox\n")},
    {},
]
MORE = {14: ["-autokill", "no"], 15: ["-noxstartup"], 16: ["-noxstartup", "-autokill=no"]}


def test_whether_a_session_stays_and_the_server_with_it(pilot: Guest, base: Snapshot, tell: Callable[[str], None]) -> None:
    given, foretold_of = list[Any](), list[bool | None]()
    for number, home in enumerate(HOMES):
        folder = f"{HOME}/s{number}"
        files = {f"{folder}/{path}": (mode, UID, text) for path, (mode, text) in home.items()}
        files[f"{folder}/.vnc/passwd"] = (0o600, UID, "x" * 8)
        words = [f":{40 + number}", "-localhost", "yes", *MORE.get(number, [])]
        snapshot = pilot_with(base, folder, files)
        account = replace(readings.read(snapshot).accounts.by_name["pilot"], home=folder)
        found = layers.gathered(snapshot, account, words, Origin("x", 1))
        begins = session.start(snapshot, account, found.folder, words, wanted=found.session)
        assert found.gap is None
        foretold_of.append(None if begins is not None and begins.gap else begins is None or begins.refused is None)
        given.append(
            {"uid": UID, "home": folder, "files": packed(files), "words": ["tigervncserver", *words], "port": 5940 + number}
        )
    [real] = pilot.inside("python3", "/root/driver.py", stdin=json.dumps({"staying": given}) + "\n", timeout=120).splitlines()
    wrong = [
        f"{home}: said {said}, really {really}"
        for home, said, really in zip(HOMES, foretold_of, json.loads(real), strict=True)
        if said is not None and said is not really
    ]
    decided = sum(said is not None for said in foretold_of)
    tell(f"tigervncserver's sessions: {len(HOMES)} homes, {decided} decided, {len(wrong)} otherwise than said")
    assert not wrong, "\n".join(wrong)
    assert decided > 10


def pilot_with(base: Snapshot, folder: str, files: dict[str, tuple[int, int, str]]) -> Snapshot:
    """What is read of the guest, with a home of its own."""
    folders = {path: Entry(EntryKind.FOLDER, 0o755, UID, UID) for path in (folder, f"{folder}/.vnc")}
    absent = {
        f"{folder}/{name}": Entry(EntryKind.ABSENT)
        for name in (".xsession", ".Xsession", ".profile", ".xsessionrc", *(f".vnc/{own}" for own in session.OWN))
    }
    return base.with_files({**folders, **absent, **entries(files)})
