"""The settings of xrdp and its session manager, each with its place (xrdp.ini(5), sesman.ini(5)).

Defaults are those of the programs, not of the files that a package brings (measured: 0.9.21, 0.10.1).
"""

from __future__ import annotations

from dataclasses import dataclass

from nightlatch.evidence.remembered import remembered
from nightlatch.evidence.screen_files import MAIN, PROGRAM, SESMAN
from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.formats import dpkg_status, sections, shell_vars, xrdp_ini
from nightlatch.formats.sections import Dialect
from nightlatch.formats.xrdp_ini import Document, Line
from nightlatch.model.causes import SettingLine
from nightlatch.model.gaps import Gap
from nightlatch.net.numbers import whole
from nightlatch.origin import Kind, Origin, default
from nightlatch.readings.units import unit_files

UNIT, SESMAN_UNIT = "xrdp.service", "xrdp-sesman.service"
OPTION_FILES = ("/etc/sysconfig/xrdp", "/etc/default/xrdp")
FIRST_WITHOUT_COUNT = (0, 10)  # from here on MaxSessions of 0 is no limit
NO_SESSIONS = frozenset(["globals", "logging", "loggingperlogger", "channels"])
ROOTS = default("User")
EMPTY = xrdp_ini.parse(b"")


@dataclass(frozen=True)
class RdpSettings:
    """Both files. `version` is that of the package, as numbers; empty where it is not known. `account` is the one that the unit
    runs xrdp as. `gaps` are files that were not read."""

    main: Document
    sesman: Document
    version: tuple[int, ...] = ()
    account: str = "root"
    account_origin: Origin = ROOTS
    options: tuple[str, ...] = ()
    gaps: tuple[Gap, ...] = ()

    @property
    def ports(self) -> SettingLine:
        """The value that says where xrdp listens: that of its own option, else of its file."""
        for number, word in enumerate(self.options[:-1]):
            if word in ("-p", "--port"):
                return SettingLine("port", self.options[number + 1], Origin(OPTION_FILES[-1]))
        return self.of_main("port")

    def of_main(self, key: str, section: str = "Globals") -> SettingLine:
        """A setting of xrdp.ini."""
        return _setting(self.main, MAIN, section, key)

    def of_sesman(self, section: str, key: str) -> SettingLine:
        """A setting of sesman.ini."""
        return _setting(self.sesman, SESMAN, section, key)

    def unread(self, path: str) -> Gap | None:
        """Why one of the files was not read."""
        return next((gap for gap in self.gaps if gap.origin.path == path), None)

    def number(self, setting: SettingLine, otherwise: int) -> int:
        """A setting as a whole number; another word counts as nothing (atoi(3))."""
        if setting.origin.kind is Kind.DEFAULT:
            return otherwise
        found = whole(setting.value.removeprefix("-"), 9)
        return 0 if found is None else -found if setting.value.startswith("-") else found

    @property
    def sessions(self) -> tuple[Line, ...]:
        """The headings of the sections that sessions are made by, in order: those with a library."""
        named = (line for line in self.main.sections if line.section not in NO_SESSIONS)
        return tuple(line for line in named if self.main.last(line.section, "lib") is not None)


def _setting(document: Document, path: str, section: str, key: str) -> SettingLine:
    line = document.last(section.lower(), key.lower())
    if line is None:
        return SettingLine(key, "", default(key))
    return SettingLine(key, line.value, Origin(path, line.number, line.column))


def is_installed(snapshot: Snapshot) -> bool | None:
    """Whether xrdp's program is there; None where nobody looked."""
    entry = snapshot.resolve(PROGRAM).entry
    return None if entry is None else entry.kind is EntryKind.FILE


@remembered(64)
def read(snapshot: Snapshot) -> RdpSettings:
    """The settings of a guest that has xrdp."""
    gaps: list[Gap] = []
    main, sesman = (_document(snapshot, path, gaps) for path in (MAIN, SESMAN))
    account, origin = _account(snapshot)
    return RdpSettings(main, sesman, _version(snapshot), account, origin, _options(snapshot), tuple(gaps))


def _document(snapshot: Snapshot, path: str, gaps: list[Gap]) -> Document:
    entry = snapshot.resolve(path).entry
    if entry is not None and entry.content is not None:
        return xrdp_ini.parse(entry.content)
    if entry is None or entry.kind is not EntryKind.ABSENT:
        gaps.append(Gap("RDP server", f"this file {entry.note if entry and entry.note else 'was not read'}", Origin(path)))
    return EMPTY


def _version(snapshot: Snapshot) -> tuple[int, ...]:
    text = dpkg_status.version(snapshot.content("/var/lib/dpkg/status") or b"", "xrdp")
    parts = text.partition(":")[2] or text
    numbers = [whole(each, 6) for each in parts.partition("-")[0].partition("+")[0].split(".")]
    return tuple(each for each in numbers if each is not None)


def _account(snapshot: Snapshot) -> tuple[str, Origin]:
    """The account of the process, by its unit; root where none says otherwise."""
    found = ("root", default("User"))
    for path in unit_files.files_of(snapshot, UNIT):
        for line in sections.parse(snapshot.content(path) or b"", Dialect.UNIT).entries("Service"):
            if line.key == "User":
                found = (line.value or "root", Origin(path, line.number))
    return found


def _options(snapshot: Snapshot) -> tuple[str, ...]:
    """What the unit's environment files add to xrdp's own words."""
    out: list[str] = []
    for path in OPTION_FILES:
        found = shell_vars.parse(snapshot.content(path) or b"").last("XRDP_OPTIONS")
        out = found.value.split() if found is not None else out
    return tuple(out)
