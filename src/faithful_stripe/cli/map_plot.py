"""The picture of a map of rows: every row of an array that holds data, and where each member is not used."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any, BinaryIO

import numpy as np

from ..core.lineup.document.row_map import State
from ..core.units import binary_size

if TYPE_CHECKING:
    from ..core.lineup.document.lineup_document import Lineup

BINS = 400
"""Of so many parts of the rows each is drawn by the worst state in it."""

MOST_TICKS = 8

ORDER = (State.SOUND, State.UNPROTECTED, State.MENDED, State.OPEN)
SHADES = {State.SOUND: "#9aa7b1", State.UNPROTECTED: "#e9e9e9", State.MENDED: "#f0a202", State.OPEN: "#8c1c13"}
HATCHES = {State.SOUND: "", State.UNPROTECTED: "..", State.MENDED: "//", State.OPEN: "xx"}
WORDS = {
    State.SOUND: "sound", State.UNPROTECTED: "unprotected", State.MENDED: "computed in part", State.OPEN: "open",
}  # fmt: skip


class _Axis:
    """Rows that hold data, one after the other: where in the picture a row is."""

    def __init__(self, stretches: tuple[tuple[int, int, State], ...]) -> None:
        self.first = np.array([a for a, _b, _s in stretches], np.int64)
        self.last = np.array([b for _a, b, _s in stretches], np.int64)
        self.passed = np.concatenate([[0], np.cumsum(self.last - self.first)])
        self.count = int(self.passed[-1])

    def at(self, row: float) -> float:
        """How many rows with data stand before a row, parts of rows counted."""
        if not len(self.first):
            return 0.0
        stretch = max(0, int(np.searchsorted(self.first, row, side="right")) - 1)
        inside = min(max(row - float(self.first[stretch]), 0.0), float(self.last[stretch] - self.first[stretch]))
        return float(self.passed[stretch]) + inside

    def ticks(self) -> list[int]:
        """Rows to be named: where stretches begin, and some between."""
        if not self.count:
            return []
        starts = [int(a) for i, a in enumerate(self.first) if not i or a != self.last[i - 1]]
        wide = max(1, self.count // MOST_TICKS)
        chosen: list[int] = []
        for row in [*starts, *(self._row(x) for x in range(wide, self.count, wide))]:
            if all(abs(self.at(row) - self.at(other)) >= 0.8 * wide for other in chosen):
                chosen.append(row)
        return sorted(chosen)

    def _row(self, place: int) -> int:
        stretch = int(np.searchsorted(self.passed, place, side="right")) - 1
        return int(self.first[stretch]) + place - int(self.passed[stretch])


def plot_map(found: Lineup, path: Path | BinaryIO) -> None:
    """Draw the map into a PNG file."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot
    from matplotlib.patches import Patch

    assert found.rowmap is not None
    made, rowmap = found.geometry, found.rowmap
    count, axis = len(found.seated), _Axis(rowmap.stretches)
    figure, (top, low) = pyplot.subplots(
        2, 1, figsize=(12.8, 8.0), dpi=100, height_ratios=(1.0, max(3.0, 0.22 * count)), sharex=True
    )
    for first, last, state in _binned(rowmap.stretches, axis):
        _bar(top, first, last - first, 0, state)
    top.set_ylim(-0.5, 0.5)
    top.set_yticks([])
    top.set_title("Rows that hold data, one after the other", loc="left", fontsize=10)
    for fault in rowmap.faults:
        rows = [(at - made.start_bytes[fault.member]) / made.strip_bytes for at in (fault.start, fault.end)]
        start, end = (axis.at(row) for row in rows)
        _bar(low, start, max(end - start, axis.count / BINS / 2), fault.member, State.MENDED)
    for member, name in enumerate(found.seated):
        if name is None:
            _bar(low, 0, axis.count, member, State.UNPROTECTED)
    if found.former is not None:
        for axes in (top, low):
            axes.axvline(axis.at(found.former.row), color="black", linestyle="--", linewidth=1.2)
        words = f" grown up to row {found.former.row}"
        top.text(axis.at(found.former.row), 0.53, words, va="bottom", fontsize=9, clip_on=False)
    labels = [f"{p}  {Path(name).name if name else '(missing)'}" for p, name in enumerate(found.seated)]
    low.set_yticks(range(count), labels, fontsize=8)
    low.set_ylim(count - 0.5, -0.5)
    low.set_xlim(0, max(axis.count, 1))
    ticks = axis.ticks()
    low.set_xticks([axis.at(row) for row in ticks], [binary_size(row * made.strip_bytes) for row in ticks], fontsize=8)
    low.set_xlabel("row, by its place from where the data start on each member")
    title = "Where a member is not used, and what belongs there is computed from the others; by position"
    low.set_title(title, loc="left", fontsize=10)
    counts = [f"{rowmap.rows.get(s, 0)} {WORDS[s]}" for s in ORDER if rowmap.rows.get(s, 0)]
    head = f"{made.layout.level} of {count}, strip {binary_size(made.strip_bytes)}; rows: " + ", ".join(counts)
    figure.suptitle(head, x=0.02, ha="left", weight="bold")
    keys = [Patch(facecolor=SHADES[s], hatch=HATCHES[s], edgecolor="0.3", label=WORDS[s]) for s in ORDER]
    figure.legend(handles=keys, loc="lower right", ncols=4, frameon=False, fontsize=9)
    figure.tight_layout(rect=(0, 0.04, 1, 0.97))
    figure.savefig(path, format="png")
    pyplot.close(figure)


def _bar(axes: Any, start: float, width: float, line: int, state: State) -> None:
    axes.barh(
        line, width, left=start, height=0.8, align="center", color=SHADES[state], hatch=HATCHES[state],
        edgecolor="0.3", linewidth=0,
    )  # fmt: skip


def _binned(stretches: tuple[tuple[int, int, State], ...], axis: _Axis) -> list[tuple[float, float, State]]:
    """Stretches of rows as bars, no finer than BINS over all of them: the worst state of each part is seen."""
    if not axis.count:
        return []
    bins = min(BINS, axis.count)
    worst = np.full(bins, -1, np.int64)
    for first, last, state in stretches:
        a, b = (axis.at(row) / axis.count * bins for row in (first, last))
        worst[int(a) : max(int(a) + 1, int(np.ceil(b)))] = np.maximum(
            worst[int(a) : max(int(a) + 1, int(np.ceil(b)))], ORDER.index(state)
        )
    found: list[tuple[float, float, State]] = []
    for number, value in enumerate(worst.tolist()):
        low, high = number * axis.count / bins, (number + 1) * axis.count / bins
        if value >= 0 and found and found[-1][1] == low and found[-1][2] is ORDER[value]:
            found[-1] = (found[-1][0], high, ORDER[value])
        elif value >= 0:
            found.append((low, high, ORDER[value]))
    return found
