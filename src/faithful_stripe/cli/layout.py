"""Laying out tables and lines in any width: nothing breaks inside a word, a number or a name.

A table that is too wide first lets its long texts wrap, then the columns go that may (`name?1` goes before `name?2`),
and where that is not enough, or the width is below 60, each row becomes a block of its own, a line for each value.
"""

from __future__ import annotations

import re
import textwrap
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

WIDEST = 100_000
"""The width of what is not written to a terminal."""
BLOCKS_BELOW, FEW = 60, 3
"""A table with more columns than this is no table in fewer characters."""
TEXT, MEASURE, NARROW = 22, 32, 18
"""Characters from which a cell with blanks in it is a text that may wrap; the width that such a text is given before
any column goes, and the least one."""
INDENT, BETWEEN = 2, 2


@dataclass(frozen=True)
class Piece:
    """A part of a line; `style` is a key of `render.STYLES`."""

    text: str
    style: str = ""


Row = list[Piece]


@dataclass(frozen=True)
class Column:
    """A column: its name, whether it is aligned to the right, when it goes where there is no room (0: never), and
    whether its name is somebody's, which is shown as it is."""

    name: str
    right: bool
    goes: int
    own: bool = False

    @property
    def head(self) -> str:
        return self.name if self.own else self.name.upper()

    @classmethod
    def of(cls, spec: str) -> Column:
        """From `name`, `>name` (to the right), `name?2` (the second to go), `=name` (somebody's own).

        >>> Column.of(">rpm?1")
        Column(name='rpm', right=True, goes=1, own=False)
        """
        if spec.lstrip(">").startswith("="):
            return cls(spec.partition("=")[2], spec.startswith(">"), 0, own=True)
        found = re.fullmatch(r"(>?)(.*?)(?:\?(\d+))?", spec, re.DOTALL)
        assert found is not None
        return cls(found[2], bool(found[1]), int(found[3] or 0))


def lines_of(text: str, width: int) -> list[str]:
    """A line in as many as it takes, the further ones two characters further in, or below the text behind a word and
    two blanks, such as a severity."""
    if len(text) <= width:
        return [text]
    if (headed := re.match(r"\S{1,10} {2,}(?=\S)", text)) and headed.end() < width // 2:
        made = _wrapped(text[headed.end() :], width - headed.end())
        return [headed[0] + made[0], *(" " * headed.end() + line for line in made[1:])]
    inner = text.lstrip(" ")
    first = " " * (len(text) - len(inner))
    return _wrapped(inner, width, first, first + "  ")


_JOINED = re.compile(
    r"(?<=\d) (?=\d{3}\b|(?:[kKMGTPE]i?)?B\b|(?:[MG]B|Gbit)/s|bytes?\b|%|°C|h\b|s\b|min\b|days?\b|years?\b)"
    r"|(?<=\b1) (?=in \d)|(?<=\b1 in) (?=\d)"
)
"""The blank inside a number, and between a number and its unit."""


def _wrapped(text: str, width: int, first: str = "", further: str = "") -> list[str]:
    made = textwrap.wrap(
        _JOINED.sub("\0", text), max(width, len(further) + 8), initial_indent=first, subsequent_indent=further,
        break_long_words=False, break_on_hyphens=False,
    )  # fmt: skip
    return [line.replace("\0", " ") for line in made] or [""]


def table(columns: Sequence[Column], rows: Sequence[Row], width: int) -> Iterator[Row]:
    """The lines of a table, its head first, in a width."""
    shown = list(range(len(columns)))
    widths = _widths(columns, rows, shown, width, MEASURE)
    while widths is None and (leaving := [i for i in shown if columns[i].goes]):
        shown.remove(min(leaving, key=lambda i: columns[i].goes))
        widths = _widths(columns, rows, shown, width, MEASURE)
    widths = widths or _widths(columns, rows, shown, width, NARROW)
    if widths is None or (width < BLOCKS_BELOW and len(shown) > FEW):
        yield from _blocks(columns, rows, width)
        return
    yield _line([Piece(columns[i].head, "dim") for i in shown], [columns[i] for i in shown], widths)
    for row in rows:
        cells = [
            _wrapped(row[i].text, w) if len(row[i].text) > w else [row[i].text]
            for i, w in zip(shown, widths, strict=True)
        ]
        for number in range(max(map(len, cells))):
            parts = [
                Piece(c[number] if number < len(c) else "", row[i].style) for i, c in zip(shown, cells, strict=True)
            ]
            yield _line(parts, [columns[i] for i in shown], widths)


def _line(cells: Sequence[Piece], columns: Sequence[Column], widths: Sequence[int]) -> Row:
    made: Row = [Piece(" " * INDENT)]
    for number, (cell, column, width) in enumerate(zip(cells, columns, widths, strict=True)):
        space = " " * (width - len(cell.text))
        last = number == len(widths) - 1
        if column.right:
            made += [Piece(space), cell]
        else:
            made += [cell, Piece("" if last else space)]
        made += [] if last else [Piece(" " * BETWEEN)]
    return made


def _widths(
    columns: Sequence[Column], rows: Sequence[Row], shown: Sequence[int], width: int, measure: int
) -> list[int] | None:
    """How wide each shown column is; None where they do not fit. `measure`: what a text that may wrap needs."""
    full, least = [], []
    for i in shown:
        texts = [row[i].text for row in rows]
        head = len(columns[i].name)
        full.append(max([head, *map(len, texts)]))
        least.append(max([head, *(_least(text, measure) for text in texts)]))
    room = width - INDENT - BETWEEN * (len(shown) - 1)
    if sum(least) > room:
        return None
    made = list(least)
    spare = room - sum(least)
    for i in sorted(range(len(shown)), key=lambda i: full[i] - least[i]):  # whoever needs little gets it first
        share = spare // max(1, sum(1 for j in range(len(shown)) if full[j] > made[j]))
        given = min(full[i] - made[i], max(share, spare if full[i] - made[i] <= spare // 2 else share))
        made[i] += given
        spare -= given
    for i in range(len(shown)):
        given = min(full[i] - made[i], spare)
        made[i] += given
        spare -= given
    return made


def _least(text: str, measure: int) -> int:
    """The least width of a cell: its own, or, of a text that may wrap, its longest word's and a readable measure."""
    if len(text) <= TEXT or " " not in text:
        return len(text)
    return max(min(measure, len(text)), *(len(word) for word in _JOINED.sub("\0", text).split(" ")))


def _blocks(columns: Sequence[Column], rows: Sequence[Row], width: int) -> Iterator[Row]:
    """Each row as a block: the first column, then a line for each further value."""
    inner = max((len(c.name) for c in columns[1:]), default=0)
    for row in rows:
        head = f"{columns[0].name} {row[0].text}".strip()
        for number, text in enumerate(_wrapped(head, width - INDENT)):
            yield [Piece(" " * (INDENT if number == 0 else 2 * INDENT)), Piece(text, row[0].style or "head")]
        for column, cell in zip(columns[1:], row[1:], strict=True):
            if not cell.text.strip():
                continue
            for number, text in enumerate(_wrapped(cell.text, width - 2 * INDENT - inner - BETWEEN)):
                name = column.name if number == 0 else ""
                yield [Piece(" " * 2 * INDENT), Piece(name.ljust(inner + BETWEEN), "dim"), Piece(text, cell.style)]
