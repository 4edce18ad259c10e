"""Enact and undo on folders: every byte, mode, owner and attribute comes back, wherever the change is broken off."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from nightlatch.estate.load import load as load_estate
from nightlatch.estate.model import Estate
from nightlatch.faults import NightlatchError, RefusedError
from nightlatch.ops.audit import audit
from nightlatch.ops.draft import draft, prove
from nightlatch.ops.enact import apply, enact
from nightlatch.ops.evidence import write_evidence
from nightlatch.ops.survey import survey_target
from nightlatch.ops.undo import undo
from tests.guests import AT, HASH, Guest, estate, pub

GRANT = "let: mara, into: gauge, by: ssh, from: bench, with: key\nlet: joon, into: gauge, by: ssh, from: bench, with: key"
GUEST = Guest(
    "PasswordAuthentication yes\n",
    {"mara": pub("mara-desk") + "\n", "keeper": pub("lantern") + "\n"},
    modes={"/home/mara/.ssh/authorized_keys": (0o600, 1001, 1001)},
    passwords={"joon": HASH},
)
CALLS = tuple(
    """
    open mkdir rename chown chmod fchown fchmod fsync setxattr unlink rmdir utime
""".split()
)


def state(root: Path) -> dict[str, tuple[object, ...]]:
    """Everything about every path but folder times."""
    out: dict[str, tuple[object, ...]] = {}
    for path in sorted(root.rglob("*")):
        status = path.lstat()
        digest = hashlib.sha256(path.read_bytes()).hexdigest() if path.is_file() else ""
        attributes = tuple((n, os.getxattr(path, n)) for n in os.listxattr(path)) if path.is_file() else ()
        time = status.st_mtime_ns if path.is_file() else 0
        out[str(path.relative_to(root))] = (status.st_mode, status.st_uid, status.st_gid, digest, time, attributes)
    return out


def set_up(tmp_path: Path) -> tuple[Estate, Path]:
    made = estate(tmp_path, GRANT)
    root = GUEST.write(tmp_path / "images/gauge")
    try:
        os.setxattr(root / "etc/ssh/sshd_config", "user.note", b"kept")
    except OSError:
        pass
    return made, root


def test_enact_and_undo(tmp_path: Path) -> None:
    made, root = set_up(tmp_path)
    before = state(root)
    changed = enact(made, "gauge", AT)
    assert len(changed.paths) == 5
    enacted = state(root)
    assert enacted != before
    after = audit(made, AT)
    assert not [f for g in after.guests for f in g.findings if f.check in ("hole", "shut-out")]
    assert enact(made, "gauge", AT).paths == (), "the second run changes nothing"
    undone = undo(made, "gauge", AT)
    assert set(undone.paths) == set(changed.paths)
    assert set(undone.changed.removed) == {f"/{path}" for path in set(enacted) - set(before) if not path.startswith("var")}
    assert state(root) == before
    with pytest.raises(RefusedError, match="no change is kept"):
        undo(made, "gauge", AT)


def test_what_somebody_else_changed_is_left_and_said(tmp_path: Path) -> None:
    made, root = set_up(tmp_path)
    before = state(root)
    enact(made, "gauge", AT)
    config = root / "etc/ssh/sshd_config"
    config.write_text(config.read_text() + "# by hand\n")
    undone = undo(made, "gauge", AT)
    assert undone.skipped == ("/etc/ssh/sshd_config",)
    assert "# by hand" in config.read_text()
    restored = state(root)
    assert all(restored[p] == before[p] for p in before if p != "etc/ssh/sshd_config")


def test_a_file_changed_between_proof_and_enact_is_refused(tmp_path: Path) -> None:
    made, root = set_up(tmp_path)
    snapshot = survey_target(root, "gauge")
    proved = prove(made, draft(made, snapshot, AT), snapshot, AT)
    config = root / "etc/ssh/sshd_config"
    config.write_text(config.read_text() + "# by hand\n")
    before = state(root)
    with pytest.raises(RefusedError, match="was changed since it was read"):
        apply(proved, root, AT)
    assert state(root) == before


def test_two_changes_are_undone_newest_first(tmp_path: Path) -> None:
    made, root = set_up(tmp_path)
    before = state(root)
    first = enact(made, "gauge", AT)
    wider = estate(tmp_path, GRANT.replace("bench", "10.0.0.1"))
    second = enact(wider, "gauge", AT)
    assert second.paths
    with pytest.raises(RefusedError, match="undo that one first"):
        undo(made, "gauge", AT, first.change)
    undo(made, "gauge", AT)
    undo(made, "gauge", AT)
    assert state(root) == before


def test_a_lock_of_somebody_else_is_respected(tmp_path: Path) -> None:
    made, root = set_up(tmp_path)
    (root / "var/lib/nightlatch/lock").mkdir(parents=True)
    before = state(root)
    with pytest.raises(RefusedError, match="another change is under way"):
        enact(made, "gauge", AT)
    assert {p: s for p, s in state(root).items() if "nightlatch" not in p} == {
        p: s for p, s in before.items() if "nightlatch" not in p
    }


class Cut(BaseException):
    """Stands for Ctrl-C."""


@contextmanager
def broken_off(at: int, error: Callable[[], BaseException]) -> Iterator[list[int]]:
    """Make the `at`th system call that writes fail, once."""
    count = [0]
    real = {name: getattr(os, name) for name in CALLS}

    def wrap(name: str) -> Callable[..., object]:
        def call(*args: object, **more: object) -> object:
            writes = name != "open" or bool(int(args[1]) & (os.O_WRONLY | os.O_RDWR))  # type: ignore[call-overload]
            if writes:
                count[0] += 1
                if count[0] == at:
                    raise error()
            return real[name](*args, **more)

        return call

    try:
        for name in CALLS:
            setattr(os, name, wrap(name))
        yield count
    finally:
        for name, call in real.items():
            setattr(os, name, call)


def outside_var(root: Path, *, times: bool = True) -> dict[str, tuple[object, ...]]:
    """The guest without what Nightlatch keeps there."""
    return {p: s if times else (*s[:4], s[5]) for p, s in state(root).items() if not p.startswith("var")}


@pytest.mark.parametrize("error", [lambda: OSError(28, "No space left on device"), Cut], ids=["disk full", "ctrl-c"])
def test_broken_off_at_every_call_it_is_all_or_nothing(tmp_path: Path, error: Callable[[], BaseException]) -> None:
    made, root = set_up(tmp_path / "count")
    with broken_off(0, Cut) as count:
        enact(made, "gauge", AT)
    whole = outside_var(root, times=False)
    total, nothing = count[0], 0
    assert total > 30
    for at in range(1, total + 1):
        made, root = set_up(tmp_path / str(at))
        before = outside_var(root)
        try:
            with broken_off(at, error):
                enact(made, "gauge", AT)
        except (Cut, NightlatchError):
            pass
        now = outside_var(root)
        if now != before:
            assert outside_var(root, times=False) == whole, f"half done at call {at}"
            for lock in root.glob("var/lib/nightlatch/lock"):
                lock.rmdir()
            undo(made, "gauge", AT)
            assert outside_var(root) == before, f"not taken back at call {at}"
        else:
            nothing += 1
    print(f"\nbroken off at {total} points, {nothing} times nothing was done")
    assert nothing > total * 0.8


def test_killed_at_every_call_undo_takes_back_what_was_done(tmp_path: Path) -> None:
    """As by kill -9 or a power cut: nothing is put back by the process itself, its lock stays."""
    made, _ = set_up(tmp_path / "count")
    with broken_off(0, Cut) as count:
        enact(made, "gauge", AT)
    for at in range(1, count[0] + 1):
        made, root = set_up(tmp_path / str(at))
        before = outside_var(root)
        child = os.fork()
        if not child:
            with broken_off(at, lambda: os._exit(9)):
                enact(made, "gauge", AT)
            os._exit(0)
        os.waitpid(child, 0)
        for lock in root.glob("var/lib/nightlatch/lock"):
            if not draft(made, survey_target(root, "gauge"), AT).steps:
                pass  # whole already: a second run has nothing to do
            else:
                with pytest.raises(RefusedError, match="cut off"):
                    enact(made, "gauge", AT)
            lock.rmdir()
        try:
            undo(made, "gauge", AT)
        except RefusedError:  # killed before there was a record: nothing had been touched yet
            pass
        now = outside_var(root)
        assert {p: (*s[:4], s[5]) for p, s in now.items()} == {p: (*s[:4], s[5]) for p, s in before.items()}, (
            f"killed at call {at}"
        )


def test_a_hostile_record_is_not_followed(tmp_path: Path) -> None:
    made, root = set_up(tmp_path)
    changed = enact(made, "gauge", AT)
    record = root / f"var/lib/nightlatch/changes/{changed.change}/record.json"
    record.write_text(record.read_text().replace("/etc/ssh/sshd_config", "/etc/../../outside"))
    with pytest.raises(NightlatchError, match="names something that is no path"):
        undo(made, "gauge", AT)
    assert not (tmp_path / "outside").exists()


def test_archives_are_not_changed(tmp_path: Path) -> None:
    _, root = set_up(tmp_path)
    path = tmp_path / "gauge.evidence.tar.gz"
    write_evidence(survey_target(root, "gauge"), path, AT)
    text = (tmp_path / "estate.yaml").read_text().replace("folder: images/gauge", f"evidence: {path.name}")
    (tmp_path / "estate.yaml").write_text(text)
    with pytest.raises(RefusedError, match="evidence archive"):
        enact(load_estate(tmp_path / "estate.yaml"), "gauge", AT)
