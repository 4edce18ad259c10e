"""New host keys of a running guest: come in by them, see them on the wire, and have the estate's pins follow.

A change tells the new fingerprints over the connection that carries it, which the old pins have proved. Before the change is
decided the estate file has both, so that nobody is locked out of a guest wherever this process may end; then those that count.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from nightlatch.estate.editing import with_host_keys
from nightlatch.estate.model import Estate
from nightlatch.estate.whole_file import rewrite, text_of
from nightlatch.faults import NightlatchError
from nightlatch.probe import driver
from nightlatch.probe.stages import Target
from nightlatch.transports.shell import Shell
from nightlatch.transports.ssh import Ssh

__all__ = ["Renewed", "follow", "renewed"]


@dataclass(frozen=True, slots=True)
class Renewed:
    """A guest whose host keys are others now: how it is reached by them, and why they should not be kept."""

    shell: Shell
    fingerprints: tuple[str, ...]
    problems: tuple[str, ...] = ()


def renewed(estate: Estate, shell: Shell, fingerprints: Sequence[str]) -> Renewed:
    """The guest by its new keys, with these in the estate file beside the old ones. Problems are told, not raised."""
    new, problems = tuple(fingerprints), list[str]()
    try:
        _pin(estate, shell.guest, (*new, *estate.guests[shell.guest].host_keys))
    except NightlatchError as error:
        problems.append(f"the new host keys can't be pinned: {error.words}")
    if isinstance(shell, Ssh):
        shell = Ssh(shell.guest, shell.address, shell.client, pins=new, key=shell.key)
        problems += _on_the_wire(shell)
    return Renewed(shell, new, tuple(problems))


def follow(estate: Estate, guest: str, fingerprints: Sequence[str]) -> str:
    """Pin these and no others, in words for the one who enacts; a file that can't be written is told."""
    try:
        _pin(estate, guest, fingerprints)
    except NightlatchError as error:
        return f"the estate file does not pin the host keys of {guest} alone yet: {error.words}"
    return f"{estate.path} pins the host keys of {guest} as they are now: {', '.join(fingerprints)}"


def _pin(estate: Estate, guest: str, pins: Sequence[str]) -> None:
    before = text_of(estate.path)
    after = with_host_keys(before, guest, tuple(dict.fromkeys(pins)), str(estate.path))
    if after != before:
        rewrite(estate.path, before.encode(), after.encode())


def _on_the_wire(shell: Ssh) -> list[str]:
    """Host keys that the guest proves and that are none of the new ones. Where the client goes through something, or is a
    program of another name, what is dialled from here need not be the guest."""
    host, port, way = shell.wire()
    if way or shell.client.program != "ssh":
        return []
    look = driver.looks([Target(host, port, every_key=True)])[0]
    strange = sorted({proven.key.fingerprint for proven in look.keys} - {*shell.pins})
    return [f"it still shows the host key {each} on the wire" for each in strange]
