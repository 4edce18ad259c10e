"""The public functions: each stage of the loop, callable on its own.

Times are parameters: every function that depends on the moment takes `at`, aware.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from pathlib import Path

from nightlatch import __version__
from nightlatch.draft import plan
from nightlatch.draft.plan import Common, Draft, ProvedDraft, common
from nightlatch.estate.load import load as load_estate
from nightlatch.estate.model import Estate
from nightlatch.estate.starter import starter
from nightlatch.evidence import archive
from nightlatch.evidence.snapshot import Snapshot, from_files
from nightlatch.faults import RefusedError, UnreadableError, work_on
from nightlatch.formats.sshd_keywords import KEYWORDS
from nightlatch.model.sockets import Listener
from nightlatch.ops.audit import Audit, Auditor, audit, audit_target, audited
from nightlatch.ops.survey import (
    Surveyed,
    chosen,
    client_for,
    from_evidence,
    more_of,
    survey,
    survey_live,
    survey_script,
    survey_target,
    survey_targets,
)
from nightlatch.readings import sshd
from nightlatch.services.base import Kinds
from nightlatch.services.ssh import settings as reasoning
from nightlatch.services.table import KINDS
from nightlatch.transports.ssh import Client

__all__ = [
    "Audit", "Auditor", "Client", "Draft", "Estate", "ProvedDraft", "Surveyed", "audit", "audit_target",
    "audited", "chosen", "client_for", "common", "draft", "effective_settings", "from_evidence", "load_estate", "more_of",
    "new_estate", "prove", "read_evidence", "survey", "survey_live", "survey_script", "survey_target",
    "survey_targets", "write_evidence",
]  # fmt: skip

TOOL = f"nightlatch {__version__}"


def new_estate(path: Path) -> None:
    """Write a commented starter file. Raises RefusedError when something is there already."""
    try:
        with path.open("x", encoding="utf-8") as stream:
            stream.write(starter(path.name))
    except FileExistsError:
        raise RefusedError(f"{path} is there already; nothing was written") from None
    except OSError as error:
        raise UnreadableError(f"{path} can't be written: {error.strerror}") from None


def write_evidence(snapshot: Snapshot, path: Path, at: datetime, transport: str = "folder") -> None:
    """Write an evidence archive, whole or not at all."""
    archive.write(snapshot, path, tool=TOOL, taken=at, transport=transport)


def read_evidence(path: Path) -> Snapshot:
    """Read an evidence archive. Raises UnreadableError."""
    return archive.read(path)


def draft(
    estate: Estate, snapshot: Snapshot, at: datetime, kinds: Kinds = KINDS, *, shared: Common | None = None
) -> Draft:  # fmt: skip
    """The fewest steps that close what is certainly wrong on one guest; `Draft.left` says what no step closes.

    `shared` (from `common`) saves looking through the estate again for each of many guests.
    """
    with work_on(snapshot.guest):
        return plan.make(shared or common(estate, kinds), snapshot, at)


def prove(
    estate: Estate, made: Draft, snapshot: Snapshot, at: datetime, kinds: Kinds = KINDS, *, shared: Common | None = None
) -> ProvedDraft:  # fmt: skip
    """Work a draft out on evidence. Raises RefusedError when it does not close the gap, or shuts the own door."""
    with work_on(snapshot.guest):
        return plan.prove(shared or common(estate, kinds), made, snapshot, at)


def effective_settings(
    files: Mapping[str, bytes], *, account: str = "", groups: Sequence[str] = (), address: str = "192.0.2.1",
    port: int = 22,
) -> dict[str, reasoning.Setting]:  # fmt: skip
    """sshd's settings for one caller, from a mapping of guest path to bytes (the main file is /etc/ssh/sshd_config).

    Raises RefusedError when sshd would not start with these files, or can't decide for this caller.
    """
    reading = sshd.read(from_files("files", files))
    effective = reasoning.Effective(reading)
    if effective.refusal is not None:
        raise RefusedError(f"{effective.refusal.origin}: {effective.refusal.because}")
    worlds, gaps = effective.worlds(reasoning.Caller(account, tuple(groups), Listener("", port)))
    found = [effective.settings(p.truth) for world in worlds for p in world if address in p.sources]
    if gaps and any(each != found[0] for each in found):
        raise RefusedError(f"{gaps[0].origin}: {gaps[0].because}")
    return {name: found[0][name] for name in KEYWORDS}
