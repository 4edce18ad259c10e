"""The command about filters outside of guests: `perimeter`."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import click

from nightlatch.cli.options import as_of, client_of, estate_of, faults, formats, now, ssh_config


@click.command()
@click.argument("source", type=click.Path(path_type=Path), default=Path("estate.yaml"))
@click.option("--network", "networks", metavar="NAME", multiple=True, help="Only this network (several times for several).")
@click.option("--enact", "act", flag_value="enact", help="Put the rows at the service that the estate names, and read them back.")
@click.option("--undo", "act", flag_value="undo", help="Put back what the newest change of ours took.")
@click.option("--take", "act", flag_value="take", help="Read the tables from their services into the files, with today's date.")
@formats("csv")
@as_of
@ssh_config
def perimeter(
    source: Path, networks: tuple[str, ...], act: str | None, form: str, as_of: datetime | None, config: Path | None
) -> None:
    """Draft the rows of filters outside of guests: rows that grants need, and rows that let in more than is granted.

    SOURCE is an estate file whose networks have a perimeter that was read from a table. Where the perimeter names a
    service, --enact changes it there; --format csv prints a table in CSV as it should be.
    """
    with faults():
        from nightlatch.ops.perimeter import (
            changed_table,
            draft_perimeter,
            enact_perimeter,
            take_perimeter,
            undo_perimeter,
        )
        from nightlatch.report import machine, page
        from nightlatch.report import perimeter as report

        estate, at = estate_of(source), now(as_of)
        sheet = page.Page(page.console())
        for name in networks:
            if name not in estate.networks:
                known = ", ".join(sorted(estate.networks)) or "none"
                raise click.BadParameter(f"there is no network {name}; the estate has {known}", param_hint="--network")
        if act in ("undo", "take"):
            work = undo_perimeter if act == "undo" else take_perimeter
            names = networks or tuple(n.name for n in estate.networks.values() if any(p.service for p in n.perimeters))
            found = []
            for name in names:
                found += work(estate_of(source), name, at)
            report.done(sheet, found, "put back" if act == "undo" else "taken")
            if not found:
                sheet.wrapped("No perimeter names a service.")
            return
        with client_of(config) as client:
            result = draft_perimeter(estate, at, networks, client=client)
        if act == "enact":
            done = [enact_perimeter(estate_of(source), each, at) for each in result.drafts]
            report.done(sheet, done, "put and read back")
            if any(each.changed for each in done):
                sheet.wrapped(f"To take it back: nightlatch perimeter {source} --undo")
        elif form == "json":
            click.echo(machine.dumps(report.document(result)))
        elif form == "csv":
            if len(result.drafts) != 1:
                raise click.UsageError(f"there are {len(result.drafts)} tables here; --network NAME picks one")
            click.echo(changed_table(result.drafts[0]), nl=False)
        else:
            report.text(sheet, result, str(source))
    raise SystemExit(3 if result.unread else 0)
