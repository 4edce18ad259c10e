"""Readings that guests share: what was worked out of some files holds for every guest of which the same is read.

Guests of one kind differ in few files. A reading is known by the questions that it asked of a snapshot and by their answers, in
the order in which it asked: another guest that answers them alike has the same reading, and gets the very same value, by which
what is worked out of it is known in turn. A question that is not recorded can't be asked: `Asked` refuses it.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import wraps
from typing import TYPE_CHECKING, Any, Concatenate, Generic, NoReturn, ParamSpec, TypeVar, cast

from nightlatch.evidence.snapshot import ResolvedPath, Snapshot

if TYPE_CHECKING:
    from nightlatch.evidence.facts import Facts

T = TypeVar("T")
P = ParamSpec("P")
LARGEST = 128 << 10  # bytes of all files and listings that are kept of one guest, to compare others with
Question = tuple[str, str]


def remembered(
    most: int,
) -> Callable[[Callable[Concatenate[Snapshot, P], T]], Callable[Concatenate[Snapshot, P], T]]:
    """Keep what a function makes of a snapshot, for at most so many guests that differ in what it reads.

    The function must read nothing but its snapshot, and take no other arguments than small values that can be hashed; its value
    must be immutable and hold no snapshot.
    """

    def around(work: Callable[Concatenate[Snapshot, P], T]) -> Callable[Concatenate[Snapshot, P], T]:
        known: _Known[T] = _Known(most)

        @wraps(work)
        def read(snapshot: Snapshot, /, *args: P.args, **kwargs: P.kwargs) -> T:
            more = (args, tuple(kwargs.items()))
            found = known.find(snapshot, more)
            if found is None:
                asked = Asked(snapshot)
                found = _Value(work(asked, *args, **kwargs))
                known.keep(more, asked.answers, found)
            return found.value

        return read

    return around


@dataclass(frozen=True, slots=True)
class _Value(Generic[T]):
    value: T


@dataclass(slots=True)
class _Branch(Generic[T]):
    """The question that comes next, and where each answer leads."""

    question: Question
    next: dict[Hashable, _Branch[T] | _Value[T]] = field(default_factory=dict)


class _Known(Generic[T]):
    def __init__(self, most: int) -> None:
        self.most = most
        self.forget()
        _ALL.append(self)

    def forget(self) -> None:
        self.first: dict[Hashable, _Branch[T] | _Value[T]] = {}
        self.count = 0

    def find(self, snapshot: Snapshot, more: Hashable) -> _Value[T] | None:
        """The value for a snapshot that gives the same answers as another one did."""
        at = self.first.get(more)
        while isinstance(at, _Branch):
            at = at.next.get(answer(snapshot, at.question))
        return at

    def keep(self, more: Hashable, answers: Mapping[Question, Hashable], value: _Value[T]) -> None:
        """Remember a value by what was asked for it, unless that takes too much memory."""
        if sum(map(_size, answers.values())) > LARGEST:
            return
        if self.count >= self.most:
            self.forget()
        self.count += 1
        here, before = self.first, more
        for question, told in answers.items():
            branch = here.setdefault(before, _Branch(question))
            if not isinstance(branch, _Branch) or branch.question != question:
                return  # asked in another order, as after a hash of another seed: never mixed up, only not found again
            here, before = branch.next, told
        here[before] = value


_ALL: list[_Known[Any]] = []


def forget_all() -> None:
    """Forget every reading that is remembered."""
    for each in _ALL:
        each.forget()


def answer(snapshot: Snapshot, question: Question) -> Hashable:
    """What a snapshot says to a question, as a value that tells it from every other answer."""
    kind, what = question
    if kind == "resolve":
        return _resolved(snapshot.resolve(what))
    if kind == "resolve link":
        return _resolved(snapshot.resolve(what, follow_last=False))
    if kind == "children":
        return tuple(snapshot.children(what))
    if kind == "is listed":
        return snapshot.is_listed(what)
    if kind == "listing":
        return snapshot.listings.get(what)
    if kind == "told":
        return cast(Hashable, getattr(snapshot.told, what))
    assert kind == "is live", question
    return snapshot.is_live


def _resolved(found: ResolvedPath) -> Hashable:
    """When a file was changed is left out where entries are compared, but may be asked for."""
    return found, found.entry.changed if found.entry is not None else 0


def _size(told: Hashable) -> int:
    if isinstance(told, bytes):
        return len(told)
    entry = told[0].entry if isinstance(told, tuple) and told and isinstance(told[0], ResolvedPath) else None
    return len(entry.content or b"") if entry is not None else 0


class Asked(Snapshot):
    """A snapshot that notes each question, with the answer. Whatever can't be noted is refused with a TypeError."""

    _of: Snapshot
    answers: dict[Question, Hashable]

    def __init__(self, of: Snapshot) -> None:
        object.__setattr__(self, "_of", of)
        object.__setattr__(self, "answers", {})

    def _note(self, kind: str, what: str = "") -> None:
        question = (kind, what)
        if question not in self.answers:
            self.answers[question] = answer(self._of, question)

    def resolve(self, path: str, *, follow_last: bool = True) -> ResolvedPath:
        """Where a path leads."""
        self._note("resolve" if follow_last else "resolve link", path)
        return self._of.resolve(path, follow_last=follow_last)

    def children(self, folder: str) -> list[str]:
        """The names in a folder."""
        self._note("children", folder)
        return self._of.children(folder)

    def is_listed(self, folder: str) -> bool:
        """Whether every name in a folder is known."""
        self._note("is listed", folder)
        return self._of.is_listed(folder)

    @property
    def is_live(self) -> bool:
        """Whether a running guest was asked."""
        self._note("is live")
        return self._of.is_live

    @property
    def told(self) -> Facts:
        """What the survey was told; each word is noted as it is asked for."""
        return cast("Facts", _Told(self))

    @property
    def listings(self) -> Mapping[str, bytes]:
        """What programs printed; each listing is noted as it is asked for."""
        return _Listings(self)

    def _refuse(self) -> NoReturn:
        raise TypeError("a remembered reading can't ask this: it would not be known by it")

    guest = entries = listed = notes = facts = property(_refuse)


class _Told:
    def __init__(self, asked: Asked) -> None:
        self._asked = asked

    def __getattr__(self, name: str) -> Any:
        self._asked._note("told", name)
        return getattr(self._asked._of.told, name)


class _Listings(Mapping[str, bytes]):
    def __init__(self, asked: Asked) -> None:
        self._asked = asked

    def __getitem__(self, name: str) -> bytes:
        self._asked._note("listing", name)
        return self._asked._of.listings[name]

    def __iter__(self) -> Iterator[str]:
        self._asked._refuse()

    def __len__(self) -> int:
        self._asked._refuse()
