"""Errors meant for people: what is wrong, where, what was expected, what to do next.

The parts are fields; `Fault.text` is the one place that makes them into words.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from difflib import get_close_matches

from nightlatch.origin import Origin

MOST_LETTERS = 80  # of a word that is compared with others


@dataclass(frozen=True, slots=True)
class Fault:
    """One thing that is wrong: `what`, where (`origin`, `excerpt` is that line's text), `expected`, the `nearest` word. `name` is
    what is missing, where one thing may be missed in several places; `also` are the others of them."""

    what: str
    origin: Origin | None = None
    expected: str = ""
    nearest: str = ""
    excerpt: str = ""
    width: int = 1
    name: str = ""
    also: tuple[Origin, ...] = ()

    def text(self) -> str:
        """The fault as lines of text, without a final line end."""
        head = f"{self.origin}: {self.what}" if self.origin else self.what
        lines = [head]
        if self.excerpt and self.origin and self.origin.column:
            start = max(0, self.origin.column - 60)
            lines.append("      " + self.excerpt[start : start + 100])
            lines.append("      " + " " * (self.origin.column - 1 - start) + "^" * max(1, min(self.width, 40)))
        hint = f"expected {self.expected}" if self.expected else ""
        if self.nearest:
            hint += (". " if hint else "") + f'Did you mean "{self.nearest}"?'
        if hint:
            lines.append("    " + hint)
        if self.also:
            places = f"{len(self.also)} more places" if len(self.also) > 1 else "one more place"
            lines.append(f"    It is named in {places}: {', '.join(map(str, self.also))}")
        return "\n".join(lines)


def told_once(faults: Iterable[Fault]) -> list[Fault]:
    """The faults in their order, those of one missing name as one, with all places."""
    out: list[Fault] = []
    also: dict[str, list[Origin]] = {}
    for fault in faults:
        if fault.name in also and fault.origin is not None:
            also[fault.name].append(fault.origin)
            continue
        out.append(fault)
        if fault.name:
            also[fault.name] = []
    return [replace(fault, also=tuple(also[fault.name])) if fault.name else fault for fault in out]


class NightlatchError(Exception):
    """Something the caller has to put right; `faults` says what, `guest` on which guest where it is about one.

    `exit_code` is what the command line ends with. `words` is the text without the guest, for where that is told beside it.
    """

    exit_code = 2

    def __init__(self, faults: Iterable[Fault] | str, *, guest: str = "") -> None:
        self.faults: tuple[Fault, ...] = (Fault(faults),) if isinstance(faults, str) else tuple(faults)
        self.guest = guest
        self.words = "\n".join(f.text() for f in self.faults)
        super().__init__(f"{guest}: {self.words}" if guest else self.words)


class EstateError(NightlatchError):
    """The estate file can't be used as it stands."""


class UnreadableError(NightlatchError):
    """A guest, folder or archive could not be read."""

    exit_code = 3


class UnreachableError(UnreadableError):
    """A live guest could not be reached or asked; `stage` is the first step that failed (name, connect, login, ...)."""

    def __init__(self, guest: str, stage: str, what: str, hint: str = "") -> None:
        self.stage = stage
        super().__init__(f"{stage}: {what}" + (f"; {hint}" if hint else ""), guest=guest)


class OwnFaultError(UnreadableError):
    """Something in Nightlatch itself failed on one guest, where no error was declared. It is that guest's result."""

    def __init__(self, guest: str, error: BaseException) -> None:
        # What the error says may hold a guest's content; its kind and its place in the code don't.
        what = f"a fault of Nightlatch's own, {type(error).__name__} at {place_of(error)}"
        super().__init__(
            f"{what}; other guests are not touched by it. Please report it, with what nightlatch --version says",
            guest=guest,
        )


def place_of(error: BaseException) -> str:
    """Where in our own code an error arose: file and line of the innermost frame there."""
    found = "an unknown place"
    trace = error.__traceback__
    while trace is not None:
        path = trace.tb_frame.f_code.co_filename.replace("\\", "/")
        _, mark, inner = path.rpartition("/nightlatch/")
        if mark:
            found = f"nightlatch/{inner}:{trace.tb_lineno}"
        trace = trace.tb_next
    return found


@contextmanager
def work_on(guest: str) -> Iterator[None]:
    """Whatever goes wrong inside becomes this guest's own result. Raises OwnFaultError for errors that nobody declared."""
    try:
        yield
    except (NightlatchError, OSError):
        raise
    except Exception as error:
        raise OwnFaultError(guest, error) from error


class RefusedError(NightlatchError):
    """A change was refused; nothing was written."""

    exit_code = 4


class PutBackError(NightlatchError):
    """A change failed halfway and was taken back."""

    exit_code = 5


def words_of(error: Exception) -> str:
    """The words of an error, for a place that names its guest already."""
    return error.words if isinstance(error, NightlatchError) else str(error)


def nearest(word: str, words: Sequence[str]) -> str:
    """The valid word most like `word`, or an empty text when none is near."""
    if len(word) > MOST_LETTERS:
        return ""
    found = get_close_matches(word, words, n=1, cutoff=0.6)
    if not found:
        lowered = {w.lower(): w for w in words}
        found = [lowered[m] for m in get_close_matches(word.lower(), list(lowered), n=1, cutoff=0.6)]
    return found[0] if found else ""
