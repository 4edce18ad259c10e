"""Runs inside the namespaces: sets each scene up, predicts every attempt, tries it, and prints both as JSON lines."""

from __future__ import annotations

import json
import sys
from datetime import UTC, datetime
from pathlib import Path

from nightlatch.evidence.collect import collect
from nightlatch.readings import guest as readings
from nightlatch.reason.access import COMMON, Certificate, Gives, Key, Password, Secret
from nightlatch.reason.paths import GuestAccess, guest_access
from nightlatch.transports.folder import Folder
from tests.judges.login_guest import SOURCES, Guest
from tests.judges.login_scenes import mixtures, reasons


def shown(guest: Guest, account: str, how: str) -> frozenset[Secret]:
    from nightlatch.formats.keys import decode

    held: set[Secret] = set()
    for part in how.split("+"):
        kind, _, name = part.partition(" ")
        if kind == "key":
            held.add(Key(decode(*guest.public(name).split()[:2]).fingerprint))
        elif kind == "cert":
            held.add(Key(decode(*guest.public("ed").split()[:2]).fingerprint))
            authority = decode(*guest.public("ca").split()[:2]).fingerprint
            held.add(Certificate(authority, None if name == "nobody" else name))
        elif kind in ("password", "kbd"):
            held.add(Password("judged", account))
    return frozenset(held)


def predicted(access: GuestAccess, account: str, held: frozenset[Secret], source: str, how: str) -> str:
    """yes, no or undecided. A password shown by one method is not tried by the other."""
    perhaps = False
    for path in access.paths:
        if path.account != account or not path.need <= held:
            continue
        only = {"password": "KbdInteractive", "kbd": "PasswordAuthentication"}.get(how)
        names = [proof.text for proof in path.proofs if "Authentication yes" in proof.text]
        if only and names and all(name.startswith(only) for name in names):
            continue
        if source in path.callers.surely.get(COMMON, EMPTY):
            return "yes"
        perhaps = perhaps or source in path.callers.perhaps.get(COMMON, EMPTY)
    return "undecided" if perhaps else "no"


def main(work: str, part: int, parts: int, seed: int, count: int) -> None:
    guest = Guest(Path(work))
    scenes = [*reasons(), *mixtures(seed, count)]
    for number, (name, scene, tries) in enumerate(scenes):
        if number % parts != part:
            continue
        guest.set_up(scene)
        reading = readings.read(collect(Folder(Path("/")), "judged"))
        access = guest_access(reading, datetime.now(UTC))
        for account, how, where in tries:
            guess = predicted(access, account, shown(guest, account, how), SOURCES[where], how)
            real = guest.attempt(account, how, where)
            log = "" if guess == ("yes" if real else "no") else guest.log()[-1500:]
            out = {
                "scene": name,
                "pam": scene.pam,
                "try": f"{account} {how} from {where}",
                "said": guess,
                "real": real,
                "log": log,
            }
            print(json.dumps(out), flush=True)
    guest.stop()


from nightlatch.net.addresses import NO_ADDRESS as EMPTY  # noqa: E402

assert Gives.SHELL

if __name__ == "__main__":
    main(sys.argv[1], *(int(word) for word in sys.argv[2:6]))
