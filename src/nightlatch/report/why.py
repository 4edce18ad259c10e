"""Why somebody gets in or not: a sentence, the links of each way with their places, and what mends it; and as JSON."""

from __future__ import annotations

import textwrap
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, Any

from nightlatch.audit import cause_words, documents
from nightlatch.audit.answers import callers
from nightlatch.audit.names import by, listed, power_words
from nightlatch.audit.symptoms import Borne, Symptom
from nightlatch.audit.why import AskerKind, Standing
from nightlatch.model.causes import (
    AccountLine,
    Cause,
    ForwardHop,
    KeyLine,
    KeysPlace,
    ListenAddress,
    NoAccount,
    NoServer,
    PasswordField,
    PrivateNetwork,
    RefusedKey,
    RuleLine,
)
from nightlatch.model.gaps import Gap
from nightlatch.model.links import Break, Holds, Link, LinkKind
from nightlatch.model.rules import Layer, RuleAction
from nightlatch.model.sources import COMMON, Sources, common_to, joined, without
from nightlatch.origin import Kind
from nightlatch.report import reach as wire
from nightlatch.report.page import Page
from nightlatch.report.safe import in_one_line

if TYPE_CHECKING:
    from nightlatch.access.chains import Chain
    from nightlatch.ops.why import Why

ORDER = (
    Standing.SHUT_OUT,
    Standing.HOLE,
    Standing.UNDECIDED,
    Standing.AS_GRANTED,
    Standing.GETS_IN,
    Standing.KEPT_OUT,
    Standing.BY_ANOTHER,
)
TOLD = {
    Standing.AS_GRANTED: "gets in, as granted",
    Standing.GETS_IN: "gets in",
    Standing.BY_ANOTHER: "not by this proof, but by another",
    Standing.SHUT_OUT: "granted, and does not get in",
    Standing.HOLE: "gets in without a grant",
    Standing.KEPT_OUT: "does not get in",
    Standing.UNDECIDED: "can't be decided",
}
MARKS = {
    Holds.YES: ("holds", "good"),
    Holds.PARTLY: ("partly", "medium"),
    Holds.UNDECIDED: ("unsure", "medium"),
    Holds.NO: ("breaks", "high"),
}
DOES = {RuleAction.DROP: "drops them", RuleAction.REJECT: "refuses them", RuleAction.REWRITE: "sends them elsewhere"}
MOST_CHAINS, MOST_CAUSES, MOST_LOG = 6, 3, 6
SEEN = {
    Symptom.REFUSED: "is refused",
    Symptom.TIMES_OUT: "times out",
    Symptom.CLOSES: "closes at once",
    Symptom.SESSION_ENDS: "ends right after login",
    Symptom.ASKS_PASSWORD: "asks for a password",
    Symptom.DENIED: "says permission denied",
    Symptom.HOST_KEY: "shows another host key",
    Symptom.NO_NAME: "says that the name is not known",
}
AT = 21  # where the words of a link begin
Line = tuple[str, str]


def text(page: Page, result: Why, source: str) -> None:
    """The answer in a sentence, then each way with its links, then what mends it."""
    for each in result.remarks:
        page.wrapped(each)
    if result.latched:
        page.wrapped(f"{result.latched} What is told here holds only until then.", label=result.asked.guest, style="high")
    if result.unread:
        page.wrapped(in_one_line(result.unread), label=result.asked.guest, style="high")
        if result.wire is not None:
            wire.text(page, result.wire)
        kept = f"nightlatch why {result.asked.who} {result.asked.guest} {source} --evidence evidence"
        page.wrapped(
            f"Next: nightlatch reach {source} --on {result.asked.guest}; or ask what survey kept of it: {kept}", style="next"
        )
        return
    if result.now is not None:
        page.wrapped(f"Supposing that {listed(result.supposed, 10)}; nothing is touched.")
        page.wrapped(_begun(result.now), label="now")
        page.wrapped(_begun(result), label="then")
    else:
        page.wrapped(_begun(result))
    passing = (cause for _, chain in result.answer.chains for each in chain.links for cause in each.passing)
    for cause in dict.fromkeys(passing):
        page.wrapped(f"Not just now: {cause_words.words(cause)}.", style="high")
    _symptom(page, result)
    groups = _grouped(result)
    for standing, same in groups[:MOST_CHAINS]:
        page.blank()
        _chain(page, result, standing, same)
    if len(groups) > MOST_CHAINS:
        page.blank()
        page.wrapped(f"{len(groups) - MOST_CHAINS} more ways; --as, --with, --by and --from narrow the question.")
    if result.wire is not None:
        page.blank()
        page.line(("On the wire, from here", "name"))
        wire.text(page, result.wire)
    page.blank()
    _mended(page, result)
    page.wrapped(f"Next: {_next(result, source)}", style="next")


def _symptom(page: Page, result: Why) -> None:
    """What the symptom may come from, each with the next look; what is ruled out in one line."""
    if result.symptom is None:
        return
    page.blank()
    page.line((f"It {SEEN[result.symptom]}", "name"))
    for each in result.suspicions:
        if each.stands is Borne.RULED_OUT:
            continue
        style = "high" if each.stands is Borne.CONFIRMED else "medium"
        page.wrapped(each.text, label=each.stands.value, indent=2, style=style)
        for cause in each.causes[:MOST_CAUSES]:
            page.wrapped(f"{cause_words.words(cause)}   {cause.origin}", indent=13, style="place")
        page.wrapped(f"look: {each.look}", indent=13, style="place")
    out = [each.text for each in result.suspicions if each.stands is Borne.RULED_OUT]
    if out:
        page.wrapped("; ".join(out), label="ruled out", indent=2, style="place")
    for line in result.log[-MOST_LOG:]:
        page.wrapped(line.text, label="log", indent=2)


def _begun(result: Why) -> str:
    """The sentence as it stands at the beginning; a name keeps its letters."""
    told = sentence(result)
    return told if told.startswith(result.asked.who) else told[0].upper() + told[1:]


def sentence(result: Why) -> str:
    """The whole answer as one sentence."""
    who, guest = _who(result), result.asked.guest
    if result.is_down:
        return f"nobody gets into {guest} while it is down."
    found = [chain for standing, chain in result.answer.chains if standing is result.standing]
    accounts = listed(dict.fromkeys(each.login.account for each in found), 3) if found else ""
    match result.standing:
        case Standing.SHUT_OUT:
            missing = [each for each in result.answer.missing if each.certain]
            where = result.names.where(joined(each.certain for each in missing))
            wanted = listed(dict.fromkeys(str(each.power) for each in missing), 3)
            account = f"as {missing[0].grant.account}{by(missing[0].grant.service)}"
            return f"{who} is granted {wanted} on {guest} {account}, and is shut out from {where}."
        case Standing.HOLE:
            extra = joined(without(each.certain, joined(g.callers.surely for g in each.grants)) for each in found)
            return f"{who} gets into {guest} as {accounts} from {result.names.where(extra)}, and no grant says so."
        case Standing.AS_GRANTED:
            where = result.names.where(joined(each.certain for each in found))
            return f"{who} gets into {guest} as {accounts} from {where}, as granted."
        case Standing.GETS_IN:
            return f"{who} gets into {guest} as {accounts} from {result.names.where(joined(each.certain for each in found))}."
        case Standing.UNDECIDED:
            return f"Whether {who} gets into {guest} can't be decided."
    return _kept_out(result, who, guest, found)


def _kept_out(result: Why, who: str, guest: str, found: list[Chain]) -> str:
    if result.answer.ended:
        return f"{who} does not get into {guest}; the grant at {result.answer.ended[0].origin} has ended."
    where = f" from {result.names.where(result.asked.sources)}" if result.asked.sources else ""
    if result.answer.kind is AskerKind.ACCOUNT:
        return f"Nobody gets into {guest} as {result.asked.who}{where}{', and no grant is for it' if result.estate else ''}."
    if not found:
        return f"{who} does not get into {guest}{where}: no grant and no line there speaks of it."
    return f"{who} does not get into {guest}{where}{', and no grant says so' if result.estate else ''}."


def _who(result: Why) -> str:
    if result.answer.kind is AskerKind.KEY:
        return f"the key {result.names.key(result.asked.who)}"
    return "somebody" if result.answer.kind is AskerKind.ACCOUNT else result.asked.who


def _grouped(result: Why) -> list[tuple[Standing, list[Chain]]]:
    """Chains that differ in nothing but the proof are told together; what has to be put right comes first."""
    groups: dict[object, tuple[Standing, list[Chain]]] = {}
    for standing, chain in result.answer.chains:
        same = tuple((each.kind, each.holds, each.breaks) for each in chain.links)
        sources = tuple(sorted(chain.asked.items()))
        key = (standing, chain.service, chain.login.account, chain.login.gives, chain.port, chain.forward, sources, same)
        groups.setdefault(key, (standing, []))[1].append(chain)
    return sorted(groups.values(), key=lambda group: ORDER.index(group[0]))


def _chain(page: Page, result: Why, standing: Standing, same: list[Chain]) -> None:
    chain = same[0]
    proofs = " or ".join(dict.fromkeys(result.names.need(each.login.need) for each in same))
    port = f", port {chain.port}" if chain.port else ""
    port += f" by the forward at {chain.forward}" if chain.forward else ""
    head = f"{chain.service} as {chain.login.account} with {proofs}{port}, from {result.names.where(chain.asked)}"
    page.wrapped(f"{head}: {TOLD[standing]}", style="name")
    whole = standing is not Standing.BY_ANOTHER
    if whole:
        _grant_line(page, result, chain)
    for number, each in enumerate(chain.links):
        if whole or each.holds is not Holds.YES:
            _link(page, result, [(one, one.links[number]) for one in same])


def _link(page: Page, result: Why, same: list[tuple[Chain, Link]]) -> None:
    """One link of chains that are told together, with all that any of them says."""
    first = same[0][1]
    told = dict.fromkeys(line for chain, each in same for line in _lines(result, chain, each))
    for number, (what, place) in enumerate(told):
        _line(page, ("", "plain") if number else MARKS[first.holds], "" if number else first.kind.value, what, place)
    for cause in first.passing:
        _line(page, ("now", "high"), "", cause_words.words(cause), str(cause.origin))


def _grant_line(page: Page, result: Why, chain: Chain) -> None:
    if not result.estate:
        return
    if not chain.grants:
        ended = [each for each in result.answer.ended if each.account == chain.login.account]
        for each in ended[:1]:
            _line(page, ("ended", "medium"), "grant", each.text, str(each.origin))
        if not ended:
            _line(page, ("none", "medium"), "grant", "no grant speaks of this", "")
        return
    for each in chain.grants:
        beyond, inside = without(chain.asked, each.callers.surely), common_to(chain.asked, each.callers.surely)
        holds = Holds.YES if not beyond else Holds.PARTLY if inside else Holds.NO
        _line(page, MARKS[holds], "grant", each.text, str(each.origin))


def _line(page: Page, mark: tuple[str, str], kind: str, words: str, place: str) -> None:
    """One line: whether it holds, which link, what it says, and where; a place that does not fit stands below."""
    head = (f"  {mark[0]:<7} ", mark[1])
    parts = [head, (f"{kind:<{AT - 10}}", "plain")]
    fits = AT + len(words) + 3 + len(place) <= page.width
    whole = textwrap.wrap(words, max(30, page.width - AT), break_on_hyphens=False) or [""]
    for number, line in enumerate(whole):
        last = number == len(whole) - 1 and fits and place
        page.line(*(parts if not number else [" " * AT]), line, *([(f"   {place}", "place")] if last else []))
    if place and not fits:
        page.line(" " * AT, (place, "place"))


def _lines(result: Why, chain: Chain, link: Link) -> Iterator[Line]:
    """What a link says: what stands in the way first, or what lets on."""
    for each in link.breaks[:MOST_CAUSES]:
        yield _break(result, chain, link, each), str(each.cause.origin)
    if link.holds is Holds.UNDECIDED or (link.holds is Holds.PARTLY and not link.breaks):
        for gap in link.admits.because[:MOST_CAUSES]:
            yield gap.because, str(gap.origin)
    if link.breaks and link.holds is Holds.NO:
        return
    told = list(_letting(chain, link))
    yield from told[:MOST_CAUSES]
    if len(told) > MOST_CAUSES:
        yield f"and {len(told) - MOST_CAUSES} more", ""


def _letting(chain: Chain, link: Link) -> Iterator[Line]:
    """What lets on: of a session what it gives, with the account's line; of rights the grant, where no rule gives more."""
    own = [cause for cause in link.by if link.kind is LinkKind.SESSION and isinstance(cause, AccountLine)]
    if link.powers:
        yield power_words(link.powers), str(own[0].origin) if own else ""
    if link.kind is LinkKind.RIGHTS and chain.login.gives and not link.by and not link.breaks:
        yield "all that is granted", str(chain.grants[0].origin) if chain.grants else ""
    for cause in link.by:
        if cause not in own:
            nowhere = cause.origin.kind is Kind.ESTATE and not cause.origin.line  # one guest without an estate file
            yield cause_words.words(cause), "" if nowhere else str(cause.origin)


def _break(result: Why, chain: Chain, link: Link, each: Break) -> str:
    asks = isinstance(each.cause, PasswordField) and not chain.login.need
    words = "a password is asked for" if asks else _in_the_way(each.cause)
    if without({COMMON: link.asked}, {COMMON: each.sources}):
        words += f" (from {result.names.where(_lifted(result, chain, each))})"
    return words


def _lifted(result: Why, chain: Chain, each: Break) -> Sources:
    """The callers that a break is about, also those behind a translation that are seen as some of them."""
    if COMMON not in chain.asked:
        return {next(iter(chain.asked)): each.sources}
    inside = {name: place[name] for name, place in result.names.places.items() if name in place}
    shown = {name: own for name, own in inside.items() if result.names.places[name].get(COMMON, each.sources) & each.sources}
    return {COMMON: each.sources, **shown}


def _in_the_way(cause: Cause) -> str:
    """A cause that stands in the way, in words."""
    match cause:
        case RuleLine():
            return _rule(cause)
        case ListenAddress(where):
            return f"listens on {where} only"
        case NoServer(title):
            return f"there is no {title} server"
        case Gap():
            return f"does not start: {cause.because}" if cause.refused else cause.because
        case KeyLine():
            return "the key line lets it in from elsewhere only"
        case KeysPlace():
            return "no line authorises this key"
        case RefusedKey(because):
            return f"the key stands there, and is refused: {because}"
        case PasswordField(value):
            return f"no password that opens: its field is {value}"
        case NoAccount(account):
            return f"there is no account {account}"
        case AccountLine():
            return "gives less than is granted"
        case PrivateNetwork(network):
            return f"it sits on {network}, whose addresses mean nothing outside, and no forward leads to it"
    return cause_words.words(cause)


def _rule(cause: RuleLine) -> str:
    if cause.answers:
        return f"drops what the guest answers: {cause.text}"
    who = {Layer.PERIMETER: f"{cause.name} ", Layer.WRAPPER: "libwrap ", Layer.UNIT: "the service manager "}.get(cause.layer, "")
    return f"{who}{DOES.get(cause.does, cause.does.value)}: {cause.text}"


def _mended(page: Page, result: Why) -> None:
    if result.mend is None:
        return
    for step in result.mend.steps:
        page.wrapped(str(step), label="mends it", style="good")
        for line in _step_lines(step):
            page.line("             ", line)
    for left in result.mend.left:
        page.wrapped(f"{left.text} By hand: {left.hand}.", label="by hand", style="medium")


def _step_lines(step: object) -> Iterator[tuple[str, str]]:
    """The lines that a step takes and adds."""
    before, after = getattr(step, "before", None), getattr(step, "after", None)
    if isinstance(before, str) and isinstance(after, str):
        yield f"- {before}", "take"
        if after:
            yield f"+ {after}", "add"
    line = getattr(step, "line", None) or getattr(step, "text", None)
    if isinstance(line, str):
        yield f"+ {line}", "add"
    for each in getattr(step, "lines", ()):
        yield f"+ {each}", "add"


def _next(result: Why, source: str) -> str:
    if result.mend is not None and result.mend.steps:
        return f"nightlatch draft {source} --on {result.asked.guest}"
    if not result.estate:
        return f"nightlatch access {source}"
    if result.standing is Standing.KEPT_OUT:
        return f"write a grant into {source} if they should get in; then nightlatch draft {source} --on {result.asked.guest}"
    if result.answer.kind is AskerKind.KEY:
        return f"nightlatch access {source} --key {result.asked.who}"
    return f"nightlatch access {source} --who {result.asked.who}"


def document(result: Why) -> dict[str, Any]:
    """The answer as JSON (docs/json.md)."""
    return {
        "format": "nightlatch/why/1",
        "estate": result.estate or None,
        "at": result.at.isoformat(timespec="seconds"),
        "supposed": list(result.supposed),
        "who": {"kind": result.answer.kind.value, "name": result.asked.who},
        "guest": result.asked.guest,
        "standing": result.standing.value if not result.unread else None,
        "text": sentence(result) if not result.unread else None,
        "unread": result.unread or None,
        "on_the_latch": result.latched or None,
        "chains": [_document_of(result, standing, chain) for standing, chain in result.answer.chains],
        "mends": [{"act": str(step), "path": step.path} for step in (result.mend.steps if result.mend else ())],
        "left": [{"text": each.text, "by_hand": each.hand} for each in (result.mend.left if result.mend else ())],
        "undecided": [documents.cause(each) for each in result.undecided],
        "symptom": result.symptom.value if result.symptom is not None else None,
        "suspicions": [
            {"text": each.text, "stands": each.stands.value, "causes": _causes(each.causes), "look": each.look}
            for each in result.suspicions
        ],
        "log": [{"link": each.kind.value, "text": each.text} for each in result.log],
        "wire": wire.document(result.wire) if result.wire is not None else None,
    }


def _document_of(result: Why, standing: Standing, chain: Chain) -> dict[str, Any]:
    def told(sources: Any) -> dict[str, Any] | None:
        return documents.callers(callers(sources, result.names))

    return {
        "standing": standing.value,
        "by": chain.service,
        "account": chain.login.account,
        "shown": [documents.secret(each) for each in sorted(chain.login.need, key=repr)],
        "port": chain.port or None,
        "forward": chain.forward or None,
        "seen_as": chain.alike or None,
        "from": told(chain.asked),
        "certain": told(chain.certain),
        "possible": told(chain.possible),
        "grants": [{"text": each.text, "origin": documents.origin(each.origin)} for each in chain.grants],
        "links": [_link_of(each) for each in chain.links],
    }


def _link_of(link: Link) -> dict[str, Any]:
    return {
        "link": link.kind.value,
        "holds": link.holds.value,
        "causes": _causes(link.by),
        "breaks": [{**documents.cause(each.cause), "prefixes": each.sources.prefixes(100)} for each in link.breaks],
        "undecided": _causes(link.admits.because),
        "passing": _causes(link.passing),
        "powers": [documents.power(each) for each in link.powers],
    }


def _causes(found: Iterable[Cause | ForwardHop]) -> list[dict[str, Any]]:
    return [documents.cause(each) for each in found]
