"""`nightlatch survey`: many guests at once, a bar while it lasts, and every archive written as soon as it is there."""

from __future__ import annotations

import sys
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path

import click
from rich.console import Console
from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn
from rich.text import Text

from nightlatch.audit.names import pending
from nightlatch.cli.options import client_of, estate_of, is_estate, now
from nightlatch.estate.model import KEPT_DAYS
from nightlatch.evidence import dated
from nightlatch.evidence.file_names import file_of
from nightlatch.evidence.selection import taken_from
from nightlatch.faults import NightlatchError, OwnFaultError, work_on
from nightlatch.ops.evidence import write_evidence
from nightlatch.ops.survey import SurveyResult, survey, survey_script, survey_targets
from nightlatch.readings import latch
from nightlatch.report.safe import in_one_line, shown
from nightlatch.transports import targets
from nightlatch.transports.ssh import Client

Say = Callable[[str, bool], None]
"""Tells a line, on standard error if so said."""


def run(
    sources: Sequence[str], into: Path, guests: list[str] | None, pins: tuple[str, ...], config: Path | None, at_once: int
) -> int:
    """Survey and write; returns 3 when something was not read, else 0."""
    estates = [source for source in sources if is_estate(Path(source))]
    if estates and len(sources) > 1:
        raise NightlatchError(f"{estates[0]} is an estate file: name it alone, and guests of it with --on")
    if guests and not estates:
        raise NightlatchError("--on names guests of an estate file; here no estate file is named")
    several = bool(estates) or len(sources) > 1
    with client_of(config, several=several) as client:
        if estates:
            estate = estate_of(Path(estates[0]))
            total = len(guests or estate.guests)
            results = survey(estate, guests, client=client, at_once=at_once)
        else:
            for source in filter(targets.is_live, sources):
                targets.of_target(
                    source, client, pins
                )  # a word that names no target is a slip of the hand, not a guest that could not be read
            total = len(sources)
            results = survey_targets(sources, client=client, pins=pins, at_once=at_once)
        estate_file = estates[0] if estates else ""
        code = _keep(results, total, into, client, estate_file)
    _forget(into, estate.evidence_days if estates else KEPT_DAYS)
    return code


def _forget(into: Path, days: int) -> None:
    """Take away evidence of days that are longer ago than it is kept, and say of which."""
    gone = dated.forget(into, now(None).date(), days)
    if gone:
        old = list(dict.fromkeys(each.parent.name for each in gone))
        many = f"of {old[0]}" if not old[1:] else f"of {len(old)} days, from {old[0]} to {old[-1]}"
        click.echo(f"evidence {many} is older than {days} days, and was taken away", err=True)


def scripted(sources: Sequence[str], guests: list[str], short: bool) -> bytes:
    """The script to run by hand; of an estate it is for one guest, named by --on."""
    if not sources and not guests:
        return survey_script(short=short)
    source = Path(sources[0] if sources else "estate.yaml")
    if not is_estate(source) or len(guests) != 1 or len(sources) > 1:
        raise NightlatchError("--script alone prints it for any guest; for a guest of an estate: --script ESTATE --on GUEST")
    return survey_script(estate_of(source), guests[0], short=short)


def _keep(results: Iterator[SurveyResult], total: int, into: Path, client: Client, estate_file: str) -> int:
    missed: list[SurveyResult] = []
    read, last = 0, ""
    try:
        with _bar(total, client) as (step, say):
            for each in results:
                if each.snapshot is None:
                    missed.append(each)
                else:
                    try:
                        with work_on(each.guest):
                            _one(each, into, say)
                        read, last = read + 1, each.guest
                    except OwnFaultError as error:
                        missed.append(replace(each, problem=error.words))
                step()
    except KeyboardInterrupt:
        client.stop.event.set()
        click.echo(f"interrupted: {read} of {total} guests were read and are kept in {into}", err=True)
        raise SystemExit(130) from None
    for each in missed:
        click.echo(f"{each.guest}: not read: {in_one_line(each.problem, 1000)}", err=True)
    if missed and read:
        click.echo(f"{read} of {total} guests read, {len(missed)} not", err=True)
    if read:
        wanted = f"{estate_file} --evidence {into}" if estate_file else file_of(into, last)
        click.echo(f"Next: nightlatch audit {shown(str(wanted))}", err=True)
    return 3 if missed else 0


def _one(each: SurveyResult, into: Path, say: Say) -> None:
    assert each.snapshot is not None
    into.mkdir(parents=True, exist_ok=True)
    target = file_of(into, each.guest)
    at = now(None)
    write_evidence(each.snapshot, target, at, each.snapshot.told.transport)
    dated.keep(target, at.date())
    files = sum(entry.content is not None for entry in each.snapshot.entries.values())
    say(f"{each.guest}: {files} files into {target}", False)
    waiting = latch.read(each.snapshot)
    if waiting is not None:
        say(
            shown(f"{each.guest}: a change is {pending(waiting)}: nightlatch keep. What was read goes back with it.", 1000),
            True,
        )
    taken = taken_from(each.snapshot)
    if taken:
        more = f" and {len(taken) - 5} more" if taken[5:] else ""
        say(shown(f"{each.guest}: secrets were taken out of {', '.join(taken[:5])}{more}", 1000), True)
    for note in each.snapshot.notes:
        say(f"  {shown(note)}", True)


@contextmanager
def _bar(total: int, client: Client) -> Iterator[tuple[Callable[[], None], Say]]:
    """A progress bar on a terminal, gone when it is done, with lines above it; only the lines where output is piped.

    While a question stands nothing is printed: it would be drawn over the words.
    """
    quiet = threading.Lock()
    if total < 2 or not sys.stderr.isatty() or not sys.stdout.isatty():
        with _asking(client, quiet, lambda: None, lambda: None):
            yield (lambda: None), _quietly(quiet, lambda line, err: click.echo(line, err=err))
        return
    columns = (TextColumn("reading guests"), BarColumn(), MofNCompleteColumn())
    with Progress(*columns, console=Console(stderr=True, highlight=False), transient=True) as progress:
        task = progress.add_task("", total=total)

        def say(line: str, _: bool) -> None:
            progress.console.print(Text(line), soft_wrap=True)

        with _asking(client, quiet, progress.stop, progress.start):
            yield (lambda: progress.advance(task)), _quietly(quiet, say)


def _quietly(quiet: threading.Lock, say: Say) -> Say:
    def said(line: str, err: bool) -> None:
        with quiet:
            say(line, err)

    return said


@contextmanager
def _asking(client: Client, quiet: threading.Lock, stop: Callable[[], None], start: Callable[[], None]) -> Iterator[None]:
    """The client's questions, asked with everything else held back."""
    ask = client.ask

    def asked(question: str) -> str:
        assert ask is not None
        with quiet:
            stop()
            try:
                return ask(question)
            finally:
                start()

    client.ask = asked if ask is not None else None
    try:
        yield
    finally:
        client.ask = ask
