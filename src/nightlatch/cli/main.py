"""The commands. Everything heavy is imported inside them, so that `--help` stays quick."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    from nightlatch.estate.model import Estate

    _DayType = click.ParamType[datetime]
else:
    _DayType = click.ParamType  # older releases of click have no parameter for it

SEVERITIES = ("critical", "high", "medium", "low", "note")
HELP = """Who can get into which guest, and why.

Write down who is let in, from where, with what proof; Nightlatch reads what the guests really hold, tells the
difference, drafts the smallest change and applies it so that it can be taken back.

Start with a look at one guest: nightlatch audit FOLDER. Or see it all: nightlatch demo.
"""


@contextmanager
def _faults() -> Iterator[None]:
    """Turn our errors into one clear message and an exit code; Ctrl-C into 130."""
    from nightlatch.faults import NightlatchError
    from nightlatch.report.safe import shown

    try:
        yield
    except NightlatchError as error:
        for line in str(error).split("\n"):
            click.echo(shown(line, 2000), err=True)
        raise SystemExit(error.exit_code) from None
    except KeyboardInterrupt:
        click.echo("interrupted; nothing was left half done", err=True)
        raise SystemExit(130) from None
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        raise SystemExit(0) from None


class _Day(_DayType):
    name = "date"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> datetime:

        try:
            moment = datetime.fromisoformat(str(value))
        except ValueError:
            self.fail(f'"{value}" is no day or time; write 2026-11-25 or 2026-11-25T09:00+00:00', param, ctx)
        return moment if moment.tzinfo else moment.replace(tzinfo=UTC)


_as_of = click.option("--as-of", type=_Day(), help="Judge as if it were this day or time, not now.")
_on = click.option(
    "--on", "guests", multiple=True, metavar="GUEST", help="Only this guest; may be given several times."
)
_format = click.option(
    "--format", "form", type=click.Choice(["text", "json"]), default="text", help="Text for people, JSON for machines."
)


def _now(moment: datetime | None) -> datetime:

    return moment or datetime.now(UTC)


def _is_estate(path: Path) -> bool:
    return path.suffix in (".yaml", ".yml")


def _estate(path: Path) -> Estate:
    from nightlatch import load_estate
    from nightlatch.faults import NightlatchError

    if path.is_dir():
        inside = path / "estate.yaml"
        hint = f"; did you mean {inside}?" if inside.exists() else ""
        raise NightlatchError(f"{path} is a folder, an estate file is expected here{hint}")
    return load_estate(path)


@click.group(help=HELP, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(package_name="nightlatch", message="nightlatch %(version)s")
def cli() -> None:
    """The group of all commands."""


@cli.command(short_help="Write a commented estate file to start from.")
@click.argument("path", type=click.Path(path_type=Path), default=Path("estate.yaml"))
def new(path: Path) -> None:
    """Write a commented estate file to start from (estate.yaml, unless PATH says otherwise)."""
    with _faults():
        from nightlatch import new_estate

        new_estate(path)
        click.echo(f"{path} written. Edit it, then: nightlatch audit {path}")


@cli.command(short_help="Read guests and keep it, one evidence archive each.")
@click.argument("source", type=click.Path(path_type=Path), default=Path("estate.yaml"))
@click.option(
    "--into",
    type=click.Path(path_type=Path, file_okay=False),
    default=Path("evidence"),
    help="Folder for the archives.",
)
@_on
def survey(source: Path, into: Path, guests: tuple[str, ...]) -> None:
    """Read guests and keep what was read, one evidence archive each.

    SOURCE is an estate file, or a folder to read as one guest. Secrets are reduced before they are kept.
    """
    with _faults():
        from nightlatch import api
        from nightlatch.evidence.archive import SUFFIX
        from nightlatch.report.safe import shown

        at = _now(None)
        if source.is_dir():
            snapshot = api.survey_target(source)
            results: Iterator[api.Surveyed] = iter([api.Surveyed(snapshot.guest, snapshot)])
        else:
            results = api.survey(_estate(source), list(guests) or None)
        missed = 0
        for each in results:
            if each.snapshot is None:
                missed += 1
                click.echo(f"{each.guest}: not read: {shown(each.problem)}", err=True)
                continue
            into.mkdir(parents=True, exist_ok=True)
            target = into / f"{each.guest}{SUFFIX}"
            api.write_evidence(each.snapshot, target, at)
            files = sum(entry.content is not None for entry in each.snapshot.entries.values())
            click.echo(f"{each.guest}: {files} files into {target}")
            for note in each.snapshot.notes:
                click.echo(f"  {shown(note)}", err=True)
    raise SystemExit(3 if missed else 0)


@cli.command(short_help="Who can get in, held against what is granted.")
@click.argument("source", type=click.Path(path_type=Path), default=Path("estate.yaml"))
@_on
@_format
@click.option(
    "--fail-at",
    type=click.Choice(SEVERITIES),
    default="high",
    help="Exit with 1 from this severity on (default: high).",
)
@_as_of
def audit(source: Path, guests: tuple[str, ...], form: str, fail_at: str, as_of: datetime | None) -> None:
    """Say who can get in, and hold it against what is granted.

    SOURCE is an estate file; or a folder or evidence archive, for a first look at one guest without an estate.
    """
    with _faults():
        from nightlatch import api
        from nightlatch.audit.findings import Severity
        from nightlatch.faults import NightlatchError

        at = _now(as_of)
        if not _is_estate(source) and not source.exists():
            raise NightlatchError(f"{source}: there is no such folder, evidence archive or estate file")
        if _is_estate(source):
            result = api.audit(_estate(source), at, list(guests) or None)
        else:
            result = api.audit_target(source, at)
        if form == "json":
            from nightlatch.report import machine

            click.echo(machine.dumps(machine.audit(result)))
        else:
            from nightlatch.report import page, text

            text.audit(page.Page(page.console()), result, str(source))
    raise SystemExit(result.exit_code(Severity(fail_at)))


@cli.command(short_help="The fewest changes that close the differences, proved.")
@click.argument("source", type=click.Path(path_type=Path), default=Path("estate.yaml"))
@_on
@_format
@_as_of
def draft(source: Path, guests: tuple[str, ...], form: str, as_of: datetime | None) -> None:
    """Work out the fewest changes that close the differences, and prove them. Changes nothing."""
    with _faults():
        proved, refused, estate = _proved(source, guests, _now(as_of))
        if form == "json":
            from nightlatch.report import machine

            click.echo(machine.dumps(machine.drafts(estate.name, proved, refused)))
        else:
            _show_drafts(proved, refused, source)
    raise SystemExit(4 if refused else 0)


def _proved(source: Path, guests: tuple[str, ...], at: datetime) -> tuple[list[Any], dict[str, str], Estate]:
    from nightlatch import api
    from nightlatch.faults import RefusedError

    estate = _estate(source)
    proved, refused = [], {}
    for each in api.survey(estate, list(guests) or None):
        if each.snapshot is None:
            refused[each.guest] = each.problem
            continue
        try:
            proved.append(api.prove(estate, api.draft(estate, each.snapshot, at), each.snapshot, at))
        except RefusedError as error:
            refused[each.guest] = str(error)
    return proved, refused, estate


def _show_drafts(proved: list[Any], refused: dict[str, str], source: Path) -> None:
    from nightlatch.report import page, text

    sheet = page.Page(page.console())
    for each in proved:
        if each.draft.steps or each.draft.left:
            text.draft(sheet, each)
            sheet.blank()
    quiet = [e.draft.guest for e in proved if not e.draft.steps and not e.draft.left]
    if quiet:
        sheet.wrapped(", ".join(quiet) + ": nothing to do.", style="good")
    for guest, because in refused.items():
        sheet.wrapped(because, label=guest, style="high")
    if any(e.draft.steps for e in proved):
        sheet.line((f"Next: nightlatch enact {source}", "next"))


@cli.command(short_help="Prove again, show the difference, apply it.")
@click.argument("source", type=click.Path(path_type=Path), default=Path("estate.yaml"))
@_on
@click.option("--dry-run", is_flag=True, help="Show what would be done, and do nothing.")
@click.option("--yes", is_flag=True, help="Don't ask.")
@_as_of
def enact(source: Path, guests: tuple[str, ...], dry_run: bool, yes: bool, as_of: datetime | None) -> None:
    """Survey, draft and prove again, show the difference, and apply it. Copies are kept on the guest for undo."""
    code = 0
    with _faults():
        from nightlatch import api
        from nightlatch.report import page, text

        at = _now(as_of)
        proved, refused, estate = _proved(source, guests, at)
        _show_drafts(proved, refused, source) if dry_run else None
        doing = [each for each in proved if each.draft.steps]
        if dry_run:
            raise SystemExit(4 if refused else 0)
        sheet = page.Page(page.console())
        for each in doing:
            text.draft(sheet, each)
            sheet.blank()
        for guest, because in refused.items():
            sheet.wrapped(because, label=guest, style="high")
            code = 4
        if not doing:
            sheet.line("Nothing to change.")
            raise SystemExit(code)
        if not yes:
            _ask(f"Apply this to {', '.join(each.draft.guest for each in doing)}?")
        change = api.new_change_id(_now(None))
        for each in doing:
            via = estate.guests[each.draft.guest].via
            if via.kind != "folder":
                sheet.wrapped("an evidence archive can't be changed", label=each.draft.guest)
                code = 4
                continue
            text.enacted(sheet, api.apply(each, via.path, at, change), str(source))
    raise SystemExit(code)


def _ask(question: str) -> None:
    if not sys.stdin.isatty():
        click.echo("Nobody is there to ask: say --yes to apply it. Nothing was changed.", err=True)
        raise SystemExit(2)
    if not click.confirm(question):
        click.echo("Nothing was changed.")
        raise SystemExit(0)


@cli.command(short_help="Take a change back: every byte, mode and owner.")
@click.argument("source", type=click.Path(path_type=Path), default=Path("estate.yaml"))
@_on
@click.option("--change", default="", help="This change, not the newest.")
def undo(source: Path, guests: tuple[str, ...], change: str) -> None:
    """Take the newest change back (or the one named): every byte, mode and owner.

    Without --on, the newest change of all guests is taken back wherever it was made.
    """
    code = 0
    with _faults():
        from nightlatch import api
        from nightlatch.faults import RefusedError
        from nightlatch.latch.folder import changes
        from nightlatch.report import page, text

        estate = _estate(source)
        sheet = page.Page(page.console())
        chosen = list(guests)
        if not chosen:
            kept = {
                n: [c.id for c in changes(g.via.path)]
                for n, g in estate.guests.items()
                if g.via.kind == "folder" and g.via.path.is_dir()
            }
            newest = change or max((i for ids in kept.values() for i in ids), default="")
            chosen = [name for name, ids in kept.items() if newest in ids]
            change = newest
            if not chosen:
                raise RefusedError("no change is kept on any guest; there is nothing to take back")
        for name in chosen:
            result = api.undo(estate, name, change)
            text.undone(sheet, result)
            code = 5 if result.skipped else code
    raise SystemExit(code)


@cli.command(short_help="List the checks of hygiene.")
@_format
def checks(form: str) -> None:
    """List the checks: id, severity, what each one finds, and where the rule comes from."""
    with _faults():
        from nightlatch.audit.checks import CATALOGUE
        from nightlatch.report import machine, page

        if form == "json":
            click.echo(machine.dumps(machine.checks()))
            return
        sheet = page.Page(page.console())
        for each in sorted(CATALOGUE.values(), key=lambda check: check.id):
            sheet.wrapped(each.reason, label=f"{each.id:<30}", right=each.severity.value)
            sheet.line(" " * 32, (each.source, "place"))


@cli.command(short_help="The whole loop as a story, on a sample estate.")
@click.option("--leave", is_flag=True, help="Keep the work folder and say what to try next.")
@click.option("--folder", type=click.Path(path_type=Path), help="Where to put it (a new folder), with --leave.")
def demo(leave: bool, folder: Path | None) -> None:
    """Tell the whole loop as a story, on the tide-gauge station Skerry Point."""
    with _faults():
        from nightlatch import tell_demo

        tell_demo(leave=leave, folder=folder)


def main() -> None:
    """The entry point."""
    cli(prog_name="nightlatch")
