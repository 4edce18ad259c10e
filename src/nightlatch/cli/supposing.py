"""What the option --suppose does in commands that list ways in and findings."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import click

from nightlatch.cli.options import client_of, estate_with, is_estate

if TYPE_CHECKING:
    from nightlatch.ops.access import AccessQuestion
    from nightlatch.ops.suppose import Supposed


def tell(
    source: str,
    sentences: tuple[str, ...],
    guests: tuple[str, ...],
    form: str,
    evidence: Path | None,
    at: datetime,
    config: Path | None,
    *,
    pins: tuple[str, ...] = (),
    asked: AccessQuestion | None = None,
) -> Supposed:
    """Tell what would change: of the ways in that are `asked` for, or of all, and of findings then. Raises NightlatchError
    for a format that lists findings."""
    from nightlatch.faults import NightlatchError
    from nightlatch.ops.access import of_changes
    from nightlatch.ops.suppose import suppose, suppose_target
    from nightlatch.ops.survey import survey_target
    from nightlatch.report import machine, page
    from nightlatch.report import supposed as report

    if form not in ("text", "json"):
        raise NightlatchError(f"--suppose tells what would change as text or json, and not as {form}")
    path = Path(source)
    with client_of(config, several=is_estate(path)) as client:
        estate = estate_with(path, evidence) if is_estate(path) else None
        if estate is not None:
            result = suppose(estate, at, sentences, list(guests) or None, client=client)
        else:
            result = suppose_target(survey_target(source, client=client, pins=pins), at, sentences)
    ways = result.changes.ways if asked is None else of_changes(estate, asked, result.changes.ways)
    if form == "json":
        click.echo(machine.dumps(report.document(result, ways)))
    else:
        report.text(page.Page(page.console()), result, ways, source, findings=asked is None)
    return result
