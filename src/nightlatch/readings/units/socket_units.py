"""What a socket unit's files say it listens on: the stored state beside what systemctl(1) tells of the loaded one.

systemd.socket(5), ListenStream=; systemd.unit(5): the file under /etc hides that of the vendor, drop-ins follow in the
order of their names, an empty assignment empties the list.
"""

from __future__ import annotations

import re

from nightlatch.evidence.snapshot import Snapshot
from nightlatch.formats import sections
from nightlatch.formats.sections import Dialect
from nightlatch.systems import posix

STREAM = re.compile(r"(?:(?:\[(?P<six>[0-9A-Fa-f:.]+)\]|(?P<four>[0-9.]+)):)?(?P<port>[0-9]{1,5})")

Listens = tuple[tuple[str, int], ...]


def drop_ins(snapshot: Snapshot, unit: str) -> list[str]:
    """The administrator's drop-ins of a unit, in the order in which they count."""
    folder = f"{posix.UNIT_FOLDERS[0]}/{unit}.d"
    return [f"{folder}/{name}" for name in snapshot.children(folder) if name.endswith(".conf")]


def stored(snapshot: Snapshot, unit: str) -> Listens | None:
    """The addresses ("" for all) and ports of a unit's files; None where a file was not read, or says what is none here."""
    main = next((f"{top}/{unit}" for top in posix.UNIT_FOLDERS if snapshot.content(f"{top}/{unit}") is not None), "")
    if not main:
        return None
    out: list[tuple[str, int]] = []
    for path in (main, *drop_ins(snapshot, unit)):
        content = snapshot.content(path)
        if content is None:
            return None
        for line in sections.parse(content, Dialect.UNIT).entries("Socket"):
            if line.key != "ListenStream":
                continue
            found = STREAM.fullmatch(line.value)
            if not line.value:
                out = []
            elif found is None or not 0 < int(found["port"]) < 65536:
                return None
            else:
                out.append((found["six"] or found["four"] or "", int(found["port"])))
    return tuple(out)


def streams(listens: Listens) -> list[str]:
    """Lines of a unit file that listen just there, whatever was listened on before."""
    lines = ["ListenStream="]
    for address, port in listens:
        where = f"[{address}]:" if ":" in address else f"{address}:" if address else ""
        lines.append(f"ListenStream={where}{port}")
    return lines
