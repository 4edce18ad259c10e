"""Our effective settings against `sshd -T -C` on thousands of generated trees."""

from __future__ import annotations

import os
import random
import subprocess
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from nightlatch.evidence.snapshot import Entry, EntryKind, Snapshot
from nightlatch.model.sockets import Listener
from nightlatch.readings import sshd
from nightlatch.services.ssh import settings as reason
from tests import trees
from tests.budget import cases

SSHD = "/usr/sbin/sshd"
SEED = int(os.environ.get("NIGHTLATCH_SEED", "20261125"))
TREES = int(os.environ.get("NIGHTLATCH_TREES", cases(2000, 30_000)))
ADDRESSES = ("192.168.40.7", "192.168.41.1", "10.0.0.1", "10.3.0.1", "203.0.113.9", "2001:db8:40::5", "2001:db8::1")
# Listening sockets are compared elsewhere: -T resolves names and orders families in its own way.
NOT_COMPARED = ("listenaddress",)


def snapshot_of(folder: Path, tree: trees.Tree) -> Snapshot:
    entries = {"/": Entry(EntryKind.FOLDER)}
    walked = ""
    for part in folder.parts[1:]:
        walked += "/" + part
        entries[walked] = Entry(EntryKind.FOLDER)
    for name, text in tree.files.items():
        entries[f"{folder}/{name}"] = Entry(EntryKind.FILE, 0o644, content=text.encode())
    return Snapshot("judged", entries, frozenset(["/", str(folder)]))


def real(folder: Path, user: str, address: str, port: int, host: str) -> list[str] | None:
    spec = f"user={user},host={host},addr={address},laddr=192.168.40.1,lport={port}"
    done = subprocess.run(
        [SSHD, "-T", "-f", str(folder / "main"), "-h", str(folder.parent / "hostkey"), "-C", spec],
        capture_output=True,
        text=True,
        timeout=20,
        cwd="/",
    )
    if done.returncode:
        return None
    return sorted(
        line
        for line in done.stdout.splitlines()
        if not line.startswith((*NOT_COMPARED, "hostkey ")) and line != "channeltimeout none"
    )


def ours(reading: sshd.SshdReading, user: str, address: str, port: int) -> list[list[str] | None]:
    """One answer for each world; None where sshd refuses the tree, or gives up on the connection."""
    effective = reason.Effective(reading)
    if effective.refusal:
        return [None]
    groups = {"nobody": "nogroup"}.get(user, user)
    caller = reason.Caller(user, (groups,), Listener("", port))
    worlds, _ = effective.worlds(caller)
    out: list[list[str] | None] = []
    for world in worlds:
        truth = next(part.truth for part in world if address in part.sources)
        if effective.ends(truth):
            out.append(None)
            continue
        lines = reason.dump(effective.settings(truth))
        out.append([line for line in lines if not line.startswith("hostkey ")])
    return out


@pytest.mark.judge("sshd")
def test_settings_agree_with_sshd(tmp_path: Path) -> None:
    os.makedirs("/run/sshd", exist_ok=True)
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(tmp_path / "hostkey")], check=True)
    shares: Counter[str] = Counter()
    printed: set[str] = set()
    used: set[str] = set()
    wrong: list[str] = []

    def judge(number: int) -> tuple[trees.Tree, list[str] | None, list[list[str] | None], str, str]:
        r = random.Random(SEED * 100_000 + number)
        folder = tmp_path / f"tree{number}"
        folder.mkdir()
        tree = trees.tree(r, str(folder))
        for name, text in tree.files.items():
            (folder / name).write_text(text, newline="")
        user, address, port = r.choice(trees.USERS), r.choice(ADDRESSES), r.choice((22, 2222))
        reading = sshd.read(snapshot_of(folder, tree), str(folder / "main"))
        host = address
        if not reading.refusal and reason.Effective(reading).top["usedns"].word == "yes":
            host = r.choice((address, "boat.skerry.example"))
        theirs = real(folder, user, address, port, host)
        return (
            tree,
            theirs,
            ours(reading, user, address, port),
            f"tree {number}, {user} from {address} ({host})",
            (reading.refusal.because if reading.refusal else ""),
        )

    with ThreadPoolExecutor(2) as pool:
        for tree, theirs, mine, what, because in pool.map(judge, range(TREES)):
            shares.update(tree.features)
            shares["refused"] += theirs is None
            shares["several worlds"] += len(mine) > 1
            used |= tree.keywords
            if theirs is not None:
                printed |= {line.split()[0] for line in theirs}
            if theirs not in mine:
                gap = sorted(set(theirs or ["refused"]) ^ set(mine[0] or ["refused", because]))
                wrong.append(f"{what}: {gap}\n{tree.files}")
    print(f"\nseed {SEED}, {TREES} trees: " + ", ".join(f"{n} {c / TREES:.0%}" for n, c in sorted(shares.items())))
    assert not wrong, f"{len(wrong)} of {TREES} disagree\n" + "\n\n".join(wrong[:8])
    never = printed - used - {"hostkey"}  # given on the command line, for sshd needs one that exists
    assert not never, f"sshd -T prints these, and no tree sets them: {sorted(never)}"
