"""People shut out, as findings: who is granted and can't get in, and the line that stands in the way."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from nightlatch.access.differences import ShutOut
from nightlatch.audit import cause_words, obstacle_words
from nightlatch.audit.findings import Finding, Group, Proof, Severity, Subject
from nightlatch.audit.names import Names, by, listed
from nightlatch.audit.obstacles import ObstacleSearch
from nightlatch.model.grants import Grant, GrantKind
from nightlatch.model.obstacles import Obstacle
from nightlatch.model.powers import Power, PowerKind
from nightlatch.model.sources import joined

REFERENCE = "reasoning: what is granted minus what is open"


@dataclass(frozen=True, slots=True)
class ShutOutGroup:
    """One finding with its obstacle, what a person can do about it by `hand`, and the differences behind it; `promise` is what
    holds once it is put right."""

    finding: Finding
    obstacle: Obstacle
    hand: str
    items: tuple[ShutOut, ...]
    promise: str


def findings(items: Iterable[ShutOut], search: ObstacleSearch, names: Names) -> Iterator[Finding]:
    """One finding for each cause, with everybody it shuts out."""
    return (each.finding for each in grouped(items, search, names))


def grouped(items: Iterable[ShutOut], search: ObstacleSearch, names: Names) -> Iterator[ShutOutGroup]:
    """Findings with their obstacles and the differences behind each."""
    together: dict[tuple[str, object, bool, bool], list[tuple[ShutOut, Obstacle]]] = {}
    for item, obstacle in (pair for each in items for pair in search.of(each)):
        certain = any(item.certain.values())
        door = item.grant.kind is not GrantKind.GRANT
        together.setdefault((item.grant.service, obstacle.key, certain, door), []).append((item, obstacle))
    for (_, _, certain, door), pairs in together.items():
        group, obstacle = [item for item, _ in pairs], pairs[0][1]
        words = search.kinds[group[0].grant.service].words
        because = obstacle_words.text(obstacle, group[0], words)
        finding = _finding(group, obstacle, because, search.access.guest, names, certain=certain, door=door)
        who, wanted, where = _who_what_where(group, names, certain=certain)
        hand = obstacle_words.hand(obstacle, search.access.guest, words)
        yield ShutOutGroup(finding, obstacle, hand, tuple(group), f"{who} can still get {wanted} from {where}.")


def _who_what_where(items: list[ShutOut], names: Names, *, certain: bool) -> tuple[str, str, str]:
    sources = joined((item.certain if certain else item.possible) for item in items)
    wanted = listed(dict.fromkeys(_wanted(item.power, item.grant) for item in items), 3)
    return listed(item.grant.who for item in items), wanted, names.where(sources)


def _finding(
    items: list[ShutOut], obstacle: Obstacle, because: str, guest: str, names: Names, *, certain: bool, door: bool
) -> Finding:
    people = tuple(dict.fromkeys(item.grant.who for item in items))
    about = tuple(dict.fromkeys(_about(item, names) for item in items))
    who, wanted, where = _who_what_where(items, names, certain=certain)
    evidence = cause_words.proofs(obstacle.causes)
    text = f"{who} can't get {wanted} from {where}: {because}."
    if not certain:
        gaps = dict.fromkeys(cause_words.proof(g) for i in items for p in i.served for g in p.callers.because)
        text = (
            f"Possibly, {text[0].lower() + text[1:]}"
            if not gaps
            else f"Whether {who} gets {wanted} from {where} can't be decided."
        )
        return Finding(
            "shut-out.possible",
            Severity.LOW,
            guest,
            Group.UNDECIDED,
            text,
            (*gaps, *evidence)[:6],
            people,
            REFERENCE,
            about=about,
            service=items[0].grant.service,
        )
    group = Group.MANAGEMENT if door else Group.SHUT_OUT
    granted = tuple(Proof(item.grant.text, item.grant.origin) for item in items[:2])
    return Finding(
        "shut-out",
        Severity.HIGH,
        guest,
        group,
        text,
        (*evidence[:4], *dict.fromkeys(granted)),
        people,
        REFERENCE,
        about=about,
        service=items[0].grant.service,
    )


def _about(item: ShutOut, names: Names) -> Subject:
    where = names.where(joined([item.certain, item.possible]))
    return Subject(item.grant.account, where, person=item.grant.who, service=item.grant.service)


def _wanted(power: Power, grant: Grant) -> str:
    account = f" as {grant.account}" if grant.account != grant.who else ""
    told = {
        PowerKind.SHELL: f"a shell{account}",
        PowerKind.COMMAND: f"the command {power.what}{account}",
        PowerKind.FILES: f"the files under {power.what}{account}",
        PowerKind.ADMINISTER: f"root's rights{account}",
    }.get(power.gives, f"{power}{account}")
    return f"{told}{by(grant.service)}"
