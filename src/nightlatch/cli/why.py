"""The command that explains one person and one guest: `why`."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import click

from nightlatch.cli.options import (
    FINGERPRINT,
    as_of,
    client_of,
    estate_with,
    faults,
    form_of,
    kept_evidence,
    key_of,
    now,
    ssh_config,
    supposed,
)
from nightlatch.faults import nearest

if TYPE_CHECKING:
    from nightlatch.ops.reach import Reach
    from nightlatch.ops.why import Why, WhyQuestion

SYMPTOMS = (
    "refused",
    "times out",
    "closes at once",
    "session ends",
    "asks for a password",
    "permission denied",
    "host key changed",
    "name not known",
)
PROOFS = ("key", "password", "screen password", "certificate", "code")


def _proof(_: click.Context, param: click.Parameter, given: tuple[str, ...]) -> tuple[str, ...]:
    """Words after `with:`, fingerprints, or files of public keys."""
    return tuple(each if _is_proof(each) else _key(each, param) for each in given)


def _key(given: str, param: click.Parameter) -> str:
    """The fingerprint of a key; what can be no file's name is most likely one of the words, misspelt."""
    if "/" in given or given.endswith(".pub") or given.startswith("SHA256:") or Path(given).exists():
        return key_of(given, param)
    wrong = next(part.strip() for part in given.split("+") if part.strip() not in PROOFS)
    near = nearest(wrong, PROOFS)
    hint = f'; did you mean "{near}"?' if near else "."
    raise click.BadParameter(
        f'"{wrong}" is no proof{hint} Expected {", ".join(PROOFS)}, several with + between them, a fingerprint (SHA256:...), or '
        "a file with a public key",
        param=param,
    )


def _is_proof(text: str) -> bool:
    return all(part.strip() in PROOFS for part in text.split("+"))


def _who(_: click.Context, param: click.Parameter, given: str) -> str:
    return key_of(given, param) if "/" in given or given.startswith("SHA256:") or given.endswith(".pub") else given


@click.command()
@click.argument("who", callback=_who)
@click.argument("guest")
@click.argument("source", default="estate.yaml")
@click.option("--by", "services", multiple=True, metavar="SERVICE", help="Only by this service, such as ssh.")
@click.option("--from", "places", multiple=True, metavar="PLACE|ADDRESS", help="For callers from there.")
@click.option("--as", "account", metavar="ACCOUNT", default="", help="Only as this account.")
@click.option(
    "--with",
    "proofs",
    multiple=True,
    metavar="PROOF",
    callback=_proof,
    help="Only with this: key, password, certificate, key + password, a fingerprint, or a file with a public key.",
)
@click.option(
    "--symptom",
    type=click.Choice(SYMPTOMS),
    metavar="WORDS",
    help=f"Begin with what is seen, and say what it comes from: {', '.join(SYMPTOMS)}.",
)
@click.option("--wire", is_flag=True, help="Look at the guest from here, too.")
@supposed
@form_of
@kept_evidence
@as_of
@ssh_config
def why(
    who: str,
    guest: str,
    source: str,
    services: tuple[str, ...],
    places: tuple[str, ...],
    account: str,
    proofs: tuple[str, ...],
    symptom: str | None,
    wire: bool,
    sentences: tuple[str, ...],
    form: str,
    evidence: Path | None,
    as_of: datetime | None,
    config: Path | None,
) -> None:
    """Say why somebody gets into a guest, or does not.

    WHO is a person or robot of the estate, an account of the guest, or a key: its fingerprint (SHA256:...) or a file with its
    public half. GUEST is one of the estate file SOURCE; or, without an estate, a folder, an evidence archive or a live guest.
    Every link of each way in is told, from the grant to the rights of the account, with its place; those that stand in the
    way, and the smallest step that mends it.

    Ends with 1 where somebody is shut out or gets in without a grant, 3 where that can't be decided.
    """
    with faults():
        from nightlatch.ops.why import WhyQuestion
        from nightlatch.report import page
        from nightlatch.report import why as report

        keys = tuple(each for each in proofs if FINGERPRINT.fullmatch(each))
        words = tuple(tuple(part.strip() for part in each.split("+")) for each in proofs if each not in keys)
        asked = WhyQuestion(who, guest, services, account, None, words, keys)
        result = _answered(asked, source, places, sentences, evidence, now(as_of), config, symptom, wire=wire)
        if form == "json":
            from nightlatch.report import machine

            click.echo(machine.dumps(report.document(result)))
        else:
            report.text(page.Page(page.console()), result, source if result.estate else guest)
    raise SystemExit(result.exit_code)


def _answered(
    asked: WhyQuestion,
    source: str,
    places: tuple[str, ...],
    sentences: tuple[str, ...],
    evidence: Path | None,
    at: datetime,
    config: Path | None,
    seen: str | None,
    *,
    wire: bool,
) -> Why:
    """The answer from an estate, or of one guest without one."""
    from nightlatch.audit.symptoms import Symptom
    from nightlatch.faults import NightlatchError
    from nightlatch.ops.survey import survey_target
    from nightlatch.ops.why import why as answer
    from nightlatch.ops.why import why_target
    from nightlatch.transports.targets import is_live

    guest = asked.guest
    symptom = Symptom(seen) if seen is not None else None
    alone = is_live(guest) or "/" in guest
    estate = estate_with(Path(source), evidence) if not alone and (Path(source).exists() or not Path(guest).exists()) else None
    if estate is None or (guest not in estate.guests and Path(guest).exists()):
        if wire or sentences or symptom or evidence is not None:
            raise NightlatchError(
                f"{guest} is one guest; --wire, --symptom, --suppose and --evidence are for guests of an estate file"
            )
        with client_of(config, several=False) as client:
            return why_target(survey_target(guest, client=client), at, asked, places=places)
    with client_of(config) as client:

        def looked() -> Reach:
            from nightlatch.ops.reach import reach

            who = [asked.who] if asked.who in estate.principals else []
            return reach(estate, at, [guest], who=who, client=client)

        return answer(
            estate,
            at,
            asked,
            places=places,
            client=client,
            wire=looked if wire else None,
            sentences=sentences,
            symptom=symptom,
        )
