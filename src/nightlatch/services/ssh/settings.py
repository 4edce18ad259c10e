"""Effective sshd settings for every source at once (sshd_config(5), Match; servconf.c).

sshd reads its tree twice. First without a connection: every line outside Match blocks, the first value of a keyword
wins. Then for one connection: only lines in Match blocks that hold, again the first value wins, and what was set there
overrides the first pass. `partition` splits all addresses into classes within which every Match line is either true or
false, so that one answer holds for each class exactly.

What can't be decided (a host name that would have to be looked up, the address that was dialled) makes several
`worlds`; an answer is certain where it is the same in all of them.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import lru_cache
from itertools import product

from nightlatch.formats.patterns import in_list
from nightlatch.formats.sshd_keywords import KEYWORDS, Keyword, Precedence, spelled
from nightlatch.model.bounds import EVERYBODY, NOBODY, Addresses, in_all, only_perhaps
from nightlatch.model.gaps import Gap
from nightlatch.model.sockets import Listener
from nightlatch.net.addresses import EVERY_ADDRESS, AddressSet
from nightlatch.origin import Origin, default
from nightlatch.readings import address_lists
from nightlatch.readings.sshd import Directive, Match, Refusal, SshdReading

MOST_UNSURE = 8


@dataclass(frozen=True, slots=True)
class Setting:
    """One keyword's value. `lost` are lines that set it too and don't count; `directive` is None for a default."""

    value: tuple[str, ...]
    origin: Origin
    directive: Directive | None = None
    lost: tuple[Directive, ...] = ()

    @property
    def word(self) -> str:
        """The value of a keyword that has just one."""
        return self.value[0] if self.value else ""


Settings = Mapping[str, Setting]


@dataclass(frozen=True, slots=True)
class Caller:
    """All about a connection but its source: the account's name and groups, and the socket it came in by."""

    account: str
    groups: tuple[str, ...]
    listener: Listener


@dataclass(frozen=True, slots=True)
class SourceClass:
    """Addresses for which every Match line has the same truth."""

    sources: AddressSet
    truth: tuple[bool, ...]


World = tuple[SourceClass, ...]


@dataclass(frozen=True, slots=True)
class MatchScope:
    """Where one Match line holds, and why that can't be said of some addresses; empty where it can be said of all."""

    where: Addresses
    because: str = ""

    @property
    def is_unsure(self) -> bool:
        """Whether there are addresses of which it can't be said."""
        return self.where.surely != self.where.perhaps


@lru_cache(maxsize=64)  # guests of one kind share it
def effective_of(reading: SshdReading) -> Effective:
    """The settings that a tree comes to."""
    return Effective(reading)


class Effective:
    """The settings of one tree, asked as often as needed; each distinct combination is worked out once."""

    def __init__(self, reading: SshdReading) -> None:
        self.reading = reading
        self._first = _collect(d for d in reading.directives if self._always(d))
        self._methods = [each for each in reading.directives if each.keyword == "authenticationmethods"]
        self._cache: dict[tuple[bool, ...], Settings] = {}
        self._worlds: dict[tuple[MatchScope, ...], list[World]] = {}
        self.top = self.settings(tuple(m.is_all for m in reading.matches))

    @property
    def refusal(self) -> Refusal | None:
        """Why sshd does not start with this tree, if it doesn't."""
        if self.reading.refusal:
            return self.reading.refusal
        lists = self.top["authenticationmethods"]
        if lists.value == ("any",) or any(usable(each, self.top) for each in lists.value):
            return None
        return Refusal("AuthenticationMethods asks for methods that are all switched off", lists.origin)

    def _always(self, directive: Directive) -> bool:
        return all(self.reading.matches[b].is_all for b in directive.blocks)

    def settings(self, truth: tuple[bool, ...]) -> Settings:
        """All settings where the Match lines have this truth."""
        if truth not in self._cache:
            conditional = (d for d in self.reading.directives if d.blocks and all(truth[b] for b in d.blocks))
            second = _collect(d for d in conditional if KEYWORDS[d.keyword].anywhere)
            out = dict(self._first)
            for name, setting in second.items():
                before = out.get(name)
                beaten = (before.directive,) if before and before.directive and before.directive.blocks == () else ()
                value = setting.value
                if before and KEYWORDS[name].wins is Precedence.PARTS:
                    value = _parts([value, before.value])
                out[name] = Setting(value, setting.origin, setting.directive, setting.lost + beaten)
            self._cache[truth] = _Defaulted(out)
        return self._cache[truth]

    def ends(self, truth: tuple[bool, ...]) -> Directive | None:
        """The line at which sshd gives up on a connection, if there is one where the Match lines have this truth.

        While it reads the tree for a connection, `AuthenticationMethods any` must not follow a line that counts, even
        where it does not count itself (measured: sshd -T -C, 9.2).
        """
        counted = False
        for directive in self._methods:
            if counted and directive.value == ("any",):
                return directive
            counted = counted or bool(directive.blocks and all(truth[b] for b in directive.blocks))
        return None

    def worlds(self, caller: Caller) -> tuple[list[World], tuple[Gap, ...]]:
        """Every way the undecided Match lines may turn out, each as a partition of all addresses; and the gaps.

        Without undecided lines there is just one world.
        """
        by_name = self.top["usedns"].word == "yes"
        holds = tuple(match_holds(match, caller, names_looked_up=by_name) for match in self.reading.matches)
        gaps = tuple(
            Gap("SSH server", held.because, match.origin)
            for held, match in zip(holds, self.reading.matches, strict=True)
            if held.is_unsure
        )
        if holds not in self._worlds:
            self._worlds[holds] = list(_worlds(holds))
        return self._worlds[holds], gaps


class _Defaulted(dict[str, Setting]):
    """Settings in which a keyword that no line sets has its built-in default."""

    def __missing__(self, name: str) -> Setting:
        setting = self[name] = _built_in(name)
        return setting


@lru_cache(maxsize=512)
def _built_in(keyword: str) -> Setting:
    return Setting(KEYWORDS[keyword].default, default(spelled(keyword)))


def _parts(values: list[tuple[str, ...]]) -> tuple[str, ...]:
    """Word by word the first that says something."""
    return tuple(next(filter(None, words), "") for words in zip(*values, strict=True))


def _collect(directives: Iterator[Directive]) -> dict[str, Setting]:
    chosen: dict[str, list[Directive]] = {}
    lost: dict[str, list[Directive]] = {}
    for directive in directives:
        taken = chosen.setdefault(directive.keyword, [])
        wins = KEYWORDS[directive.keyword].wins
        if taken and (wins is Precedence.LAST or (wins is Precedence.FIRST_OR_NONE and directive.value == ("none",))):
            lost.setdefault(directive.keyword, []).append(taken[0])
            taken[0] = directive
        elif taken and wins in (Precedence.FIRST, Precedence.FIRST_OR_NONE):
            lost.setdefault(directive.keyword, []).append(directive)
        else:
            taken.append(directive)
    out: dict[str, Setting] = {}
    for name, taken in chosen.items():
        wins = KEYWORDS[name].wins
        if wins is Precedence.PARTS:
            value = _parts([d.value for d in taken])
        elif wins is Precedence.LAST_PARTS:
            value = _parts([*(d.value for d in reversed(taken)), KEYWORDS[name].default])
        else:
            value = tuple(word for d in taken for word in d.value)
        out[name] = Setting(value, taken[0].origin, taken[0], tuple(lost.get(name, ())))
    return out


SWITCHES = {
    "publickey": "pubkeyauthentication",
    "password": "passwordauthentication",
    "keyboard-interactive": "kbdinteractiveauthentication",
    "hostbased": "hostbasedauthentication",
    "gssapi-with-mic": "gssapiauthentication",
    "gssapi-keyex": "gssapikeyexchange",
}


def usable(methods: str, settings: Settings) -> bool:
    """Whether every method of one AuthenticationMethods list is switched on."""
    names = [each.partition(":")[0] for each in methods.split(",")]
    return all(name == "none" or settings[SWITCHES[name]].word == "yes" for name in names)


def match_holds(match: Match, caller: Caller, *, names_looked_up: bool) -> MatchScope:
    """Where one Match line holds for this caller."""
    where, because = EVERYBODY, ""
    for criterion in match.criteria:
        held = _criterion(criterion.name, criterion.pattern, caller, names_looked_up)
        where = in_all([where, held.where])
        because = because or held.because
        if not where.perhaps:
            break
    found = MatchScope(where, because)
    return found if found.is_unsure else MatchScope(where)


def _criterion(name: str, pattern: str, caller: Caller, names_looked_up: bool) -> MatchScope:
    if name == "all":
        return MatchScope(EVERYBODY)
    if name == "user":
        return _where(in_list(caller.account, pattern))
    if name == "group":
        return _where(group_in_list(caller.groups, pattern))
    if name == "localport":
        return _where(caller.listener.port == (22 if pattern == "ssh" else int(pattern)))
    if name == "address":
        found = address_lists.by_address(pattern)
        return MatchScope(found.bounds, "this pattern of addresses is too scattered to be solved")
    if name == "localaddress":
        return _local_address(pattern, caller.listener)
    if name == "host":
        if names_looked_up and pattern != "*":
            return MatchScope(only_perhaps(EVERYBODY), "a caller's host name would have to be looked up (UseDNS yes)")
        text = address_lists.by_text(pattern)
        return MatchScope(text.bounds, "this pattern of addresses is too scattered to be solved")
    if pattern == "*":
        return MatchScope(EVERYBODY)
    return MatchScope(only_perhaps(EVERYBODY), "the routing domain of a connection is not known from files")


def _where(true: bool) -> MatchScope:
    return MatchScope(EVERYBODY if true else NOBODY)


def _local_address(pattern: str, listener: Listener) -> MatchScope:
    found = address_lists.by_address(pattern)
    if listener.address in ("", "0.0.0.0", "::"):
        if found.yes == EVERY_ADDRESS:
            return MatchScope(EVERYBODY)
        return MatchScope(only_perhaps(EVERYBODY), "which of the guest's addresses is dialled is not known")
    bound = address_lists.cidr(listener.address)
    return _where(isinstance(bound, AddressSet) and bound <= found.yes)


def group_in_list(groups: tuple[str, ...], patterns: str) -> bool:
    """Whether one group is in the list and none is ruled out by a `!` pattern (groupaccess.c)."""
    ruled_out = [each[1:] for each in patterns.split(",") if each.startswith("!")]
    if any(in_list(group, ",".join(ruled_out)) for group in groups if ruled_out):
        return False
    return any(in_list(group, patterns) for group in groups)


def _worlds(holds: tuple[MatchScope, ...]) -> Iterator[World]:
    unsure = [i for i, held in enumerate(holds) if held.is_unsure]
    for guess in product((False, True), repeat=min(len(unsure), MOST_UNSURE)):
        taken = dict(zip(unsure, guess, strict=False))
        yield _partition([held.where.perhaps if taken.get(i) else held.where.surely for i, held in enumerate(holds)])


def _partition(where: list[AddressSet]) -> World:
    classes: list[tuple[AddressSet, tuple[bool, ...]]] = [(EVERY_ADDRESS, ())]
    for held in where:
        if not held or held == EVERY_ADDRESS:
            classes = [(sources, (*truth, bool(held))) for sources, truth in classes]
            continue
        split: list[tuple[AddressSet, tuple[bool, ...]]] = []
        for sources, truth in classes:
            inside = sources & held
            if inside:
                split.append((inside, (*truth, True)))
            if inside != sources:
                split.append((sources - inside, (*truth, False)))
        classes = split
    return tuple(SourceClass(sources, truth) for sources, truth in classes)


def listeners(settings: Settings) -> tuple[Listener, ...]:
    """The sockets that sshd opens (ListenAddress, Port, AddressFamily)."""
    family = settings["addressfamily"].word
    ports = [int(p) for p in dict.fromkeys(settings["port"].value)]  # a port that stands twice is bound once
    stated = settings["listenaddress"]
    if not stated.value:
        origin = settings["port"].origin
        return tuple(Listener("", port, family, origin) for port in ports)
    out: list[Listener] = []
    for address, port in zip(stated.value[::2], stated.value[1::2], strict=True):
        here = "inet6" if ":" in address else "inet"
        if family in ("any", here):
            each = [int(port)] if port else ports
            out.extend(Listener(address, number, here, stated.origin) for number in each)
    return tuple(out)


def dump(settings: Settings) -> list[str]:
    """The settings as `sshd -T` prints them, sorted, without the listening sockets."""
    out: list[str] = []
    for name, keyword in KEYWORDS.items():
        if name not in ("listenaddress", "debianbanner"):
            out.extend(_dump_one(name, keyword, settings[name].value))
    return sorted(out)


def _dump_one(name: str, keyword: Keyword, value: tuple[str, ...]) -> Iterator[str]:
    if name == "subsystem":
        for sub, text in zip(value[::2], value[1::2], strict=True):
            yield f"subsystem {sub} {text}"
    elif keyword.per_line:
        for each in value:
            yield f"{name} {each}"
    elif name == "rekeylimit":
        yield f"{name} {value[0] or '0'} {value[1] or '0'}"
    elif name == "maxstartups":
        yield f"{name} {':'.join(value)}"
    elif name == "unusedconnectiontimeout" and value == ("0",):
        yield f"{name} none"
    elif value:
        yield f"{name} {' '.join(value)}"
