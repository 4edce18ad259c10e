"""The commands. Everything heavy is imported inside them, so that `--help` stays quick."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import click

from nightlatch.cli import addresses, beginnings, bordering, changes, exposing, wire
from nightlatch.cli.options import (
    SEVERITIES,
    as_of,
    client_of,
    estate_of,
    faults,
    formats,
    is_estate,
    now,
    on_guests,
    pin,
    pins_are_used,
    ssh_config,
)

HELP = """Who can get into which guest, and why.

Write down who is let in, from where, with what proof; Nightlatch reads what the guests really hold, tells the
difference, drafts the smallest change and applies it so that it can be taken back.

Start with a look at one guest: nightlatch audit FOLDER. Or see it all: nightlatch demo.
"""


@click.group(help=HELP, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(package_name="nightlatch", message="nightlatch %(version)s")
def cli() -> None:
    """The group of all commands."""


@cli.command(short_help="Read guests and keep it, one evidence archive each.")
@click.argument("sources", nargs=-1, metavar="[SOURCE]...")
@click.option(
    "--into",
    type=click.Path(path_type=Path, file_okay=False),
    default=Path("evidence"),
    help="Folder for the archives.",
)
@on_guests
@pin
@ssh_config
@click.option("--at-once", type=click.IntRange(1, 200), default=16, help="Live guests read at the same time (16).")
@click.option("--script", is_flag=True, help="Print the script for a guest that no connection reaches; read nothing.")
@click.option("--short", is_flag=True, help="The same, packed, to paste at a root shell.")
def survey(
    sources: tuple[str, ...], into: Path, guests: tuple[str, ...], pins: tuple[str, ...], config: Path | None, at_once: int,
    script: bool, short: bool,
) -> None:  # fmt: skip
    """Read guests and keep what was read, one evidence archive each. Nothing is changed on them.

    SOURCE is an estate file (estate.yaml, unless said), a folder to read as one guest, or live guests:
    ACCOUNT@HOST, ACCOUNT@HOST:PORT, ssh:NAME for a name that your ssh knows, or here. Secrets are reduced before they
    leave a guest.

    A guest that no connection reaches: --script prints what to run at its console, and the text that prints is a SOURCE
    like any other, however its lines were broken on the way.
    """
    with faults("interrupted; what was read until then is kept"):
        from nightlatch.cli.surveys import run, scripted

        pins_are_used(pins, sources)
        if script or short:
            click.echo(scripted(sources, list(guests), short), nl=False)
            return
        code = run(sources or ("estate.yaml",), into, list(guests) or None, pins, config, at_once)
    raise SystemExit(code)


@cli.command(short_help="Who can get in, held against what is granted.")
@click.argument("source", default="estate.yaml")
@on_guests
@formats("csv", "sarif")
@click.option(
    "--fail-at",
    type=click.Choice(SEVERITIES),
    default="high",
    help="Exit with 1 from this severity on (default: high).",
)
@as_of
@pin
@ssh_config
def audit(
    source: str, guests: tuple[str, ...], form: str, fail_at: str, as_of: datetime | None, pins: tuple[str, ...],
    config: Path | None,
) -> None:  # fmt: skip
    """Say who can get in, and hold it against what is granted.

    SOURCE is an estate file; or, for a first look at one guest without an estate, a folder, an evidence archive or a
    live guest: ACCOUNT@HOST, ssh:NAME, here.
    """
    with faults():
        from nightlatch import api
        from nightlatch.audit.findings import Severity
        from nightlatch.faults import NightlatchError
        from nightlatch.transports.targets import is_live

        at = now(as_of)
        pins_are_used(pins, (source,))
        path = Path(source)
        if not is_live(source) and not is_estate(path) and not path.exists():
            raise NightlatchError(f"{source}: there is no such folder, evidence archive or estate file")
        with client_of(config, several=is_estate(path)) as client:
            if is_estate(path):
                result = api.audit(estate_of(path), at, list(guests) or None, client=client)
            else:
                result = api.audit_target(api.survey_target(source, client=client, pins=pins), at)
        if form == "csv":
            from nightlatch.report import rows

            click.echo(rows.audit(result), nl=False)
        elif form != "text":
            from nightlatch.report import machine, sarif

            click.echo(machine.dumps(machine.audit(result) if form == "json" else sarif.audit(result)))
        else:
            from nightlatch.report import page, text

            text.audit(page.Page(page.console()), result, source)
    raise SystemExit(result.exit_code(Severity(fail_at)))


beginnings.register(cli)
changes.register(cli)
addresses.register(cli)
bordering.register(cli)
exposing.register(cli)
wire.register(cli)


@cli.command(short_help="List the checks of hygiene.")
@formats("markdown")
def checks(form: str) -> None:
    """List the checks: id, severity, what each one finds, and where the rule comes from."""
    with faults():
        from nightlatch.audit.checks import CATALOGUE
        from nightlatch.report import machine, page

        if form == "json":
            click.echo(machine.dumps(machine.checks()))
            return
        if form == "markdown":
            from nightlatch.report import catalogue

            click.echo(catalogue.markdown(), nl=False)
            return
        sheet = page.Page(page.console())
        for each in sorted(CATALOGUE.values(), key=lambda check: check.id):
            sheet.wrapped(each.reason, label=f"{each.id:<30}", right=each.severity.value)
            sheet.line(" " * 32, (each.source, "place"))


@cli.command(short_help="The whole loop as a story, on a sample estate.")
@click.option("--live", is_flag=True, help="On four guests that really run, in namespaces of their own (as root).")
@click.option(
    "--leave",
    is_flag=True,
    help="Keep the work folder, or with --live the running guests until Enter; say what to try next.",
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
    with faults(
        "ended; what was put there is kept" if outer is not None else "interrupted; nothing was left half done"
    ):
        if outer is not None:
            from nightlatch.demo.table_service import serve

            click.echo(f"The tables of {outer} are at http://127.0.0.1:{port}/tables/NAME. Ctrl-C ends it.")
            serve(outer, port)
        from nightlatch import tell_demo

        tell_demo(leave=leave, folder=folder, live=live)


def main() -> None:
    """The entry point."""
    cli(prog_name="nightlatch")
