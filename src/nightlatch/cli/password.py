"""The commands for passwords: `password judge`."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import click

from nightlatch.cli import prompts
from nightlatch.cli.options import as_of, client_of, estate_with, faults, form_of, now, ssh_config
from nightlatch.cli.secret_files import first_line

MOST = 1000


@click.group()
def password() -> None:
    """Judge passwords. None is ever an argument, shown or kept."""


@password.command()
@click.argument("guest", required=False)
@click.argument("source", default="estate.yaml")
@click.option("--for", "account", metavar="ACCOUNT", default="", help="The account that it is for.")
@click.option("--beside", is_flag=True, help="It is asked together with a key or a code, so it may be shorter.")
@click.option("--screen", is_flag=True, help="It is for a VNC server, which takes its first eight characters.")
@click.option(
    "--password-file",
    "word_file",
    type=click.Path(path_type=Path, dir_okay=False, exists=True),
    metavar="FILE",
    help="Take it from the first line of this file, which only you may read.",
)
@form_of
@as_of
@ssh_config
def judge(
    guest: str | None,
    source: str,
    account: str,
    beside: bool,
    screen: bool,
    word_file: Path | None,
    form: str,
    as_of: datetime | None,
    config: Path | None,
) -> None:
    """Judge a password that you type: what is wrong with it, and how many guesses find it.

    With GUEST, one of the estate file SOURCE, or a folder or an archive without one, it is told how long guesses take at that
    guest's own locks and delays; the guest is read before you are asked. Ends with 1 where something is wrong with it.
    """
    with faults():
        from nightlatch.ops.password import judge_password
        from nightlatch.passwords.judged import least
        from nightlatch.report import machine, page
        from nightlatch.report import password as report
        from nightlatch.transports.targets import is_live

        one = guest is None or is_live(guest) or Path(guest).exists()
        estate = None if one else estate_with(Path(source), None)
        with client_of(config) as client:
            found = judge_password(
                lambda: _typed(word_file),
                now(as_of),
                account,
                estate=estate,
                guest=guest or "",
                beside=beside,
                screen=screen,
                client=client,
            )
        if form == "json":
            click.echo(machine.dumps(report.document(found)))
        else:
            report.text(page.Page(page.console()), found, least(beside=beside, screen=screen))
    raise SystemExit(0 if found.judgement.is_good else 1)


def _typed(word_file: Path | None) -> str:
    """The password: typed once without being shown, or from a file. Raises RefusedError where nobody sits at a terminal."""
    from nightlatch.faults import RefusedError

    if word_file is not None:
        return first_line(word_file, "password", MOST, may_be_empty=True)
    if not prompts.somebody():
        raise RefusedError("nobody is at a terminal to type a password: say --password-file FILE")
    return prompts.password("Password to judge")
