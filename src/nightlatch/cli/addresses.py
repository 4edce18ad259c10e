"""The commands about addresses: the book, and finding a guest."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import click

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
    ssh_config,
)


@click.command()
@click.argument("source", default="estate.yaml")
@on_guests
@click.option(
    "--from",
    "place",
    default="",
    metavar="PLACE",
    help="Which address to dial from a place of the estate, or an address.",
)
@click.option("--propose", is_flag=True, help="A free address for each guest that has no lasting one on its network.")
@formats("csv")
@click.option("--fail-at", type=click.Choice(SEVERITIES), default="high", help="Exit with 1 from this severity on (high).")
@as_of
@ssh_config
def addresses(
    source: str,
    guests: tuple[str, ...],
    place: str,
    propose: bool,
    form: str,
    fail_at: str,
    as_of: datetime | None,
    config: Path | None,
) -> None:
    """Show the address book: each network with its guests, how each got its address, whether it lasts, and what is free.

    SOURCE is an estate file; or a folder, an evidence archive or a live guest, to see how one guest's interfaces are
    configured, by which system, and what the next boot brings.
    """
    with faults():
        from nightlatch.audit.findings import Severity
        from nightlatch.ops.addresses import addresses as book_of
        from nightlatch.report import address_book, machine, page

        path = Path(source)
        with client_of(config, several=is_estate(path)) as client:
            if not is_estate(path):
                _single(source, guests, place, propose, form, now(as_of), client)
                return
            result = book_of(estate_of(path), now(as_of), list(guests) or None, place=place, propose=propose, client=client)
        if form == "json":
            click.echo(machine.dumps(address_book.document(result)))
        elif form == "csv":
            click.echo(address_book.rows(result), nl=False)
        else:
            address_book.text(page.Page(page.console()), result, source)
    raise SystemExit(result.exit_code(Severity(fail_at)))


def _single(source: str, guests: tuple[str, ...], place: str, propose: bool, form: str, at: datetime, client: object) -> None:
    from nightlatch.faults import NightlatchError
    from nightlatch.ops.addresses import addresses_target
    from nightlatch.report import address_book, machine, page

    if guests or place or propose or form == "csv":
        raise NightlatchError("--on, --from, --propose and csv are for an estate file; here a single guest is named")
    result = addresses_target(source, at, client=client)  # type: ignore[arg-type]
    if form == "json":
        click.echo(machine.dumps(address_book.interfaces_document(result)))
    else:
        address_book.interfaces(page.Page(page.console()), result)


@click.command()
@click.argument("what", metavar="GUEST|HARDWARE-ADDRESS")
@click.argument("source", type=click.Path(path_type=Path), default=Path("estate.yaml"))
@click.option(
    "--leases",
    multiple=True,
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="A lease file to read besides this machine's own; may be given several times.",
)
@click.option(
    "--evidence",
    type=click.Path(path_type=Path, file_okay=False, exists=True),
    metavar="FOLDER",
    help="Archives of a survey: other guests' neighbour tables and lease files.",
)
@click.option("--no-scan", "scan", is_flag=True, default=True, flag_value=False, help="Dial only addresses that have a hint.")
@formats()
def find(what: str, source: Path, leases: tuple[Path, ...], evidence: Path | None, scan: bool, form: str) -> None:
    """Find where a guest of an estate file (estate.yaml, unless said) is now.

    Neighbour tables and lease files come first; then the estate's own networks are looked through, 2048 addresses at most
    and nothing beyond them. All of these give hints: only a
    pinned host key, proven on the wire, confirms an address.
    """
    with faults("interrupted; nothing was changed anywhere"):
        from nightlatch.ops.find import find as find_guest
        from nightlatch.report import machine, page, search

        result = find_guest(estate_of(source), what, leases=leases, evidence=evidence, scan=scan)
        if form == "json":
            click.echo(machine.dumps(search.document(result)))
        else:
            search.text(page.Page(page.console()), result, str(source))
    raise SystemExit(result.exit_code)
