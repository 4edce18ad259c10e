"""A page of text for a terminal or a pipe: wrapped at the width, styled where the terminal wants it."""

from __future__ import annotations

import textwrap
from collections.abc import Iterable, Sequence

from rich.console import Console
from rich.padding import Padding
from rich.table import Column, Table
from rich.text import Text

from nightlatch.report.safe import shown

WIDEST = 100
LABEL = 11  # columns for a label in the margin
STYLES = {
    "critical": "bold red",
    "high": "red",
    "medium": "yellow",
    "low": "cyan",
    "note": "dim",
    "good": "green",
    "name": "bold",
    "place": "dim",
    "plain": "",
    "add": "green",
    "take": "red",
    "next": "bold",
}


class Page:
    """Collects lines and prints them; a line is made of (text, style name) parts."""

    def __init__(self, console: Console) -> None:
        self.console = console
        self.width = min(console.width, WIDEST)

    def line(self, *parts: tuple[str, str] | str) -> None:
        """One line as it is."""
        text = Text()
        for part in parts:
            words, style = (part, "plain") if isinstance(part, str) else part
            text.append(shown(words, 2000), STYLES[style])
        self.console.print(text, soft_wrap=True)

    def blank(self) -> None:
        """An empty line."""
        self.console.print()

    def wrapped(self, text: str, *, indent: int = 0, label: str = "", style: str = "plain", right: str = "") -> None:
        """A paragraph with a label in the margin and a word at the right end of its first line."""
        margin = " " * indent
        hang = indent + (max(len(label) + 2, LABEL) if label else 0)
        room = max(30, self.width - hang - (len(right) + 2 if right else 0))
        lines = textwrap.wrap(shown(text, 2000), room, break_long_words=True, break_on_hyphens=False) or [""]
        for number, line in enumerate(lines):
            out = Text(margin)
            head = f"{label:<{hang - indent}}" if number == 0 else " " * (hang - indent)
            out.append(head, STYLES["name"] if label else "")
            out.append(line, STYLES[style])
            if right and number == 0:
                out.append(" " * max(2, self.width - hang - len(line) - len(right)) + right, STYLES.get(right, ""))
            self.console.print(out, soft_wrap=True)

    def evidence(self, rows: Iterable[tuple[str, str]], indent: int) -> None:
        """Places in a column with what stands there."""
        listed = [(shown(place, 200), shown(text, 200)) for place, text in _together(rows)]
        column = min(48, max((len(place) for place, _ in listed), default=0))
        for place, text in listed:
            out = Text(" " * indent)
            out.append(place, STYLES["place"])
            pad = column - len(place)
            if pad < 0 or indent + column + 2 + len(text) > self.width + 20:
                self.console.print(out, soft_wrap=True)
                out = Text(" " * (indent + 4) + text)
            elif text:
                out.append(" " * (pad + 2) + text)
            self.console.print(out, soft_wrap=True)

    def table(self, rows: Sequence[tuple[str, ...]], styles: list[str], *, indent: int = 0) -> None:
        """Rows in columns, without lines and headings. Where the last column does not fit, it stands below each row; where the
        others don't either, each row is wrapped."""
        cleaned = [[shown(text, 200) for text in row] for row in rows]
        widths = [max((len(row[column]) for row in cleaned), default=0) for column in range(len(styles))]
        below = indent + sum(widths) + 2 * (len(widths) - 1) > self.width
        shows = len(styles) - below
        if indent + sum(widths[:shows]) + 2 * (shows - 1) > self.width:
            for row in cleaned:
                self._stacked(row, styles, indent)
            return
        for group in [[row] for row in cleaned] if below else [cleaned]:
            grid = Table.grid(*(Column(min_width=width, no_wrap=True) for width in widths[:shows]), padding=(0, 2, 0, 0))
            for row in group:
                grid.add_row(*(Text(text, STYLES[style]) for text, style in zip(row[:shows], styles, strict=False)))
            whole = indent + sum(widths) + 2 * len(widths)
            self.console.print(Padding(grid, (0, 0, 0, indent), expand=False), width=whole, crop=False)
            if below and group[0][-1]:
                self.console.print(Text(" " * (indent + 4) + group[0][-1], STYLES[styles[-1]]), soft_wrap=True)

    def _stacked(self, row: list[str], styles: list[str], indent: int) -> None:
        """One row without columns: all but its last cell as a paragraph, the last below."""
        words = "  ".join(text for text in row[:-1] if text)
        for number, line in enumerate(textwrap.wrap(words, max(30, self.width - indent - 2), break_on_hyphens=False)):
            self.console.print(Text(" " * (indent + 2 * (number > 0)) + line, STYLES[styles[0]]), soft_wrap=True)
        if row[-1]:
            self.console.print(Text(" " * (indent + 4) + row[-1], STYLES[styles[-1]]), soft_wrap=True)


def _together(rows: Iterable[tuple[str, str]]) -> list[tuple[str, str]]:
    """Neighbours that say the same of one file become one row with both line numbers."""
    out: list[tuple[str, str]] = []
    for place, text in rows:
        path, _, line = place.partition(":")
        if out and out[-1][1] == text and out[-1][0].partition(":")[0] == path and line:
            out[-1] = (f"{out[-1][0]},{line}", text)
        else:
            out.append((place, text))
    return out


def console() -> Console:
    """A console for standard output: colours on a terminal only, NO_COLOR respected, 80 columns when piped."""
    import sys

    if sys.stdout.isatty():
        return Console(highlight=False, markup=False, emoji=False)
    return Console(highlight=False, markup=False, emoji=False, width=80, no_color=True, force_terminal=False)
