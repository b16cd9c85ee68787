"""The plot of a lineup: its stripe map, and which image's structures stand right at which position."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, BinaryIO

from ..core.units import binary_size
from ..media.whole import refuse_existing
from .lineup_words import layout_words

if TYPE_CHECKING:
    from ..core.lineup.document.lineup_document import Lineup
    from ..work.drawing import Row
    from ..work.lineup import EvidenceMap

MARKS = {"P": "////", "Q": "xxxx"}
"""Hatches of parity cells: told apart without colour."""

SHORTEST = 14


def plot_lineup(found: Lineup, drawn: Sequence[Row], evidence: EvidenceMap, path: Path | BinaryIO) -> None:
    """Draw the rows of an array, and the evidence by image and position, into a new PNG file.

    Raises MediaError when the file exists.
    """
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot

    if isinstance(path, Path):
        refuse_existing(path)
    figure, (left, right) = pyplot.subplots(1, 2, figsize=(12.8, 8.0), dpi=100, width_ratios=(1.0, 0.9))
    _stripes(left, found, drawn)
    _evidence(right, found, evidence)
    made = found.geometry
    words = layout_words(made.layout)
    head = f"{made.layout.level} of {made.members}, strip {binary_size(made.strip_bytes)}"
    figure.suptitle(", ".join([head, *words]) + f": {found.verdict}", x=0.02, ha="left", weight="bold")
    key = "P and Q hatched" if any(w in MARKS for row in drawn for w in row.cells) else "no parity"
    legend = (
        f"Left: numbers are strips of the volume, from 0, shaded in their order; {key}. Right: how many structures of "
        "an image stand right at a position, brighter where more do; outlined where the lineup puts it."
    )
    if any(row.former for row in drawn):
        legend += "\nStrips in brackets are read in the new layout; the images marked - were not members yet."
    figure.text(0.02, 0.01, legend, fontsize=8, color="0.25")
    figure.tight_layout(rect=(0, 0.03 + 0.02 * legend.count("\n"), 1, 0.97))
    figure.savefig(path, format="png")
    pyplot.close(figure)


def _short(name: str | None) -> str:
    if name is None:
        return "missing"
    text = Path(name).stem
    return text if len(text) <= SHORTEST else f"{text[: SHORTEST - 5]}…{text[-4:]}"


def _stripes(axes: Any, found: Lineup, drawn: Sequence[Row]) -> None:
    from matplotlib import colormaps
    from matplotlib.patches import Rectangle

    members = len(found.members)
    last = max((int(w) for row in drawn for w in row.cells if w.isdecimal()), default=1)
    first = min((int(w) for row in drawn for w in row.cells if w.isdecimal()), default=0)
    shades = colormaps["cividis"]
    size = max(4.0, min(9.0, 130 / max(members, len(drawn))))
    face: Any
    for y, row in enumerate(drawn):
        for x, word in enumerate(row.cells):
            if word.isdecimal():
                share = (int(word) - first) / max(1, last - first)
                face, hatch, ink = shades(0.95 - 0.75 * share), None, "black" if share < 0.6 else "white"
            else:
                face, hatch, ink = "white", MARKS.get(word), "black"
            axes.add_patch(Rectangle((x, y), 1, 1, facecolor=face, hatch=hatch, edgecolor="0.45", linewidth=0.6))
            box = {"facecolor": "white", "edgecolor": "none", "pad": 1.0} if hatch else None
            axes.text(x + 0.5, y + 0.5, word, ha="center", va="center", fontsize=size, color=ink, bbox=box)
    axes.set_xlim(0, members)
    axes.set_ylim(len(drawn), 0)
    axes.set_xticks([x + 0.5 for x in range(members)], [_short(n) for n in found.members], rotation=90, fontsize=8)
    axes.set_yticks([y + 0.5 for y in range(len(drawn))], [str(row.number) for row in drawn], fontsize=8)
    axes.set_ylabel("row")
    axes.set_title("Strips of the volume, P and Q by image", loc="left", fontsize=10)
    axes.tick_params(length=0)


def _evidence(axes: Any, found: Lineup, evidence: EvidenceMap) -> None:
    from matplotlib.patches import Rectangle

    counts = evidence.counts
    axes.set_title("Structures that stand right, by image and position", loc="left", fontsize=10)
    if not counts.any():
        axes.text(0.5, 0.5, "No structures that state their own address\nwere found on these images.", ha="center",
                  va="center", transform=axes.transAxes)  # fmt: skip
        axes.set_axis_off()
        return
    axes.imshow(counts, cmap="cividis", aspect="auto", vmin=0)
    size = max(4.0, min(9.0, 130 / max(counts.shape)))
    for y in range(counts.shape[0]):
        for x in range(counts.shape[1]):
            light = counts[y, x] > 0.55 * counts.max()
            if counts[y, x]:
                axes.text(x, y, str(counts[y, x]), ha="center", va="center", fontsize=size,
                          color="black" if light else "white")  # fmt: skip
    for position, name in enumerate(found.members):
        if name is not None:
            at = (position - 0.5, evidence.images.index(name) - 0.5)
            axes.add_patch(Rectangle(at, 1, 1, fill=False, edgecolor="white", linewidth=2.6))
            axes.add_patch(Rectangle(at, 1, 1, fill=False, edgecolor="black", linewidth=1.2))
    axes.set_xticks(range(counts.shape[1]), [str(p) for p in range(counts.shape[1])], fontsize=8)
    axes.set_yticks(range(counts.shape[0]), [_short(n) for n in evidence.images], fontsize=8)
    axes.set_xlabel("position; outlined: where the lineup puts the image")
    axes.tick_params(length=0)
