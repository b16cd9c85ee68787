"""A hypothesis as a volume: its array's own layout and geometry, and what is read through it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from ...arrays.engine import Array
from ...arrays.geometry import STRIP_LEAST, Concatenation, Geometry
from ...arrays.layout import Layout, layout
from ..document.alternative import Alike, Alternative, Shape
from ..document.row_map import as_long
from ..reading.samples import Pile
from .assignment import Hypothesis


def final_layout(h: Hypothesis) -> tuple[Layout, tuple[int | None, ...]]:
    """The array's own layout and the images by position, mirrors written out."""
    if h.candidate.level == "RAID10":
        copies = h.candidate.copies
        members: list[int | None] = []
        for column in h.order:
            images: Sequence[int] = () if column is None else h.candidate.columns[column]
            members += [*images, *(None,) * (copies - len(images))]
        return layout("RAID10", len(members), copies=copies), tuple(members)
    return h.layout, tuple(None if c is None else h.candidate.columns[c][0] for c in h.order)


def final_geometry(h: Hypothesis, pile: Pile) -> tuple[Geometry, tuple[int | None, ...]]:
    chosen, members = final_layout(h)
    there = [i for i in members if i is not None]
    sizes = [pile.sources[i].size for i in there if i not in pile.short] or [pile.sources[i].size for i in there]
    unit = h.strip * chosen.pattern().unit_rows
    extent = max(unit, (min(sizes) - h.start) // h.strip * h.strip)
    kind = Concatenation if chosen.level == "SPAN" else Geometry
    n, strip = len(members), h.strip
    if chosen.level == "RAID1":
        extent = max(STRIP_LEAST, (min(sizes) - h.start) // STRIP_LEAST * STRIP_LEAST)
        strip = mirror_strip(extent)
    return kind(chosen, strip, (h.start,) * n, (extent,) * n), members


MIRROR_STRIP = 64 << 10
"""The most that a mirror is taken apart into: it has no strips, and any number says the same."""


def mirror_strip(extent: int) -> int:
    """In bytes, what a mirror's members are counted in so that as little as can be at their ends is left over: file
    systems keep copies of what matters most there.

    extent  of the data on each member, a multiple of STRIP_LEAST, in bytes
    """
    return min(MIRROR_STRIP, extent & -extent)


def rebuilt(h: Hypothesis, pile: Pile) -> Array:
    """The volume that a hypothesis gives, read from the images."""
    made, members = final_geometry(h, pile)
    return Array(made, as_long(made, [None if i is None else pile.sources[i] for i in members]), name="rebuilt volume")


def exchanged(best: Hypothesis) -> Hypothesis | None:
    """The best hypothesis with two columns exchanged: what a proof must be able to refuse."""
    known = [p for p, c in enumerate(best.order) if c is not None]
    if len(known) < 2:
        return None
    order = list(best.order)
    order[known[0]], order[known[1]] = order[known[1]], order[known[0]]
    return replace(best, order=tuple(order))


def alternative(h: Hypothesis, pile: Pile) -> Alternative:
    """A hypothesis as one that could be as well."""
    chosen, members = final_layout(h)
    names = tuple(None if i is None else pile.names[i] for i in members)
    return Alternative(Alike.LAYOUT, Shape(chosen, h.strip, h.start, names))


def words(h: Hypothesis, pile: Pile) -> str:
    """A hypothesis in one line, for a person."""
    chosen, members = final_layout(h)
    order = ", ".join("missing" if i is None else pile.names[i] for i in members)
    facts = [chosen.rotation, chosen.data, chosen.q_place, chosen.q_exponent if chosen.q_place else None]
    facts += [f"parity moves every {chosen.turn_rows} rows"] if chosen.turn_rows > 1 else []
    facts += [f"spare {chosen.spare}"] if chosen.spare else []
    facts += [f"outer unit one {chosen.outer}"] if chosen.outer != "row" else []
    layout_words = " ".join(f for f in facts if f) or "plain"
    start = f", data from byte {h.start}" if h.start else ""
    return f"{chosen.level}, strip {h.strip >> 10} KiB, {layout_words}{start}: {order} (score {h.score:.0f})"
