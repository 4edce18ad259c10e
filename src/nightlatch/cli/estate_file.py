"""The commands that help to begin an estate file: new, the schema for editors, and the demo."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import click

from nightlatch.cli.options import as_of, client_of, faults, now, pin, pins_are_used, ssh_config

if TYPE_CHECKING:
    from nightlatch.ops.describe import Description
    from nightlatch.report.page import Page


@click.command()
@click.argument("path", type=click.Path(path_type=Path), default=Path("estate.yaml"))
@click.option(
    "--from",
    "sources",
    multiple=True,
    metavar="TARGET",
    help="Describe what this guest grants today; may be given several times.",
)
@click.option(
    "--into",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Add these guests to an estate file that is there, and leave every byte of it as it is.",
)
@as_of
@pin
@ssh_config
def new(
    path: Path,
    sources: tuple[str, ...],
    into: Path | None,
    as_of: datetime | None,
    pins: tuple[str, ...],
    config: Path | None,
) -> None:
    """Write an estate file to start from (estate.yaml, unless PATH says otherwise).

    Alone, it is a commented example. With --from, guests are read (a folder, an archive, a text carried over by hand, or
    a live one: ACCOUNT@HOST, ssh:NAME, here), and the file says what they grant today, each sentence with its evidence:
    people are guessed from keys that recur. Trim it to what is meant.

    With --into, guests that the file does not have yet are added to it, with the people and sentences that it lacks; of one
    that is in it already is told whether it was rebuilt.
    """
    with faults():
        from nightlatch.ops.new import new_estate

        pins_are_used(pins, sources)
        if into is not None:
            raise SystemExit(_add(into, sources, now(as_of), pins, config))
        if not sources:
            new_estate(path)
            click.echo(f"{path} written. Edit it, then: nightlatch audit {path}")
            return
        from nightlatch.ops.describe import describe

        with client_of(config, several=len(sources) > 1) as client:
            done = describe(path, sources, now(as_of), client=client, pins=pins)
        _told(done)
    raise SystemExit(3 if done.unread else 0)


def _add(into: Path, sources: tuple[str, ...], at: datetime, pins: tuple[str, ...], config: Path | None) -> int:
    """Add guests to a file, and say what was added. Raises NightlatchError where no guest is named."""
    from nightlatch.faults import NightlatchError
    from nightlatch.ops.adopt import add_guests
    from nightlatch.report import page

    if not sources:
        raise NightlatchError("--into adds guests to a file: name them with --from")
    with client_of(config, several=len(sources) > 1) as client:
        done = add_guests(into, sources, at, client=client, pins=pins)
    sheet = page.Page(page.console())
    if done.guests:
        people = f"; people: {', '.join(done.people)}" if done.people else ""
        sentences = f"{done.grants} sentence{'s' if done.grants != 1 else ''}"
        sheet.wrapped(f"{done.path}: {', '.join(done.guests)} added, with {sentences}{people}.")
    for each in done.known:
        if each.rebuilt:
            what = f"is in it as {each.guest}, with other host keys: it was rebuilt, or another guest has its name"
            look = f"nightlatch meet {each.guest} {into} compares them with its console"
            sheet.wrapped(f"{what}. Nothing was added; {look}", label=each.target, style="high")
        else:
            sheet.wrapped(f"is in it already, as {each.guest}; nothing was added", label=each.target)
    for name, problem in done.unread:
        sheet.wrapped(problem, label=name, style="high")
    _rest(sheet, done.unsaid, done.left, held=bool(done.guests))
    sheet.line((f"Next: nightlatch audit {into}", "next"))
    return 3 if done.unread else 0


def _told(done: Description) -> None:
    from nightlatch.report import page

    sheet = page.Page(page.console())
    guests = f"{len(done.guests)} guest{'s' if len(done.guests) != 1 else ''}"
    sheet.wrapped(
        f"{done.path} written: {guests}, {done.people} people and robots, {done.grants} sentences; "
        f"{len(done.keys)} public keys beside it."
    )
    for name, problem in done.unread:
        sheet.wrapped(problem, label=name, style="high")
    _rest(sheet, done.unsaid, done.left, held=True)
    sheet.line((f"Next: take out what nobody needs, then nightlatch audit {done.path}", "next"))


def _rest(sheet: Page, unsaid: tuple[str, ...], left: tuple[str, ...], *, held: bool) -> None:
    """What no sentence can say, and what an audit of the file still finds on the same evidence."""
    if unsaid:
        sheet.wrapped("Open as well, and no sentence can say it:", style="medium")
        for each in unsaid:
            sheet.wrapped(each, indent=2)
    if left:
        sheet.wrapped("Held against the same evidence, an audit of it still finds:", style="medium")
        for each in left:
            sheet.wrapped(each, indent=2)
    elif held:
        sheet.wrapped("Held against the same evidence: nothing open that it does not say, nobody shut out.", style="good")


@click.command()
def schema() -> None:
    """Print the JSON Schema of the estate file, by which editors complete and check it while it is written."""
    with faults():
        from nightlatch.estate import schema as made
        from nightlatch.report import machine

        click.echo(machine.dumps(made.schema()))


@click.command()
@click.option("--live", is_flag=True, help="On four guests that really run, in namespaces of their own (as root).")
@click.option(
    "--leave",
    is_flag=True,
    help="Keep the work folder and say what to try next; with --live, a prompt on the running guests without the story.",
)
@click.option("--folder", type=click.Path(path_type=Path), help="Where to put it (a new folder), with --leave.")
@click.option(
    "--outer",
    type=click.Path(path_type=Path, exists=True, file_okay=False),
    help="Tell nothing; keep the tables of this folder as a filter outside of guests would, on loopback, until Ctrl-C.",
)
@click.option("--port", type=click.IntRange(1, 65535), default=8056, help="Where --outer listens (8056).")
def demo(live: bool, leave: bool, folder: Path | None, outer: Path | None, port: int) -> None:
    """Tell the whole loop as a story, on the tide-gauge station Skerry Point."""
    with faults("ended; what was put there is kept" if outer is not None else "interrupted; nothing was left half done"):
        if outer is not None:
            from nightlatch.demo.table_service import serve

            click.echo(f"The tables of {outer} are at http://127.0.0.1:{port}/tables/NAME. Ctrl-C ends it.")
            serve(outer, port)
        from nightlatch import tell_demo

        tell_demo(leave=leave, folder=folder, live=live)
