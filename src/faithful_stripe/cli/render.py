"""Rendering: tables and lines, rich on a terminal, plain aligned text in a pipe.

Whoever wrote a text, a server, a disk or the name of a file: what cannot be seen in it is spelled out here.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import IO, TYPE_CHECKING, Any

from ..core.visible import visible

if TYPE_CHECKING:
    from ..core.lineup.samples import Tell

STYLES = {"OK": "", "Warning": "yellow", "Critical": "bold red", "head": "bold", "dim": "dim", "good": "green"}


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
    """A table; columns whose name starts with ">" are aligned to the right."""

    title: str
    columns: Sequence[str]
    rows: list[Sequence[Cell | str]] = field(default_factory=list)

    def add(self, *cells: Cell | str) -> None:
        self.rows.append(cells)


Part = Line | Table


def show(parts: Sequence[Part], err: bool = False) -> None:
    """Print the parts on standard output (or error): rich on a terminal, else plain aligned text."""
    stream = sys.stderr if err else sys.stdout
    if stream.isatty():
        _show_rich(parts, stream)
    else:
        for part in parts:
            for line in _plain_table(part) if isinstance(part, Table) else [visible(part.text)]:
                stream.write(line.rstrip() + "\n")
        stream.flush()


def _plain_table(table: Table) -> Iterator[str]:
    heads = [c.lstrip(">").upper() for c in table.columns]
    rows = [[visible(c.text if isinstance(c, Cell) else c) for c in row] for row in table.rows]
    widths = [max(len(r[i]) for r in [heads, *rows]) for i in range(len(heads))]
    if table.title:
        yield table.title
    for row in [heads, *rows]:
        cells = [
            text.rjust(width) if name.startswith(">") else text.ljust(width)
            for text, width, name in zip(row, widths, table.columns, strict=True)
        ]
        yield "  " + "  ".join(cells)


def _show_rich(parts: Sequence[Part], stream: IO[str]) -> None:
    from rich.console import Console
    from rich.table import Table as RichTable
    from rich.text import Text

    console = Console(file=stream, highlight=False)
    for part in parts:
        if isinstance(part, Line):
            console.print(Text(visible(part.text), STYLES.get(part.style, "")))
            continue
        made = RichTable(title=part.title or None, title_justify="left", title_style="bold", box=None, pad_edge=False)
        made.padding = (0, 2, 0, 0)
        for name in part.columns:
            right = name.startswith(">")
            made.add_column(Text(name.lstrip(">"), "dim"), justify="right" if right else "left", overflow="fold")
        for row in part.rows:
            cells = [c if isinstance(c, Cell) else Cell(c) for c in row]
            made.add_row(*(Text(visible(c.text), STYLES.get(c.style, "")) for c in cells))
        console.print(made)


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
    from ..core.lineup.samples import BEST, silent

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
