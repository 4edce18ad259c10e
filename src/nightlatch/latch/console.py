"""A whole change as one readable script, for a person at a console: what it does first, then how (POSIX sh).

It is the same transaction that a connection would carry, with the same lock, timer, boot guard, check and way back; only
the decision is a second call of the same file. Run twice it changes nothing.
"""

from __future__ import annotations

from collections.abc import Iterable
from importlib.resources import files

from nightlatch import versions
from nightlatch.draft import diff
from nightlatch.draft.acts import Install
from nightlatch.draft.door import ServiceStep
from nightlatch.evidence.script import trust
from nightlatch.latch.records import HOME
from nightlatch.latch.transaction import Transaction
from nightlatch.latch.words import quoted


def script(made: Transaction, service: tuple[ServiceStep, ...] = ()) -> str:
    """The script. `service` are the steps of the service, told at its head; `made.planned.server.start` starts it."""
    install = next((step for step in service if isinstance(step, Install)), None)
    values = {
        "home": HOME,
        "format": versions.name("latch"),
        "place": made.place,
        "whole": "yes",
        "seconds": str(made.terms.seconds),
        "start": " ".join(made.planned.server.start),
        "rows": made.table().rstrip("\n"),
        "acts": "\n".join(" ".join(words) for words in made.acts),
        "family": install.family if install else "",
        "package": install.package if install else "",
        "tool": install.command if install else "",
    }
    told = "".join(f"    {name}={quoted(text)}\n" for name, text in values.items())
    room = files("nightlatch.latch")
    session, console = (room.joinpath(name).read_text() for name in ("session.sh", "console.sh"))
    return (
        _head(made, service)
        + "nightlatch_change() {\n"
        + "    LC_ALL=C PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin:$PATH\n    export LC_ALL PATH\n"
        + trust()
        + '    safe_path\n    umask 077\n    me=$0\n    [ -f "$me" ] || me=THIS-FILE\n'
        + told
        + "put() {\n"
        + made.unpacked()
        + "}\n"
        + session
        + (room.joinpath("accounts.sh").read_text() if made.proved.accounts else "")
        + console
        + '}\nnightlatch_change "$@"\n'
    )


def _head(made: Transaction, service: tuple[ServiceStep, ...]) -> str:
    guest = made.proved.draft.guest
    proved = made.proved
    lines = [
        f"Nightlatch: change {made.change} for {guest}, made on {made.terms.time}. Run it there as root:",
        "    sh FILE          puts it on the latch: the guest takes it back by itself",
        f"                     after {made.terms.seconds} s, unless it is kept",
        "    sh FILE keep     keeps it, once it was tried from outside",
        "    sh FILE back     takes it back at once",
        "Nothing below runs before the last line was read, and run twice it changes nothing.",
        "",
        "What it does:",
    ]
    lines += [f"  {step}" for step in service if isinstance(step, Install)]
    for each in diff.of(made.proved):
        lines.append(f"  {each.path}" + (f"   ({each.note})" if each.note else ""))
        lines += [f"      because: {why}" for why in each.why]
        lines += [f"      {line}" for line in each.lines if not line.startswith("@@")]
    lines += [f"  {step}" for step in service if not isinstance(step, Install)]
    for act in (*proved.accounts, *proved.draft.acts):
        lines += [f"  {act}", *([f"      because: {act.why}"] if act.why else [])]
    lines += _left(made)
    return "".join(f"# {_plain(line)}".rstrip() + "\n" for line in lines)


def _left(made: Transaction) -> Iterable[str]:
    left = made.proved.draft.left
    if left:
        yield ""
        yield "Left to do by hand:"
        yield from (f"  {entry.text} ({entry.hand})" for entry in left)


def _plain(text: str) -> str:
    """Text from a guest as part of a comment: one line, printable ASCII."""
    return "".join(char if 32 <= ord(char) < 127 else "?" for char in text)
