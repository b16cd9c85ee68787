"""What a volume tells of the places of its strips: on how many members, and in how many rows, something that was cut
states its own address, and whether another layout fits all of it. It is read from the volume before it is cut and from
what was done, never from an answer."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence, Set
from dataclasses import dataclass, replace
from pathlib import Path
from typing import BinaryIO

import numpy as np

from faithful_stripe.core.lineup.reading.samples import BLOCK, Pile
from faithful_stripe.core.lineup.structures.standing import structures_on
from faithful_stripe.media.image import ImageFile

from .slicer import Spec, places

STRIPS = 100_000
"""Of a volume, those that are looked at."""

PERIODS = 2
"""Turns of parity round all members within which two layouts differ, if they do."""

ROTATIONS = tuple((r, d) for r in ("parity-N", "parity-0") for d in ("restart", "continuation"))


@dataclass(frozen=True)
class Told:
    """Positions of which something is told, and the rows in which it stands; of a mirror or a pair, all copies.

    rival  another layout under which everything that is told stands where it does, with the members placed to fit
    """

    positions: frozenset[int] = frozenset()
    rows: frozenset[int] = frozenset()
    rival: Spec | None = None


def told(volume: Path, spec: Spec, wiped: int = 0) -> Told:
    """What a volume tells of an array.

    wiped  up to which offset of its members everything was overwritten
    """
    with ImageFile(volume) as image:
        found = structures_on(Pile(["volume"], [image]))
        size = image.size
    addresses = {int(offset) for a in found.anchors for offset in a.offset.tolist()}
    cells = places(spec, min(STRIPS, size // spec.strip + 1))
    here = [(m, at) for k in {a // spec.strip for a in addresses} for m, at in cells.get(k, ()) if at >= wiped]
    rival = None
    if spec.level in ("RAID0", "RAID4", "RAID5", "RAID50"):
        # a copy in a journal tells nothing of where it stands: most of what is right is as far from what it states
        own = {int(at) for a in found.anchors for at in a.offset[_modal(a.offset - a.address)].tolist()}
        kept = [a for a in own if all(at >= wiped for _m, at in cells.get(a // spec.strip, ()))]
        with volume.open("rb") as file:
            copied = {a for a in kept if spec.level != "RAID0" and _alone(file, spec, cells, a)}
        rival = next((other for other in rivals(spec) if fits(spec, other, kept, copied)), None)
    return Told(frozenset(m for m, _at in here), frozenset((at - spec.start) // spec.strip for _m, at in here), rival)


def _modal(differences: np.ndarray) -> np.ndarray:
    values, counts = np.unique(differences, return_counts=True)
    return np.asarray(differences == values[counts.argmax()])


def rivals(spec: Spec) -> Iterator[Spec]:
    """Layouts of as many members, from the same start, that a volume must tell from its own: of other strips, of other
    rotations, and of RAID 4 and 5 the other one."""
    turning = [replace(spec, rotation=r, data=d) for r, d in ROTATIONS]
    fixed = [replace(spec, level="RAID4", rotation="fixed-N", data=None)]
    shapes = {
        "RAID0": [spec], "RAID50": turning,
        "RAID4": [spec, *(replace(s, level="RAID5") for s in turning)], "RAID5": [*turning, *fixed],
    }[spec.level]  # fmt: skip
    for shape in shapes:
        for strip in (spec.strip, spec.strip // 2, spec.strip * 2):
            if (shape, strip) != (spec, spec.strip) and strip >= 4096:
                yield replace(shape, strip=strip)


def _alone(file: BinaryIO, spec: Spec, cells: Mapping[int, Set[tuple[int, int]]], address: int) -> bool:
    """Whether nothing else stands in the row of a span at the place of something: its parity is a copy of it then."""
    ((member, at),) = cells[address // spec.strip]
    for other in _span_of(spec, member):
        kind, number = spec.row((at - spec.start) // spec.strip)[other]
        if kind == "D" and other != member:
            file.seek(number * spec.strip + address % spec.strip // BLOCK * BLOCK)
            if file.read(BLOCK).strip(b"\0"):
                return False
    return True


def _span_of(spec: Spec, member: int) -> range:
    width = spec.members // spec.spans
    return range(member // width * width, member // width * width + width)


def fits(spec: Spec, other: Spec, addresses: Collection[int], copied: Set[int] = frozenset()) -> bool:
    """Whether everything that a volume states, at so many bytes of it, stands where it does under another layout as
    well, with the members in whatever order, and the layouts are not the same.

    copied  those of which the parity is a copy, so that either may be taken for the other
    """
    most = max(addresses, default=0)
    mine, theirs = (places(s, most // s.strip + 1) for s in (spec, other))
    unit = min(spec.strip, other.strip)
    ways: list[list[dict[int, int]]] = []  # for each piece, which member must stand where
    whole = {a // unit for a in addresses if a not in copied}
    for piece in sorted({a // unit for a in addresses}):
        a = piece * unit
        ((member, at),), ((position, there),) = mine[a // spec.strip], theirs[a // other.strip]
        if at + a % spec.strip != there + a % other.strip:
            return False
        ways.append([{member: position}])
        if piece not in whole:
            parity, of_theirs = _parity_of(spec, member, at), _parity_of(other, position, there)
            ways[-1] = [{member: position, parity: of_theirs}, {parity: position, member: of_theirs}]
    return any(_apart(spec, other, seat) for seat in _seats(sorted(ways, key=len)))


def _parity_of(spec: Spec, member: int, at: int) -> int:
    """The member that holds the parity of a strip."""
    row = spec.row((at - spec.start) // spec.strip)
    return next(m for m in _span_of(spec, member) if row[m][0] == "P")


def _seats(ways: Sequence[Sequence[dict[int, int]]]) -> list[dict[int, int]]:
    """The ways to place members, each in one place, so that each piece has one of its own."""
    held: list[dict[int, int]] = [{}]
    for several in ways:
        joined = [seat | one for seat in held for one in several if all(seat.get(m, p) == p for m, p in one.items())]
        apart = [seat for seat in joined if len(set(seat.values())) == len(seat)]
        held = list({tuple(sorted(seat.items())): seat for seat in apart}.values())[:MOST_SEATS]
    return held


MOST_SEATS = 64
"""Ways to place members that are followed at once."""


def _apart(spec: Spec, other: Spec, seat: dict[int, int]) -> bool:
    """Whether two layouts, with members placed so, are not the same."""
    # where nothing tells of a member, and one place is left, it is there
    left = [set(range(spec.members)) - set(seat), set(range(spec.members)) - set(seat.values())]
    seat |= dict(zip(*left, strict=True)) if len(left[0]) == 1 else {}
    unit = min(spec.strip, other.strip)
    count = PERIODS * spec.members**2 * max(spec.strip, other.strip) // unit
    mine, theirs = (places(s, count * unit // s.strip + 1) for s in (spec, other))
    for a in range(0, count * unit, unit):
        ((member, at),), ((position, there),) = mine[a // spec.strip], theirs[a // other.strip]
        if at + a % spec.strip != there + a % other.strip or seat.get(member) != position:
            return True
    return False
