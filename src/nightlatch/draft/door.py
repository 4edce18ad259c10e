"""A first SSH server for a guest that has none: the SSH server installed, enabled and started, open to management access only.

What the package brings is not known beforehand. So a file of ours is read before it that lets in management access only,
by key; that sshd really says so is checked on the guest before it is started. Everything else that is granted comes
later, once the guest was met and surveyed, by a draft on its own evidence.
"""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime

from nightlatch.access.differences import covers, find_holes
from nightlatch.access.grants import address_spaces, expand, sources_of
from nightlatch.access.paths import GuestAccess, guest_access
from nightlatch.draft.acts import FAMILIES, Enable, Install, Start, family, install
from nightlatch.draft.plan import _PROVED, Draft, ProvedDraft
from nightlatch.draft.steps import AnyStep, StepError, apply_all
from nightlatch.draft.work import Work
from nightlatch.estate.model import Estate, GuestSpec
from nightlatch.evidence.opinions import Question
from nightlatch.evidence.snapshot import ABSENT, Entry, EntryKind, Snapshot
from nightlatch.faults import RefusedError
from nightlatch.model.grants import Grant, GrantKind
from nightlatch.model.powers import SHELL
from nightlatch.model.sources import COMMON
from nightlatch.model.steps import MakeFile, ManualTask
from nightlatch.readings import guest as readings
from nightlatch.readings.guest import GuestReading
from nightlatch.services.ssh.opening_steps import own_key
from nightlatch.systems import posix

MAIN, FOLDER = "/etc/ssh/sshd_config", "/etc/ssh/sshd_config.d"
FILE = f"{FOLDER}/00-first-door.conf"
WHY = "until this guest was met and surveyed, only management access is open"
# What the main file of every package below begins with; it is checked on the guest by what sshd says.
ASSUMED = f"Include {FOLDER}/*.conf\nUsePAM yes\n"
MOST_PATTERNS = 32


ServiceStep = Install | Enable | Start
# The package that brings the server, by the ID and ID_LIKE words of os-release(5).
PACKAGES = {family: "openssh" if family == "arch" else "openssh-server" for family in FAMILIES}


def needed(reading: GuestReading) -> tuple[ServiceStep, ...]:
    """The steps that make a server run, now and at boot; empty where it does, or where only files were read.

    Raises RefusedError where the package's name is not known.
    """
    if reading.installed and not reading.service.is_live:
        return ()
    package = None if reading.installed else _package(reading)
    unit = reading.service.service
    usual = "ssh.service" if FAMILIES.get(family(reading.families)) == "debian" else "sshd.service"
    name = unit.name if unit is not None else usual
    out: list[ServiceStep] = [package] if package is not None else []
    if reading.service.socket is not None and reading.service.is_running:
        return tuple(out)  # a socket waits for callers and starts the service
    if package is not None or unit is None or not unit.at_boot:
        out.append(Enable(name))
    if package is not None or not reading.service.is_running:
        out.append(Start(name))
    return tuple(out)


def _package(reading: GuestReading) -> Install:
    found = family(reading.families)
    if not found:
        known = ", ".join(dict.fromkeys(PACKAGES))
        raise RefusedError(
            f"no SSH server is installed, and the package is known for other systems only ({known}): "
            "install it by hand, survey again",
            guest=reading.guest,
        )
    return install(found, PACKAGES[found])


def prove(estate: Estate, snapshot: Snapshot, at: datetime) -> ProvedDraft:
    """The draft that opens management access, and nothing else, on a guest without a server; worked out on what is assumed.

    Raises RefusedError where no management access is stated, its account is not there, or it would not open.
    """
    spec = estate.guests[snapshot.guest]
    grant = _own_door(estate, spec, snapshot, at)
    account = readings.read(snapshot).accounts.by_name.get(grant.account)
    if account is None:
        raise RefusedError(
            f"management access needs the account {grant.account}, which is not there; make it first (adduser(8))",
            guest=spec.name,
        )
    file = MakeFile(FILE, WHY, True, _file(estate, spec, account.uid == 0), 0o644, 0, 0)
    steps: tuple[AnyStep, ...] = (file,)
    access = _tried(estate, snapshot, steps, at)
    if not _opens(access, grant):
        steps = (
            *own_key(Work(access, (grant,), estate).case(access.ssh), account, f"management access: {grant.account}"),
            file,
        )
        access = _tried(estate, snapshot, steps, at)
    if not _opens(access, grant):
        raise RefusedError(f"management access would not open: {grant.account} gets no shell by its key there", guest=spec.name)
    grants = tuple(expand(estate, spec.name, at))
    over = [each for each in find_holes(access.paths, grants) if each.certain]
    left = [ManualTask(f"{each.path.account} is let in beyond what is granted", "survey it once it was met") for each in over]
    before = _with_folder(snapshot)
    return ProvedDraft(Draft(spec.name, steps, tuple(dict.fromkeys(left))), before, apply_all(before, steps), at, _PROVED)


def _tried(estate: Estate, snapshot: Snapshot, steps: tuple[AnyStep, ...], at: datetime) -> GuestAccess:
    try:
        after = apply_all(_with_folder(snapshot), steps)
    except StepError as error:
        raise RefusedError(f"the draft does not fit this evidence: {error}", guest=snapshot.guest) from None
    return guest_access(readings.read(_with_server(after)), at, address_spaces(estate))


def _opens(access: GuestAccess, grant: Grant) -> bool:
    return any(path.power == SHELL and any(path.callers.perhaps.values()) and covers(grant, path) for path in access.paths)


def _own_door(estate: Estate, spec: GuestSpec, snapshot: Snapshot, at: datetime) -> Grant:
    doors = [g for g in expand(estate, spec.name, at) if g.kind is GrantKind.MANAGEMENT]
    if not doors or spec.via.key is None:
        raise RefusedError(
            "it has no SSH server, and no management access is stated: write as, key and from under via, so that it "
            "that is opened is known",
            guest=spec.name,
        )
    return doors[0]


def _file(estate: Estate, spec: GuestSpec, root: bool) -> str:
    """The settings that open management access only."""
    own = sources_of(estate, spec.via.places).get(COMMON)
    prefixes = own.prefixes(MOST_PATTERNS + 1) if own else []
    patterns = (
        [f"{spec.via.account}@{prefix}" for prefix in prefixes] if 0 < len(prefixes) <= MOST_PATTERNS else [spec.via.account]
    )
    return (
        f"# {WHY}.\nAllowUsers {' '.join(patterns)}\nPermitRootLogin {'prohibit-password' if root else 'no'}\n"
        "PasswordAuthentication no\nKbdInteractiveAuthentication no\n"
    )


def promised(estate: Estate, proved: ProvedDraft) -> dict[str, tuple[str, ...]]:
    """What the guest's sshd must say of the account of management access before it is started (`sshd -T -C`)."""
    spec = estate.guests[proved.draft.guest]
    own = sources_of(estate, spec.via.places).get(COMMON)
    address = own.sample() if own else "192.0.2.1"
    local = "::1" if ":" in address else "127.0.0.1"
    content = next(step.content for step in proved.draft.steps if isinstance(step, MakeFile))
    lines: list[str] = []
    for line in content.splitlines()[1:]:
        keyword, _, value = line.partition(" ")
        lines += [f"{keyword.lower()} {word.replace('prohibit-password', 'without-password')}" for word in value.split()]
    return {Question(spec.via.account, address, local, 22).words: tuple(lines)}


def _with_folder(snapshot: Snapshot) -> Snapshot:
    """The folder of settings comes with the package."""
    made = Entry(EntryKind.FOLDER, 0o755)
    missing = [path for path in ("/etc/ssh", FOLDER) if snapshot.entries.get(path, ABSENT).kind is EntryKind.ABSENT]
    return snapshot.with_files(dict.fromkeys(missing, made))


def _with_server(snapshot: Snapshot) -> Snapshot:
    """The evidence with what the package is assumed to bring."""
    program = Entry(EntryKind.FILE, 0o755, size=0, content=b"")
    config = Entry(EntryKind.FILE, 0o644, size=len(ASSUMED), content=ASSUMED.encode())
    made = snapshot.with_files({posix.SSHD: program, MAIN: config})
    return replace(made, listed=made.listed | {FOLDER})
