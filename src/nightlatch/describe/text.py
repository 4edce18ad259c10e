"""The estate file as text: people, places, guests and sentences, each with its evidence as a comment.

Names and commands come from guests: whatever they hold, the file stays one YAML document that says what was meant.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from nightlatch.describe.holders import Holder, Holders, name_from
from nightlatch.describe.sentences import Sentence, SentenceSet
from nightlatch.formats.keys import PublicKey
from nightlatch.model.powers import Power, PowerKind
from nightlatch.model.routes import Seal
from nightlatch.model.sockets import CONSOLE, CONSOLE_WORD
from nightlatch.net.addresses import EVERY_ADDRESS, AddressSet
from nightlatch.origin import Origin

MOST_PLACES = 3
HEAD = """\
# What these guests grant today, read on {day}; not what is meant. Take out what
# nobody needs, give people and places their names. Then: nightlatch audit {name}
nightlatch: 1
estate: {estate}
time_zone: UTC
"""


@dataclass(frozen=True, slots=True)
class GuestLine:
    """What stands under `guests`: `via` as it is written, the system and the host keys' fingerprints."""

    name: str
    via: str
    system: str
    host_keys: tuple[str, ...]
    service: str


def quoted(text: str) -> str:
    """A double-quoted scalar of YAML 1.2 (7.3.1); everything but plain ASCII is escaped."""
    out = []
    for char in text:
        code = ord(char)
        if char in '"\\':
            out.append("\\" + char)
        elif 32 <= code < 127:
            out.append(char)
        else:
            out.append(f"\\x{code:02x}" if code < 256 else f"\\u{code:04x}" if code < 65536 else f"\\U{code:08x}")
    return '"' + "".join(out) + '"'


def comment(text: str, most: int = 160) -> str:
    """Text from a guest as a comment: one line of printable ASCII."""
    clean = "".join(char if 32 <= ord(char) < 127 else "?" for char in text)
    return clean if len(clean) <= most else clean[:most] + "..."


class Places:
    """Source sets and their names; a set that recurs is written once."""

    def __init__(self, sentences: Mapping[Sentence, object]) -> None:
        uses: dict[AddressSet, int] = {}
        for sentence in sentences:
            uses[sentence.sources] = uses.get(sentence.sources, 0) + 1
        self.named: dict[AddressSet, str] = {}
        for sources, times in uses.items():
            if sources != EVERY_ADDRESS and (times > 1 or len(sources.prefixes(MOST_PLACES + 1)) > MOST_PLACES):
                self.named[sources] = f"place-{len(self.named) + 1}"

    def refer(self, sources: AddressSet) -> str:
        """The value of `from`."""
        if sources == EVERY_ADDRESS:
            return "anywhere"
        return self.named.get(sources) or addresses(sources)


def addresses(sources: AddressSet) -> str:
    """A list of prefixes."""
    return "[" + ", ".join(quoted(p) if ":" in p else p for p in sources.prefixes()) + "]"


def key_files(holders: Holders) -> dict[str, PublicKey]:
    """Where each public key is written, relative to the estate file."""
    out: dict[str, PublicKey] = {}
    for holder in holders.people:
        for number, key in enumerate(holder.keys.values(), 1):
            out[f"keys/{holder.name}{f'-{number}' if number > 1 else ''}.pub"] = _clean(key)
    for name, key in holders.authorities.values():
        out[f"keys/authority-{name}.pub"] = _clean(key)
    return out


def _clean(key: PublicKey) -> PublicKey:
    """The key with its comment, which is a guest's text, as printable ASCII."""
    return PublicKey(key.algorithm, key.blob, comment(key.comment).strip())


def render(name: str, estate: str, day: str, guests: Sequence[GuestLine], holders: Holders, said: SentenceSet) -> str:
    """The whole file."""
    places = Places(said.sentences)
    used = {sentence.who for sentence in said.sentences}
    lines = [HEAD.format(day=day, name=name, estate=quoted(estate))]
    if holders.authorities:
        lines.append("authorities:\n")
        lines += [f"  {label}: keys/authority-{label}.pub\n" for label, _ in holders.authorities.values()]
    if places.named:
        lines.append("\n# Sources that recur. Give them the names of the places that they are.\nplaces:\n")
        lines += [f"  {label}: {addresses(sources)}\n" for sources, label in places.named.items()]
    people = [holder for holder in holders.people if holder.name in used]
    if people:
        lines.append("\n# Guessed from keys that recur and from accounts with passwords.\npeople:\n")
        lines += [_person(holder, holders) for holder in people]
    lines.append("\nguests:\n")
    lines += [_guest(guest) for guest in guests]
    lines.append("\n" + _grants(said, places, [guest.name for guest in guests]))
    lines += _unsaid(said)
    return "".join(lines)


def person_value(holder: Holder, holders: Holders) -> str:
    """What stands behind a person's name."""
    parts = []
    if holder.keys:
        files = [f"keys/{holder.name}{f'-{n}' if n > 1 else ''}.pub" for n in range(1, len(holder.keys) + 1)]
        parts.append(f"keys: [{', '.join(files)}]")
    if holder.authority:
        label = holders.authorities[holder.authority][0]
        parts.append(f"certificate: {{authority: {label}, principals: [{', '.join(map(quoted, holder.principals))}]}}")
    return "{" + ", ".join(parts) + "}"


def _person(holder: Holder, holders: Holders) -> str:
    told = [comment(key.comment) for key in holder.keys.values() if key.comment]
    told += [holder.why] if holder.why else []
    note = f"   # {'; '.join(told)}" if told else ""
    return f"  {holder.name}: {person_value(holder, holders)}{comment(note, 400)}\n"


def guest_value(guest: GuestLine) -> str:
    """What stands behind a guest's name."""
    parts = [f"via: {guest.via}"]
    parts += [f"system: {guest.system}"] if guest.system else []
    parts += ["host_keys: [" + ", ".join(f'"{pin}"' for pin in guest.host_keys) + "]"] if guest.host_keys else []
    return "{" + ", ".join(parts) + "}"


def _guest(guest: GuestLine) -> str:
    note = f"  # {comment(guest.service)}\n" if guest.service else ""
    return f"{note}  {guest.name}: {guest_value(guest)}\n"


def sentence_values(said: SentenceSet, places: Places) -> list[str]:
    """Every sentence as a value by itself."""
    return [_sentence(sentence, places, list(where), []) for sentence, where in said.sentences.items()]


def _grants(said: SentenceSet, places: Places, every: list[str]) -> str:
    if not said.sentences:
        return "# Nobody gets in, as far as a sentence can say.\ngrants: []\n"
    out = ["grants:\n"]
    for sentence, where in said.sentences.items():
        out += [f"  # {line}\n" for line in _evidence(where)]
        out.append(f"  - {_sentence(sentence, places, list(where), every)}\n")
    return "".join(out)


def _evidence(where: Mapping[str, Mapping[Origin, None]]) -> list[str]:
    told: dict[str, list[str]] = {}
    for guest, origins in where.items():
        text = "; ".join(dict.fromkeys(str(origin) for origin in origins))
        told.setdefault(text, []).append(guest)
    return [f"{', '.join(guests[:6])}{' and more' if len(guests) > 6 else ''}: {comment(text)}" for text, guests in told.items()]


def _sentence(sentence: Sentence, places: Places, where: list[str], every: list[str]) -> str:
    into = where[0] if len(where) == 1 else f"[{', '.join(where)}]"
    into = "all guests" if len(every) > 1 and where == every else into
    parts = [
        f"let: {sentence.who}",
        f"into: {into}",
        f"by: {sentence.service}",
        f"from: {places.refer(sentence.sources)}",
    ]
    parts.append(f"with: {sentence.proof}")
    if sentence.account == CONSOLE:
        parts.append(f"as: {CONSOLE_WORD}")
    elif sentence.account != sentence.who:
        plain = name_from(sentence.account, "") == sentence.account
        parts.append(f"as: {sentence.account if plain else quoted(sentence.account)}")
    if sentence.after:
        parts.append(f"may: administer, after: {sentence.after}")
    if sentence.seal is not Seal.TLS:
        parts.append(f"seal: {sentence.seal.words}")
    if sentence.only is not None:
        parts.append(f"only: {{{_only(sentence.only)}}}")
    return "{" + ", ".join(parts) + "}"


def _only(power: Power) -> str:
    if power.gives is PowerKind.VIEW:
        return "view: yes"
    return f"{'command' if power.gives is PowerKind.COMMAND else 'files'}: {quoted(power.what)}"


def _unsaid(said: SentenceSet) -> list[str]:
    if not said.unsaid:
        return []
    out = ["\n# Open as well, and no sentence can say it; the audit names it:\n"]
    out += dict.fromkeys(f"#   {u.guest}: {comment(u.text)} ({comment(str(u.origin))})\n" for u in said.unsaid)
    return out
