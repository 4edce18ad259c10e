"""Steps on the settings of VNC servers: the loopback address, and types that seal as well as is granted.

A server reads them at its start alone, and starting it anew ends its session: on a running guest they are told to a person.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from nightlatch.formats import perl_settings
from nightlatch.formats.lines import split, text_of
from nightlatch.model.candidates import Candidate
from nightlatch.model.grants import Grant
from nightlatch.model.paths import AccessPath
from nightlatch.model.routes import Seal
from nightlatch.model.secrets import Password, ScreenPassword
from nightlatch.model.steps import AddLine, ReplaceLine
from nightlatch.origin import Kind
from nightlatch.services.base import ServiceCase
from nightlatch.services.vnc import layers
from nightlatch.services.vnc.entries import VncAccess
from nightlatch.services.vnc.explanations import is_meant, of
from nightlatch.services.vnc.security import TYPES, Asks
from nightlatch.services.vnc.starts import Program, Start
from nightlatch.systems import posix

WRAPPED = (Program.WRAPPER, Program.SCRAPER_WRAPPER)
LOCAL = {Program.X11VNC: ("localhost", ""), **dict.fromkeys(WRAPPED, ("localhost", "yes"))}
TYPES_SETTING = "SecurityTypes"
ANEW = "then start the server anew, which ends its session"


@dataclass(frozen=True, slots=True)
class _Wish:
    """One parameter that should count as another value; a switch of x11vnc has none."""

    name: str
    value: str


def close(path: AccessPath, why: str, case: ServiceCase) -> Iterator[Candidate]:
    """The steps that may shut a way in, of a guest that does not run."""
    access = of(case)
    if case.reading.service.is_live or access.start is None or not _is_of(path, access):
        return
    for wish in _closing(path, case, access):
        yield from _set(wish, why, case, access, access.start, opens=False)


def hand(path: AccessPath, case: ServiceCase) -> str:
    """The same as advice to a person."""
    access = of(case)
    if access.start is None or not _is_of(path, access):
        return (
            f"end what serves port {path.route.port}, or have it listen on the loopback address alone"
            if access.start is None
            else ""
        )
    told = [f"{_written(wish, access.start, access)}, {ANEW}" for wish in _closing(path, case, access)]
    if any(isinstance(secret, ScreenPassword) and secret.look for secret in path.need):
        file = access.serving.secret.file if access.serving is not None and access.serving.secret is not None else ""
        told.append(f"set the password {f'in {file} ' if file else ''}anew without one for a look only")
    if access.start.program is Program.X11VNC and not path.need:
        told.append(f"have x11vnc ask for a password with -rfbauth FILE, which x11vnc -storepasswd makes, {ANEW}")
    return "; or ".join(told)


def open_up(grant: Grant, why: str, case: ServiceCase) -> Iterator[Candidate]:
    """Types that seal as the grant asks, for a server that shows the screen and has none."""
    access = of(case)
    if case.reading.service.is_live or access.start is None or access.serving is None or not is_meant(grant, access):
        return
    asks = _asks([grant])
    good = [
        door for door in access.serving.doors if door.lacking is None and door.type.seal >= grant.seal and door.type.asks in asks
    ]
    if not good and access.start.program is not Program.X11VNC:
        yield from _set(_Wish(TYPES_SETTING, _types(asks, grant.seal)), why, case, access, access.start, opens=True)


def _is_of(path: AccessPath, access: VncAccess) -> bool:
    return path.account == access.screen and path.route.port in {each.port for each in access.listeners}


def _closing(path: AccessPath, case: ServiceCase, access: VncAccess) -> Iterator[_Wish]:
    assert access.start is not None
    grants = [grant for grant in case.grants if is_meant(grant, access)]
    if grants and access.start.program is not Program.X11VNC:
        asks = _asks(grants)
        least = min(grant.seal for grant in grants)
        if asks and (path.seal < least or not path.need):
            yield _Wish(TYPES_SETTING, _types(asks, least))
    if not grants:
        yield _Wish(*LOCAL.get(access.start.program, ("localhost", "1")))


def _asks(grants: Sequence[Grant]) -> set[Asks]:
    """What grants have their people show."""
    secrets = (secret for grant in grants for need in grant.proofs for secret in need)
    return {Asks.ACCOUNT if isinstance(secret, Password) else Asks.SCREEN for secret in secrets}


def _types(asks: set[Asks], least: Seal) -> str:
    """The types that ask for just this and seal at least so well, the best first; those that need an RSA key are left out."""
    found = [each for each in TYPES if each.asks in asks and each.seal >= least and not each.name.startswith(("RA2", "DH"))]
    best = max(each.seal for each in found)
    return ",".join(each.name for each in found if each.seal is best)


def _written(wish: _Wish, start: Start, access: VncAccess) -> str:
    if start.program in WRAPPED:
        home = _home(access)
        return f'write ${wish.name} = "{wish.value}"; into {home}/.vnc/{layers.PERL[0]}'
    return f"start it with -{wish.name}{f'={wish.value}' if wish.value else ''} ({start.origin})"


def _home(access: VncAccess) -> str:
    account = access.reading.accounts.by_name.get(access.serving.account) if access.serving is not None else None
    return account.home if account is not None else "~"


def _set(wish: _Wish, why: str, case: ServiceCase, access: VncAccess, start: Start, *, opens: bool) -> Iterator[Candidate]:
    if start.program in WRAPPED:
        yield from _in_users_file(wish, why, case, access, opens=opens)
    elif start.origin.path.startswith((f"{posix.UNIT_FOLDERS[0]}/", "/etc/cron")):
        yield from _on_the_line(wish, why, case, start, opens=opens)


def _in_users_file(wish: _Wish, why: str, case: ServiceCase, access: VncAccess, *, opens: bool) -> Iterator[Candidate]:
    """An assignment in the Perl file of the account that starts the server; made where there is a folder for it and no file."""
    snapshot, folder = case.reading.snapshot, f"{_home(access)}/.vnc"
    account = case.reading.accounts.by_name.get(access.serving.account) if access.serving is not None else None
    path = layers.user_file(snapshot, folder)
    content = snapshot.content(path) if path else None
    if account is None or path.endswith(f"/{layers.TEXT}") or (path and (content is None or b"\r" in content)):
        return
    if content is None:
        if snapshot.resolve(folder).entry is not None:
            yield (
                AddLine(f"{folder}/{layers.PERL[0]}", why, opens, f'${wish.name} = "{wish.value}";', account.uid, account.gid),
            )
        return
    document = perl_settings.parse(content)
    real, made = snapshot.resolve(path).path, document.set(wish.name, wish.value)
    line = document.last(wish.name)
    if line is not None:
        after = made.lines[line.number - 1]
        if after.raw != line.raw:
            before = text_of(line.raw).rstrip("\n")
            yield (ReplaceLine(real, why, opens, before, text_of(after.raw).rstrip("\n"), _nth(content, line.number, before)),)
    else:
        yield (AddLine(real, why, opens, f'${wish.name} = "{wish.value}";', account.uid, account.gid),)


def _on_the_line(wish: _Wish, why: str, case: ServiceCase, start: Start, *, opens: bool) -> Iterator[Candidate]:
    """The option at the end of the line that starts the server, where it is a plain command: the last of several counts."""
    content = case.reading.snapshot.content(start.origin.path)
    if content is None or start.origin.kind is not Kind.FILE or b"{secret}" in content:
        return
    before = text_of(split(content)[start.origin.line - 1]).rstrip("\r\n")
    if any(mark in before for mark in "'\"|&;<>`$\\"):
        return
    word = f"-{wish.name}={wish.value}" if wish.value else f"-{wish.name}"
    yield (ReplaceLine(start.origin.path, why, opens, before, f"{before} {word}", _nth(content, start.origin.line, before)),)


def _nth(content: bytes, number: int, text: str) -> int:
    return [text_of(each).rstrip("\r\n") for each in split(content)[: number - 1]].count(text)
