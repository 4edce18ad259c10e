"""The commands for key files: `key inspect`, `key make`, `key convert`, `key sign`, `key revoke`."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from pathlib import Path

import click

from nightlatch.cli import prompts
from nightlatch.cli.options import as_of, estate_of, faults, form_of, now
from nightlatch.cli.secret_files import first_line

MOST_WORD = 1000
FORMS = ("line", "rfc4716", "spki", "openssh", "pkcs1", "pkcs8", "ppk")

passphrase_file = click.option(
    "--passphrase-file",
    "word_file",
    type=click.Path(path_type=Path, dir_okay=False, exists=True),
    metavar="FILE",
    help="Take the passphrase from the first line of this file, which only you may read.",
)


@click.group()
def key() -> None:
    """Look into key files, make keys, convert, sign and revoke them.

    A private half is never shown, and no key file is ever written over.
    """


def _from_file(path: Path) -> str:
    """The passphrase in a file. Raises NightlatchError where others may read it, or it is empty."""
    return first_line(path, "passphrase", MOST_WORD)


def _asked(path: Path, number: int) -> str | None:
    """The passphrase of a file, typed; None where nobody sits at a terminal or nothing is typed."""
    if not prompts.somebody():
        return None
    again = "That is not the passphrase. " if number else ""
    return prompts.password(f"{again}Passphrase of {path}") or None


def _asking(word_file: Path | None) -> Callable[[Path, int], str | None]:
    """Gives the passphrase of a file: the one in `word_file`, tried once, or what is typed. Raises NightlatchError."""
    if word_file is None:
        return _asked
    word = _from_file(word_file)
    return lambda path, number: None if number else word


def _new(word_file: Path | None, option: str) -> str:
    """A new passphrase, typed twice or from a file. Raises RefusedError where nobody sits at a terminal."""
    from nightlatch.faults import NightlatchError, RefusedError

    if word_file is not None:
        return _from_file(word_file)
    if not prompts.somebody():
        raise RefusedError(f"nobody is at a terminal to type a passphrase: say --passphrase-file FILE{option}")
    word = prompts.password("New passphrase")
    if not word:
        raise NightlatchError(f"an empty passphrase guards nothing{option and '; --no-passphrase makes a key without one'}")
    if prompts.password("The same again") != word:
        raise NightlatchError("the two are not the same; nothing was written")
    return word


@key.command()
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--passphrase", "ask", is_flag=True, help="Ask for the passphrase of a file that hides what could be told.")
@passphrase_file
@form_of
@as_of
def inspect(files: tuple[Path, ...], ask: bool, word_file: Path | None, form: str, as_of: datetime | None) -> None:
    """Say what each of FILES holds: which half, kind and size, fingerprints, comment, form, passphrase or not.

    Files of many keys, such as authorized_keys, and certificates are read as well. Ends with 1 where something is wrong.
    """
    with faults():
        from nightlatch.ops.key import inspect_key
        from nightlatch.report import key as report
        from nightlatch.report import machine, page

        asking = _asking(word_file) if word_file or ask else None
        found = [inspect_key(path, now(as_of), asking) for path in dict.fromkeys(files)]
        if form == "json":
            click.echo(machine.dumps(report.inspected_document(found)))
        else:
            report.inspected(page.Page(page.console()), found)
    raise SystemExit(1 if any(each.faults for each in found) else 0)


@key.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--kind", type=click.Choice(["ed25519", "rsa", "ecdsa"]), default="ed25519", help="The kind of key (ed25519).")
@click.option("--bits", type=int, help="Its size: RSA 3072 (if not said) to 16384, ECDSA 256, 384 or 521.")
@click.option("--comment", help="What the key says of itself (the name of FILE).")
@click.option("--no-passphrase", "bare", is_flag=True, help="Make a key that its file alone opens.")
@passphrase_file
def make(file: Path, kind: str, bits: int | None, comment: str | None, bare: bool, word_file: Path | None) -> None:
    """Make a key: its private half as FILE, its public half as FILE.pub.

    A passphrase is asked for. The private half can be read by you alone.
    """
    with faults():
        from nightlatch.faults import NightlatchError
        from nightlatch.ops.key import make_key, refuse_existing
        from nightlatch.report import key as report
        from nightlatch.report import page

        if bare and word_file is not None:
            raise NightlatchError("--no-passphrase and --passphrase-file are one or the other")
        refuse_existing(file)
        word = None if bare else _new(word_file, ", or --no-passphrase")
        report.made(page.Page(page.console()), make_key(file, kind, bits, file.name if comment is None else comment, word))


@key.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option(
    "--to",
    "form",
    type=click.Choice(FORMS),
    required=True,
    help="Public: line (OpenSSH), rfc4716, spki (PEM). Private: openssh, pkcs1 (PEM by its algorithm), pkcs8, ppk (version 3).",
)
@click.option("--out", type=click.Path(path_type=Path), metavar="FILE", help="The file to write; a public half may do without.")
@click.option("--lock", is_flag=True, help="Put a passphrase on a private half that has none.")
@passphrase_file
def convert(file: Path, form: str, out: Path | None, lock: bool, word_file: Path | None) -> None:
    """Write the key in FILE in another form.

    A passphrase stays on the key, and FILE as it is. A public half can be taken from a private one, never the other way round.
    """
    with faults():
        from nightlatch.keys.forms import Form
        from nightlatch.ops.key import convert_key
        from nightlatch.report import key as report
        from nightlatch.report import page

        asking = _asking(None if lock else word_file)
        found = convert_key(file, Form(form), out, asking, _new(word_file, "") if lock else None)
        if found.path is None:
            click.echo(found.content, nl=False)
        else:
            report.converted(page.Page(page.console()), found)


@key.command()
@click.argument("who")
@click.argument("file", type=click.Path(path_type=Path))
@click.option(
    "--by", "authority", type=click.Path(path_type=Path), metavar="FILE", required=True, help="The authority's private half."
)
@click.option("--host", "of_host", is_flag=True, help="WHO is a guest, and FILE one of its host keys, which is pinned.")
@click.option("--days", type=int, help="For how long at most (30; of a host 365); grants that end earlier end it earlier.")
@click.option("--out", type=click.Path(path_type=Path), metavar="FILE", help="The certificate's file (where ssh looks for it).")
@click.option(
    "--estate",
    "estate_file",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    default=Path("estate.yaml"),
    help="The estate file with the person's grants (estate.yaml).",
)
@passphrase_file
@as_of
def sign(
    who: str,
    file: Path,
    authority: Path,
    of_host: bool,
    days: int | None,
    out: Path | None,
    estate_file: Path,
    word_file: Path | None,
    as_of: datetime | None,
) -> None:
    """Make a certificate of the public half in FILE: of a person for what the estate grants them by certificate.

    Principals, callers, command and last day come from the grants. With --host it is a guest's, for every name and address by
    which the estate has it dialled. The authority's private half needs a passphrase.
    """
    with faults():
        from nightlatch.ops.sign import DAYS, HOST_DAYS, sign_host_key, sign_key
        from nightlatch.report import key as report
        from nightlatch.report import page

        estate = estate_of(estate_file)
        at, asking, sheet = now(as_of), _asking(word_file), page.Page(page.console())
        if of_host:
            host = sign_host_key(estate, who, file, authority, at, asking, days=HOST_DAYS if days is None else days, out=out)
            report.signed_host(sheet, host)
        else:
            report.signed(sheet, sign_key(estate, who, file, authority, at, asking, days=DAYS if days is None else days, out=out))


@key.command()
@click.argument("files", nargs=-1, type=click.Path(path_type=Path))
@click.option("--list", "path", type=click.Path(path_type=Path), metavar="FILE", required=True, help="The list of revoked keys.")
def revoke(files: tuple[Path, ...], path: Path) -> None:
    """Put the keys and certificates in FILES on a list of revoked ones, which sshd reads as RevokedKeys.

    The list is made where there is none. Without FILES, say what is on it.
    """
    with faults():
        from nightlatch.ops.revoke import revoke_keys
        from nightlatch.report import key as report
        from nightlatch.report import page

        report.revoked(page.Page(page.console()), revoke_keys(path, tuple(dict.fromkeys(files)), now(None)))
