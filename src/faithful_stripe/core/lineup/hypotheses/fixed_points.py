"""What a person knows, as fixed points of the search: the candidates that agree with it, with it fixed in them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from ...arrays.levels import LEVELS
from ..document.known import MISSING, OPEN, Given
from ..evidence.membership import Membership
from .candidate import Candidate, Column, layouts_of


def candidates_given(
    given: Given, options: Sequence[Candidate], images: set[int], groups: Sequence[Membership], names: Sequence[str]
) -> list[Candidate]:
    """The candidates that agree with what is given, with it fixed in them; made for it where there are none."""
    if not given.anything:
        return list(options)
    fitting = [o for o in options if _fits(given, o)] or _made(given, images, groups)
    named = {n: i for i, n in enumerate(names)}
    return [
        replace(o, strip=given.strip_bytes or o.strip, start=given.start, phase=_phase(given, o), seats=seats)
        for o in fitting if (seats := _seats(given, o, named)) is not None
    ]  # fmt: skip


def _phase(given: Given, candidate: Candidate) -> int:
    both = given.start_bytes is not None and given.strip_bytes is not None
    return (given.start_bytes or 0) % (given.strip_bytes or 1) if both else candidate.phase


def _fits(given: Given, candidate: Candidate) -> bool:
    count = candidate.positions * candidate.copies
    return given.level in (None, candidate.level) and given.count in (None, count)


def _made(given: Given, images: set[int], groups: Sequence[Membership]) -> list[Candidate]:
    """Candidates of the images that belong together, as many positions as are given."""
    count = given.count or len(images)
    levels = [given.level] if given.level else [n for n in LEVELS if n not in ("RAID1", "RAID1E", "SPAN", "RAID10")]
    inside = tuple(tuple(sorted(g.images)) for g in groups if set(g.images) <= images and g.kind != "copies")
    columns: tuple[Column, ...] = tuple((i,) for i in sorted(images))
    index = {c[0]: n for n, c in enumerate(columns)}
    found: list[Candidate] = []
    for level in levels:
        nested = level in ("RAID50", "RAID60")
        for spans in [s for s in range(2, count // 2 + 1) if count % s == 0] if nested else [1]:
            made = layouts_of(level, count // 2 if level == "RAID10" else count, spans) if level in LEVELS else ()
            kept = [tuple(index[i] for i in g) for g in inside if len(g) <= count // spans]
            if made and len(columns) <= made[0].members:
                found.append(Candidate(level, made, columns, tuple(kept), 2 if level == "RAID10" else 1))
    return found


def _seats(given: Given, candidate: Candidate, named: dict[str, int]) -> tuple[int, ...] | None:
    """By position of the candidate: the column that stands there, -1 where that is open, -2 where none does; None where
    an image that is given takes no part in it."""
    if not given.order:
        return ()
    column = {image: c for c, images in enumerate(candidate.columns) for image in images}
    seats = [-1] * candidate.positions
    for position, name in enumerate(given.order):
        at = position // candidate.copies
        if name == MISSING and candidate.copies == 1:
            seats[at] = -2
        elif name not in (OPEN, MISSING):
            if named[name] not in column:
                return None
            seats[at] = column[named[name]]
    return tuple(seats)
