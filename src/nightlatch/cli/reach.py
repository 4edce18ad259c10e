"""The commands that look at guests from the wire: reach, and meet for the first contact."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import click

from nightlatch.cli import prompts
from nightlatch.cli.options import (
    SEVERITIES,
    Duration,
    as_of,
    client_of,
    estate_of,
    faults,
    form_of,
    is_estate,
    now,
    on_guests,
    ssh_config,
)

if TYPE_CHECKING:
    from nightlatch.ops.meet import FirstContact
    from nightlatch.probe.ssh import ProvenKey

ASK = "Fingerprint, as the console shows it"
MOST_ANSWERS = 8
WAIT = Duration("a guest can be waited for", lambda: (0, 6 * 3600))


@click.command()
@click.argument("source", default="estate.yaml")
@on_guests
@click.option("--who", multiple=True, metavar="NAME", help="Only grants to this person, robot or account.")
@click.option("--login", is_flag=True, help="Log in to the management account as well, with what your ssh holds.")
@click.option(
    "--wait",
    type=WAIT,
    default="0",
    metavar="TIME",
    help="Wait so long for guests that don't answer (2m).",
)
@click.option(
    "--evidence",
    type=click.Path(path_type=Path, file_okay=False, exists=True),
    metavar="FOLDER",
    help="Archives of a survey, to hold the wire against.",
)
@click.option("--at-once", type=click.IntRange(1, 500), default=64, help="Guests looked at at the same time (64).")
@click.option("--fail-at", type=click.Choice(SEVERITIES), default="high", help="Exit with 1 from this severity on (high).")
@form_of
@as_of
@ssh_config
def reach(
    source: str,
    guests: tuple[str, ...],
    who: tuple[str, ...],
    login: bool,
    wait: int,
    evidence: Path | None,
    at_once: int,
    fail_at: str,
    form: str,
    as_of: datetime | None,
    config: Path | None,
) -> None:
    """Try granted ways in on the wire: name, route, connection, server, host key, offered methods, each with its time.

    SOURCE is an estate file; or HOST or HOST:PORT for a look at one SSH server that no estate speaks of. Without --login
    nobody logs in anywhere. A try proves the route from here only: other places are told as not
    proven.
    """
    with faults("interrupted; nothing was changed anywhere"):
        from nightlatch.audit.findings import Severity
        from nightlatch.ops.reach import reach as reach_guests
        from nightlatch.report import machine, page
        from nightlatch.report import reach as report

        path = Path(source)
        if not is_estate(path) and not path.exists():
            raise SystemExit(_single(source, form))
        with client_of(config, several=True) as client:
            result = reach_guests(
                estate_of(path),
                now(as_of),
                list(guests) or None,
                who=who,
                login=login,
                wait=wait,
                evidence=evidence,
                client=client,
                at_once=at_once,
            )
        if form == "json":
            click.echo(machine.dumps(report.document(result)))
        else:
            report.text(page.Page(page.console()), result)
    raise SystemExit(result.exit_code(Severity(fail_at)))


def _single(source: str, form: str) -> int:
    from nightlatch.estate.ways import dialled
    from nightlatch.faults import NightlatchError
    from nightlatch.ops.reach import look_at
    from nightlatch.probe.causes import causes
    from nightlatch.report import machine, page
    from nightlatch.report import reach as report
    from nightlatch.transports.targets import SSH_PORT

    found = dialled(source)
    if found is None:
        raise NightlatchError(f'"{source}" is neither an estate file nor HOST, HOST:PORT or [IPv6]:PORT')
    host, port = found
    look = look_at(host, port or SSH_PORT)
    if form == "json":
        click.echo(machine.dumps({"format": "nightlatch/look/1", **report.look_document(look)}))
    else:
        report.single(page.Page(page.console()), look, causes(look))
    return 3 if look.failed is not None else 0


@click.command()
@click.argument("guest")
@click.argument("source", type=click.Path(path_type=Path), default=Path("estate.yaml"))
@click.option("--fingerprint", "given", multiple=True, metavar="TEXT", help="A fingerprint read at the console, SHA256 or MD5.")
@click.option(
    "--evidence",
    type=click.Path(path_type=Path, exists=True),
    metavar="FILE",
    help="What the collector printed at the guest's console, to compare with.",
)
@ssh_config
def meet(guest: str, source: Path, given: tuple[str, ...], evidence: Path | None, config: Path | None) -> None:
    """Meet GUEST of an estate file (estate.yaml, unless said): prove its host keys, compare them, pin them.

    Every type of host key is taken from the wire and its signature verified. Then the fingerprint itself is asked for, as
    the guest's console shows it: a yes proves nothing. What was confirmed is written under host_keys, and nothing else
    in the file is changed.
    """
    with faults("interrupted; nothing was pinned"):
        from nightlatch.ops.meet import meet as meet_guest
        from nightlatch.ops.meet import pin
        from nightlatch.report import first_contact, page

        estate = estate_of(source)
        with client_of(config) as client:
            met = meet_guest(estate, guest, evidence=evidence, client=client)
        sheet = page.Page(page.console())
        first_contact.shown(sheet, met)
        if not met.keys:
            raise SystemExit(3)
        if len(met.known) == len(met.keys):
            _named(met, "\n".join(given))  # what was read at the console may still contradict it
            sheet.wrapped(f"{guest}: every host key that it shows is pinned already; nothing to write.", style="good")
            raise SystemExit(0)
        confirmed = _confirmed(met, given)
        pins = pin(estate, met, confirmed)
        first_contact.done(sheet, met, pins, source)


def _confirmed(met: FirstContact, given: tuple[str, ...]) -> list[ProvenKey]:
    """The keys that a fingerprint from outside confirms. Raises RefusedError when one contradicts the wire."""
    from nightlatch.report import first_contact

    found: dict[ProvenKey, None] = dict.fromkeys(met.vouched)
    if given:
        found.update(dict.fromkeys(_named(met, "\n".join(given))))
    elif found:
        pass
    else:
        for _ in range(MOST_ANSWERS):
            left = [proven for proven in met.keys if proven not in found and proven not in met.known]
            if not left:
                break
            question = f"{ASK} ({', '.join(p.key.kind for p in left)}{'; Enter to stop' if found else ''})"
            words = prompts.typed(question, "it by --fingerprint, or give --evidence", may_be_empty=bool(found))
            if not words.strip():
                break
            named = _named(met, words)
            found.update(dict.fromkeys(named))
            click.echo(first_contact.answer(named))
    missing = set(met.keys) - set(found) - set(met.known)
    if found and met.held and missing:
        click.echo(f"not in the evidence, so not pinned: {', '.join(sorted(p.key.kind for p in missing))}")
    return list(found)


def _named(met: FirstContact, words: str) -> tuple[ProvenKey, ...]:
    """The keys that the words name; a fingerprint that no key has is told, and ends it, unless all keys are accounted for."""
    from nightlatch.faults import RefusedError
    from nightlatch.report import first_contact

    named, strange = met.named_by(words)
    if strange and (set(met.keys) - set(named) or not named):
        raise RefusedError(first_contact.contradiction(met, strange))
    return named
