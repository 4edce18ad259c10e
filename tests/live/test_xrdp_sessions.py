"""Who gets a session of xrdp, and whether it stays, as it was read from files, held against the real session manager: it starts a
session for many accounts that differ in their state and in their homes, under several settings."""

from __future__ import annotations

import re
import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime

import pytest

from nightlatch.evidence.collect import collect
from nightlatch.evidence.screen_files import SESMAN
from nightlatch.lab.image import PASSWORD, Account
from nightlatch.lab.machine import Guest
from nightlatch.model.powers import DESKTOP
from nightlatch.net.addresses import EVERY_ADDRESS
from nightlatch.readings import guest as readings
from nightlatch.services.rdp.collected import COLLECTED
from nightlatch.services.rdp.entries import RdpAccess
from nightlatch.services.rdp.kind import RDP
from nightlatch.transports.folder import Folder
from tests.budget import sample
from tests.live.station import Station
from tests.live.test_xrdp import SCREENS

pytestmark = pytest.mark.judge("unshare", "nsenter", "ip", "xterm", root=True, tree=SCREENS)
FIRST = 2000
PILOTS = 1980
STATUS = "Package: xrdp\nStatus: install ok installed\nVersion: 0.9.21.1-1+deb12u1\n\n"


@dataclass(frozen=True)
class Home:
    """An account: what its shadow line is made of, and its files, each with its mode."""

    files: tuple[tuple[str, str, int], ...] = ()
    shadow: str = "{hash}:20000:0:99999:7:::"
    owner: bool = True
    mode: int = 0o755
    home: str = "/home/{name}"
    groups: tuple[str, ...] = ()
    shell: str = "/bin/bash"
    word: str = PASSWORD


def xsession(text: str, mode: int = 0o644) -> Home:
    return Home(((".xsession", text, mode),))


def own(text: str, mode: int = 0o755) -> Home:
    return Home((("startwm.sh", text, mode),))


HOMES = [
    Home(),
    Home(shadow="*:20000:0:99999:7:::"),
    Home(shadow="!{hash}:20000:0:99999:7:::"),
    Home(shadow="{hash}:20000:0:99999:7::1:"),
    Home(shadow="{hash}:0:0:99999:7:::"),
    Home(shadow="{hash}:10000:0:90:7:::"),
    Home(shadow=":20000:0:99999:7:::", word="whatever"),
    Home(word="wrong"),
    Home(groups=("tape", "pilots")),
    Home(shell="/usr/sbin/nologin"),
    Home(shell="/bin/false"),
    Home(owner=False),
    Home(mode=0o0),
    Home(home="/"),
    Home(home="/home/nowhere"),
    xsession("exec openbox\n"),
    xsession("#!/bin/sh\n# mine\nexport X=1\nopenbox\n", 0o755),
    xsession("openbox &\n"),
    xsession("xterm &\nexec openbox\n"),
    xsession(""),
    xsession("# nothing\n"),
    xsession("openbox\r\n"),
    xsession("no-such-program\n"),
    xsession("startxfce4\n"),
    xsession("exec openbox\n", 0o0),
    xsession("xsetroot -solid grey\nopenbox\n"),
    xsession("if true; then exec openbox; fi\n"),
    xsession("sleep 600\n"),
    xsession("true\n"),
    Home(((".xsession/in", "", 0o644),)),
    Home(((".Xsession", "exec openbox\n", 0o644),)),
    Home(((".xsession", "exec openbox\n", 0o644), (".xsessionrc", "exit 0\n", 0o644))),
    Home(((".xsession", "exec openbox\n", 0o644), (".profile", "exit 0\n", 0o644))),
    Home(((".xinitrc", "exit 1\n", 0o644), (".Xclients", "exit 1\n", 0o755))),
    own("#!/bin/sh\nexec openbox\n"),
    own("#!/bin/sh\nopenbox &\n"),
    own("#!/bin/sh\nexec openbox\n", 0o644),
    own("exec openbox\n"),
    own("#!/bin/sh\r\nexec openbox\r\n"),
    own("#!/bin/nosh\nexec openbox\n"),
    own("#!/bin/sh\n"),
]
XORG = "[Xvnc]\nparam=Xvnc\n[Xorg]\nparam=/usr/lib/xorg/Xorg\nparam=-config\nparam=xrdp/xorg.conf\nparam=-noreset\nparam=-nolisten\nparam=tcp\n"
BASE = """[Globals]
ListenAddress=127.0.0.1
ListenPort=3350
EnableUserWindowManager=true
UserWindowManager=startwm.sh
DefaultWindowManager=startwm.sh
[Security]
AllowRootLogin=true
MaxLoginRetry=4
[Sessions]
X11DisplayOffset=10
MaxSessions=90
[Logging]
LogFile=xrdp-sesman.log
LogLevel=INFO
"""
# Each setting with the accounts that it is tried on; None stands for all.
SETTINGS: list[tuple[str, str, int | None]] = [
    ("as packaged", "", None),
    ("root refused, one group", "[Security]\nAllowRootLogin=false x\nTerminalServerUsers=pilots\n", 12),
    ("a group of a name that is there twice", "[Security]\nTerminalServerUsers=tape\n", 4),
    ("a group that is not there", "[Security]\nTerminalServerUsers=boats\n", 4),
    ("a group is always asked for", "[Security]\nTerminalServerUsers=boats\nAlwaysGroupCheck=yes\n", 4),
    ("two groups are one name", "[Security]\nTerminalServerUsers=tape,boats\n", 4),
    ("no sessions", "[Sessions]\nMaxSessions=0\n", 4),
    ("no limit named", "[Sessions]\nX11DisplayOffset=10\n", 4),
    (
        "users' own not run",
        "[Globals]\nListenPort=3350\nEnableUserWindowManager=no\nUserWindowManager=startwm.sh\nDefaultWindowManager=startwm.sh\n",
        None,
    ),
    ("a default that is not there", "[Globals]\nListenPort=3350\nDefaultWindowManager=gone.sh\n", 6),
    ("a default of its own", "[Globals]\nListenPort=3350\nDefaultWindowManager=/etc/xrdp/own.sh\n", 6),
    ("no server", "[Xorg]\nparam=/usr/lib/xorg/Xgone\n", 4),
    ("the server by its name", "[Xorg]\nparam=Xorg\nparam=-config\nparam=xrdp/xorg.conf\nparam=-noreset\n", 4),
]


@pytest.fixture(scope="module")
def pilot(station: Station) -> Guest:
    """A guest with xrdp, and an account for each home."""
    people = [Account(f"p{number}", FIRST + number, PASSWORD) for number in range(len(HOMES))]
    made = station.guest("desk-guest", bare=True, unit="", more=people, programs=(SCREENS,))
    made.image.write("/var/lib/dpkg/status", STATUS)
    made.image.write("/etc/xrdp/own.sh", "#!/bin/sh\nexec openbox\n", 0o755)
    for path in ("/etc/xrdp/xrdp.ini", "/etc/xrdp/startwm.sh"):
        made.image.write(path, (SCREENS / path[1:]).read_text(), 0o755)
    made.image.link("/usr/bin/x-window-manager", "openbox")
    shadow = made.image.folder / "etc/shadow"
    passwd, lines = made.image.folder / "etc/passwd", dict(line.split(":", 1) for line in shadow.read_text().splitlines())
    rows = passwd.read_text()
    with (made.image.folder / "etc/group").open("a") as stream:
        for number, group in enumerate(("pilots", "tape")):  # the system has a group tape already, and that one counts
            inside = [who.name for who, home in zip(people, HOMES, strict=True) if group in home.groups]
            stream.write(f"{group}:x:{PILOTS + number}:{','.join(inside)}\n")
    for who, home in zip(people, HOMES, strict=True):
        place = home.home.format(name=who.name)
        lines[who.name] = home.shadow.format(hash=lines[who.name].split(":")[0])
        rows = re.sub(rf"(?m)^({who.name}:.*):[^:]*:[^:]*$", rf"\1:{place}:{home.shell}", rows)
        if place == f"/home/{who.name}":
            uid = who.uid if home.owner else 0
            made.image.own(place, home.mode, uid, uid)
            for name, text, mode in home.files:
                made.image.write(f"{place}/{name}", text, mode, uid, uid)
    passwd.write_text(rows)
    shadow.write_text("".join(f"{name}:{rest}\n" for name, rest in lines.items()))
    made.boot()
    made.inside("sh", "-c", "mkdir -p /run/xrdp/sockdir && chmod 3777 /run/xrdp/sockdir")
    return made


def merged(more: str) -> str:
    """The settings: a section that is named in `more` takes the place of the usual one."""
    parts = {text.split("]")[0]: f"[{text}" for text in (BASE + XORG).split("[")[1:]}
    parts |= {text.split("]")[0]: f"[{text}" for text in more.split("[")[1:]}
    return "".join(parts.values())


def real(guest: Guest, chosen: list[tuple[str, str]]) -> dict[str, tuple[bool, bool]]:
    """For each account whether it was let in, and whether its session stands five seconds later."""
    guest.inside(
        "sh", "-c", "rm -rf /tmp/.X11-unix/* /tmp/.X*-lock; xrdp-sesman -n >/tmp/sesman.log 2>&1 & sleep 0.5", check=False
    )
    script = "".join(f"echo = {name}; timeout 9 xrdp-sesrun -s ::1 -t Xorg -p '{word}' {name} 2>&1\n" for name, word in chosen)
    out = guest.inside("sh", stdin=script, timeout=300, check=False)
    told = {part.split("\n")[0].strip(): part for part in out.split("= ")[1:]}
    time.sleep(5)
    owners = guest.inside("sh", "-c", "ps -eo user:32,args | grep '[X]org :' | cut -d' ' -f1", check=False).split()
    guest.inside(
        "sh", "-c", f"pkill -9 xrdp; pkill -9 Xorg; for n in $(seq {FIRST} {FIRST + len(HOMES)}); do pkill -9 -u $n; done; true"
    )
    return {name: ("data=1" in told.get(name, ""), name in owners) for name, _ in chosen}


@pytest.mark.parametrize("name, more, few", sample(SETTINGS, 4), ids=lambda value: value if isinstance(value, str) else "")
def test_sessions_are_those_of_the_real_one(
    pilot: Guest, name: str, more: str, few: int | None, tell: Callable[[str], None]
) -> None:
    pilot.inside("sh", "-c", f"cat >{SESMAN}", stdin=merged(more))
    chosen = [(f"p{number}", home.word) for number, home in enumerate(HOMES)][:few]
    if few is not None:
        chosen += [("p8", PASSWORD), ("root", PASSWORD)]
    with Folder(pilot.root) as source:
        reading = readings.read(collect(source, "desk-guest", COLLECTED))
    [server] = RDP.servers(reading, datetime.now(UTC))
    [socket] = server.stands.listeners
    entries = {
        entries.worlds[0][0].account: entries.worlds[0] for entries in server.entries(socket, EVERY_ADDRESS) if entries.worlds[0]
    }
    stands = server.stands
    assert isinstance(stands, RdpAccess)
    found = real(pilot, chosen)
    wrong, unsure, decided = list[str](), list[str](), 0
    for who, word in chosen:
        mine = [each for each in entries.get(who, ()) if each.power == DESKTOP]
        let_in, stays = found[who]
        if any(each.seen.surely for each in mine):
            expected = word != "wrong"
        elif mine:
            unsure += [f"{who}: {gap.because} ({gap.origin})" for gap in mine[0].gaps[:1]]
            continue
        else:
            expected = False
        decided += 1
        if stays is not expected:
            causes = [cause for account, cause in (*stands.shut, *stands.without) if account == who]
            wrong.append(
                f"{who} {HOMES[int(who[1:])] if who[1:].isdigit() else ''}: {expected}, really {let_in, stays}; {causes}"
            )
    tell(f"sessions, {name}: {len(chosen)} accounts, {decided} decided, {len(wrong)} otherwise than said")
    assert not wrong, "\n".join(wrong)
    assert decided > 0.7 * len(chosen), "\n".join(unsure)
