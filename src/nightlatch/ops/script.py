"""A change that no connection carries: drafted and proved from evidence, written as a script for the guest's console."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime

from nightlatch.draft import door
from nightlatch.draft.acts import Enable, Install, NewIdentity, Start
from nightlatch.draft.door import ServiceStep
from nightlatch.draft.plan import Draft, ProvedDraft
from nightlatch.estate.model import Estate
from nightlatch.evidence.snapshot import Snapshot
from nightlatch.latch import console
from nightlatch.latch.folder import new_change_id
from nightlatch.latch.planned_change import planned
from nightlatch.latch.transaction import Transaction
from nightlatch.model.steps import ManualTask
from nightlatch.ops.draft import draft as make_draft
from nightlatch.ops.draft import prove
from nightlatch.ops.enact import LATCH_SECONDS
from nightlatch.ops.enact import terms as latch_terms
from nightlatch.readings import guest as readings
from nightlatch.services.ssh import ports

__all__ = ["change_script", "service_steps"]


def service_steps(snapshot: Snapshot) -> tuple[ServiceStep, ...]:
    """The steps after which an SSH server runs on a guest, now and at boot. Raises RefusedError."""
    return door.needed(readings.read(snapshot))


def change_script(
    estate: Estate, snapshot: Snapshot, at: datetime, *, seconds: int = LATCH_SECONDS, unguarded: bool = False
) -> str:
    """The script that carries a guest's whole draft to its console; empty when there is nothing to do.

    A guest without an SSH server gets one that is open to management access only. Raises RefusedError.
    """
    steps = service_steps(snapshot)
    if any(isinstance(step, Install) for step in steps):
        proved = door.prove(estate, snapshot, at)
        return console.script(_door(estate, proved, at, steps, seconds, unguarded), steps)
    proved = prove(estate, without_packages(make_draft(estate, snapshot, at)), snapshot, at)
    if not proved.does and not steps:
        return ""
    made = _transaction(estate, proved, at, seconds, unguarded)
    if any(isinstance(step, Enable | Start) for step in steps):
        checks, server = made.planned.checks, replace(made.planned.server, start=_units(steps))
        sockets = checks.sockets or tuple(f"any:{port}" for port in ports.ports(readings.read(proved.after)))
        made = replace(made, planned=replace(made.planned, server=server, checks=replace(checks, sockets=sockets)))
    return console.script(made, steps)


def without_packages(draft: Draft) -> Draft:
    """The draft without packages, what needs them, and new host keys: a console's script leaves these to the one who runs it."""
    packages = [act for act in draft.acts if isinstance(act, Install)]
    fresh = [act for act in draft.acts if isinstance(act, NewIdentity)]
    units = {act.unit for act in packages}
    left = tuple(ManualTask(act.why, f"{act.command}; then survey and draft again") for act in packages)
    left += tuple(
        ManualTask(act.why, "nightlatch enact --new-host-keys, over a connection that has the pins follow") for act in fresh
    )
    acts = tuple(
        act for act in draft.acts if act not in fresh and not (isinstance(act, Install | Enable | Start) and act.unit in units)
    )
    return replace(draft, acts=acts, left=draft.left + left)


def _transaction(estate: Estate, proved: ProvedDraft, at: datetime, seconds: int, unguarded: bool) -> Transaction:
    """The person who runs it sits at the console, so no connection has to arrive at a new address."""
    terms = latch_terms(at, new_change_id(datetime.now(UTC)), seconds, unguarded=unguarded)
    return Transaction(planned(estate, proved, moves=False), replace(terms, owner="somebody at the console"))


def _door(
    estate: Estate, proved: ProvedDraft, at: datetime, steps: tuple[ServiceStep, ...], seconds: int, unguarded: bool
) -> Transaction:
    """No record stays: taking the file back alone would leave a server open that the package has set up."""
    made = _transaction(estate, proved, at, seconds, unguarded)
    server = replace(made.planned.server, running=False, start=_units(steps))
    checks = replace(made.planned.checks, reload=False, expected=door.promised(estate, proved), sockets=("any:22",))
    return Transaction(replace(made.planned, server=server, checks=checks), replace(made.terms, stay=False))


def _units(steps: tuple[ServiceStep, ...]) -> tuple[str, ...]:
    """The service's names, the likeliest first: which of them there is, the guest knows."""
    wanted = [step.unit for step in steps if isinstance(step, Enable | Start)]
    return tuple(dict.fromkeys([*wanted, "ssh.service", "sshd.service"]))
