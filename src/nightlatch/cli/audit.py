"""The commands that read guests: survey and audit, and the list of checks."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import click

from nightlatch.cli.options import (
    SEVERITIES,
    as_of,
    client_of,
    estate_with,
    faults,
    for_an_estate,
    formats,
    is_estate,
    kept_evidence,
    now,
    on_guests,
    pin,
    pins_are_used,
    ssh_config,
    supposed,
)


@click.command()
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
    sources: tuple[str, ...],
    into: Path,
    guests: tuple[str, ...],
    pins: tuple[str, ...],
    config: Path | None,
    at_once: int,
    script: bool,
    short: bool,
) -> None:
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


@click.command()
@click.argument("source", default="estate.yaml")
@on_guests
@click.option(
    "--baseline",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="An earlier audit (--format json): findings that it has don't count for the exit code.",
)
@supposed
@formats("csv", "sarif")
@click.option(
    "--fail-at",
    type=click.Choice(SEVERITIES),
    default="high",
    help="Exit with 1 from this severity on (default: high).",
)
@kept_evidence
@as_of
@pin
@ssh_config
def audit(
    source: str,
    guests: tuple[str, ...],
    baseline: Path | None,
    sentences: tuple[str, ...],
    form: str,
    fail_at: str,
    evidence: Path | None,
    as_of: datetime | None,
    pins: tuple[str, ...],
    config: Path | None,
) -> None:
    """Say who can get in, and compare it with the grants.

    SOURCE is an estate file; or, for a first look at one guest without an estate, a folder, an evidence archive or a
    live guest: ACCOUNT@HOST, ssh:NAME, here.
    """
    with faults():
        from nightlatch.audit.findings import Severity
        from nightlatch.cli.supposing import tell
        from nightlatch.faults import NightlatchError
        from nightlatch.ops.audit import audit as audit_guests
        from nightlatch.ops.audit import audit_target
        from nightlatch.ops.baseline import read_baseline
        from nightlatch.ops.survey import survey_target
        from nightlatch.transports.targets import is_live

        at = now(as_of)
        pins_are_used(pins, (source,))
        path = Path(source)
        before = read_baseline(baseline) if baseline is not None else None
        for_an_estate(path, evidence, guests)
        if not is_live(source) and not is_estate(path) and not path.exists():
            raise NightlatchError(f"{source}: there is no such folder, evidence archive or estate file")
        if sentences and before is not None:
            raise NightlatchError("--baseline is held against findings as they are, and --suppose tells what would change")
        if sentences:
            told = tell(source, sentences, guests, form, evidence, at, config, pins=pins)
            raise SystemExit(told.after.exit_code(Severity(fail_at)))
        with client_of(config, several=is_estate(path)) as client:
            if is_estate(path):
                result = audit_guests(estate_with(path, evidence), at, list(guests) or None, client=client)
            else:
                result = audit_target(survey_target(source, client=client, pins=pins), at)
        if form == "csv":
            from nightlatch.report import rows

            click.echo(rows.audit(result), nl=False)
        elif form != "text":
            from nightlatch.report import machine, sarif

            click.echo(machine.dumps(machine.audit(result) if form == "json" else sarif.audit(result)))
        else:
            from nightlatch.report import audit_text, page

            sheet = page.Page(page.console())
            audit_text.audit(sheet, result, source)
            if before is not None:
                audit_text.since(sheet, before.path, [each for _, each in before.new(result)], before.gone(result))
    raise SystemExit(before.exit_code(result, Severity(fail_at)) if before else result.exit_code(Severity(fail_at)))


@click.command()
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
