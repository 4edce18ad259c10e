"""The command that lists who gets in: `access`."""

from __future__ import annotations

from collections.abc import Iterable
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
    key_of,
    now,
    on_guests,
    ssh_config,
    supposed,
)

# Of a login; what each implies counts, so that a shell runs commands and reaches files.
CAN = ("administer", "shell", "desktop", "command", "files", "tunnel", "listen", "agent", "view", "connect", "change password")


def _keys(_: click.Context, param: click.Parameter, given: tuple[str, ...]) -> tuple[str, ...]:
    """Fingerprints of the keys that are named by them or by a file."""
    return tuple(key_of(each, param) for each in given)


@click.command()
@click.argument("source", default="estate.yaml")
@click.option("--who", multiple=True, metavar="NAME", help="Only what this person or robot, or else this account, gets into.")
@on_guests
@click.option("--key", "keys", multiple=True, metavar="SHA256:...|FILE", callback=_keys, help="Only what this key opens.")
@click.option("--from", "places", multiple=True, metavar="PLACE|ADDRESS", help="Only for callers from there.")
@click.option("--by", "services", multiple=True, metavar="SERVICE", help="Only by this service, such as ssh.")
@click.option(
    "--can", "powers", multiple=True, type=click.Choice(CAN), metavar="POWER", help=f"Only where it gives this: {', '.join(CAN)}."
)
@click.option("--matrix", is_flag=True, help="Guests down, people across, and the most that each gets.")
@click.option(
    "--stolen",
    metavar="KEY|GUEST",
    help="What the thief of a key (SHA256:... or its public file), or somebody who is root on a guest, reaches step by step.",
)
@supposed
@formats("csv")
@kept_evidence
@as_of
@ssh_config
def access(
    source: str,
    who: tuple[str, ...],
    guests: tuple[str, ...],
    keys: tuple[str, ...],
    places: tuple[str, ...],
    services: tuple[str, ...],
    powers: tuple[str, ...],
    matrix: bool,
    stolen: str | None,
    sentences: tuple[str, ...],
    form: str,
    evidence: Path | None,
    as_of: datetime | None,
    config: Path | None,
) -> None:
    """List who gets in where: as which account, by what proof, from where, and what it gives, each with the line that lets in.

    SOURCE is an estate file; or, for one guest without an estate, a folder, an evidence archive or a live guest. Options of
    one kind widen the list, options of several kinds narrow it: --who mara --who joon --can administer.
    """
    with faults():
        from nightlatch.cli.supposing import tell
        from nightlatch.model.powers import PowerKind
        from nightlatch.ops.access import AccessQuestion, access_target
        from nightlatch.ops.access import access as access_of
        from nightlatch.ops.survey import survey_target
        from nightlatch.report import access as report
        from nightlatch.report import machine, page

        asked = AccessQuestion(who, keys, places, services, tuple(PowerKind(each) for each in powers))
        path = Path(source)
        for_an_estate(path, evidence, guests)
        if stolen is not None:
            narrowed = bool(who or guests or keys or services or powers or matrix or sentences)
            code = _stolen(path, stolen, places, form, evidence, now(as_of), config, narrowed=narrowed)
            raise SystemExit(code)
        if sentences:
            told = tell(source, sentences, guests, form, evidence, now(as_of), config, asked=asked)
            raise SystemExit(3 if told.changes.unread else 0)
        with client_of(config, several=is_estate(path)) as client:
            if is_estate(path):
                result = access_of(estate_with(path, evidence), now(as_of), asked, list(guests) or None, client=client)
            else:
                result = access_target(survey_target(source, client=client), now(as_of), asked)
        if form == "json":
            click.echo(machine.dumps(report.document(result)))
        elif form == "csv":
            click.echo(report.rows(result), nl=False)
        else:
            (report.matrix if matrix else report.text)(page.Page(page.console()), result, source)
    raise SystemExit(result.exit_code)


def _stolen(
    path: Path,
    what: str,
    places: tuple[str, ...],
    form: str,
    evidence: Path | None,
    at: datetime,
    config: Path | None,
    *,
    narrowed: bool,
) -> int:
    """Tell what a stolen key or a taken guest reaches. Raises NightlatchError where something else is asked as well."""
    from nightlatch.faults import NightlatchError
    from nightlatch.ops.stolen import stolen
    from nightlatch.report import machine, page
    from nightlatch.report import stolen as report

    if narrowed or form == "csv" or not is_estate(path):
        raise NightlatchError("--stolen is a question about a whole estate: only --from goes with it, as text or json")
    estate = estate_with(path, evidence)
    with client_of(config) as client:
        found = stolen(estate, at, _what(what, estate.guests), places=places, client=client)
    if form == "json":
        click.echo(machine.dumps(report.document(found)))
    else:
        report.text(page.Page(page.console()), found, str(path))
    return found.exit_code


def _what(given: str, guests: Iterable[str]) -> str:
    """A guest's name as it is; the fingerprint of a key that a file holds."""
    return given if given in guests or not Path(given).is_file() else key_of(given, None)
