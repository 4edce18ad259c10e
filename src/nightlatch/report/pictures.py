"""Who can reach which port as a picture: a row for each port, a column for each place and family (Matplotlib, optional)."""

from __future__ import annotations

from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING

from nightlatch.access.exposure import FAMILIES, ExposedSocket, Fate
from nightlatch.faults import NightlatchError
from nightlatch.model.sources import COMMON
from nightlatch.net.addresses import LOOPBACK, NO_ADDRESS, AddressSet, union
from nightlatch.report.safe import shown

if TYPE_CHECKING:
    from nightlatch.ops.exposure import Exposure

KINDS = (".png", ".svg", ".pdf")
MOST_ROWS = 60
# Told apart without colours, too: each has its own word. The colours keep apart for eyes that mix red and green.
CELLS = {
    "in": ("#b3541e", "white"),
    "part": ("#e8b04a", "black"),
    "?": ("#c9c4d6", "black"),
    "out": ("#e9eef2", "#5b6670"),
    "": ("white", "black"),
}
LEGEND = (("in", "all of it gets through"), ("part", "some of it does"), ("?", "not decided"), ("out", "kept out"))


def check(path: Path) -> None:
    """Before anything is read: whether a picture can be drawn there. Raises NightlatchError where Matplotlib is missing, the name
    has no ending that it knows, or there is no such folder."""
    if path.suffix not in KINDS:
        raise NightlatchError(f"{path}: expected a name that ends with {', '.join(KINDS)}")
    if find_spec("matplotlib") is None:
        raise NightlatchError("pictures need Matplotlib: pip install 'nightlatch[pictures]'")
    if not path.parent.is_dir():
        raise NightlatchError(f"{path} can't be written: there is no folder {path.parent}")


def draw(result: Exposure, path: Path) -> None:
    """Write the picture. Raises NightlatchError as `check` does, and where the file can't be written."""
    check(path)
    from matplotlib.figure import Figure

    those = [each for each in result.sockets if not each.space]  # others are called from their own network alone
    columns, sockets = _columns(result), those[:MOST_ROWS]
    height = 1.7 + 0.34 * max(len(sockets), 1)
    figure = Figure(figsize=(max(8.0, 3.4 + 1.05 * len(columns)), height), layout="constrained")
    axes = figure.add_subplot()
    for row, each in enumerate(sockets):
        for column, (_, _, sources) in enumerate(columns):
            word = _cell(each, sources)
            back, front = CELLS[word]
            axes.add_patch(_square(column, row, back))
            axes.text(column + 0.5, row + 0.5, word, ha="center", va="center", color=front, fontsize=9)
    axes.set_xlim(0, max(len(columns), 1))
    axes.set_ylim(max(len(sockets), 1), 0)
    axes.set_xticks([n + 0.5 for n in range(len(columns))], [f"{place}\n{family}" for place, family, _ in columns], fontsize=9)
    axes.set_yticks([n + 0.5 for n in range(len(sockets))], [_label(each) for each in sockets], fontsize=9)
    axes.xaxis.tick_top()
    axes.tick_params(length=0)
    for side in axes.spines.values():
        side.set_visible(False)
    left_out = len(those) - len(sockets)
    more = f"   (the first {MOST_ROWS} of {len(those)} ports)" if left_out else ""
    whose = result.estate or (sockets[0].guest if sockets else "nothing listens")
    axes.set_title(f"{shown(whose, 60)}: who gets through to which port{more}", loc="left", fontsize=11, pad=12)
    axes.set_xlabel("     ".join(f"{word}: {meaning}" for word, meaning in LEGEND), fontsize=8, loc="left")
    try:
        figure.savefig(path, dpi=110)
    except OSError as error:
        raise NightlatchError(f"{path} can't be written: {error.strerror}") from None


def _square(column: int, row: int, colour: str):  # type: ignore[no-untyped-def]
    from matplotlib.patches import Rectangle

    return Rectangle((column, row), 1, 1, facecolor=colour, edgecolor="white", linewidth=2)


def _columns(result: Exposure) -> list[tuple[str, str, AddressSet]]:
    """Each place by family, and what is left of all addresses."""
    out: list[tuple[str, str, AddressSet]] = []
    places = {name: sources.get(COMMON, NO_ADDRESS) for name, sources in result.names.places.items()}
    for name, sources in places.items():
        out += [(shown(name, 24), family, sources & whole) for family, whole in FAMILIES.items() if sources & whole]
    known = union([*places.values(), LOOPBACK])
    return out + [("elsewhere" if places else "anywhere", family, whole - known) for family, whole in FAMILIES.items()]


def _cell(each: ExposedSocket, sources: AddressSet) -> str:
    """The verdict on a place's callers, in a word; empty where the socket is not of their family."""
    if not any(piece.sources & sources for piece in each.pieces):
        return ""
    if sources <= each.sources(Fate.IN):
        return "in"
    if each.sources(Fate.IN) & sources:
        return "part"
    return "?" if each.sources(Fate.UNDECIDED) & sources else "out"


def _label(each: ExposedSocket) -> str:
    program = f"  {shown(each.program, 16)}" if each.program else ""
    by = f"  by {shown(each.by, 24)}" if each.by else ""
    return f"{shown(each.guest, 24)}  {each.port}/{each.protocol}{program}{by}"
