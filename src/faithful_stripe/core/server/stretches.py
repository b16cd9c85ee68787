"""Ranges of a volume whose margin differs from the rest of it: bad sectors, open rows, what is not covered yet, what a
rebuild has done already.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

from ..arrays.geometry import Geometry
from ..arrays.layout import UNUSED
from ..arrays.margin import margin
from ..ranges import Range, clip, subtract, union
from .model import Server
from .redundancy import covered_by_initialization, geometry_of, standing
from .things import SeatState, Volume
from .unknown import UNKNOWN, known

MOST_UNITS = 4096
"""Units of rows in a run of bad sectors that are looked at strip by strip; longer runs are told by their rows."""


@dataclass(frozen=True)
class Stretch:
    """A range of a volume, in bytes, whose margin differs from the whole volume's; -1: it cannot be read."""

    start: int
    end: int
    margin: int


def stretches(server: Server, volume: Volume, also: Collection[int] = ()) -> list[Stretch]:
    """The ranges of a volume whose margin differs from the rest of it, in order, with some more seats gone.

    Less: unreadable sectors of its members, rows that a check found inconsistent (and nobody acknowledged), rows that
    an initialization has not covered, and what its server tells as lost. More: what a rebuild has done already. Empty
    where the server tells too little of the layout to know.
    """
    made = geometry_of(volume)
    if made is None:
        return [Stretch(a, b, -1) for a, b in volume.lost]
    gone = standing(server, volume).gone
    away, more = gone | set(also), len(set(also) - gone)
    bad: dict[int, list[Range]] = {}
    for i, seat in enumerate(volume.seats):
        drive = server.seated_at(seat)
        if i not in away and drive and drive.unreadable is not UNKNOWN and drive.unreadable:
            bad[i] = [(a - made.start_bytes[i], b - made.start_bytes[i]) for a, b in drive.unreadable]
    whole = margin(made.pattern, away)
    found = [Stretch(a, b, left) for a, b, left in margins(made, away, bad)]
    bare = subtract(union(volume.inconsistent), union(volume.acknowledged))
    covered = covered_by_initialization(volume)
    if covered is not None and covered < made.volume_bytes:
        bare = union([*bare, (covered, made.volume_bytes)])
    if whole > -more and whole >= 0:
        found += [Stretch(a, b, max(-1, -more)) for a, b in bare]
    found += _rebuilt(volume, made, away, set(also), whole)
    known_bad = union((s.start, s.end) for s in found if s.margin < 0)
    found += [Stretch(a, b, -1) for a, b in subtract(volume.lost, known_bad)]
    return sorted(found, key=lambda s: (s.start, s.margin))


def _rebuilt(
    volume: Volume, made: Geometry, away: set[int] | frozenset[int], also: set[int], whole: int
) -> list[Stretch]:
    """What a rebuild has computed already: there its member counts."""
    running = {i: known(s.done, 0) for i, s in enumerate(volume.seats) if s.state is SeatState.REBUILDING}
    done = min((d for i, d in running.items() if i not in also), default=0)
    left = margin(made.pattern, set(away) - {i for i in running if i not in also})
    if not done or left <= whole:
        return []
    return [Stretch(a, b, left) for a, b in made.row_ranges([(0, done // made.strip_bytes)])]


def margins(made: Geometry, away: Collection[int], bad: Mapping[int, Sequence[Range]]) -> list[tuple[int, int, int]]:
    """Ranges of a volume (start, end, margin) that have less margin than it has with the members in `away` gone.

    bad  by member: ranges of its data area (bytes from `start_bytes`) that hold nothing that counts

    Within one unit of rows bytes at the same place of the strips belong together: two members that are bad in
    different sectors of a row make up for each other.
    """
    whole = margin(made.pattern, away)
    if whole < 0 or made.layout.level == "SPAN":
        return [] if whole < 0 else _concatenated(made, bad)
    strip, unit = made.strip_bytes, made.pattern.unit_rows
    span, end = strip * unit, made.rows * strip
    inside = {m: union(clip(ranges, 0, end)) for m, ranges in bad.items() if m not in away}
    edges = {x for ranges in inside.values() for a, b in ranges for y in (a, b) for x in (y // span, -(-y // span))}
    cuts = sorted(edges)
    found: dict[int, list[Range]] = {}
    for first, last in pairwise(cuts):
        here = {m: part for m, ranges in inside.items() if (part := clip(ranges, first * span, last * span))}
        if not here:
            continue
        full = {m for m, part in here.items() if part == [(first * span, last * span)]}
        if full == set(here) and (last - first > MOST_UNITS or margin(made.pattern, set(away) | full) >= 0):
            left = margin(made.pattern, set(away) | full)
            if left < whole:
                found.setdefault(left, []).extend(made.row_ranges([(first * unit, last * unit)]))
            continue
        for number in range(first, last):
            for a, b, left in _slices(made, set(away), here, number):
                if left < whole:
                    found.setdefault(left, []).append((a, b))
    listed = [(a, b, left) for left, ranges in found.items() for a, b in union(ranges)]
    return sorted(listed)


def _slices(
    made: Geometry, away: set[int], here: Mapping[int, list[Range]], number: int
) -> Iterator[tuple[int, int, int]]:
    """The ranges of one unit of rows, group by group, byte place by byte place."""
    strip, unit, pattern = made.strip_bytes, made.pattern.unit_rows, made.pattern
    period, phase = divmod(number * unit, pattern.rows)
    for index, group in enumerate(pattern.groups):
        cells = [(row, member) for row, member in group.cells if phase <= row < phase + unit]
        if len(cells) != len(group.cells):
            continue
        parts: list[tuple[int, int]] = []
        for row, member in cells:
            at = (period * pattern.rows + row) * strip
            if member in here:
                parts += [(a - at, b - at) for a, b in clip(here[member], at, at + strip)]
        missing = sum(member in away for _row, member in cells)
        edges = sorted({x for part in parts for x in part})
        for a, b in pairwise(edges):
            erased = sum(x <= a and b <= y for x, y in parts)
            left = max(-1, len(group.checks) - missing - erased) if erased else None
            if left is None:
                continue
            for k in range(group.data):
                at = (period * pattern.strips + index * group.data + k) * strip
                if at + b <= made.volume_bytes:
                    # a strip that can still be read itself is not lost with the parity that would cover it
                    row, member = group.cells[k]
                    own = member in away or any(
                        x <= a and b <= y
                        for x, y in _local(here.get(member, []), (period * pattern.rows + row) * strip, strip)
                    )
                    yield at + a, at + b, left if own or left >= 0 else 0


def _local(ranges: Sequence[Range], at: int, strip: int) -> list[Range]:
    return [(a - at, b - at) for a, b in clip(ranges, at, at + strip)]


def _concatenated(made: Geometry, bad: Mapping[int, Sequence[Range]]) -> list[tuple[int, int, int]]:
    found = []
    for member, ranges in bad.items():
        for a, b in clip(ranges, 0, made.member_bytes[member]):
            at = int(made.to_volume(member, made.start_bytes[member] + a))
            if at != UNUSED:
                found.append((at, at + b - a))
    return [(a, b, -1) for a, b in union(found)]
