"""The command that holds one day against another: `compare`."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import click

from nightlatch.cli.options import (
    as_of,
    client_of,
    estate_of,
    faults,
    form_of,
    now,
    on_guests,
    ssh_config,
)


@click.command()
@click.argument("old")
@click.argument("new", required=False, type=click.Path(path_type=Path))
@click.option(
    "--estate",
    "file",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="The estate file whose guests these are (estate.yaml where there is one).",
)
@click.option(
    "--in",
    "folder",
    type=click.Path(path_type=Path, file_okay=False),
    default=Path("evidence"),
    help="The folder that survey keeps evidence in, where OLD is a day (evidence).",
)
@on_guests
@form_of
@as_of
@ssh_config
def compare(
    old: str,
    new: Path | None,
    file: Path | None,
    folder: Path,
    guests: tuple[str, ...],
    form: str,
    as_of: datetime | None,
    config: Path | None,
) -> None:
    """Say what opened, closed or changed since a day, and why.

    OLD and NEW are folders of evidence, or single archives; OLD may be a day (2026-11-24), for which the evidence of that day or
    of the last one before it is taken. Without NEW the guests of the estate file are read now. It is the meaning that is
    compared: order, remarks and values that say the same do not count.

    Ends with 1 where anything changed, 3 where something could not be read.
    """
    with faults():
        from nightlatch.faults import NightlatchError
        from nightlatch.ops.compare import compare as compare_guests
        from nightlatch.ops.compare import compare_targets, evidence_of_day
        from nightlatch.report import compared as report
        from nightlatch.report import machine, page

        path = file or Path("estate.yaml")
        estate = estate_of(path) if file is not None or path.exists() else None
        older = evidence_of_day(folder, old) or Path(old)
        if estate is not None:
            with client_of(config) as client:
                result = compare_guests(estate, now(as_of), older, new, list(guests) or None, client=client)
        elif new is None or guests:
            raise NightlatchError("without an estate file there are two to name, OLD and NEW, and no guests to pick")
        else:
            result = compare_targets(older, new, now(as_of))
        if form == "json":
            click.echo(machine.dumps(report.document(result)))
        else:
            report.text(page.Page(page.console()), result, str(path))
    raise SystemExit(result.exit_code)
