"""One stage alone: sshd's settings for one caller, from hand-made input."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from nightlatch.evidence.snapshot import from_files
from nightlatch.faults import RefusedError
from nightlatch.formats.sshd_keywords import KEYWORDS
from nightlatch.model.sockets import Listener
from nightlatch.readings import sshd
from nightlatch.services.ssh.settings import Caller, Effective, Setting


def effective_settings(
    files: Mapping[str, bytes],
    *,
    account: str = "",
    groups: Sequence[str] = (),
    address: str = "192.0.2.1",
    port: int = 22,
) -> dict[str, Setting]:
    """sshd's settings for one caller, from a mapping of guest path to bytes (the main file is /etc/ssh/sshd_config).

    Raises RefusedError when sshd would not start with these files, or can't decide for this caller.
    """
    effective = Effective(sshd.read(from_files("files", files)))
    if effective.refusal is not None:
        raise RefusedError(f"{effective.refusal.origin}: {effective.refusal.because}")
    worlds, gaps = effective.worlds(Caller(account, tuple(groups), Listener("", port)))
    found = [effective.settings(p.truth) for world in worlds for p in world if address in p.sources]
    if gaps and any(each != found[0] for each in found):
        raise RefusedError(f"{gaps[0].origin}: {gaps[0].because}")
    return {name: found[0][name] for name in KEYWORDS}
