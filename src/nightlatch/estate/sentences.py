"""Grants, emergency accounts and waivers: the sentences of the estate file."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Set
from dataclasses import dataclass
from ipaddress import summarize_address_range

from nightlatch.estate import reader
from nightlatch.estate.model import (
    ANYWHERE,
    Emergency,
    GrantSpec,
    GuestSpec,
    NetworkSpec,
    Place,
    PlaceRef,
    Principal,
    Team,
    Waiver,
)
from nightlatch.estate.only import only
from nightlatch.estate.through import through
from nightlatch.faults import nearest
from nightlatch.formats.keys import PublicKey
from nightlatch.formats.yaml_tree import Node, Source
from nightlatch.model.routes import Seal
from nightlatch.model.services import SSH, VNC, ServiceWords
from nightlatch.net.addresses import EVERY_ADDRESS, AddressSet
from nightlatch.net.literal import AddressError, parse_network, parse_range

MOST_PREFIXES = 12  # of a range that is written out for somebody
GRANT_KEYS = ("let", "into", "by", "from", "with", "as", "shared", "may", "after", "only", "through", "screen", "seal", "until")
LATER_GRANT = {
    "channels": "what a session shares with its caller comes later",
}
LATER_SERVICES = ("winrm",)
LAST_SCREEN = 59635  # port 65535
SEALS = {seal.words: seal for seal in Seal}
ACCEPTS = ("account", "person", "key", "with", "from", "may", "by")  # what a waiver of a difference names
WAIVED_PROOFS = ("password", "screen password", "none", "certificate", "code", "unknown")
PIN = re.compile(r"SHA256:[A-Za-z0-9+/]{43}")
PLACE_NAME = re.compile(r"[a-z][a-z0-9-]*")


@dataclass
class KnownNames:
    """The names that a sentence may refer to."""

    places: Mapping[str, Place]
    principals: Mapping[str, Principal]
    teams: Mapping[str, Team]
    guests: Mapping[str, GuestSpec]
    networks: Mapping[str, NetworkSpec]
    services: Mapping[str, ServiceWords]
    faulty: Set[str] = frozenset()  # people and robots whose faults are told already

    @property
    def labels(self) -> dict[str, list[str]]:
        """Guests by label."""
        out: dict[str, list[str]] = {}
        for guest in self.guests.values():
            for label in guest.labels:
                out.setdefault(label, []).append(guest.name)
        return out


def places(source: Source, node: Node, names: KnownNames) -> tuple[PlaceRef, ...]:
    """`from`: names of places and networks, `anywhere`, or addresses written out."""
    out: list[PlaceRef] = []
    for item in reader.items(source, node, "from"):
        value = reader.text(source, item, "a place")
        if not value:
            continue
        if value == ANYWHERE:
            out.append(PlaceRef(value, addresses=EVERY_ADDRESS))
        elif PLACE_NAME.fullmatch(value):
            if value in names.networks:
                out.append(PlaceRef(value, network=value))
            elif reader.named(source, item, "the place", names.places, "places"):
                out.append(PlaceRef(value, place=value))
        else:
            found = network(source, item, value)
            if found is not None:
                out.append(PlaceRef(value, addresses=found))
    return tuple(out)


def network(source: Source, node: Node, value: str) -> AddressSet | None:
    """An address or prefix, read strictly."""
    try:
        return parse_network(value)
    except AddressError as error:
        prefixes = _as_prefixes(value)
        if prefixes:
            source.fault(node, f'"{value}" is a range', f"prefixes, which say the same: {prefixes}")
        else:
            source.fault(node, str(error), error.expected)
        return None


def _as_prefixes(value: str) -> str:
    """A range of addresses as the prefixes that it comes to; empty where it is none, or where they are many."""
    try:
        first, last = parse_range(value.replace(" ", ""))
    except AddressError:
        return ""
    found = [str(each) for each in summarize_address_range(first, last)]
    return ", ".join(found) if len(found) <= MOST_PREFIXES else ""


def guests(source: Source, node: Node, names: KnownNames) -> tuple[str, ...]:
    """`into` and `on`: guest names, `label NAME`, or `all guests`."""
    out: dict[str, None] = {}
    for item in reader.items(source, node, "the guests"):
        value = reader.text(source, item, "a guest")
        if value == "all guests":
            out.update(dict.fromkeys(names.guests))
        elif value.startswith("label "):
            label = value[6:].strip()
            if label not in names.labels:
                known = ", ".join(sorted(names.labels)) or "there are none"
                source.fault(
                    item,
                    f'no guest has the label "{label}"',
                    f"a label that a guest has ({known})",
                    nearest(label, list(names.labels)),
                )
            out.update(dict.fromkeys(names.labels.get(label, [])))
        elif value and reader.named(source, item, "the guest", names.guests, "guests"):
            out[value] = None
    return tuple(out)


def principals(source: Source, node: Node, names: KnownNames) -> tuple[str, ...]:
    """`let`: people, robots, or `team NAME`."""
    out: dict[str, None] = {}
    for item in reader.items(source, node, "let"):
        value = reader.text(source, item, "let")
        if value.startswith("team "):
            team = value[5:].strip()
            if team not in names.teams:
                source.fault(
                    item,
                    f'there is no team "{team}"',
                    f"a name under teams ({', '.join(sorted(names.teams)) or 'there are none'})",
                    nearest(team, list(names.teams)),
                )
            else:
                out.update(dict.fromkeys(names.teams[team].members))
        elif value.startswith("group "):
            source.fault(item, "groups of a directory can't be honoured by this version yet", "people, robots or a team")
        elif value in names.teams and value not in names.principals:
            source.fault(item, f'"{value}" is a team', f"team {value}", f"team {value}")
        elif value and reader.named(source, item, "let", names.principals, "people and robots"):
            out[value] = None
    return tuple(out)


def proofs(source: Source, node: Node, known: tuple[str, ...]) -> tuple[tuple[str, ...], ...]:
    """`with`: `key + password` means both, a list means either; `known` are the proofs of the service."""
    out: list[tuple[str, ...]] = []
    for item in reader.items(source, node, "with"):
        value = reader.text(source, item, "with")
        parts = tuple(part.strip() for part in value.split("+")) if value else ()
        for part in parts:
            if part not in known:
                expected = f"{', '.join(known)}{', or some joined by +' if len(known) > 1 else ''}"
                source.fault(item, f'"{part}" is no proof', expected, nearest(part, known))
        if len(set(parts)) != len(parts):
            source.fault(item, f'"{value}" names the same proof twice', "different proofs joined by +")
        if parts == ("code",):
            source.fault(item, "a code alone is too little: who has the phone is in", "key + code, or password + code")
        if "none" in parts and len(parts) > 1 and "none" in known:
            source.fault(item, f'"{value}" asks for nothing and for something', "none, or the other proof")
        if parts:
            out.append(parts)
    return tuple(out)


def grant(source: Source, node: Node, number: int, names: KnownNames) -> GrantSpec | None:
    """One grant."""
    what = f"grant {number}"
    before = len(source.faults)
    found = reader.section(source, node, what, GRANT_KEYS, LATER_GRANT, ("let", "into", "by", "from", "with"))
    if not {"let", "into", "by", "from", "with"} <= found.keys():
        return None
    by = service(source, found["by"], names)
    if by is None:
        return None
    who = principals(source, found["let"], names)
    account = reader.text(source, found["as"], "as") if "as" in found else ""
    shared = reader.text(source, found["shared"], "shared") if "shared" in found else ""
    given, into = only(source, found.get("only"), by), guests(source, found["into"], names)
    spec = GrantSpec(
        number,
        who,
        into,
        places(source, found["from"], names),
        proofs(source, found["with"], by.proofs),
        source.origin(node),
        _as_text(source, node),
        by,
        account,
        shared,
        administer=_may(source, found, what, by),
        after_password=_after(source, found),
        command=given.command,
        files=given.files,
        seal=_seal(source, found, what, by),
        until=reader.day(source, found["until"], "until") if "until" in found else None,
        view=given.view,
        screen=_screen(source, found, what, by),
        through=through(source, found.get("through"), what, by, into, lambda node: proofs(source, node, SSH.proofs)),
    )
    if account and len(who) > 1 and not shared:
        source.fault(found["as"], f"{what} lets {len(who)} into one account, {account}", "shared: and the reason, or no as:")
    _holders(source, found["with"], spec, names)
    return spec if len(source.faults) == before else None


def _as_text(source: Source, node: Node) -> str:
    line = source.lines[node.line - 1].strip().removeprefix("- ").strip()
    return line[: line.rindex("}") + 1] if line.startswith("{") and "}" in line else line


def service(source: Source, node: Node, names: KnownNames) -> ServiceWords | None:
    """`by`: a service that this version knows; None after a fault."""
    value, known = reader.text(source, node, "by"), names.services
    if value in LATER_SERVICES and value not in known:
        source.fault(node, f'the service "{value}" can\'t be honoured by this version yet', ", ".join(known))
    elif value and value not in known:
        source.fault(node, f'the service "{value}" is not known', ", ".join(known), nearest(value, list(known)))
    return known.get(value)


def _may(source: Source, found: dict[str, Node], what: str, by: ServiceWords) -> bool:
    if "may" not in found:
        if "after" in found:
            source.fault(found["after"], f"{what} says after without may: administer", "may: administer beside it")
        return False
    ok = reader.one_of(source, found["may"], "may", ("administer",)) == "administer"
    if not by.administers:
        source.fault(found["may"], f"{what} says may, which {by.name} can't give", "no may:")
    if ok and "after" not in found:
        source.fault(found["may"], "may: administer without saying after what", "after: own password, or after: nothing")
    if ok and "only" in found:
        source.fault(found["only"], "only and may: administer contradict each other", "one of them")
    return ok


def _seal(source: Source, found: dict[str, Node], what: str, by: ServiceWords) -> Seal:
    """`seal`: the least that the connection must have; TLS unless it says otherwise."""
    if "seal" not in found:
        return Seal.TLS
    if by == SSH:
        source.fault(found["seal"], f"{what} says seal, and every connection of ssh has one", "no seal:")
        return Seal.TLS
    return SEALS.get(reader.one_of(source, found["seal"], "seal", tuple(SEALS)), Seal.TLS)


def _after(source: Source, found: dict[str, Node]) -> bool:
    if "after" not in found:
        return False
    return reader.one_of(source, found["after"], "after", ("own password", "nothing")) == "own password"


def _screen(source: Source, found: dict[str, Node], what: str, by: ServiceWords) -> int | None:
    """`screen`: the number of a display; its port is 5900 and the number."""
    if "screen" not in found:
        return None
    if by != VNC:
        source.fault(found["screen"], f"{what} says screen, and {by.name} has none by number", "no screen:")
        return None
    return reader.whole(source, found["screen"], "screen", 0, LAST_SCREEN)


def _holders(source: Source, node: Node, spec: GrantSpec, names: KnownNames) -> None:
    for who in spec.who:
        person = names.principals[who]
        if who in names.faulty:
            continue  # what is wrong with them is told where they stand
        before = spec.through.proofs if spec.through is not None else ()
        wanted = {part for proof in (*spec.proofs, *before) for part in proof}
        if "key" in wanted and not person.keys:
            source.fault(node, f"{who} has no key", f"keys: under {who}, or another proof")
        if "hardware key" in wanted and not any(key.on_hardware for key in person.keys):
            source.fault(node, f"{who} has no key on hardware", f"keys: under {who}, one that begins with sk-, or another proof")
        if "certificate" in wanted and person.certificate is None:
            source.fault(node, f"{who} has no certificate", f"certificate: {{authority: ..., principals: [...]}} under {who}")


def emergency(
    source: Source, node: Node, number: int, names: KnownNames, key_of: Callable[[Node], PublicKey | None]
) -> Emergency | None:
    """One emergency account. `key_of(node)` reads a key file."""
    what = f"emergency account {number}"
    found = reader.section(
        source, node, what, ("account", "into", "tested", "test_every_days", "by"), None, ("account", "into", "by")
    )
    if not {"account", "into", "by"} <= found.keys():
        return None
    by = reader.section(source, found["by"], "by", ("console", "ssh"), {"rdp": "only ssh is read so far"})
    keys: tuple[PublicKey, ...] = ()
    where: tuple[PlaceRef, ...] = ()
    shown: tuple[tuple[str, ...], ...] = ()
    if "ssh" in by:
        ssh = reader.section(source, by["ssh"], "ssh", ("from", "with", "keys"), None, ("from", "with"))
        where = places(source, ssh["from"], names) if "from" in ssh else ()
        shown = proofs(source, ssh["with"], SSH.proofs) if "with" in ssh else ()
        found_keys = [key_of(item) for item in reader.items(source, ssh["keys"], "keys")] if "keys" in ssh else []
        keys = tuple(key for key in found_keys if key is not None)
        if any({"key", "hardware key"} & set(proof) for proof in shown) and "keys" not in ssh:
            source.fault(by["ssh"], f"{what} shows a key, but names none", "keys: [file]")
    if "console" in by:
        console = reader.section(source, by["console"], "console", ("with",), None, ("with",))
        if "with" in console:
            reader.one_of(source, console["with"], "with", ("password",))
    return Emergency(
        reader.text(source, found["account"], "account"),
        guests(source, found["into"], names),
        source.origin(node),
        reader.day(source, found["tested"], "tested") if "tested" in found else None,
        reader.whole(source, found["test_every_days"], "test_every_days", 1, 3650) if "test_every_days" in found else 0,
        where,
        shown,
        keys,
        "console" in by,
    )


def waiver(source: Source, node: Node, number: int, names: KnownNames) -> Waiver | None:
    """One waiver; whether its finding exists, and what it has to name, is checked where the checks are known."""
    what = f"waiver {number}"
    keys = ("finding", "on", "owner", "because", "until")
    found = reader.section(source, node, what, (*keys, *ACCEPTS), None, keys)
    if not set(keys) <= found.keys():
        return None
    until = reader.day(source, found["until"], "until")
    owner = reader.named(source, found["owner"], "the owner", names.principals, "people and robots")
    if until is None:
        return None
    return Waiver(
        reader.text(source, found["finding"], "finding"),
        guests(source, found["on"], names),
        owner,
        reader.text(source, found["because"], "because"),
        until,
        source.origin(found["finding"]),
        *_accepted(source, found, names),
    )


def _accepted(
    source: Source, found: dict[str, Node], names: KnownNames
) -> tuple[str, str, str, str, tuple[PlaceRef, ...], bool, str]:
    """What a waiver accepts of its finding: account, person, key, proof, places, whether root's rights as well, and by what."""
    by = service(source, found["by"], names) if "by" in found else SSH
    person = (
        reader.named(source, found["person"], "the person", names.principals, "people and robots") if "person" in found else ""
    )
    key = reader.text(source, found["key"], "key") if "key" in found else ""
    if key and not PIN.fullmatch(key):
        source.fault(
            found["key"],
            f'"{key}" is no fingerprint',
            "SHA256: and 43 letters, as nightlatch audit --format json tells it",
        )
    return (
        reader.text(source, found["account"], "account") if "account" in found else "",
        person,
        key,
        reader.one_of(source, found["with"], "with", WAIVED_PROOFS) if "with" in found else "",
        places(source, found["from"], names) if "from" in found else (),
        reader.one_of(source, found["may"], "may", ("administer",)) == "administer" if "may" in found else False,
        by.name if by is not None else "",
    )
