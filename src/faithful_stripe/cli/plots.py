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
    _labels(axes, ranked, others)
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
    figure.savefig(path)
    pyplot.close(figure)


def _floor(value: float) -> float:
    return max(value, 1e-12)


def _labels(axes: Any, ranked: list[Weight], others: list[Weight]) -> None:
    """A name beside each point, moved up where it would lie on another one's."""
    taken: list[tuple[float, float]] = []
    figure = axes.figure
    figure.canvas.draw()
    for w in [*ranked, *others]:
        x, y = axes.transData.transform((w.usable / 1e12, _floor(w.loss)))
        up = 0
        while any(abs(x - a) < 150 and abs(y + up - b) < 15 for a, b in taken):
            up += 15
        taken.append((x, y + up))
        spare = f" + {w.spares} spare{'s' if w.spares > 1 else ''}" if w.spares else ""
        first = w is ranked[0]
        axes.annotate(
            w.name + spare, (w.usable / 1e12, _floor(w.loss)), textcoords="offset points", xytext=(8, -3 + 0.72 * up),
            fontsize=9, color="black" if w in ranked else "0.5", weight="bold" if first else "normal",
            arrowprops={"arrowstyle": "-", "color": "0.7", "linewidth": 0.7} if up else None,
        )  # fmt: skip
