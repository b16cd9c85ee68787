"""Where a controller would read wrong bytes that uses certain members throughout, each for what stands on it."""

from __future__ import annotations

from collections.abc import Iterable

from ...arrays.geometry import Concatenation, Geometry
from ...ranges import Range, clip, union
from ..document.row_map import Fault


def harmed(made: Geometry, faults: Iterable[Fault], used: frozenset[int], size: int) -> list[Range]:
    """Ranges of the volume, in bytes, that are not what they were where these members are used: their own data where
    they are at fault, and what would be computed from those for members that are not used.

    faults  of members, by position, as a pass with all that there is found them
    size    bytes of the volume
    """
    found = list[Range]()
    for fault in faults:
        if fault.member in used:
            first = made.start_bytes[fault.member]
            found += _hit(made, fault.member, max(0, fault.start - first), fault.end - first, used)
    return clip(union(found), 0, size)


def _hit(made: Geometry, member: int, start: int, end: int, used: frozenset[int]) -> Iterable[Range]:
    """Volume ranges that depend on bytes [start, end) of a member's data."""
    if isinstance(made, Concatenation):
        at = int(made.to_volume(member, made.start_bytes[member] + start))
        yield at, at + end - start
        return
    pattern, strip = made.pattern, made.strip_bytes
    for row in range(start // strip, min(made.rows, -(-end // strip))):
        low, high = max(start - row * strip, 0), min(end - row * strip, strip)
        period, phase = divmod(row, pattern.rows)
        if pattern.index[phase, member] >= 0:  # of copies, any may be the one that is read
            at = int(made.to_volume(member, made.cell_offset(period, phase, member)))
            yield at + low, at + high
        for group in pattern.groups:
            if (phase, member) not in group.cells:
                continue
            for cell, who in group.cells[: group.data]:
                at = int(made.to_volume(who, made.cell_offset(period, cell, who)))
                if at >= 0 and who not in used:
                    yield at + low, at + high
