"""Missing as findings: who is granted and can't get in, and the line that stands in the way."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from enum import StrEnum

from nightlatch.access.arriving import Arrival, admitted, met
from nightlatch.access.differences import Missing
from nightlatch.access.filtering import Packet, Verdict, deciding
from nightlatch.access.layers import flow_to
from nightlatch.access.paths import GuestAccess
from nightlatch.audit import wording
from nightlatch.audit.findings import Finding, Group, Proof, Severity, Subject
from nightlatch.audit.naming import Names, listed
from nightlatch.model.grants import Grant, GrantKind
from nightlatch.model.powers import Gives, Power
from nightlatch.model.secrets import Certificate, Key, Password
from nightlatch.model.sockets import Listener
from nightlatch.model.sources import COMMON, Sources, common_to, joined, without
from nightlatch.net.addresses import EVERY_ADDRESS, NO_ADDRESS, AddressSet, union
from nightlatch.origin import Kind, Origin
from nightlatch.readings.rules import Does, Layer, Rules
from nightlatch.services.ssh.hindering import Hindrance, Why, hindrances
from nightlatch.services.ssh.settings import Settings
from nightlatch.systems import posix

REFERENCE = "reasoning: what is granted minus what is open"


class Blocked(StrEnum):
    """By what a grant is not served."""

    NO_SERVICE = "no service"
    REFUSED = "settings that are refused"
    NO_ACCOUNT = "no account"
    FILTER = "filter"
    NO_WAY = "no way there"
    SHUT = "the account may not log in"
    TURNED_DOWN = "the key is not accepted"
    NO_PASSWORD = "no password"
    PASSWORDS_OFF = "passwords off"
    KEYS_OFF = "keys off"
    UNLISTED = "key not listed"
    NO_AUTHORITY = "authority not trusted"
    LESS = "gives less"
    MORE = "asks for more"
    NO_SUDO = "no sudo rule"
    LINE = "a line for some addresses"
    NARROW = "narrower than the grant"
    UNEXPLAINED = "unexplained"


@dataclass(frozen=True, slots=True)
class Obstacle:
    """Why a grant is not served: by what, the words, the evidence, and what a person can do about it. Differences with the same
    `key`, by what and where, are one."""

    by: Blocked
    text: str
    proofs: tuple[Proof, ...]
    hand: str = "change it on the guest"
    at: Origin | str = ""

    @property
    def key(self) -> tuple[Blocked, Origin | str]:
        """By what, and where: the place of a line, or a name."""
        return self.by, self.at


@dataclass(frozen=True, slots=True)
class ShutOut:
    """One finding with its obstacle and the differences behind it; `promise` is what holds once it is put right."""

    finding: Finding
    obstacle: Obstacle
    items: tuple[Missing, ...]
    promise: str


FILTER = "let them in there on the guest; rules are drafted where nftables, iptables, ufw or firewalld alone loads them at boot"
ANSWERS = (
    "let out on the guest what it answers them, as by a line for established connections; no rules are drafted for that"
)
PERIMETER = "nightlatch perimeter tells the row that its table lacks; of one that is claimed, say what it lets in today"
BEHIND = "let them in there on the guest; these files are not drafted"
ACCOUNT = "change the account on the guest; drafting accounts comes later"


def obstacle_of(missing: Missing, access: GuestAccess) -> Obstacle:
    """The first thing that stands in the way of a grant."""
    grant = missing.grant
    for find in (_service, _account, _filtered, _shut, _turned, _password, _elsewhere, _unlisted):
        found = find(missing, access)
        if found is not None:
            return found
    if missing.served:
        text = f"only {missing.power} is open to some of these addresses"
        return Obstacle(Blocked.NARROW, text, wording.proofs(missing.served[0].causes))
    granted = (Proof("granted here", grant.origin),)
    return Obstacle(Blocked.UNEXPLAINED, "no way in gives what is granted", granted)


def obstacles_of(missing: Missing, access: GuestAccess) -> list[tuple[Missing, Obstacle]]:
    """What stands in the way, part by part: where others of the same place are let in, each part has a line of its own."""
    first = obstacle_of(missing, access)
    if (
        first.by is not Blocked.NARROW
    ):  # else some are let in and others are not: what decides is looked for part by part
        return [(missing, first)]
    parts: dict[tuple[Blocked, Origin | str], tuple[Obstacle, list[Sources]]] = {}
    left = joined([missing.certain, missing.possible])
    for obstacle, sources in _hindered(missing, access):
        inside = common_to(left, sources)
        if inside:
            parts.setdefault(obstacle.key, (obstacle, []))[1].append(inside)
            left = without(left, inside)
    out = [(_within(missing, joined(found)), obstacle) for obstacle, found in parts.values()]
    rest = _within(missing, left)
    return [*out, (rest, _beside(rest, first, access))] if any(left.values()) else out


def _within(missing: Missing, sources: Sources) -> Missing:
    return replace(missing, certain=common_to(missing.certain, sources), possible=common_to(missing.possible, sources))


def _hindered(missing: Missing, access: GuestAccess) -> Iterator[tuple[Obstacle, Sources]]:
    """Lines that keep the account out from parts of where it is missing, with the callers that each is about."""
    grant = missing.grant
    account = access.reading.accounts.by_name[grant.account]
    needs = tuple(sorted(grant.asked(missing.power), key=repr))
    for way, wanted in _wanted_by_way(missing, access):
        seen = wanted if way.sees is None else way.sees
        for socket in access.ssh.listeners:
            for each in hindrances(access.ssh, account, needs, socket, seen):
                evidence = wording.proofs((each.cause, *way.causes))
                obstacle = Obstacle(Blocked.LINE, _hindrance(each, grant.account), evidence, at=each.cause.origin)
                yield obstacle, _callers(access, way, wanted if way.sees is not None else each.sources)


def _hindrance(found: Hindrance, account: str) -> str:
    """What a line does to those it keeps out, in words."""
    return {
        Why.ENDED: "sshd ends the connection there",
        Why.MAY_NOT: f"{account} may not log in there: {wording.words(found.cause)}",
        Why.KEYS_OFF: "keys are switched off there",
        Why.FROM_ELSEWHERE: "the key line lets it in from elsewhere only",
        Why.TURNED_DOWN: f"the key is there, but {wording.words(found.cause)}",
        Why.OTHER_KEYS: "other keys count there",
        Why.PASSWORDS_OFF: "passwords are switched off there",
        Why.MORE_ASKED: "more is asked there than the grant says",
    }[found.why]


def _wanted_by_way(missing: Missing, access: GuestAccess) -> Iterator[tuple[Arrival, AddressSet]]:
    """The ways to the guest with the addresses by which those who are missing come: behind a translation, as they are seen."""
    sources = joined([missing.certain, missing.possible])
    for way in access.arrivals:
        wanted = sources.get(way.realm, NO_ADDRESS)
        if way.realm == COMMON:
            wanted |= union(seen_as for realm, _, seen_as in access.realms.inside if sources.get(realm))
        if wanted:
            yield way, wanted


def _callers(access: GuestAccess, way: Arrival, seen: AddressSet) -> Sources:
    """Callers of addresses: also those behind a translation who are seen as some of them."""
    behind = (
        {realm: own for realm, own, seen_as in access.realms.inside if seen_as & seen} if way.realm == COMMON else {}
    )
    return {way.realm: seen, **behind}


def _beside(missing: Missing, first: Obstacle, access: GuestAccess) -> Obstacle:
    """What is left once sshd's own lines have answered: the sockets, or a filter for a part of these callers."""
    for way, wanted in _wanted_by_way(missing, access):
        seen = wanted if way.sees is None else way.sees
        if access.ssh.listeners and not any(seen & socket.admits() for socket in access.ssh.listeners):
            socket = access.ssh.listeners[0]
            origin = socket.origin or Origin("ListenAddress", kind=Kind.DEFAULT)
            proof = Proof(f"listens on {socket.address or socket.family}", origin)
            text = "no socket of sshd takes callers of their family of addresses"
            return Obstacle(Blocked.LINE, text, (proof,), at=origin)
        for socket in access.ssh.listeners:
            flow = flow_to(access.reading, socket.address, socket.port)
            part = wanted - admitted(access.reading, flow, way, behind=access.ssh.behind).surely
            found = _filter_obstacle(access, socket, way, part) if part else None
            if found is not None:
                return found
    return first


def _service(missing: Missing, access: GuestAccess) -> Obstacle | None:
    refusal = access.ssh.effective.refusal
    if not access.reading.installed:
        return Obstacle(
            Blocked.NO_SERVICE,
            "there is no SSH server",
            (Proof("not installed", Origin(posix.SSHD, kind=Kind.ABSENT)),),
            f"run there what nightlatch draft --script --on {missing.grant.guest} prints",
        )
    if refusal is not None:
        hand = "put the line right; nothing is drafted for a tree that sshd refuses"
        text = f"sshd does not start: {refusal.because}"
        return Obstacle(Blocked.REFUSED, text, (Proof(refusal.because, refusal.origin),), hand)
    return None


def _account(missing: Missing, access: GuestAccess) -> Obstacle | None:
    name = missing.grant.account
    if name in access.reading.accounts.by_name:
        return None
    proof = Proof(f"no line for {name}", Origin("/etc/passwd"))
    hand = "make the account on the guest; drafting accounts comes later"
    return Obstacle(Blocked.NO_ACCOUNT, f"there is no account {name}", (proof,), hand)


def _filtered(missing: Missing, access: GuestAccess) -> Obstacle | None:
    """The packet filter, or libwrap behind it, keeps the whole of where they are shut out from every port of SSH."""
    sources = missing.certain or missing.possible
    those = [(way, sources[way.realm]) for way in access.arrivals if sources.get(way.realm)]
    flows = [(socket, flow_to(access.reading, socket.address, socket.port)) for socket in access.ssh.listeners]
    if any(
        wanted & admitted(access.reading, flow, way, behind=access.ssh.behind).perhaps
        for _, flow in flows
        for way, wanted in those
    ):
        return None
    for socket, _ in flows:
        for way, wanted in those:
            found = _filter_obstacle(access, socket, way, wanted)
            if found is not None:
                return found
    return None if those else _no_way(access)


def _filter_obstacle(access: GuestAccess, socket: Listener, way: Arrival, wanted: AddressSet) -> Obstacle | None:
    """The rule that keeps these callers from a socket, on one way to it."""
    own_rules = access.reading.filter.rules
    flow = flow_to(access.reading, socket.address, socket.port)
    for rules, each, alike in met(access.reading, flow, way, behind=access.ssh.behind):
        found = deciding(rules, each, alike or wanted, (Does.DROP, Does.REJECT, Does.REWRITE))
        if found is not None:
            text = _kept_out(found, socket.port) if rules is own_rules else _behind(rules)
            own = ANSWERS if found.packet is Packet.ANSWER else FILTER
            hand = own if rules is own_rules else PERIMETER if rules in way.around else BEHIND
            evidence = (Proof(found.text, found.origin), *wording.proofs(way.causes))
            return Obstacle(Blocked.FILTER, text, evidence, hand, found.origin)
    return None


def _no_way(access: GuestAccess) -> Obstacle | None:
    """A guest on a network of its own that nothing leads to from where they are."""
    own = next((way.realm for way in access.arrivals if way.realm != COMMON), "")
    if not own:
        return None
    text = f"it sits on {own}, whose addresses mean nothing outside, and no forward leads to it"
    proof = Proof(f"{own} is private", Origin("the estate file", kind=Kind.ESTATE))
    hand = f"add a forward under {own} in the estate file, once there is one"
    return Obstacle(Blocked.NO_WAY, text, (proof,), hand, own)


def _behind(rules: Rules) -> str:
    name = next(iter(rules.chains))
    if rules.layer is Layer.PERIMETER:
        return f"{name} keeps it out"
    if rules.layer is Layer.WRAPPER:
        return "libwrap turns its callers away"
    return f"the service manager drops what comes for {name}"


def _kept_out(found: Verdict, port: int) -> str:
    if not found.sure:
        return f"the packet filter keeps it from port {port}, by this rule or by one behind it"
    if found.packet is Packet.ANSWER:
        return f"the packet filter drops what the guest answers from port {port}"
    verb = {Does.DROP: "drops it", Does.REJECT: "refuses it", Does.REWRITE: "sends it elsewhere"}[found.does]
    return f"the packet filter {verb} on its way to port {port}"


def _shut(missing: Missing, access: GuestAccess) -> Obstacle | None:
    if missing.served:
        return None
    for account, cause in access.ssh.shut:
        if account == missing.grant.account:
            text = f"{account} may not log in: {wording.words(cause)}"
            return Obstacle(Blocked.SHUT, text, (wording.proof(cause),), ACCOUNT, cause.origin)
    return None


def _held_keys(grant: Grant) -> set[str]:
    return {s.fingerprint for need in grant.proofs for s in need if isinstance(s, Key)}


def _turned(missing: Missing, access: GuestAccess) -> Obstacle | None:
    grant = missing.grant
    keys = _held_keys(grant)
    for turned in access.ssh.turned:
        if turned.account == grant.account and (turned.fingerprint in keys or (keys and not turned.fingerprint)):
            text = f"the key is there, but {turned.because}"
            return Obstacle(Blocked.TURNED_DOWN, text, (wording.proof(turned.cause),), at=turned.origin)
    return None


def _settings(missing: Missing, access: GuestAccess) -> Settings:
    """The settings for the account where it is shut out."""
    sources = (missing.certain or missing.possible).get(COMMON, EVERY_ADDRESS)
    return access.ssh.settings(missing.grant.account, sources)[0]


def _password(missing: Missing, access: GuestAccess) -> Obstacle | None:
    grant = missing.grant
    if not all(any(isinstance(s, Password) for s in need) for need in grant.proofs):
        return None
    account = access.reading.accounts.by_name[grant.account]
    if not account.hash_method and not account.has_empty_password:
        proof = Proof(f"password field {account.password or 'empty'}", account.password_origin)
        hand = "set a password on the guest with passwd"
        text = f"{grant.account} has no password that opens"
        return Obstacle(Blocked.NO_PASSWORD, text, (proof,), hand, grant.account)
    settings = _settings(missing, access)
    switch = settings["passwordauthentication"]
    challenge = settings["kbdinteractiveauthentication"]
    if switch.word == "no" and (challenge.word == "no" or settings["usepam"].word == "no"):
        proof = Proof("PasswordAuthentication no", switch.origin)
        return Obstacle(Blocked.PASSWORDS_OFF, "passwords are switched off", (proof,))
    return None


def _elsewhere(missing: Missing, access: GuestAccess) -> Obstacle | None:
    """The proof opens the account, but from other places, or for less than is granted, or together with something else."""
    grant = missing.grant
    same = [
        p for p in access.paths if p.account == grant.account and any(n <= p.need for n in grant.asked(missing.power))
    ]
    more = [p for p in same if not any(p.need <= n for n in grant.asked(missing.power))]
    exact = [p for p in same if any(p.need <= n for n in grant.asked(missing.power))]
    wanted = [p for p in exact if missing.power.within(p.power)]
    if wanted:
        return Obstacle(Blocked.NARROW, "the way in is narrower than the grant", wording.proofs(wanted[0].causes))
    if exact:
        given = listed(str(p.power) for p in exact)
        causes = exact[0].causes
        return Obstacle(Blocked.LESS, f"the login gives only {given}", wording.proofs(causes), at=causes[0].origin)
    if more:
        last = more[0].causes[-1]
        evidence = wording.proofs((last, *more[0].causes[:-1]))
        return Obstacle(Blocked.MORE, "more is asked than the grant says", evidence, at=last.origin)
    if missing.power.gives is Gives.ADMINISTER:
        return _no_sudo(missing, access)
    return None


def _no_sudo(missing: Missing, access: GuestAccess) -> Obstacle | None:
    paths = [p for p in access.paths if p.account == missing.grant.account and p.power.gives is Gives.SHELL]
    if not paths:
        return None
    text = f"no rule lets {missing.grant.account} run everything as root with what the grant asks"
    hand = "edit the sudo rules on the guest with visudo; drafting them comes later"
    evidence = (Proof(text, Origin("/etc/sudoers")),)
    return Obstacle(Blocked.NO_SUDO, text, evidence, hand, missing.grant.account)


def _unlisted(missing: Missing, access: GuestAccess) -> Obstacle | None:
    grant = missing.grant
    top = _settings(missing, access)
    keys, certificates = _held_keys(grant), any(isinstance(s, Certificate) for need in grant.proofs for s in need)
    switch = top["pubkeyauthentication"]
    if (keys or certificates) and switch.word == "no":
        proof = Proof("PubkeyAuthentication no", switch.origin)
        return Obstacle(Blocked.KEYS_OFF, "keys are switched off", (proof,))
    account = access.reading.accounts.by_name[grant.account]
    listed_in = top["authorizedkeysfile"]
    if keys:
        path = f"{account.home}/{listed_in.word}" if not listed_in.word.startswith(("/", "%")) else listed_in.word
        entry = access.reading.snapshot.resolve(path).entry
        absent = entry is None or entry.kind.value == "absent"
        origin = Origin(path, kind=Kind.ABSENT if absent else Kind.FILE)
        proof = Proof("keys are looked for here", origin)
        return Obstacle(Blocked.UNLISTED, "no key of theirs is authorised there", (proof,), at=path)
    if certificates:
        trusted = top["trustedusercakeys"]
        proof = Proof(f"TrustedUserCAKeys {trusted.word}", trusted.origin)
        return Obstacle(Blocked.NO_AUTHORITY, "no authority of theirs is trusted there", (proof,))
    return None


def findings(items: Iterable[Missing], access: GuestAccess, names: Names) -> Iterator[Finding]:
    """One finding for each cause and what is missing because of it."""
    return (each.finding for each in grouped(items, access, names))


def grouped(items: Iterable[Missing], access: GuestAccess, names: Names) -> Iterator[ShutOut]:
    """Findings with their obstacles and the differences behind each."""
    together: dict[tuple[object, bool, bool], list[tuple[Missing, Obstacle]]] = {}
    for item, obstacle in (pair for each in items for pair in obstacles_of(each, access)):
        certain = any(item.certain.values())
        door = item.grant.kind is not GrantKind.GRANT
        together.setdefault((obstacle.key, certain, door), []).append((item, obstacle))
    for (_, certain, door), pairs in together.items():
        group = [item for item, _ in pairs]
        finding = _finding(group, pairs[0][1], access, names, certain=certain, door=door)
        whom, wanted, where = _who_what_where(group, names, certain=certain)
        yield ShutOut(finding, pairs[0][1], tuple(group), f"{whom} can still get {wanted} from {where}.")


def _who_what_where(items: list[Missing], names: Names, *, certain: bool) -> tuple[str, str, str]:
    sources = joined((item.certain if certain else item.possible) for item in items)
    wanted = listed(dict.fromkeys(_wanted(item.power, item.grant) for item in items), 3)
    return listed(item.grant.who for item in items), wanted, names.where(sources)


def _finding(
    items: list[Missing], obstacle: Obstacle, access: GuestAccess, names: Names, *, certain: bool, door: bool
) -> Finding:  # fmt: skip
    people = tuple(dict.fromkeys(item.grant.who for item in items))
    about = tuple(dict.fromkeys(
        Subject(item.grant.account, names.where(joined([item.certain, item.possible])), person=item.grant.who) for item in items
    ))  # fmt: skip
    whom, wanted, where = _who_what_where(items, names, certain=certain)
    text = f"{whom} can't get {wanted} from {where}: {obstacle.text}."
    if not certain:
        gaps = dict.fromkeys(wording.proof(g) for i in items for p in i.served for g in p.callers.because)
        text = (
            f"Possibly, {text[0].lower() + text[1:]}"
            if not gaps
            else f"Whether {whom} gets {wanted} from {where} can't be decided."
        )
        return Finding(
            "missing.possible", Severity.LOW, access.guest, Group.UNDECIDED, text, (*gaps, *obstacle.proofs)[:6],
            people, REFERENCE, about=about,
        )  # fmt: skip
    group = Group.DOOR if door else Group.SHUT_OUT
    granted = tuple(Proof(item.grant.text, item.grant.origin) for item in items[:2])
    return Finding(
        "missing", Severity.HIGH, access.guest, group, text, (*obstacle.proofs[:4], *dict.fromkeys(granted)), people, REFERENCE,
        about=about,
    )  # fmt: skip


def _wanted(power: Power, grant: Grant) -> str:
    account = f" as {grant.account}" if grant.account != grant.who else ""
    return {
        Gives.SHELL: f"a shell{account}",
        Gives.COMMAND: f"the command {power.what}{account}",
        Gives.FILES: f"the files under {power.what}{account}",
        Gives.ADMINISTER: f"root's rights{account}",
    }.get(power.gives, f"{power}{account}")
