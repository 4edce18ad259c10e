"""Access paths of one guest over SSH: every account, every proof, every power, with exact source sets.

For each account and listening socket the sources are split into classes (`settings.py`); within a class everything is
decided concretely. What can't be decided makes several worlds, and the bounds are what holds in all and in some.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from itertools import product

from nightlatch.formats.authorized_keys import Options
from nightlatch.formats.sshd_keywords import spelled
from nightlatch.model.causes import AccountState, Cause, Chroot, PamLine, PamSays, Setting, State, SudoRule
from nightlatch.model.gaps import Gap
from nightlatch.net.addresses import EVERY_ADDRESS, NO_ADDRESS, AddressSet, union
from nightlatch.origin import Origin
from nightlatch.readings.accounts import Account
from nightlatch.readings.guest import GuestReading
from nightlatch.reason.access import (
    ADMINISTER,
    SHELL,
    AccessPath,
    Bounds,
    Gives,
    Need,
    Password,
    Power,
    Sources,
    Unknown,
)
from nightlatch.reason.arriving import Arrival, outside, seen
from nightlatch.reason.files import ChrootProblem, Judge, chroot_problem
from nightlatch.reason.filtering import Passed
from nightlatch.reason.layers import flow_to
from nightlatch.reason.listening import sockets_of
from nightlatch.reason.logins import AddressPair, Logins, Turned
from nightlatch.reason.permitted import permitted
from nightlatch.reason.powers import powers, root_folder
from nightlatch.reason.privilege import Sudo
from nightlatch.reason.realms import DIRECT, Realms
from nightlatch.reason.settings import MOST_UNSURE, Caller, Effective, Listener, Settings, World, usable


@dataclass(frozen=True)
class GuestAccess:
    """What one guest lets in, with all that was undecided and every key that was turned down."""

    guest: str
    reading: GuestReading
    effective: Effective
    listeners: tuple[Listener, ...]
    paths: tuple[AccessPath, ...]
    turned: tuple[Turned, ...]
    gaps: tuple[Gap, ...]
    shut: tuple[tuple[str, Cause], ...]
    arrivals: tuple[Arrival, ...] = DIRECT
    logins: Logins | None = field(default=None, compare=False, repr=False)
    realms: Realms = field(default_factory=Realms, compare=False, repr=False)

    def settings(self, account: str, sources: AddressSet) -> list[Settings]:
        """The settings that hold for an account somewhere in `sources`, each once; the general ones for no such account."""
        found = self.reading.accounts.by_name.get(account)
        if found is None or not self.listeners:
            return [self.effective.top]
        worlds, _ = self.effective.worlds(Caller(account, found.groups, self.listeners[0]))
        truths = dict.fromkeys(part.truth for part in worlds[0] if part.sources & sources)
        return [self.effective.settings(truth) for truth in truths] or [self.effective.top]


@dataclass(frozen=True, slots=True)
class _Way:
    """One way in within a class of sources: what is shown, from where, and what limits the session."""

    need: Need
    seen: AddressPair
    options: Options
    causes: tuple[Cause, ...]
    gaps: tuple[Gap, ...] = ()


@dataclass(frozen=True, slots=True)
class _Door:
    """A socket by one of the ways to it, with those who come as far as the forward on that way."""

    socket: Listener
    arrival: Arrival
    outer: Passed

    @property
    def name(self) -> str:
        forward = self.arrival.forward
        return f"port {self.socket.port}" + (f", by the forward from {forward}" if forward is not None else "")

    @property
    def alike(self) -> str:
        """The address as which all callers are seen by this way; empty where each is by their own."""
        hidden = self.arrival.sees
        return str(hidden) if hidden is not None else ""


_Merged = dict[tuple[str, Need, Power], "_Sum"]


@dataclass
class _Sum:
    surely: list[AddressSet]
    perhaps: list[AddressSet]
    causes: dict[Cause, None]
    gaps: dict[Gap, None]


def guest_access(reading: GuestReading, at: datetime, realms: Realms | None = None) -> GuestAccess:
    """All access paths of a guest at a moment (aware)."""
    effective = Effective(reading.sshd)
    if not reading.installed or effective.refusal is not None:
        return GuestAccess(reading.guest, reading, effective, (), (), (), reading.accounts.gaps, ())
    return _Work(reading, effective, at, realms or Realms()).done()


class _Work:
    def __init__(self, reading: GuestReading, effective: Effective, at: datetime, realms: Realms) -> None:
        self.reading, self.effective, self.realms = reading, effective, realms
        top = effective.top
        judge = Judge(reading.snapshot, reading.accounts, top["strictmodes"].word == "yes", reading.debian_like)
        by_name = top["usedns"].word == "yes"
        self.logins = Logins(reading, at, by_name, top["usepam"].word == "yes", judge)
        self.sudo = Sudo(reading.sudo)
        self.known: dict[tuple[Listener, Arrival, AddressPair, tuple[Gap, ...]], Bounds] = {}
        self.passed: dict[tuple[Listener, Arrival], tuple[Passed, Passed]] = {}
        self.arrivals = realms.ways(reading.guest)
        self.turned: dict[Turned, None] = {}
        self.gaps: dict[Gap, None] = dict.fromkeys([*reading.accounts.gaps, *reading.sshd.gaps, *self.sudo.gaps])
        self.shut: dict[tuple[str, Cause], None] = {}

    def done(self) -> GuestAccess:
        sockets = sockets_of(self.reading, self.effective)
        paths: list[AccessPath] = []
        for account in self.reading.accounts.by_name.values():
            for socket in sockets:
                paths.extend(self._paths(account, socket))
        self.gaps.update(dict.fromkeys(self.reading.filter.gaps))
        return GuestAccess(
            self.reading.guest, self.reading, self.effective, sockets, tuple(paths), tuple(self.turned),
            tuple(self.gaps), tuple(self.shut), self.arrivals, self.logins, self.realms,
        )  # fmt: skip

    def _paths(self, account: Account, socket: Listener) -> Iterator[AccessPath]:
        worlds, gaps = self.effective.worlds(Caller(account.name, account.groups, socket))
        self.gaps.update(dict.fromkeys(gaps))
        for arrival in self.arrivals:
            through, outer = self._through(socket, arrival)
            self.gaps.update(dict.fromkeys([*through.gaps, *outer.gaps]))
            if through.perhaps:
                whole = self._merged(account, socket, worlds, through)
                yield from self._bounded(account, _Door(socket, arrival, outer), whole, (*gaps, *through.gaps))

    def _merged(
        self, account: Account, socket: Listener, worlds: Sequence[World], through: Passed
    ) -> list[_Merged]:  # fmt: skip
        """What an account gets, from where in the guest's eyes, in each world."""
        whole: list[_Merged] = []
        for world in worlds:
            merged: _Merged = {}
            for part in world:
                if self.effective.ends(part.truth):
                    continue
                settings = self.effective.settings(part.truth)
                open_to = AddressPair(socket.admits() & through.surely, socket.admits() & through.perhaps)
                seen = AddressPair(part.sources, part.sources).both(open_to)
                for way in self._ways(account, settings, seen):
                    self._add(merged, account, settings, way)
            whole.append(merged)
        return whole

    def _through(self, socket: Listener, arrival: Arrival) -> tuple[Passed, Passed]:
        """Who comes through the guest's filters to a socket, as it sees them, and who comes as far as the forward on the way;
        worked out once for all accounts."""
        key = (socket, arrival)
        if key not in self.passed:
            flow = flow_to(self.reading, socket.address, socket.port)
            self.passed[key] = (seen(self.reading, flow, arrival), outside(arrival, flow))
        return self.passed[key]

    def _unread(self, undecided: tuple[Gap, ...]) -> tuple[Gap, ...]:
        """What was not read at all, so that nothing is sure."""
        unread = tuple(self.reading.sshd.gaps) + self.reading.filter.gaps
        if len(undecided) > MOST_UNSURE:
            unread += (Gap("SSH server", f"more than {MOST_UNSURE} Match lines can't be decided", undecided[0].origin),)
        return unread

    def _bounded(
        self, account: Account, door: _Door, whole: list[_Merged], undecided: tuple[Gap, ...]
    ) -> Iterator[AccessPath]:  # fmt: skip
        unread = self._unread(undecided)
        keys = dict.fromkeys(key for merged in whole for key in merged)
        for key in keys:
            sums = [merged.get(key) for merged in whole]
            perhaps = union(a for s in sums if s for a in s.perhaps)
            surely = NO_ADDRESS if unread else EVERY_ADDRESS
            for each in sums if surely else ():
                surely &= union(each.surely) if each else NO_ADDRESS
            causes = dict.fromkeys(c for s in sums if s for c in s.causes)
            gaps = dict.fromkeys([*unread, *(g for s in sums if s for g in s.gaps)])
            if surely != perhaps:
                gaps.update(dict.fromkeys(undecided))
            if perhaps:
                bounds = self._lifted(door, AddressPair(surely, perhaps), tuple(gaps) if surely != perhaps else ())
                _, need, power = key
                cause = (*causes, *door.arrival.causes)
                if any(bounds.perhaps.values()):
                    yield AccessPath(
                        self.reading.guest, account.name, need, power, bounds, cause, door.name, alike=door.alike
                    )  # fmt: skip
        if self.reading.sshd.gaps:
            first = self.reading.sshd.gaps[0]
            need = frozenset([Unknown(first.because, first.origin)])
            bounds = self._lifted(door, AddressPair(NO_ADDRESS, door.socket.admits()), unread)
            yield AccessPath(
                self.reading.guest, account.name, need, SHELL, bounds, (first,),
                door.name, alike=door.alike,
            )  # fmt: skip

    def _lifted(self, door: _Door, seen: AddressPair, gaps: tuple[Gap, ...]) -> Bounds:
        """Callers of what the guest sees; many paths share one set, so each is worked out once."""
        key = (door.socket, door.arrival, seen, gaps)
        if key not in self.known:
            self.known[key] = self.realms.callers(door.arrival, door.outer, seen, gaps)
        return self.known[key]

    def _add(self, merged: _Merged, account: Account, settings: Settings, way: _Way) -> None:
        door = self.logins.door(account, settings)
        granted = powers(settings, way.options, account, must_change=door.must_change)
        problem = self._chroot(account, settings)
        unsure = (*door.gaps, *([Gap("SSH server", problem.because, problem.origin)] if problem else []))
        seen, gaps = way.seen, way.gaps + unsure
        if unsure:
            seen = AddressPair(NO_ADDRESS, seen.perhaps)
            self.gaps.update(dict.fromkeys(unsure))
        for power in granted:
            self._sum(merged, (account.name, way.need, power), seen, way.causes, gaps)
        if account.uid != 0 and SHELL in granted:
            ups = self.sudo.ways(account)
            if ups == (None, None):
                self._single(merged, account, way, gaps)
            for up in [each for each in dict.fromkeys(ups) if each is not None]:
                if ups[0] != ups[1]:
                    gap = Gap("privilege", "a sudo rule for a named host may or may not be for this guest", up.origin)
                    self.gaps[gap] = None
                    seen, gaps = AddressPair(NO_ADDRESS, seen.perhaps), (*gaps, gap)
                asked = frozenset([Password(self.reading.guest, up.password)]) if up.password else frozenset()
                causes = (*way.causes, SudoRule(account.name, "", up.origin))
                if not up.password or self._password_known(up.password):
                    self._sum(merged, (account.name, way.need | asked, ADMINISTER), seen, causes, gaps)

    def _single(self, merged: _Merged, account: Account, way: _Way, gaps: tuple[Gap, ...]) -> None:
        """Commands as root that may be led to more: whether they amount to root's rights is not worked out."""
        for up in self.sudo.single(account):
            because = f"sudo lets {account.name} run {up.command[:80]} as root, which can be led to run any command"
            gap = Gap("privilege", because, up.origin)
            self.gaps[gap] = None
            asked = frozenset([Password(self.reading.guest, up.password)]) if up.password else frozenset()
            if not up.password or self._password_known(up.password):
                seen = AddressPair(NO_ADDRESS, way.seen.perhaps)
                causes = (*way.causes, SudoRule(account.name, up.command, up.origin))
                self._sum(merged, (account.name, way.need | asked, ADMINISTER), seen, causes, (*gaps, gap))

    def _chroot(self, account: Account, settings: Settings) -> ChrootProblem | None:
        root = root_folder(settings, account)
        return chroot_problem(self.reading.snapshot, root) if root != "/" else None

    def _password_known(self, name: str) -> bool:
        account = self.reading.accounts.by_name.get(name)
        return account is not None and self.logins.password_opens(account)

    @staticmethod
    def _sum(
        merged: _Merged, key: tuple[str, Need, Power], seen: AddressPair, causes: Sequence[Cause], gaps: Sequence[Gap]
    ) -> None:  # fmt: skip
        each = merged.setdefault(key, _Sum([], [], {}, {}))
        each.surely.append(seen.surely)
        each.perhaps.append(seen.perhaps)
        each.causes.update(dict.fromkeys(causes))
        each.gaps.update(dict.fromkeys(gaps))

    def _ways(self, account: Account, settings: Settings, seen: AddressPair) -> Iterator[_Way]:
        """Every combination of proofs that AuthenticationMethods accepts in this class of sources."""
        allowed, because = permitted(account, settings, names_looked_up=self.logins.names_looked_up)
        seen = seen.both(allowed)
        if because:
            self.shut[(account.name, because)] = None
        if not seen.perhaps:
            return
        door = self.logins.door(account, settings)
        if door.shut is not None:
            self.shut[(account.name, door.shut)] = None
            return
        problem = self._chroot(account, settings)
        if problem is not None and not problem.unknown:
            folder, origin = root_folder(settings, account), settings["chrootdirectory"].origin
            self.shut[(account.name, Chroot(folder, problem.because, origin))] = None
            return
        yield from self._others(settings, seen)
        single = {"publickey": list(self._keys(account, settings, seen))}
        single["password"] = list(self._passwords(account, settings, seen, "passwordauthentication"))
        single["keyboard-interactive"] = list(
            self._passwords(account, settings, seen, "kbdinteractiveauthentication")
        )  # fmt: skip
        lists = settings["authenticationmethods"]
        if lists.value == ("any",):
            for ways in single.values():
                yield from ways
            return
        cause = Setting("authenticationmethods", " ".join(lists.value), lists.origin)
        for each in lists.value:
            if usable(each, settings):
                yield from self._combined(each, single, settings, seen, cause)

    def _others(self, settings: Settings, seen: AddressPair) -> Iterator[_Way]:
        """Methods whose answer lies outside the guest's own files: they may let somebody in."""
        for keyword in ("hostbasedauthentication", "gssapiauthentication", "kerberosauthentication"):
            if settings[keyword].word == "yes":
                because = f"{spelled(keyword)} trusts other machines, which no file here lists"
                gap = Gap("SSH server", because, settings[keyword].origin)
                self.gaps[gap] = None
                need: Need = frozenset([Unknown(because, gap.origin)])
                cause = Setting(keyword, "yes", gap.origin)
                yield _Way(need, AddressPair(NO_ADDRESS, seen.perhaps), Options(), (cause,), (gap,))

    def _combined(
        self, methods: str, single: dict[str, list[_Way]], settings: Settings, seen: AddressPair, cause: Cause
    ) -> Iterator[_Way]:  # fmt: skip
        names = [name.partition(":")[0] for name in methods.split(",")]
        if names == ["none"]:
            # The method "none" tries an empty password (auth2-none.c).
            if settings["passwordauthentication"].word == "yes":
                yield from (way for way in single["password"] if not way.need)
            return
        seen_needs: set[tuple[Need, Options]] = set()
        for ways in product(*(single.get(name, []) for name in names)):
            keys = [way.need for way, name in zip(ways, names, strict=True) if name == "publickey"]
            if len(keys) != len(set(keys)):
                continue  # the same key does not count twice (auth2.c, auth2_key_already_used)
            need: Need = frozenset().union(*(way.need for way in ways))
            options = next((w.options for w, n in zip(ways, names, strict=True) if n == "publickey"), Options())
            if (need, options) in seen_needs:
                continue
            seen_needs.add((need, options))
            pair = seen
            for way in ways:
                pair = pair.both(way.seen)
            if pair.perhaps:
                causes = dict.fromkeys([c for way in ways for c in way.causes] + [cause])
                yield _Way(need, pair, options, tuple(causes), tuple(g for way in ways for g in way.gaps))

    def _keys(self, account: Account, settings: Settings, seen: AddressPair) -> Iterator[_Way]:
        if settings["pubkeyauthentication"].word != "yes":
            return
        found = self.logins.offers(account, settings)
        self.turned.update(dict.fromkeys(found.turned))
        self.gaps.update(dict.fromkeys(found.gaps))
        forced_only = account.uid == 0 and settings["permitrootlogin"].word == "forced-commands-only"
        taken: dict[object, AddressPair] = {}
        for offer in found.offers:
            if forced_only and not offer.options.command:
                continue
            pair = seen.both(AddressPair(offer.surely, offer.perhaps))
            # The first line of a key that lets a source in is the one that counts for it.
            before = taken.get(offer.secret)
            if before is not None:
                pair = AddressPair(pair.surely - before.perhaps, pair.perhaps - before.surely)
            taken[offer.secret] = _either(before, AddressPair(offer.surely, offer.perhaps))
            if pair.perhaps:
                yield _Way(frozenset([offer.secret]), pair, offer.options, offer.causes, offer.gaps)

    def _passwords(self, account: Account, settings: Settings, seen: AddressPair, keyword: str) -> Iterator[_Way]:
        """Password and keyboard-interactive, which ask for the same secret (RFC 4252, 8; RFC 4256)."""
        setting = settings[keyword]
        if setting.word != "yes" or (account.uid == 0 and settings["permitrootlogin"].word != "yes"):
            return
        if keyword == "kbdinteractiveauthentication" and not self.logins.uses_pam:
            return  # without PAM there is nothing that could ask (measured: the method always fails)
        cause = Setting(keyword, "yes", setting.origin)
        empty = settings["permitemptypasswords"]
        need: Need = frozenset([Password(self.reading.guest, account.name)])
        origin: Origin | None = None
        if self.logins.uses_pam:
            asked, gap, origin = self.logins.pam_password(account, empty_allowed=empty.word == "yes")
            if gap is not None:
                self.gaps[gap] = None
                unknown: Need = frozenset([Unknown(gap.because, gap.origin)])
                yield _Way(unknown, AddressPair(NO_ADDRESS, seen.perhaps), Options(), (cause,), (gap,))
                return
        else:
            asked = "shut"
            if account.has_empty_password:
                asked = "nothing" if empty.word == "yes" else "shut"
            elif account.hash_method:
                asked = "password"
        if asked == "password":
            yield _Way(need, seen, Options(), (cause,))
        elif asked == "anything":
            line = PamLine(PamSays.ANY_PASSWORD, origin or setting.origin)
            yield _Way(frozenset(), seen, Options(), (line, cause))
        elif asked == "nothing":
            causes = (
                cause,
                Setting("permitemptypasswords", "yes", empty.origin),
                AccountState(State.NO_PASSWORD, account.password_origin),
            )
            yield _Way(frozenset(), seen, Options(), causes)


def _either(a: AddressPair | None, b: AddressPair) -> AddressPair:
    return b if a is None else AddressPair(a.surely | b.surely, a.perhaps | b.perhaps)


def strongest(paths: Sequence[AccessPath]) -> AccessPath:
    """The path that gives most, for telling one story of several powers."""
    order = list(Gives)
    ranks = {
        gives: rank for rank, gives in enumerate([Gives.ADMINISTER, *[g for g in order if g is not Gives.ADMINISTER]])
    }
    return min(paths, key=lambda path: ranks[path.power.gives])


def reaches(sources: Sources) -> bool:
    """Whether the set holds any address."""
    return any(sources.values())
