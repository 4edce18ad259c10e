"""What several commands share: options, the estate file, the SSH client, and errors as messages with exit codes."""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from nightlatch.cli import prompts

if TYPE_CHECKING:
    from nightlatch.estate.model import Estate
    from nightlatch.transports.ssh import Client

    _DayType = click.ParamType[datetime]
else:
    _DayType = click.ParamType  # older releases of click have no parameter for it

SEVERITIES = ("critical", "high", "medium", "low", "note")


@contextmanager
def faults(interrupted: str = "interrupted; nothing was left half done") -> Iterator[None]:
    """Turn our errors into one clear message and an exit code; Ctrl-C into `interrupted` and 130."""
    from nightlatch.faults import NightlatchError
    from nightlatch.report.safe import shown

    try:
        yield
    except NightlatchError as error:
        for line in str(error).split("\n"):
            click.echo(shown(line, 2000), err=True)
        raise SystemExit(error.exit_code) from None
    except KeyboardInterrupt:
        click.echo(interrupted, err=True)
        raise SystemExit(130) from None
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        raise SystemExit(0) from None


class Day(_DayType):
    name = "date"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> datetime:

        try:
            moment = datetime.fromisoformat(str(value))
        except ValueError:
            self.fail(f'"{value}" is no day or time; write 2026-11-25 or 2026-11-25T09:00+00:00', param, ctx)
        return moment if moment.tzinfo else moment.replace(tzinfo=UTC)


class Duration(click.ParamType):  # type: ignore[type-arg]
    """A length of time in seconds, written 90, 90s, 5m or 1h. `bounds` gives the least and the most, once it is needed."""

    name = "time"

    def __init__(self, what: str, bounds: Callable[[], tuple[int, int]]) -> None:
        self.what, self.bounds = what, bounds

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> int:
        found = re.fullmatch(r"([0-9]{1,6})\s*(s|m|h)?", str(value).strip())
        if found is None:
            self.fail(f'"{value}" is no time; write 90s, 5m or 1h', param, ctx)
        seconds = int(found[1]) * {"s": 1, "m": 60, "h": 3600, None: 1}[found[2]]
        least, most = self.bounds()
        if not least <= seconds <= most:
            self.fail(f"{self.what} from {least} s to {most // 3600} hours, not {seconds} s", param, ctx)
        return seconds


as_of = click.option("--as-of", type=Day(), help="Judge as if it were this day or time, not now.")
on_guests = click.option("--on", "guests", multiple=True, metavar="GUEST", help="Only this guest; may be given several times.")


def formats(*more: str) -> Callable[[Any], Any]:
    """The option --format: text for people and JSON, which every command has, and `more`."""
    return click.option(
        "--format",
        "form",
        type=click.Choice(["text", "json", *more]),
        default="text",
        help="Text for people, the others for programs.",
    )


form_of = formats()


FINGERPRINT = re.compile(r"SHA256:[A-Za-z0-9+/]{43}")


def key_of(name: str, param: click.Parameter | None) -> str:
    """The fingerprint of a key that is named by it or by a file with its public half. Raises BadParameter."""
    if FINGERPRINT.fullmatch(name):
        return name
    from nightlatch.formats.keys import KeyFault, parse_public

    try:
        raw = Path(name).read_bytes()[: 64 << 10]
    except OSError as error:
        what = "is no fingerprint (SHA256:...), and no file of this name" if re.match("SHA256:", name) else "can't be read"
        raise click.BadParameter(f"{name} {what}: {error.strerror}", param=param) from None
    try:
        return parse_public(raw).fingerprint
    except KeyFault as error:
        raise click.BadParameter(f"{name} holds no public key: {error}; name the file that ends in .pub", param=param) from None


def _fingerprints(_: click.Context, param: click.Parameter, pins: tuple[str, ...]) -> tuple[str, ...]:
    for each in pins:
        if not FINGERPRINT.fullmatch(each):
            raise click.BadParameter(f'"{each}" is no fingerprint; write it as ssh-keygen -l prints it: SHA256:...', param=param)
    return pins


pin = click.option(
    "--host-key",
    "pins",
    multiple=True,
    metavar="SHA256:...",
    callback=_fingerprints,
    help="Fingerprint of the guest's host key, read at its console; without it your own known_hosts decides.",
)


def pins_are_used(pins: tuple[str, ...], sources: tuple[str, ...]) -> None:
    """Raises NightlatchError where a fingerprint is given and no live guest is named: nothing would be held against it."""
    from nightlatch.faults import NightlatchError
    from nightlatch.transports.targets import is_live

    if pins and not any(is_live(source) for source in sources):
        raise NightlatchError(
            "--host-key is for a live guest named here, such as keeper@192.0.2.21; in an estate file it stands under host_keys"
        )


def now(moment: datetime | None) -> datetime:

    return moment or datetime.now(UTC)


def is_estate(path: Path) -> bool:
    return path.suffix in (".yaml", ".yml")


def estate_of(path: Path) -> Estate:
    from nightlatch import load_estate
    from nightlatch.faults import NightlatchError

    if path.is_dir():
        inside = path / "estate.yaml"
        hint = f"; did you mean {inside}?" if inside.exists() else ""
        raise NightlatchError(f"{path} is a folder, an estate file is expected here{hint}")
    return load_estate(path)


ssh_config = click.option(
    "--ssh-config",
    "config",
    type=click.Path(path_type=Path, dir_okay=False, exists=True),
    metavar="FILE",
    help="Client configuration for ssh to use, not the user's own.",
)


def client_of(config: Path | None, *, several: bool = True) -> Client:
    """The SSH client of a command. For a single guest it may ask at the terminal itself; sudo's password we ask."""
    from nightlatch.transports.ssh import Client

    here = prompts.somebody()
    return Client(config, prompts.password if here else None, may_prompt=here and not several)


supposed = click.option(
    "--suppose",
    "sentences",
    multiple=True,
    metavar="SENTENCE",
    help="What would change if this were so, such as 'person tove leaves'; may be given several times. A sentence that is "
    "not known prints those that are.",
)

kept_evidence = click.option(
    "--evidence",
    type=click.Path(path_type=Path, file_okay=False),
    metavar="FOLDER",
    help="Read no guest: take the archives that survey kept in this folder.",
)


def estate_with(path: Path, evidence: Path | None) -> Estate:
    """The estate of a file, its guests read from kept archives where a folder of them is named."""
    from nightlatch.ops.survey import from_evidence

    estate = estate_of(path)
    return from_evidence(estate, evidence) if evidence is not None else estate


def for_an_estate(path: Path, evidence: Path | None, guests: tuple[str, ...] = ()) -> None:
    """Raise NightlatchError where kept evidence or guests are named beside something that is no estate file."""
    from nightlatch.faults import NightlatchError

    if guests and not is_estate(path):
        raise NightlatchError(f"--on picks guests of an estate file; {path} is no estate file, but one guest")
    if evidence is not None and not is_estate(path):
        raise NightlatchError(f"--evidence stands for the guests of an estate file; {path} is no estate file")
