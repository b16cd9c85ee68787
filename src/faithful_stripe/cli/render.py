"""Rendering: tables and lines, rich on a terminal, plain aligned text in a pipe.

Whoever wrote a text, a server, a disk or the name of a file: what cannot be seen in it is spelled out here.
"""

from __future__ import annotations

import os
import shutil
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import IO, TYPE_CHECKING, Any

from ..core.visible import visible
from . import layout

if TYPE_CHECKING:
    from ..core.lineup.reading.samples import Tell

LEAST = 20
"""Characters: no terminal is taken to be narrower."""

STYLES = {
    "OK": "", "Warning": "color(136)", "Critical": "bold color(167)", "head": "bold", "dim": "color(243)",
    "good": "color(64)", "bar": "color(31)",
}  # fmt: skip
"""Of the 256 colours, ones that are read on white, on dark grey and on black: a terminal's own yellow is not seen on
white, its red hardly on black. Where a terminal has fewer, the nearest is taken. Nothing is told by colour alone."""


@dataclass(frozen=True)
class Line:
    """A line of text; `style` is a key of STYLES."""

    text: str = ""
    style: str = ""


@dataclass(frozen=True)
class Cell:
    text: str
    style: str = ""


@dataclass
class Table:
    """A table; columns by name, as `layout.Column.of` reads them: ">name" is aligned to the right, "name?1" is the
    first to go where there is no room."""

    title: str
    columns: Sequence[str]
    rows: list[Sequence[Cell | str]] = field(default_factory=list)

    def add(self, *cells: Cell | str) -> None:
        self.rows.append(cells)


Part = Line | Table


def show(parts: Sequence[Part], err: bool = False) -> None:
    """Print the parts on standard output (or error): in colour and as wide as the terminal is, else plain and as wide
    as they are, unless FSTRIPE_WIDTH says how wide."""
    stream = sys.stderr if err else sys.stdout
    rows = [row for part in parts for row in _rows(part, width_of(stream))]
    if stream.isatty():
        _show_styled(rows, stream)
        return
    for row in rows:
        stream.write("".join(piece.text for piece in row).rstrip() + "\n")
    stream.flush()


def width_of(stream: IO[str]) -> int:
    """How many characters a line has there: as many as FSTRIPE_WIDTH says, or the terminal; in a pipe any number."""
    told = os.environ.get("FSTRIPE_WIDTH", "")
    if told.isascii() and told.isdecimal() and int(told[:9]) > 0:
        return max(LEAST, int(told[:9]))
    return max(LEAST, shutil.get_terminal_size().columns) if stream.isatty() else layout.WIDEST


def _rows(part: Part, width: int) -> Iterator[layout.Row]:
    if isinstance(part, Line):
        for text in layout.lines_of(visible(part.text), width):
            yield [layout.Piece(text, part.style)]
        return
    if part.title:
        yield [layout.Piece(part.title, "head")]
    cells = [[c if isinstance(c, Cell) else Cell(c) for c in row] for row in part.rows]
    rows = [[layout.Piece(visible(c.text), c.style) for c in row] for row in cells]
    yield from layout.table([layout.Column.of(name) for name in part.columns], rows, width)


def _show_styled(rows: Sequence[layout.Row], stream: IO[str]) -> None:
    from rich.console import Console
    from rich.text import Text

    console = Console(file=stream, highlight=False)
    for row in rows:
        made = Text.assemble(*((piece.text, STYLES.get(piece.style, "")) for piece in row))
        made.rstrip()
        console.print(made, no_wrap=True, overflow="ignore", crop=False)


@contextmanager
def progress(what: str) -> Iterator[Callable[[int, int], None]]:
    """A progress bar on standard error while something copies; nothing in a pipe.

    The function it gives takes (bytes done, bytes in all).
    """
    if not sys.stderr.isatty():
        yield lambda _done, _whole: None
        return
    from rich.console import Console
    from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn, TimeRemainingColumn, TransferSpeedColumn

    columns: list[Any] = [
        TextColumn("{task.description}"), BarColumn(), DownloadColumn(binary_units=True), TransferSpeedColumn(),
        TimeRemainingColumn(),
    ]  # fmt: skip
    with Progress(*columns, console=Console(stderr=True), transient=True) as bar:
        task = bar.add_task(what, total=None)
        yield lambda done, whole: bar.update(task, completed=done, total=whole)


@contextmanager
def waiting(what: str) -> Iterator[Tell]:
    """What is being looked at, how many parts of that are done, and the best so far, on standard error; nothing in a
    pipe. The bar pulses while nobody knows how many parts there are."""
    from ..core.lineup.reading.samples import BEST, silent

    if not sys.stderr.isatty():
        yield silent
        return
    from rich.console import Console, Group
    from rich.live import Live
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn
    from rich.text import Text

    bar = Progress(
        TextColumn(what),
        BarColumn(24, complete_style="cyan", finished_style="cyan"),
        MofNCompleteColumn(),
        TextColumn("{task.description}"),
    )
    task, best = bar.add_task("", total=None), Text("", no_wrap=True, overflow="ellipsis")

    def tell(text: str, done: int = 0, of: int = 0, /) -> None:
        if text.startswith(BEST):
            best.plain = text
        bar.update(task, description="" if text.startswith(BEST) else text, completed=done, total=of or None)

    with Live(Group(bar, best), console=Console(stderr=True), transient=True, refresh_per_second=8):
        yield tell
