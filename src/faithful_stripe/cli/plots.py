"""Plots: layouts as points of capacity against risk."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..core.units import chance
from ..media.whole import refuse_existing

if TYPE_CHECKING:
    from ..work.weigh import Weight

MARKS = {0: ("x", "survives no failure"), 1: ("o", "survives any 1"), 2: ("s", "survives any 2")}
"""Mark and words by margin: readable without colour."""


def plot_weights(ranked: list[Weight], others: list[Weight], path: Path, years: float) -> None:
    """Draw every layout's capacity against its chance of loss into a new PNG file, those not asked for in grey.

    Raises MediaError when the file exists.
    """
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot

    refuse_existing(path)
    figure, axes = pyplot.subplots(figsize=(12.8, 8.0), dpi=100)
    for margin, (mark, words) in MARKS.items():
        for group, color in ((others, "0.6"), (ranked, "black")):
            mine = [w for w in group if min(w.margin, 2) == margin]
            x, y = [w.usable / 1e12 for w in mine], [_floor(w.loss) for w in mine]
            label = words if group is ranked else None
            axes.plot(x, y, mark, markersize=8, label=label, color=color, markerfacecolor="white", markeredgewidth=1.6)
    everything = [*ranked, *others]
    axes.set_xlim(0, 1.2 * max(w.usable for w in everything) / 1e12)
    axes.set_yscale("log")
    axes.invert_yaxis()
    axes.axhline(1e-3, color="0.4", linewidth=1.0, linestyle="--")
    axes.annotate(
        "above this line: chance of loss below 1 in 1000, from which the one with the most capacity comes first",
        (0.01, 1e-3), xycoords=("axes fraction", "data"), xytext=(0, 4), textcoords="offset points", fontsize=8,
        color="0.3",
    )  # fmt: skip
    axes.yaxis.set_major_formatter(lambda value, _position: chance(value) if value < 1 else "certain")
    axes.set_xlabel("usable capacity in TB: more is to the right")
    axes.set_ylabel(f"chance of losing data in {years:g} years: safer is higher")
    axes.set_title(f"{ranked[0].name} comes first of {len(everything)} layouts", loc="left")
    axes.legend(loc="upper right", frameon=False)
    axes.grid(True, which="major", color="0.92")
    axes.set_axisbelow(True)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    figure.tight_layout()
    _labels(axes, ranked, others)  # where everything stands is settled now
    figure.savefig(path)
    pyplot.close(figure)


def _floor(value: float) -> float:
    return max(value, 1e-12)


def _labels(axes: Any, ranked: list[Weight], others: list[Weight]) -> None:
    """A name beside each point, where it covers no mark and no other name; led to it by a line where it stands off."""
    figure = axes.figure
    figure.canvas.draw()
    pen = figure.canvas.get_renderer()
    everything = [*ranked, *others]
    points = [axes.transData.transform((w.usable / 1e12, _floor(w.loss))) for w in everything]
    taken = [(x - MARK, y - MARK, x + MARK, y + MARK) for x, y in points]
    inside = axes.get_window_extent()
    for w, (x, y) in zip(everything, points, strict=True):
        spare = f" + {w.spares} spare{'s' if w.spares > 1 else ''}" if w.spares else ""
        weight = "bold" if w is ranked[0] else "normal"
        text = axes.annotate(
            w.name + spare, (x, y), xycoords="figure pixels", fontsize=9, weight=weight,
            color="black" if w in ranked else "0.5",
        )  # fmt: skip
        box = text.get_window_extent(pen)
        wide, high = box.width + 2, box.height + 2
        places = [
            (x + dx if right else x - dx - wide, y + dy - high / 2)
            for dx, dy in ((12, 0), (16, 14), (16, -14), (24, 28), (24, -28), (36, 44), (36, -44), (48, 60), (48, -60))
            for right in (True, False)
        ]  # fmt: skip
        free = [(a, b) for a, b in places if a > inside.x0 and not _covers((a, b, a + wide, b + high), taken)]
        a, b = free[0] if free else places[0]
        taken.append((a, b, a + wide, b + high))
        text.set_position((a, b))
        if abs(b + high / 2 - y) > 1:
            near = a if a > x else a + wide
            axes.annotate(
                "", (x, y), (near, b + high / 2), xycoords="figure pixels", textcoords="figure pixels",
                arrowprops={"arrowstyle": "-", "color": "0.6", "linewidth": 0.8, "shrinkA": 1, "shrinkB": 5},
            )  # fmt: skip


MARK = 7
"""Pixels from the middle of a mark to its edge, and a little."""


def _covers(box: tuple[float, float, float, float], taken: list[tuple[float, float, float, float]]) -> bool:
    return any(box[0] < t[2] and t[0] < box[2] and box[1] < t[3] and t[1] < box[3] for t in taken)
