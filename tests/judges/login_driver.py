"""Runs inside the namespaces: sets each scene up, predicts every attempt, tries it, and prints both as JSON lines."""

from __future__ import annotations

import json
import re
import sys
from datetime import UTC, datetime
from ipaddress import ip_address
from itertools import product
from pathlib import Path

from nightlatch.access.chains import chains
from nightlatch.access.paths import GuestAccess, guest_access
from nightlatch.estate.load import load
from nightlatch.evidence.collect import collect
from nightlatch.formats.keys import decode
from nightlatch.latch import folder as latch
from nightlatch.model.causes import SettingLine
from nightlatch.model.links import Holds, admitted
from nightlatch.model.secrets import Certificate, Key, Password, Secret
from nightlatch.model.sources import COMMON
from nightlatch.net.addresses import NO_ADDRESS, single
from nightlatch.ops.draft import draft, prove
from nightlatch.ops.enact import apply
from nightlatch.ops.giving import GivenPassword
from nightlatch.ops.survey import survey_target
from nightlatch.ops.why import of_one
from nightlatch.readings import guest as readings
from nightlatch.services.base import Login
from nightlatch.services.ssh.closing_steps import ASKING
from nightlatch.services.table import KINDS
from nightlatch.transports.folder import Folder
from tests.judges.login_guest import SOURCES, Guest
from tests.judges.login_scenes import mixtures, reasons

SHADOW = Path("/etc/shadow")


def shown(guest: Guest, account: str, how: str) -> frozenset[Secret]:
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
        only = {"password": "kbdinteractiveauthentication", "kbd": "passwordauthentication"}.get(how)
        names = [cause.keyword for cause in path.causes if isinstance(cause, SettingLine) and cause.keyword in ASKING]
        if only and names and all(name == only for name in names):
            continue
        if source in path.callers.surely.get(COMMON, NO_ADDRESS):
            return "yes"
        perhaps = perhaps or source in path.callers.perhaps.get(COMMON, NO_ADDRESS)
    return "undecided" if perhaps else "no"


def taken_apart(access: GuestAccess, account: str, held: frozenset[Secret], source: str) -> str:
    """What is wrong with the links of a login, against what the whole reasoning says of it; empty where they agree."""
    address = single(ip_address(source))
    (chain,) = chains(access, KINDS, of_one("judged"), Login(account, held), "ssh", {COMMON: address})
    links = admitted(chain.links)
    said = (bool(links.surely), bool(links.perhaps))
    if said != (bool(chain.certain), bool(chain.certain or chain.possible)):
        return f"links say {said}, the whole {chain.holds.value}: {[(e.kind.value, e.holds.value) for e in chain.links]}"
    silent = [each.kind.value for each in chain.links if each.holds is Holds.NO and not each.breaks]
    return f"nothing explains {silent}" if silent else ""


ESTATE = """\
nightlatch: 1
estate: Judged
places: {bench: [192.168.40.0/24], field: [203.0.113.9]}
people: {mara: {keys: [keys/ed.pub]}, joon: {keys: [keys/ec.pub]}}
guests: {judged: {via: {folder: /}}}
grants:
  - {let: mara, into: judged, by: ssh, from: bench, with: key}
  - {let: joon, into: judged, by: ssh, from: field, with: password}
"""
GRANTED = {("mara", "key ed", "bench"), ("joon", "password", "field")}


def drafted(work: str, part: int, parts: int, seed: int, count: int) -> None:
    """Draft and enact on every mixture for real, then try every login: only what is granted may open."""
    guest = Guest(Path(work))
    path = Path(work) / "estate.yaml"
    path.write_text(ESTATE)
    estate = load(path)
    for number, (name, scene, _) in enumerate(mixtures(seed + 1, count)):
        if number % parts != part:
            continue
        guest.set_up(scene)
        at = datetime.now(UTC)
        snapshot = survey_target(Path("/"), "judged")
        proved = prove(estate, draft(estate, snapshot, at), snapshot, at)
        given = list[GivenPassword]()
        changed = apply(proved, Path("/"), at, hand_over=given.append)
        as_given = SHADOW.read_text()
        for each in given:  # as their people do at their first login
            mine, own = rf"(?m)^{each.account}:[^:]*:0:", f"{each.account}:{guest.hash}:19900:"
            SHADOW.write_text(re.sub(mine, own, SHADOW.read_text()))
        guest.stop()
        guest.start()
        left = " ".join(entry.text for entry in proved.draft.left)
        for account in ("mara", "joon"):
            for how, where in product(("key ed", "key ec", "password"), ("bench", "field", "ten")):
                real = guest.attempt(account, how, where)
                should = (account, how, where) in GRANTED
                excused = should and not real and account in left
                steps = [f"{s} because {s.why}" for s in proved.draft.steps]
                wrong = real != should and not excused
                out = {
                    "scene": name,
                    "try": f"{account} {how} from {where}",
                    "should": should,
                    "real": real,
                    "excused": excused,
                    "left": left,
                    "steps": steps if wrong else len(steps),
                    "log": guest.log()[-800:] if wrong else "",
                }
                print(json.dumps(out), flush=True)
        SHADOW.write_text(as_given)
        if changed.change:
            latch.undo(Path("/"), "judged", changed.change)
            again = survey_target(Path("/"), "judged")
            same = {p: again.entries.get(p) for p in proved.changed} == {p: snapshot.entries.get(p) for p in proved.changed}
            if not same:
                print(
                    json.dumps(
                        {
                            "scene": name,
                            "try": "undo",
                            "should": True,
                            "real": False,
                            "excused": False,
                            "left": "",
                            "steps": 0,
                            "log": "undo differs",
                        }
                    )
                )
    guest.stop()


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
                "links": taken_apart(access, account, shown(guest, account, how), SOURCES[where]),
            }
            print(json.dumps(out), flush=True)
    guest.stop()


if __name__ == "__main__":
    act = {"predict": main, "draft": drafted}[sys.argv[1]]
    act(sys.argv[2], *(int(word) for word in sys.argv[3:7]))
