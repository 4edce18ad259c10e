"""What a PAM stack comes to (pam.conf(5)), for the modules whose answer follows from files.

A module that is not known here has to run before anybody can tell: the answer is then unknown, and says at which line.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from enum import StrEnum
from itertools import islice

from nightlatch.model.gaps import Gap
from nightlatch.net.numbers import whole
from nightlatch.origin import Origin
from nightlatch.readings.guest import PamLine

MOST_DEPTH = 8
MOST_LINES = 500
# Modules that answer "success" or "ignore" to everybody, whatever they do besides.
HARMLESS = frozenset(
    (
        "pam_permit.so pam_env.so pam_cap.so pam_loginuid.so pam_keyinit.so pam_limits.so pam_motd.so pam_mail.so "
        "pam_selinux.so pam_systemd.so pam_umask.so pam_lastlog.so pam_faildelay.so pam_warn.so pam_echo.so "
        "pam_gnome_keyring.so pam_console.so pam_namespace.so pam_sepermit.so"
    ).split()
)


class PamOutcome(StrEnum):
    """The result of a stack."""

    OPEN = "success"
    CHANGE = "new_authtok_reqd"
    SHUT = "failure"
    UNKNOWN = "unknown"


@dataclass(frozen=True, slots=True)
class PamVerdict:
    """An outcome with the line that decided it: of an open stack the one by which it is open."""

    outcome: PamOutcome
    gap: Gap | None = None
    origin: Origin | None = None


Answers = Callable[[str, tuple[str, ...]], str | None]


@dataclass(frozen=True, slots=True)
class PamStack:
    """The lines that a service runs for one facility, those of the files that it includes among them; `unread` says why they
    are not known."""

    lines: tuple[PamLine, ...] = ()
    unread: Gap | None = None

    def run(self, answers: Answers) -> PamVerdict:
        """Walk the stack. `answers` gives a module's answer (success, ignore, acct_expired, ...), or None."""
        return PamVerdict(PamOutcome.UNKNOWN, self.unread) if self.unread is not None else _walk(self.lines, answers)


def stack(files: dict[str, tuple[PamLine, ...]], service: str, facility: str) -> PamStack:
    """The stack of a service, or of `other` where it has none (pam(8)); `files` are those of /etc/pam.d by name."""
    name = service if service in files else "other"
    if name not in files:
        origin = Origin(f"/etc/pam.d/{service}")
        return PamStack(unread=Gap("PAM", f"no PAM configuration for {service} was found", origin))
    lines = tuple(islice(_lines(files, name, facility, ()), MOST_LINES + 1))
    if len(lines) > MOST_LINES:
        return PamStack(unread=Gap("PAM", "more lines than are read", Origin(f"/etc/pam.d/{name}")))
    return PamStack(lines)


def _lines(files: dict[str, tuple[PamLine, ...]], name: str, facility: str, above: tuple[str, ...]) -> Iterator[PamLine]:
    if name in above or len(above) > MOST_DEPTH:
        return  # a stack that includes itself adds nothing
    for each in files.get(name, ()):
        if each.line.include and each.line.facility in ("", facility):
            yield from _lines(files, each.line.include, facility, (*above, name))
        elif each.line.facility == facility or each.line.fault:
            yield each


def _walk(lines: Sequence[PamLine], answers: Answers) -> PamVerdict:
    status: str | None = None
    failed: PamLine | None = None
    by: PamLine | None = None
    at = 0
    while at < len(lines):
        each = lines[at]
        at += 1
        control = dict(each.line.control)
        answer = None if each.line.fault else _answer(each, answers)
        if answer is None:
            if not each.line.fault and set(control.values()) <= {"ignore", "ok"}:
                continue  # whatever it answers, it can't shut the door
            because = each.line.fault or f"{each.line.module} would have to run"
            return PamVerdict(PamOutcome.UNKNOWN, Gap("PAM", because, each.origin))
        action = control.get(answer, "ignore" if answer == "ignore" else control.get("default", "bad"))
        jump = whole(action, 4)
        if jump is not None:
            at += jump  # what it answered counts no further (pam.conf(5): the side effect is ignore)
        elif action in ("ok", "done"):
            if failed is None and status in (None, "success"):
                status, by = answer, each
            if action == "done" and failed is None:
                break
        elif action in ("bad", "die"):
            failed = failed or each
            if action == "die":
                break
        elif action == "reset":
            status, failed, by = None, None, None
    if failed is not None or status is None:
        return PamVerdict(PamOutcome.SHUT, None, failed.origin if failed else None)
    return PamVerdict(PamOutcome.CHANGE if status == "new_authtok_reqd" else PamOutcome.OPEN, None, by.origin if by else None)


def _answer(each: PamLine, answers: Answers) -> str | None:
    if each.line.module == "pam_deny.so":
        return "auth_err"
    if each.line.module == "pam_permit.so":
        return "success"
    return "ignore" if each.line.module in HARMLESS else answers(each.line.module, each.line.arguments)
