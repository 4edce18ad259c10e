"""`via`: how Nightlatch gets at a guest, and the management access that comes with it."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

from nightlatch.estate import reader, sentences
from nightlatch.estate.model import READ_AS_FILES, Via, ViaKind
from nightlatch.formats.keys import PublicKey
from nightlatch.formats.yaml_tree import Node, Source

HOST = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,252}|[0-9A-Fa-f:.]+(%[A-Za-z0-9._-]{1,15})?")
ACCOUNT = re.compile(r"[A-Za-z_][A-Za-z0-9._-]{0,31}\$?")
SIX = r"[0-9A-Fa-f:.]+(?:%[A-Za-z0-9._-]{1,15})?"
DIAL = re.compile(rf"(?P<bare>(?=.*:.*:){SIX})|(?:\[(?P<six>{SIX})\]|(?P<host>[^:\[\]]+))(?::(?P<port>[1-9][0-9]{{0,4}}))?")

ReadKey = Callable[[Node], PublicKey | None]


def via(source: Source, node: Node, what: str, names: sentences.KnownNames, folder: Path, key: ReadKey) -> Via | None:
    """The way into one guest: SSH, `here`, a folder, an archive, or what somebody carried over by hand."""
    if node.text == ViaKind.HERE:
        return Via(ViaKind.HERE, source.origin(node), account="root")
    known = (*READ_AS_FILES, ViaKind.SSH, "port", "as", "key", "from")
    found = reader.section(source, node, "via", known)
    ways = [kind for kind in (*READ_AS_FILES, ViaKind.SSH) if kind in found]
    if len(ways) != 1:
        if node.pairs is not None:
            expected = "one of ssh: ADDRESS, folder: PATH, evidence: ARCHIVE, by_hand: FILE; or just here"
            source.fault(node, f"{what} is reached by {len(ways)} ways", expected)
        return None
    if ways[0] is ViaKind.SSH:
        return _ssh(source, node, found, names, folder, key)
    return _folder(source, node, found, ways[0], what, names, folder, key)


def _folder(
    source: Source,
    node: Node,
    found: dict[str, Node],
    way: ViaKind,
    what: str,
    names: sentences.KnownNames,
    folder: Path,
    key: ReadKey,
) -> Via:
    if "port" in found:
        source.fault(found["port"], "a folder has no port", "port beside ssh only")
    stated = [name for name in ("as", "key", "from") if name in found]
    if stated and len(stated) < 3:
        source.fault(
            node,
            f"{what} states only {' and '.join(stated)} of its management access",
            "as, key and from together, or none of them",
        )
    return Via(
        way,
        source.origin(node),
        folder / reader.text(source, found[way], way),
        account=_account(source, found),
        key=key(found["key"]) if "key" in found else None,
        key_path=folder / (found["key"].text or "") if "key" in found else None,
        places=sentences.places(source, found["from"], names) if "from" in found else (),
    )


def _ssh(
    source: Source, node: Node, found: dict[str, Node], names: sentences.KnownNames, folder: Path, key: ReadKey
) -> Via | None:
    host = reader.text(source, found["ssh"], "ssh")
    with_port = dialled(host)
    if with_port is not None and with_port[1]:
        where = f"ssh: {_quoted(with_port[0])}, port: {with_port[1]}"
        source.fault(found["ssh"], f'"{host}" holds a port, which has a key of its own', where)
        return None
    if not HOST.fullmatch(host):
        source.fault(found["ssh"], f'"{host}" is no name or address', "an address, or a name that ssh knows")
        return None
    public = key(found["key"]) if "key" in found else None
    return Via(
        ViaKind.SSH,
        source.origin(node),
        host=host,
        port=_port(source, found),
        account=_account(source, found),
        key=public,
        key_path=folder / (found["key"].text or "") if public is not None else None,
        places=sentences.places(source, found["from"], names) if "from" in found else (),
    )


def _quoted(host: str) -> str:
    """A host as YAML takes it in braces."""
    return f'"{host}"' if ":" in host else host


def dialled(text: str) -> tuple[str, int] | None:
    """Host and port of HOST, HOST:PORT, [IPv6]:PORT or a bare IPv6 address; port 0 where none is written, None for else."""
    found = DIAL.fullmatch(text)
    if found is None:
        return None
    host, port = found["six"] or found["bare"] or found["host"], int(found["port"] or 0)
    return (host, port) if HOST.fullmatch(host) and port <= 65535 else None


def dial(source: Source, node: Node) -> tuple[str, int]:
    """The name that people type for a guest."""
    value = reader.text(source, node, "dial")
    found = dialled(value)
    if value and found is None:
        source.fault(node, f'"{value}" is no name or address', "HOST, HOST:PORT or [IPv6]:PORT")
    return found or ("", 0)


def _account(source: Source, found: dict[str, Node]) -> str:
    if "as" not in found:
        return ""
    account = reader.text(source, found["as"], "as")
    if account and not ACCOUNT.fullmatch(account):
        source.fault(found["as"], f'"{account}" is no account name', "a login name of the guest")
        return ""
    return account


def _port(source: Source, found: dict[str, Node]) -> int:
    if "port" not in found:
        return 0
    text = reader.text(source, found["port"], "port")
    if not re.fullmatch(r"[1-9][0-9]{0,4}", text) or int(text) > 65535:
        source.fault(found["port"], f'"{text}" is no port', "a number from 1 to 65535")
        return 0
    return int(text)
