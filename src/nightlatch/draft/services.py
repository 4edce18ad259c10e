"""What the estate states of a guest's units, time zone and host name, as acts and edits; the rest is left with its reason.

Acts need a running guest under systemd. One time service keeps the clock: where the estate names it, others are stopped.
Units that the guest itself, its network or its door depend on are never stopped.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from nightlatch.access.desired_state import Lack, StatedUnit, of_units
from nightlatch.draft.acts import (
    NONE,
    Act,
    Disable,
    Enable,
    Install,
    Reload,
    SetHostName,
    SetZone,
    Start,
    Stop,
    family,
    install,
)
from nightlatch.draft.partial_draft import PartialDraft
from nightlatch.draft.steps import AnyStep
from nightlatch.estate.model import Estate, ViaKind
from nightlatch.evidence.snapshot import EntryKind, Snapshot
from nightlatch.formats import lines as text_lines
from nightlatch.formats import name_files
from nightlatch.model.steps import MakeFile, ReplaceLine
from nightlatch.readings import clock, guest
from nightlatch.readings.guest import GuestReading
from nightlatch.systems import posix

# What a guest, its network, its log or its door can't do without, or what is not for stopping (bootup(7)).
KEPT = re.compile(
    r"(systemd-(?!timesyncd\b)|dbus|NetworkManager|networking|ifup|network|netplan|wpa_supplicant|getty|serial-getty|"
    r"ssh|user@|nightlatch-|polkit|lvm2|cryptsetup|multipathd|iscsi|qemu-guest-agent|open-vm-tools|vmtoolsd).*"
)
TIME_UNITS = {unit: name for name, _, units in clock.SERVICES for unit in units}


def given(estate: Estate, snapshot: Snapshot) -> PartialDraft:
    """All that is due on one guest; nothing where it is as the estate states it."""
    reading = guest.read(snapshot)
    out = PartialDraft()
    root = _root(estate, reading)
    for each in of_units(estate, reading):
        _unit(each, reading, root, out)
    _ssh(estate, reading, out)
    _rivals(estate, reading, out)
    _zone(estate, reading, out)
    _name(estate, reading, out)
    return out


def _root(estate: Estate, reading: GuestReading) -> str:
    """Where the guest's files lie, for a command that a person types."""
    via = estate.guests[reading.guest].via
    return str(via.path) if via.kind is ViaKind.FOLDER else "FOLDER"


def text_of(each: StatedUnit) -> str:
    """What a unit lacks, as a sentence."""
    wish = "run" if each.spec.runs else "not run"
    return f"{each.state.name} should {wish}: it {' and '.join(lack.value for lack in each.lacks)}."


def _unit(each: StatedUnit, reading: GuestReading, root: str, out: PartialDraft) -> None:
    name, lacks = each.state.name, each.lacks
    unit = reading.service.units.get(name)
    if not lacks:
        if each.spec.runs and unit is not None and unit.needs_reload:
            out.acts.append(Reload(name, f"The file of {name} was changed and not loaded."))
        return
    why = text_of(each)
    if not reading.service.is_live:
        verb = "enable" if each.spec.runs else "disable"
        if Lack.THERE in lacks:
            out.leave(why, f"install {each.spec.package or 'its package'} in {root}; only a running guest gets packages")
            return
        out.leave(why, f"systemctl --root={root} {verb} {name}; only a running guest's services are changed")
    elif not reading.snapshot.told.systemd:
        out.leave(why, "this guest has no systemd: use its own service manager")
    elif not each.spec.runs and KEPT.fullmatch(name):
        out.leave(why, "the guest, its network or its SSH server depends on it; stop it at the console if that is meant")
    elif Lack.UNMASKED in lacks:
        out.leave(why, f"somebody masked it on purpose; systemctl unmask {name}, then draft again")
    elif Lack.THERE in lacks:
        _install(each, reading, out, why)
    else:
        out.acts += _acts(name, lacks, why)


def _ssh(estate: Estate, reading: GuestReading, out: PartialDraft) -> None:
    """The SSH server at boot; that it runs is shown by the connection, and a stopped one is for the console's script."""
    stated = any(each.unit == "ssh" for each in estate.of(reading.guest).services)
    service = reading.service
    units = [unit for unit in (service.socket, service.service) if unit is not None]
    if stated and service.is_running and service.has_units and units and not any(unit.at_boot for unit in units):
        out.acts.append(Enable(units[0].name, "sshd runs, but nothing starts it at boot."))


def _acts(name: str, lacks: tuple[Lack, ...], why: str) -> Iterator[Act]:
    if Lack.AT_BOOT in lacks:
        yield Enable(name, why)
    if Lack.RUNNING in lacks:
        yield Start(name, why)
    if Lack.NOT_AT_BOOT in lacks:
        yield Disable(name, why)
    if Lack.NOT_RUNNING in lacks:
        yield Stop(name, why)


def _install(each: StatedUnit, reading: GuestReading, out: PartialDraft, why: str) -> None:
    name, package, found = each.state.name, each.spec.package, family(reading.families)
    if not package:
        out.leave(why, f"write package: NAME in its sentence ({each.spec.origin}), and it is installed")
    elif not found:
        out.leave(why, f"install {package} by hand: this system's packages are not known")
    else:
        out.acts += [install(found, package, name, why), Enable(name, why), Start(name, why)]


def _rivals(estate: Estate, reading: GuestReading, out: PartialDraft) -> None:
    """Other time services beside the one that the estate names (RFC 5905: one discipline of the clock)."""
    stated = {each.unit: each.runs for each in estate.of(reading.guest).services}
    named = [unit for unit, runs in stated.items() if runs and unit in TIME_UNITS]
    if not named or not reading.service.is_live:
        return
    for name, unit in reading.service.units.items():
        other = name in TIME_UNITS and name not in stated and TIME_UNITS[name] != TIME_UNITS[named[0]]
        if other and unit.loaded and name == unit.name:
            state = reading.unit(name)
            why = f"{TIME_UNITS[named[0]]} keeps the clock, as the estate has it, and {TIME_UNITS[name]} would, too."
            lacks = [lack for lack, held in ((Lack.NOT_AT_BOOT, state.at_boot), (Lack.NOT_RUNNING, state.running)) if held]
            out.acts[:0] = _acts(name, tuple(lacks), why)  # it goes first, for two would fight


def _zone(estate: Estate, reading: GuestReading, out: PartialDraft) -> None:
    wanted = estate.guests[reading.guest].time_zone
    snapshot, now = reading.snapshot, reading.clock.zone
    if not wanted:
        return
    if now is None or now.value != wanted:
        was = now.value if now is not None else ""
        why = f"The clock should show {wanted}" + (f"; it shows {was}." if was else ".")
        entry = snapshot.resolve("/etc/localtime", follow_last=False).entry
        if not reading.service.is_live:
            out.leave(why, f"ln -sfn ../usr/share/zoneinfo/{wanted} {_root(estate, reading)}/etc/localtime")
        elif now is None and (entry is None or entry.kind is not EntryKind.ABSENT):
            out.leave(why, f"/etc/localtime is no link to a zone (localtime(5)): timedatectl set-timezone {wanted}")
        else:
            out.acts.append(SetZone(wanted, _safe(posix.ZONE, was), why))
    stated = reading.clock.stated_zone
    if stated is not None and stated.value != wanted:
        out.steps += _word(snapshot, stated.origin.path, stated.value, wanted, f"The clock should show {wanted}.")


def _word(snapshot: Snapshot, path: str, old: str, new: str, why: str) -> Iterator[AnyStep]:
    """The line that holds just one word, with another word."""
    for line in text_lines.split(snapshot.content(path) or b""):
        text = text_lines.text_of(line).rstrip("\r\n")
        if old and text.strip() == old:
            yield ReplaceLine(snapshot.resolve(path).path, why, False, text, new)
            return


def _name(estate: Estate, reading: GuestReading, out: PartialDraft) -> None:
    wanted = estate.guests[reading.guest].host_name
    if not wanted:
        return
    snapshot, stored = reading.snapshot, reading.network.hostname
    old = stored.value if stored is not None else ""
    loaded = snapshot.told.host if reading.service.is_live else wanted
    why = f"{reading.guest} should call itself {wanted}" + (f"; it is {old or loaded}." if old or loaded else ".")
    if old != wanted:
        if snapshot.content("/etc/hostname") is None:
            out.steps.append(MakeFile(snapshot.resolve("/etc/hostname").path, why, False, f"{wanted}\n", 0o644, 0, 0))
        elif old:
            out.steps += _word(snapshot, "/etc/hostname", old, wanted, why)
        else:
            out.leave(why, "/etc/hostname holds no name; write it there, then draft again")
            return
    if old != wanted or loaded != wanted:
        out.steps += _hosts(snapshot, old or loaded, wanted, why)
    if loaded != wanted:
        out.acts.append(SetHostName(wanted, _safe(posix.HOST_NAME, loaded), why))


def _hosts(snapshot: Snapshot, old: str, wanted: str, why: str) -> Iterator[AnyStep]:
    """The lines of the loopback's addresses that name the guest: sudo and mail look it up there (hosts(5))."""
    path = snapshot.resolve("/etc/hosts").path
    content = snapshot.content("/etc/hosts")
    short = old.partition(".")[0]
    lines = text_lines.split(content or b"")
    for line in name_files.hosts(content or b""):
        own = line.address is not None and line.address.is_loopback
        if not own or not short or short == "localhost" or not {old, short} & set(line.names):
            continue
        text = text_lines.text_of(lines[line.number - 1]).rstrip("\r\n")
        after = _renamed(text, old, wanted)
        nth = sum(text_lines.text_of(each).rstrip("\r\n") == text for each in lines[: line.number - 1])
        if after != text:
            yield ReplaceLine(path, why, False, text, after, nth)


def _renamed(text: str, old: str, wanted: str) -> str:
    """A line with one name for another, also where its first part begins a longer one; spaces and the comment stay."""
    said, mark, comment = text.partition("#")
    parts = re.split(r"(\s+)", said)
    short, new = old.partition(".")[0], wanted.partition(".")[0]
    longer = any(word.startswith(f"{short}.") for word in parts)
    for number, word in enumerate(parts):
        first, dot, rest = word.partition(".")
        if word == short:
            parts[number] = new if longer or new == wanted else f"{wanted} {new}"
        elif word == old:
            parts[number] = wanted
        elif dot and first == short and number:
            parts[number] = f"{new}.{rest}" if new == wanted else wanted
    return "".join(parts) + mark + comment


def _safe(pattern: re.Pattern[str], text: str) -> str:
    """A value that the guest told, or empty where it can't be passed on as one word."""
    return text if pattern.fullmatch(text) else NONE


def installs(acts: list[Act] | tuple[Act, ...]) -> list[Install]:
    """The packages that are installed, which can't be taken back."""
    return [each for each in acts if isinstance(each, Install)]
