"""What a release leaves behind, kept as files: the next ones read it, list it, keep it and take it back.

`python -m tests.live.releases` writes those of the release that runs it into tests/releases/VERSION; nothing there is ever
changed afterwards. It needs the lab, for the script of a change is the one that a real guest would get.
"""

from __future__ import annotations

import json
import re
import shutil
import sys
import tarfile
import tempfile
from dataclasses import replace
from datetime import UTC, datetime
from importlib.metadata import version
from pathlib import Path

from nightlatch.estate.load import load
from nightlatch.evidence.snapshot import Entry, EntryKind, Snapshot, from_files
from nightlatch.lab.inside import Inside
from nightlatch.lab.labs import Lab
from nightlatch.lab.machine import Guest
from nightlatch.latch.folder import new_change_id
from nightlatch.latch.planned_change import planned
from nightlatch.latch.transaction import Transaction
from nightlatch.ops.draft import draft, prove
from nightlatch.ops.enact import enact, terms
from nightlatch.ops.evidence import read_evidence, write_evidence
from nightlatch.ops.survey import survey_live, survey_target
from tests.guests import AT, listening, pub, sshd
from tests.guests import Guest as Tree
from tests.guests import estate as estate_file
from tests.live.station import Station

RELEASES = Path(__file__).parents[1] / "releases"
GRANT = """
let: mara, into: all guests, by: ssh, from: bench, with: key
let: joon, into: all guests, by: ssh, from: bench, with: key
"""
CONFIG = "PasswordAuthentication yes\nPermitRootLogin yes\n"
PLACE = "/etc/ssh/sshd_config.d/10-station.conf"
NONCE = "0123456789abcdef01234567"


def folder_guest() -> Tree:
    """The guest whose tree and evidence are kept."""
    return Tree(CONFIG, {"mara": pub("mara-desk") + "\n"}, modes={"/home/mara/.ssh/authorized_keys": (0o664, 1001, 1001)})


def evidence(into: Path) -> None:
    """Evidence of a folder, and of a running guest with names that are no UTF-8; both archives and what they hold."""
    with tempfile.TemporaryDirectory() as place:
        tree = survey_target(folder_guest().write(Path(place) / "gauge"))
    running = replace(
        from_files(
            "plotter", {"/etc/passwd": b"root:x:0:0::/root:/bin/sh\n", "/etc/ssh/sshd_config": b"Port 22\n", "/etc/\udcff": b"x"}
        ),
        listings={**listening(("tcp", "0.0.0.0", 22, "sshd", 7)), **sshd(7, 1000)},
        facts={"transport": "ssh", "uid": "0", "init": "systemd", "clock": "1796011940"},
        notes=("a note",),
    )
    for name, snapshot in (("folder", tree), ("running", running)):
        write_evidence(snapshot, into / f"{name}.evidence.tar.gz", AT, transport=snapshot.facts.get("transport", "folder"))
        (into / f"{name}.json").write_text(
            json.dumps(described(read_evidence(into / f"{name}.evidence.tar.gz")), indent=1) + "\n"
        )


def described(snapshot: Snapshot) -> dict[str, object]:
    """A snapshot as plain text, to compare what a later release reads."""

    def entry(each: Entry) -> list[object]:
        content = None if each.content is None else each.content.decode("latin-1")
        return [
            each.kind.value,
            each.mode,
            each.uid,
            each.gid,
            each.size,
            content,
            each.target,
            each.note,
            each.reduced,
        ]

    return {
        "guest": snapshot.guest,
        "listed": sorted(map(ascii, snapshot.listed)),
        "notes": list(snapshot.notes),
        "facts": {name: text for name, text in snapshot.facts.items() if name != "tool"},
        "entries": {ascii(path): entry(each) for path, each in sorted(snapshot.entries.items())},
        "listings": {name: raw.decode("latin-1") for name, raw in snapshot.listings.items()},
    }


def kept_in_a_folder(into: Path) -> None:
    """A folder guest with a change that was kept there, and how every path was before."""
    with tempfile.TemporaryDirectory() as place:
        home = Path(place)
        made = estate_file(home, "let: mara, into: gauge, by: ssh, from: bench, with: key")
        root = folder_guest().write(home / "images/gauge")
        before = tree_of(root)
        enact(made, "gauge", AT)
        (into / "folder-before.json").write_text(json.dumps(before, indent=1, sort_keys=True) + "\n")
        with tarfile.open(into / "folder-after.tar.gz", "w:gz") as tar:
            tar.add(root, "gauge")


def tree_of(root: Path) -> dict[str, list[object]]:
    """Every path with mode, owner and content."""
    out: dict[str, list[object]] = {}
    for path in sorted(root.rglob("*")):
        status = path.lstat()
        content = path.read_bytes().decode("latin-1") if path.is_file() else None
        out[str(path.relative_to(root))] = [status.st_mode, status.st_uid, status.st_gid, content]
    return out


def live_guest(station: Station, name: str, address: str) -> Guest:
    """A guest with passwords open, as a release before this one found it."""
    guest = station.guest(name, address, config=CONFIG)
    for account in ("keeper", "mara", "joon"):  # so that nothing needs to change that a run makes by chance
        keys = guest.image.folder / f"home/{account}/.ssh/authorized_keys"
        keys.write_text(f'from="192.168.40.0/24,2001:db8:40::/64" {keys.read_text()}')
    guest.boot()
    guest.until_listening()
    return guest


def script_of_a_change(into: Path) -> None:
    """The script of a change as it is sent to a running guest; two values are filled in when it is used."""
    with Lab() as lab, tempfile.TemporaryDirectory() as place:
        station = Station(lab, Path(place))
        guest = live_guest(station, "gauge", "192.168.56.21")
        estate = load(station.estate(GRANT, more=""))
        at = datetime.now(UTC)
        snapshot = survey_live(Inside(guest))
        proved = prove(estate, draft(estate, snapshot, at), snapshot, at)
        changed = list(proved.changed)
        assert changed, "there is nothing to change"
        assert all(path.startswith("/etc/ssh/") for path in changed), changed
        on = replace(terms(at, new_change_id(at), 600), owner="mara@desk")
        made = Transaction(planned(estate, proved), on)
        files = {
            path: (entry.content or b"").decode()
            if (entry := snapshot.entries.get(path)) is not None and entry.kind is EntryKind.FILE
            else None
            for path in changed
        }
        script = re.sub(r"(?m)^door=.*$", "door=DOOR", made.begin(NONCE).decode())
        script = re.sub(r"(?m)^door_since=.*$", "door_since=SINCE", script)
        told = {"change": made.change, "before": files, "nonce": NONCE, "script": script}
        (into / "change.json").write_text(json.dumps(told, indent=1) + "\n")


def main() -> None:
    """Write all of it for this release, where nothing is there yet."""
    into = RELEASES / version("nightlatch")
    if into.exists() and "--again" not in sys.argv:
        raise SystemExit(f"{into} is there already; what a release left is not changed afterwards")
    shutil.rmtree(into, ignore_errors=True)
    into.mkdir(parents=True)
    evidence(into)
    kept_in_a_folder(into)
    script_of_a_change(into)
    print(f"written: {', '.join(sorted(path.name for path in into.iterdir()))}")


if __name__ == "__main__":
    main()
