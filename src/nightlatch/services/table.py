"""The services that Nightlatch knows, by the word after `by:`."""

from __future__ import annotations

from collections.abc import Iterable

from nightlatch.services.base import Kinds, ServiceKind
from nightlatch.services.rdp.kind import RDP
from nightlatch.services.ssh.kind import SSH
from nightlatch.services.vnc.kind import VNC


def table(kinds: Iterable[ServiceKind]) -> Kinds:
    """Kinds by their words."""
    return {kind.words.name: kind for kind in kinds}


KINDS = table([SSH, RDP, VNC])
