"""First contact: host keys proven on the wire, compared with what the guest's console shows, and pinned in the estate.

A key on the wire is only worth what it was compared with. What is compared comes from the console (a fingerprint that
somebody read there) or from evidence that was carried over by hand; a yes or no is never asked for.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from nightlatch.estate.editing import fingerprints, with_host_keys
from nightlatch.estate.model import Estate, GuestSpec, ViaKind
from nightlatch.estate.whole_file import rewrite, text_of
from nightlatch.faults import RefusedError
from nightlatch.ops.survey import chosen, client_for, survey_target
from nightlatch.probe import driver
from nightlatch.probe.driver import Limits
from nightlatch.probe.hostkeys import md5_fingerprint
from nightlatch.probe.ssh import ProvenKey
from nightlatch.probe.stages import Look, Target
from nightlatch.readings import guest as readings
from nightlatch.transports import targets
from nightlatch.transports.ssh import Client

__all__ = ["CONSOLE", "FirstContact", "held_by_evidence", "meet", "pin"]

# One line to type: the public halves hold no secret, and every type of key is shown.
CONSOLE = "cat /etc/ssh/ssh_host_*_key.pub | ssh-keygen -l -f -"
MD5_FORM = "ssh-keygen -l -E md5 -f -"


@dataclass(frozen=True, slots=True)
class FirstContact:
    """A guest's host keys on the wire, compared with those that the estate pins.

    `held` are fingerprints that evidence of the guest holds, with the file that they come from.
    """

    guest: str
    look: Look
    pinned: tuple[str, ...]
    held: tuple[tuple[str, str], ...] = ()

    @property
    def keys(self) -> tuple[ProvenKey, ...]:
        """The keys that the wire has proven."""
        return self.look.keys

    @property
    def known(self) -> tuple[ProvenKey, ...]:
        """The shown keys that are pinned."""
        return tuple(proven for proven in self.keys if proven.key.fingerprint in self.pinned)

    @property
    def changed(self) -> bool:
        """Whether keys are pinned, and none of them is shown."""
        return bool(self.pinned and self.keys and not self.known)

    @property
    def vouched(self) -> tuple[ProvenKey, ...]:
        """The shown keys that the guest's evidence holds, too."""
        held = {fingerprint for fingerprint, _ in self.held}
        return tuple(proven for proven in self.keys if proven.key.fingerprint in held)

    def named_by(self, words: str) -> tuple[tuple[ProvenKey, ...], tuple[str, ...]]:
        """The proven keys that a text names by SHA256 or MD5 fingerprint, and fingerprints in it that no key has."""
        named: dict[ProvenKey, None] = {}
        strange = []
        for each in fingerprints(words):
            found = [p for p in self.keys if each in (p.key.fingerprint, md5_fingerprint(p.key.blob))]
            named.update(dict.fromkeys(found))
            strange += [] if found else [each]
        return tuple(named), tuple(strange)


def meet(
    estate: Estate, guest: str, *, evidence: Path | None = None, client: Client | None = None, limits: Limits | None = None
) -> FirstContact:
    """Look at every host key of a guest on the wire. Raises NightlatchError where no address is written for it."""
    spec = chosen(estate, [guest])[0]
    held = held_by_evidence(spec, evidence)
    with client_for(client) as using:
        host, port = targets.wire_of(spec, using)
    look = driver.looks([Target(host, port, pins=spec.host_keys, every_key=True)], limits=limits)[0]
    return FirstContact(guest, look, spec.host_keys, held)


def held_by_evidence(spec: GuestSpec, path: Path | None) -> tuple[tuple[str, str], ...]:
    """Fingerprints of the host keys in evidence (an archive, a folder, or a text carried over by hand), with their files.

    Evidence that came over the very connection that is to be met proves nothing: an archive of a survey over SSH is
    refused.
    """
    if path is None:
        if spec.via.kind not in (ViaKind.BY_HAND, ViaKind.FOLDER) or not spec.via.path.exists():
            return ()
        path = spec.via.path
    snapshot = survey_target(path, spec.name)
    if snapshot.told.transport == "ssh":
        raise RefusedError(f"{path} was read over SSH: it can't vouch for the host key that it came by")
    return tuple((key.fingerprint, key.path) for key in readings.read(snapshot).host_keys)


def pin(estate: Estate, met: FirstContact, keys: Sequence[ProvenKey]) -> tuple[str, ...]:
    """Write the keys that were confirmed as the guest's host keys into the estate file; returns all that are pinned now.

    Pins that the wire proved again stay; those that it did not show give way. Raises RefusedError when nothing was
    confirmed or the file can't be edited safely.
    """
    if not keys:
        raise RefusedError("no fingerprint was confirmed, so nothing is pinned", guest=met.guest)
    # Every type that the server offers was asked for: a pin that it did not show is of a key that is gone.
    kept = [proven.key.fingerprint for proven in met.known]
    pins = tuple(dict.fromkeys([*kept, *(proven.key.fingerprint for proven in keys)]))
    if pins == met.pinned:
        return pins
    before = text_of(estate.path)
    rewrite(estate.path, before.encode(), with_host_keys(before, met.guest, pins, str(estate.path)).encode())
    return pins
