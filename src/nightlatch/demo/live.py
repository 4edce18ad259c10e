"""`nightlatch demo --live`: the same station as four guests that really run, and what happens when things go wrong."""

from __future__ import annotations

import os
import re
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path

import nightlatch
from nightlatch.demo.build import DISPLAY, HERE, PEOPLE, STARTED, SUDOERS, Story, stories, told_files
from nightlatch.demo.story import chapter
from nightlatch.faults import RefusedError
from nightlatch.formats.keys import decode
from nightlatch.lab.image import PASSWORD, Account
from nightlatch.lab.labs import Lab
from nightlatch.lab.machine import Guest, Node
from nightlatch.lab.tools import run, waited
from nightlatch.report import audit_text, change_text, page

ADDRESSES = {"gauge": 21, "gate": 22, "plotter": 23, "chartbox": 24}
SHORT = 6  # seconds on the latch where nobody keeps it
COPY_OUT = "#!/bin/sh\necho '2026-11-25T06:00:00+00:00 2.31 m'\n"


@dataclass
class Station:
    """The running station: the folder with the estate file, the guests, and the desk that calls them."""

    home: Path
    lab: Lab
    desk: Node
    guests: dict[str, Guest] = field(default_factory=dict)

    @property
    def config(self) -> Path:
        """The desk's client configuration: nothing of this machine's user."""
        return self.home / "ssh_config"

    @contextmanager
    def client(self) -> Iterator[nightlatch.Client]:
        """A client whose connections start at the desk."""
        with nightlatch.Client(self.config, program=str(self.home / "ssh-at-the-desk")) as client:
            yield client


@contextmanager
def station(home: Path) -> Iterator[Station]:
    """Start the station; everything ends with it. Raises RefusedError where this machine can't run guests."""
    with Lab() as lab:
        lab.network("isle", "192.168.56.254/24", "2001:db8:56::fe/64")
        lab.network("bench", "192.168.40.254/24", "2001:db8:40::fe/64")
        made = Station(home, lab, lab.node("desk", {"bench": ["192.168.40.7/24", "2001:db8:40::7/64"]}))
        _write(made)
        for each in made.guests.values():
            each.boot()
        for each in made.guests.values():
            each.until_listening()
        yield made


def _write(made: Station) -> None:
    home = made.home
    shutil.copytree(HERE / "keys", home / "keys")
    for name in ("keeper", "joon-desk"):  # these two log in for real, so their private halves are needed
        (home / f"keys/{name}.pub").unlink()
        run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", name, "-f", str(home / "keys" / name))
    made.config.write_text("Host *\n    IdentitiesOnly yes\n    UserKnownHostsFile /dev/null\n")
    program = home / "ssh-at-the-desk"
    program.write_text(f'#!/bin/sh\nexec {shlex.join(made.desk.words())} ssh "$@"\n')
    program.chmod(0o700)
    pins: dict[str, str] = {}
    for story in stories():
        made.guests[story.name] = _guest(made, story)
        pins[story.name] = _host_key(made, story)
    # No filter stands between these networks, so the file must not say that one does.
    lines = re.sub(r"    perimeter:.*\n(?:      .*\n)+", "", (HERE / "estate.yaml").read_text())
    for name, last in ADDRESSES.items():
        folder = f"via: {{folder: images/{name}, as: keeper, key: keys/keeper.pub, from: bench}}"
        assert folder in lines
        way = f"via: {{ssh: 192.168.56.{last}, as: keeper, key: keys/keeper.pub, from: bench}}"
        lines = lines.replace(folder, f'{way},\n             host_keys: ["{pins[name]}"]')
    (home / "estate.yaml").write_text(lines)


def _guest(made: Station, story: Story) -> Guest:
    last = ADDRESSES[story.name]
    guest = made.lab.guest(story.name, {"isle": [f"192.168.56.{last}/24", f"2001:db8:56::{last}/64"]})
    image = guest.image
    groups = {"mara": ("sudo", "boats"), "joon": ("boats",)}
    secret = dict.fromkeys((*story.passwords, "mara"), PASSWORD)
    people = [Account(n, uid, secret.get(n, ""), groups=groups.get(n, ())) for n, uid in PEOPLE.items()]
    image.accounts(people, numbers={"boats": 2001})
    image.units("ssh.service")
    image.write("/etc/ssh/sshd_config", (HERE / "sshd_config").read_text())
    image.write("/etc/sudoers", SUDOERS, 0o440)
    image.write("/usr/local/bin/copy-out", COPY_OUT, 0o755)
    image.own("/srv/charts", 0o755, 0, 0)
    image.own("/root/.ssh", 0o700, 0, 0)
    for path, content in told_files(story, made.home / "keys").items():
        owner = next((uid for name, uid in PEOPLE.items() if path.startswith(f"/home/{name}/")), 0)
        mode = 0o600 if path.startswith(("/home/", "/root/")) else 0o644
        image.write(path, content, *story.modes.get(path, (mode, owner, owner)))
        if path == DISPLAY:
            image.link(f"{STARTED}/tide-web.service", DISPLAY)
    return guest


def _host_key(made: Station, story: Story) -> str:
    """A host key, or a copy of another guest's where both come from one image; returns its fingerprint."""
    image, name = made.guests[story.name].image, "/etc/ssh/ssh_host_ed25519_key"
    line = image.host_key()
    if story.twin:
        other = made.guests[story.twin].image
        for half, mode in (("", 0o600), (".pub", 0o644)):
            image.write(name + half, other.path(name + half).read_bytes(), mode)
        line = other.path(f"{name}.pub").read_text()
    kind, blob = line.split()[:2]
    return decode(kind, blob).fingerprint


def tell_live(*, leave: bool = False, folder: Path | None = None) -> None:
    """Boot the station, tell the loop on it, and end it; with `leave`, hand over a prompt on it instead and end it with that.

    Raises RefusedError without root's rights, or when `folder` is there already.
    """
    if folder is not None and folder.exists():
        raise RefusedError(f"{folder} is there already; name a folder that is not")
    home = folder or Path(tempfile.mkdtemp(prefix="skerry-point-"))
    home.mkdir(mode=0o700, parents=True, exist_ok=True)
    sheet = page.Page(page.console())
    try:
        started = time.perf_counter()
        with station(home) as made:
            booted = time.perf_counter() - started
            if leave:
                _prompt(sheet, made, booted)
                return
            _tell(sheet, made, booted)
            sheet.blank()
            sheet.line(f"That was the whole loop on running guests, in {time.perf_counter() - started:.0f} seconds.")
    finally:
        shutil.rmtree(home, ignore_errors=True)


def _tell(sheet: page.Page, made: Station, booted: float) -> None:
    estate = nightlatch.load_estate(made.home / "estate.yaml")
    chapter(
        sheet,
        "Skerry Point, live",
        f"Four guests are up after {booted:.1f} seconds: their own systemd, sshd and accounts, on networks from which "
        "nothing leads out. The desk at 192.168.40.7 reads them over SSH, through the account keeper. Their host keys "
        "stand in the estate file.",
    )
    with made.client() as client:
        _loop(sheet, made, estate, client)


def _loop(sheet: page.Page, made: Station, estate: nightlatch.Estate, client: nightlatch.Client) -> None:
    at = datetime.now(UTC)
    chapter(
        sheet,
        "1. audit",
        "One connection each reads the files and asks sshd itself; the two are compared.",
    )
    audit_text.audit(sheet, nightlatch.audit(estate, at, client=client), "estate.yaml")
    _wire(sheet, made, "On the wire, before:")
    chapter(sheet, "2. draft", "Worked out on the evidence, and proved on it.")
    todo = []
    surveys = sorted(nightlatch.survey(estate, client=client), key=lambda each: list(ADDRESSES).index(each.guest))
    for surveyed in surveys:
        assert surveyed.snapshot is not None, surveyed.problem
        proved = nightlatch.prove(estate, nightlatch.draft(estate, surveyed.snapshot, at), surveyed.snapshot, at)
        change_text.draft(sheet, proved)
        todo += [surveyed.guest] if proved.draft.does else []
    chapter(
        sheet,
        "3. nobody keeps it",
        f"The change goes onto the latch of gate for {SHORT} seconds, and then nobody comes to keep it.",
    )
    done = nightlatch.enact(estate, "gate", at, client=client, seconds=SHORT, decide=lambda _: None)
    _latched(sheet, done)
    sheet.blank()
    change_text.latches(sheet, list(nightlatch.pending(estate, ["gate"], client=client)), "estate.yaml")
    _until_free(made.guests["gate"])
    sheet.blank()
    sheet.line("Some seconds later:")
    change_text.latches(sheet, list(nightlatch.pending(estate, ["gate"], client=client)), "estate.yaml")
    _wire(sheet, made, "On the wire, as before:", "gate")
    chapter(sheet, "4. the power goes", "Once more, and while the change is on the latch, everything on gate dies at once.")
    _latched(sheet, nightlatch.enact(estate, "gate", at, client=client, decide=lambda _: None))
    made.guests["gate"].power_cut()
    made.guests["gate"].boot()
    made.guests["gate"].until_listening()
    sheet.blank()
    sheet.line("gate has started again.")
    change_text.latches(sheet, list(nightlatch.pending(estate, ["gate"], client=client)), "estate.yaml")
    _wire(sheet, made, "On the wire, as before:", "gate")
    chapter(
        sheet,
        "5. enact and keep",
        "One guest after the other; a fresh connection comes in each time, reads the guest again, and keeps what holds. "
        "gate and chartbox are made of one image: the second gets host keys of its own, and the estate file pins them.",
    )
    for name in todo:
        _latched(sheet, nightlatch.enact(estate, name, at, client=client, agreed={nightlatch.Consent.IDENTITY}))
    estate = nightlatch.load_estate(made.home / "estate.yaml")
    chapter(sheet, "6. audit again", "The same question once more, and the wire.")
    audit_text.audit(sheet, nightlatch.audit(estate, datetime.now(UTC), client=client), "estate.yaml")
    _wire(sheet, made, "On the wire, after:")
    chapter(
        sheet,
        "7. reach",
        "What is granted, tried from the desk without logging in: the host key proven and compared, the methods asked for.",
    )
    words = ("reach", str(made.home / "estate.yaml"), "--ssh-config", str(made.config), "--on", "gate")
    for line in made.desk.run(sys.executable, "-m", "nightlatch.cli", *words, check=False, timeout=60).splitlines():
        sheet.line(line)
    chapter(sheet, "8. undo", "A kept change is taken back by way of the latch, too.")
    change_text.undone(sheet, nightlatch.undo(estate, "gate", datetime.now(UTC), client=client).changed)
    _other_port(sheet, made, client, at)


def _other_port(sheet: page.Page, made: Station, client: nightlatch.Client, at: datetime) -> None:
    """SSH of gauge moves to another port, in two drafts, so that there is a door at every step."""
    sentence = "  - {run: ssh, on: gauge, at: 2222}\n"
    chapter(
        sheet,
        "9. another port",
        f"The estate file gets one more sentence:{sentence[3:-1]}. The new port is opened beside the old one, proven, and "
        "written under via; then the old one is closed over it.",
    )
    path = made.home / "estate.yaml"
    path.write_text(path.read_text() + sentence)
    for _ in range(2):
        _latched(sheet, nightlatch.enact(nightlatch.load_estate(path), "gauge", at, client=client))
        open_now = made.guests["gauge"].inside("sh", "-c", "ss -Hltn | sed 's/.*:\\([0-9]*\\) .*/\\1/' | sort -nu | xargs")
        sheet.line(f"  listens on {open_now.strip()}")


def _latched(sheet: page.Page, done: nightlatch.Latched) -> None:
    assert done.confirmation is not None
    change_text.latched(
        sheet,
        done.changed,
        done.outcome,
        done.confirmation,
        "estate.yaml",
        followed=done.followed,
        port=done.port,
        host_keys=done.host_keys,
        keys=done.keys,
    )


def _wire(sheet: page.Page, made: Station, title: str, *names: str) -> None:
    """Real logins of joon with their own key, and the methods that the guest names to a stranger."""
    sheet.blank()
    sheet.line((title, "name"))
    for name in names or ADDRESSES:
        words = ["ssh", "-v", "-F", str(made.config), "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=no"]
        words += ["-o", "ConnectTimeout=5", "-i", str(made.home / "keys/joon-desk")]
        words += [f"joon@192.168.56.{ADDRESSES[name]}", "echo in"]
        said = made.desk.run("sh", "-c", f"{shlex.join(words)} 2>&1", check=False, timeout=20)
        told = [line for line in said.splitlines() if "Authentications that can continue" in line]
        offered = [line.rpartition(" ")[2].strip() for line in told]
        inside = "joon gets in with their key" if "\nin" in said.replace("\r", "") else "joon's key is rejected"
        sheet.line(f"  {name:<10} offers {' and '.join(offered[0].split(',')) if offered else 'nothing'}; {inside}")


def _until_free(guest: Guest) -> None:
    lock = guest.root / "var/lib/nightlatch/lock"

    def asked() -> Iterator[bool]:
        while True:
            yield not lock.exists()

    waited("taking the change back", asked(), SHORT + 15)


# The commands that go to guests, which take a client configuration.
CALLING = "access audit survey draft enact keep undo pending reach meet exposure addresses new perimeter why compare"
WRAPPER = """#!/bin/sh
# nightlatch at the desk of the station: inside its networks, with its client configuration.
case " {calling} " in
*" $1 "*) [ $# = 0 ] || {{ command=$1; shift; set -- "$command" --ssh-config {config} "$@"; }} ;;
esac
exec {enter} {python} -m nightlatch.cli "$@"
"""


def _prompt(sheet: page.Page, made: Station, booted: float) -> None:
    """A shell in the station's folder, in which `nightlatch` runs at the desk. The station ends with it."""
    program = made.home / "bin" / "nightlatch"
    program.parent.mkdir()
    program.write_text(
        WRAPPER.format(
            calling=CALLING,
            config=shlex.quote(str(made.config)),
            enter=shlex.join(made.desk.words()),
            python=shlex.quote(sys.executable),
        )
    )
    program.chmod(0o700)
    sheet.wrapped(
        f"Four guests are up after {booted:.1f} seconds: {', '.join(ADDRESSES)}. At this prompt nightlatch runs at the desk "
        "of the station, on networks from which nothing leads out. Leave it with exit, and all of it ends."
    )
    for command in (
        "nightlatch audit",
        "nightlatch draft --on gate",
        "nightlatch enact --on gate --leave",
        "nightlatch pending",
        "nightlatch reach",
        "nightlatch undo --on gate",
    ):
        sheet.line("  ", (command, "next"))
    sheet.blank()
    sys.stdout.flush()
    shell = ["sh", "-i"] if sys.stdin.isatty() else ["sh"]
    path = f"{program.parent}:{os.environ.get('PATH', os.defpath)}"
    subprocess.run(shell, cwd=made.home, env={**os.environ, "PATH": path, "PS1": "skerry point> ", "ENV": ""}, check=False)
