"""The command about what is reachable: `exposure`."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import click

from nightlatch.cli.options import (
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
    ssh_config,
)


@click.command()
@click.argument("source", default="estate.yaml")
@on_guests
@click.option("--port", "ports", type=click.IntRange(1, 65535), multiple=True, help="Only this port (several times for several).")
@click.option("--picture", type=click.Path(path_type=Path, dir_okay=False), help="Draw it, too: a .png, .svg or .pdf file.")
@formats("csv")
@kept_evidence
@as_of
@ssh_config
def exposure(
    source: str,
    guests: tuple[str, ...],
    ports: tuple[int, ...],
    picture: Path | None,
    form: str,
    evidence: Path | None,
    as_of: datetime | None,
    config: Path | None,
) -> None:
    """Show who gets through to which port of which guest, for IPv4 and IPv6, with the rule that decides.

    SOURCE is an estate file; or, for one guest without an estate, a folder, an evidence archive or a live guest. audit
    says what the services behind the ports ask for. Of a guest in a folder only SSH's ports are known.
    """
    with faults():
        from nightlatch.ops.exposure import exposure as exposure_of
        from nightlatch.ops.exposure import exposure_target
        from nightlatch.report import exposure as report
        from nightlatch.report import machine, page

        if picture is not None:
            from nightlatch.report import pictures

            pictures.check(picture)
        path = Path(source)
        for_an_estate(path, evidence, guests)
        with client_of(config, several=is_estate(path)) as client:
            if is_estate(path):
                result = exposure_of(estate_with(path, evidence), now(as_of), list(guests) or None, ports=ports, client=client)
            else:
                result = exposure_target(source, now(as_of), ports=ports, client=client)
        if picture is not None:
            pictures.draw(result, picture)
        if form == "json":
            click.echo(machine.dumps(report.document(result)))
        elif form == "csv":
            click.echo(report.rows(result), nl=False)
        else:
            report.text(page.Page(page.console()), result, source)
            if picture is not None:
                click.echo(f"drawn: {picture}")
    raise SystemExit(result.exit_code)
