"""Steps that let the callers of a service through a guest's own packet filter, or keep all others out, in the manager that is
used there.

Whatever manager it is, a gate is written (draft/gates.py): it lets in everybody the grants name, from the places they
name, and either drops all others or leaves them to the rules behind it. Whether that helps is worked out afterwards, as
for every candidate.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace

from nightlatch.access.layers import flow_to
from nightlatch.access.paths import GuestAccess
from nightlatch.access.verdicts import Flow, passed
from nightlatch.draft import gates, loaded_rules
from nightlatch.draft.acts import Enable, LoadRules
from nightlatch.draft.gates import Gate, GateOpening, Hook
from nightlatch.draft.partial_draft import PartialDraft
from nightlatch.draft.precedence import overtaken
from nightlatch.draft.steps import AnyStep, SetRules, Steps
from nightlatch.draft.work import Work
from nightlatch.evidence.snapshot import EntryKind
from nightlatch.formats import lines as text_lines
from nightlatch.formats import own_rules
from nightlatch.formats.lines import LineEdit
from nightlatch.model.grants import seen_by_guest
from nightlatch.model.sockets import Listener
from nightlatch.model.steps import MakeFolder
from nightlatch.net.addresses import EVERY_ADDRESS, AddressSet
from nightlatch.readings.filters import firewalld, managers, places
from nightlatch.readings.filters.managers import StoredRules
from nightlatch.readings.filters.rules import Chain, Rules
from nightlatch.readings.guest import GuestReading

INCLUDE = f'include "{own_rules.FILE}"'
_INCLUDED = re.compile(rb'^\s*include\s+["\']?' + re.escape(own_rules.FILE).encode() + rb'["\']?\s*;?\s*$', re.MULTILINE)
UNIT = "nftables.service"
MOST_PREFIXES = 400


def lets_in(work: Work, service: str, sources: AddressSet, why: str, ports: tuple[int, ...] = ()) -> Iterator[Steps]:
    """Stepss that may let `sources` through the guest's filter, where that keeps some of them from a port of the service;
    `ports` are those that it will have, where these are others than today's."""
    reading = work.access.reading
    rules = reading.filter.rules
    if rules is None or rules.gaps or not sources:
        return
    asked = ports or _ports(work, service)
    if all(sources <= passed(rules, flow).perhaps for flow in _flows(work, asked)):
        return
    now = _doors_now(reading)
    was = any(now.get(port) for port in (*asked, *_ports(work, service))) or any(_nobodys(work, now).values())
    for closed in (True,) if was else (False, True):
        yield from _written(work, _gate(work, service, asked, closed=closed), why, opens=True)


def keeps_out(work: Work, service: str, sources: AddressSet, why: str) -> Iterator[Steps]:
    """Stepss that may keep `sources` from a service, as far as no grant lets anybody in from there."""
    if sources - _callers(work, service):
        yield from _written(work, _gate(work, service, _ports(work, service), closed=True), why, opens=False)


def _gate(work: Work, service: str, ports: tuple[int, ...], *, closed: bool) -> Gate:
    """The doors of one service, beside those that stand there of others."""
    now = _doors_now(work.access.reading)
    doors = _doors(work, service, ports, closed=closed)
    for other in dict.fromkeys(each.words.name for each in work.access.services if each.words.name != service):
        mine = tuple(port for port in _ports(work, other) if port in now and port not in ports)
        if mine:
            doors += _doors(work, other, mine, closed=any(now[port] for port in mine))
    return Gate(tuple(sorted(doors, key=lambda door: door.ports)))


def _doors(work: Work, service: str, ports: tuple[int, ...], *, closed: bool) -> list[GateOpening]:
    """The doors of a service: ports that the same callers are granted are one. A port that nobody is granted has none where
    others have."""
    found: dict[AddressSet, list[int]] = {}
    for port in ports:
        found.setdefault(_callers(work, service, port), []).append(port)
    some = {callers: held for callers, held in found.items() if callers} or found
    return [GateOpening(tuple(held), callers, closed) for callers, held in some.items()]


def _callers(work: Work, service: str, port: int = 0) -> AddressSet:
    """All callers that a grant of a service, management access or an emergency account by it lets in, as the guest sees them;
    with a port, those of grants that speak of it."""
    screens = {server.screen for server, socket in work.access.sockets(service) if socket.port == port}
    grants = work.of(service)
    if port and screens:
        grants = tuple(each for each in grants if each.means(port) and {"", each.account} & screens)
    return seen_by_guest(grants)


def _ports(work: Work, service: str) -> tuple[int, ...]:
    return tuple(sorted({each.port for _, each in work.access.sockets(service)}))


def _sockets(work: Work) -> list[Listener]:
    return [socket for each in work.access.services for socket in each.listeners]


def _flows(work: Work, ports: tuple[int, ...]) -> list[Flow]:
    held = _sockets(work)
    listening = {(each.address, each.port) for each in held if each.port in ports}
    listening |= {("", port) for port in ports if all(port != each.port for each in held)}
    return [flow_to(work.access.reading, address, port) for address, port in sorted(listening)]


def manager_of(reading: GuestReading) -> str:
    """The manager that keeps the filter of a guest: the one that is started at boot, or nftables where none is; empty
    where that is not known, and where two are."""
    stored = [each for each in reading.filter.stored if each.started]
    if any(each.started is None for each in reading.filter.stored):
        return ""
    names = {each.manager for each in stored}
    if names:
        return names.pop() if len(names) == 1 else ""
    if reading.filter.idle:  # starting what loads these would bring them in, too
        return ""
    started = managers.is_started(reading.snapshot, UNIT) and _main(reading) is not None
    asked = "rules" in reading.snapshot.listings and reading.snapshot.told.systemd
    return "nftables" if asked or started else ""


def _doors_now(reading: GuestReading) -> dict[int, bool]:
    """The ports of the gate that is there, and whether it keeps all others from them."""
    snapshot = reading.snapshot
    zones = [f"{loaded_rules.ZONES}{name}" for name in snapshot.children(loaded_rules.ZONES[:-1])]
    out: dict[int, bool] = {}
    for path in (own_rules.FILE, *loaded_rules.SAVED, *loaded_rules.USERS, *zones):
        for port, closed in gates.written(snapshot.content(path) or b"").items():
            out[port] = out.get(port, False) or closed
    return out


def _nobodys(work: Work, now: dict[int, bool]) -> dict[int, bool]:
    """The ports of the gate on which no service listens any more."""
    held = {each.port for each in _sockets(work)}
    return {port: closed for port, closed in now.items() if port not in held}


def _written(work: Work, gate: Gate, why: str, *, opens: bool) -> Iterator[Steps]:
    if any(not each.is_narrow or len(each.sources.prefixes(MOST_PREFIXES)) == MOST_PREFIXES for each in gate.doors):
        return
    writer = _Writer(work, gate, why, opens)
    kinds = {"nftables": writer.nftables, "iptables": writer.iptables, "ufw": writer.ufw, "firewalld": writer.firewalld}
    making = kinds.get(manager_of(work.access.reading))
    for candidate in making() if making is not None else ():
        if candidate:
            yield candidate


class _Writer:
    """One gate as edits of the files of one guest."""

    def __init__(self, work: Work, gate: Gate, why: str, opens: bool) -> None:
        self.work, self.gate, self.why, self.opens = work, gate, why, opens
        self.reading = work.access.reading
        self.snapshot = self.reading.snapshot

    def about(self, manager: str) -> str:
        """What the rules do, in words."""
        return f"{'; '.join(map(_about, self.gate.doors))} ({manager})"

    def edit(
        self,
        path: str,
        manager: str,
        content: bytes | None,
        was: bytes | None,
        about: str = "",
        chains: tuple[str, ...] = (),
        within: str = "",
    ) -> Steps:
        """The step that gives a file this content; none where it has it, or where the file can't be edited."""
        found = self.snapshot.resolve(path)
        if content is None or content == was or found.path != path or found.entry is None:
            return ()
        if found.entry.kind not in (EntryKind.FILE, EntryKind.ABSENT):
            return ()
        folder = self.snapshot.resolve(path.rpartition("/")[0])
        made: Steps = ()
        if folder.entry is None or folder.entry.kind is not EntryKind.FOLDER:
            made = (MakeFolder(folder.path, self.why, self.opens, 0o755, 0, 0),)
        rules = self.reading.filter.rules
        late = overtaken(rules, self.gate, chains, within) if rules is not None and chains else ()
        about = about or self.about(manager)
        return (*made, SetRules(path, self.why, self.opens, manager, found.entry, content, about, late))

    # nftables
    def nftables(self) -> Iterator[Steps]:
        hooks = self.hooks()
        if not hooks:
            return
        was = self.snapshot.content(own_rules.FILE)
        main = _main(self.reading)
        chains = tuple(f"{each.family} {each.table} {each.chain}" for each in hooks)
        steps = self.edit(own_rules.FILE, "nftables", gates.nftables(self.gate, tuple(hooks)), was, chains=chains)
        yield (*steps, *self.included(main)) if steps else ()

    def included(self, main: str | None) -> Steps:
        """The line by which a boot loads the gate behind the guest's own rules."""
        was = self.snapshot.content(main) if main is not None else None
        if _INCLUDED.search(was or b""):
            return ()
        raw = was if was is not None else b"#!/usr/sbin/nft -f\n"
        end = LineEdit(len(text_lines.split(raw)) + 1, (INCLUDE,), insert=True)
        return self.edit(main or places.NFT_FILES[0], "nftables", text_lines.apply(raw, [end]), was, f"include {own_rules.FILE}")

    def hooks(self) -> list[Hook]:
        """The base chains that have to send packets through the gate: each that keeps wanted callers out, for what another
        lets in is no help there; to keep others out, one for both families."""
        stored = next((each for each in self.reading.filter.stored if each.started), None)
        now = self.reading.filter.rules or Rules()
        chains = [each for each in now.at("input") if each.kind == "filter" and self.is_theirs(each, stored)]
        found = [each for each in chains if self.loses(now, each) or _goes_there(each)]
        if self.gate.closed and not any(each.only == EVERY_ADDRESS for each in found):
            found += [each for each in chains if each.only == EVERY_ADDRESS and each not in found][:1]
        hooks = [_hook(each) for each in found]
        if self.gate.closed and not any(each.family == "inet" for each in hooks):
            hooks.append(Hook("inet", gates.OWN, "input"))
        return hooks

    def is_theirs(self, chain: Chain, stored: StoredRules | None) -> bool:
        """Whether the guest's own file of nftables makes this chain, so that it is there at the next boot, too."""
        plain = re.fullmatch(r"(ip|ip6|inet) [A-Za-z][\w-]{0,31} [A-Za-z][\w-]{0,31}", chain.key)
        return plain is not None and stored is not None and chain.key in stored.rules.chains

    def loses(self, rules: Rules, chain: Chain) -> bool:
        """Whether a base chain by itself keeps wanted callers out."""
        alone = Rules({key: each for key, each in rules.chains.items() if not each.hook or key == chain.key})
        return any(
            not door.sources & chain.only <= passed(alone, flow).perhaps
            for door in self.gate.doors
            for flow in _flows(self.work, door.ports)
        )

    # iptables
    def iptables(self) -> Iterator[Steps]:
        files = (
            places.IPTABLES_RPM
            if any(self.snapshot.content(path) is not None for path, _ in places.IPTABLES_RPM)
            else places.IPTABLES_DEBIAN
        )
        steps: list[AnyStep] = []
        for path, family in files:
            was = self.snapshot.content(path)
            if was is not None or self.gate.closed or self.gate.of(family):
                chains = (f"{family} filter INPUT",)
                steps += self.edit(path, "iptables", gates.saved(was or b"", self.gate, family), was, chains=chains)
        yield tuple(steps)

    # ufw
    def ufw(self) -> Iterator[Steps]:
        steps: list[AnyStep] = []
        for path, family in loaded_rules.USERS.items():
            was = self.snapshot.content(path)
            if was is not None:
                chains = ("ip filter ufw-user-input",) if family == "ip" else ("ip6 filter ufw6-user-input",)
                steps += self.edit(path, "ufw", gates.ufw(was, self.gate, family), was, chains=chains)
        yield tuple(steps)

    # firewalld
    def firewalld(self) -> Iterator[Steps]:
        names = firewalld.used_zones(self.snapshot)
        made = {name: self.zone(name) for name in names}
        for name in names:
            yield made[name]
        if len(names) > 1:
            yield tuple(step for name in names for step in made[name])

    def zone(self, name: str) -> Steps:
        own, shipped = f"{loaded_rules.ZONES}{name}.xml", f"{firewalld.SHIPPED}/zones/{name}.xml"
        was = self.snapshot.content(own)
        base = was if was is not None else self.snapshot.content(shipped)
        if base is None:
            return ()
        rules = self.reading.filter.rules
        chains = tuple(rules.chains) if rules is not None else ()  # the zone's own rules lie in several of firewalld's chains
        return self.edit(own, "firewalld", gates.zone(base, self.gate), was, chains=chains, within=own)


def _about(door: GateOpening) -> str:
    found = door.sources.prefixes(4)
    callers = ", ".join(found[:3]) + (" and more" if len(found) > 3 else "")
    rest = ", drop all other callers" if door.closed else ""
    return f"let {callers} call port {', '.join(map(str, door.ports))}{rest}"


def _main(reading: GuestReading) -> str | None:
    """The file that nftables' own unit loads; None where there is none."""
    return next((path for path in places.NFT_FILES if reading.snapshot.content(path) is not None), None)


def _goes_there(chain: Chain) -> bool:
    """Whether a chain sends packets through the gate already."""
    return any(rule.to.endswith(f" {gates.OWN}") for rule in chain.rules)


def _hook(chain: Chain) -> Hook:
    family, table, name = chain.key.split(" ")
    return Hook(family, table, name)


def shut_at_boot(before: GuestAccess, after: GuestAccess, door: AddressSet) -> str:
    """Why rules that the next boot loads would shut the door, or would not be loaded, in words; empty where neither is so."""
    was, now = (managers.together(each.reading.filter.booted) for each in (before, after))
    if now.gaps and not was.gaps:
        return f"the next boot would not load the rules: {now.gaps[0].because} ({now.gaps[0].origin})"
    for each in after.ssh.listeners:
        flow = flow_to(after.reading, each.address, each.port)
        if door & passed(was, flow).perhaps - passed(now, flow).perhaps:
            return f"from the next boot on the packet filter would keep the door's own callers from port {each.port}"
    return ""


def loading_acts(reading: GuestReading, steps: Steps) -> PartialDraft:
    """The acts that load the rules which these steps write, now and at the next boot."""
    out = PartialDraft()
    found = {each.manager: each.why for each in steps if isinstance(each, SetRules)}
    if reading.service.is_live:
        out.acts += [LoadRules(name, why) for name, why in found.items()]
        if "nftables" in found and not managers.is_started(reading.snapshot, UNIT):
            out.acts.append(Enable(UNIT, found["nftables"]))
    return out


def together(steps: Steps) -> list[Steps]:
    """The steps, those that only count together in one: all files of one manager's rules, with the folders made for them."""
    out: dict[object, Steps] = {}
    files = {each.path.rpartition("/")[0]: each.manager for each in steps if isinstance(each, SetRules)}
    for number, each in enumerate(steps):
        made = files.get(each.path, "") if isinstance(each, MakeFolder) else ""
        key = each.manager if isinstance(each, SetRules) else made or number
        out[key] = (*out.get(key, ()), each)
    return list(out.values())


def merged(steps: Steps, more: Steps) -> Steps:
    """Steps with others behind them; a file of rules that both write is written once, with what the later ones say."""
    later = {each.path: each for each in more if isinstance(each, SetRules)}
    twice = {each.path for each in steps if isinstance(each, SetRules)} & set(later)
    kept: list[AnyStep] = []
    for each in steps:
        if isinstance(each, SetRules) and each.path in twice:
            kept.append(replace(later[each.path], seen=each.seen, opens=each.opens))
        else:
            kept.append(each)
    return (*kept, *(each for each in more if not (isinstance(each, SetRules) and each.path in twice)))
