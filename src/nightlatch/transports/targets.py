"""From what a person names to a transport: a guest of the estate, or a target on the command line.

Transports are imported when one is asked for: an audit of folders needs none of those to running guests.
"""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING

from nightlatch.estate.model import GuestSpec, ViaKind
from nightlatch.faults import NightlatchError

if TYPE_CHECKING:
    from nightlatch.transports.shell import Shell
    from nightlatch.transports.ssh import Client

SSH_PORT = 22
TARGET = re.compile(
    r"(?:ssh:(?P<alias>[A-Za-z0-9][A-Za-z0-9._-]{0,252})"
    r"|(?P<account>[A-Za-z_][A-Za-z0-9._-]{0,31}\$?)@(?:\[(?P<six>[0-9A-Fa-f:.%a-z]+)\]|(?P<host>[A-Za-z0-9][A-Za-z0-9._-]{0,252}))"
    r"(?::(?P<port>[1-9][0-9]{0,4}))?)"
)


def is_live(target: str) -> bool:
    """Whether the text names a live guest (`here`, `ssh:NAME`, `ACCOUNT@HOST`) and no file that is there."""
    return not Path(target).exists() and (target == "here" or target.startswith("ssh:") or "@" in target)


def of_target(target: str, client: Client, pins: tuple[str, ...] = ()) -> Shell:
    """The transport to a target. Raises NightlatchError when it is not written as one."""
    from nightlatch.transports.here import LocalMachine
    from nightlatch.transports.ssh import Address, Ssh

    if target == "here":
        return LocalMachine(stop=client.stop)
    found = TARGET.fullmatch(target)
    if found is None or int(found["port"] or 0) > 65535:
        raise NightlatchError(
            f'"{target}" is no target: write ACCOUNT@HOST, ACCOUNT@HOST:PORT, ACCOUNT@[IPv6]:PORT, ssh:NAME for a name '
            "that your ssh knows, or here"
        )
    host = found["alias"] or found["six"] or found["host"]
    return Ssh(host, Address(host, found["account"] or "", int(found["port"] or 0)), client, pins=pins)


def of_guest(spec: GuestSpec, client: Client) -> Shell:
    """The transport to a live guest of an estate."""
    from nightlatch.transports.here import LocalMachine
    from nightlatch.transports.ssh import Address, Ssh

    if spec.via.kind is ViaKind.HERE:
        return LocalMachine(spec.name, client.stop)
    via = spec.via
    return Ssh(
        spec.name,
        Address(via.host, via.account, via.port),
        client,
        pins=spec.host_keys,
        key=_identity(via.key_path) if via.key_path else None,
    )


def wire_of(spec: GuestSpec, client: Client) -> tuple[str, int]:
    """Host and port where a guest of an estate is looked at from the wire: what is dialled, else where ssh would connect.

    Raises NightlatchError, which says why there is none.
    """
    from nightlatch.transports.ssh import Ssh

    if spec.dial:
        return spec.dial, spec.dial_port or SSH_PORT
    if spec.via.kind is ViaKind.HERE:
        raise NightlatchError("it is this machine: a look from itself proves nothing about others", guest=spec.name)
    shell = of_guest(spec, client) if spec.via.kind is ViaKind.SSH else None
    if not isinstance(shell, Ssh):
        raise NightlatchError(
            "no address is written for it; add dial: HOST or HOST:PORT to the estate file",
            guest=spec.name,
        )
    host, port, through = shell.wire()
    if through:
        raise NightlatchError(
            f"your ssh goes through {through} to it; write dial: HOST to have it looked at straight from here",
            guest=spec.name,
        )
    return host, port


def _identity(public: Path) -> Path:
    """The private half beside a public key, or the public half itself: then the client asks its agent (ssh(1), -i)."""
    beside = public.with_suffix("") if public.suffix == ".pub" else public
    return beside if beside.exists() else public
