"""A change of an array's members that stopped in the middle: rows before it stand in the new layout, rows behind it
in the former one; and the volume over both."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, TypeVar

from ...arrays.geometry import Geometry, geometry
from ...ranges import Range, clip, union
from ...source import BlockSource, Buffer, check_bounds
from .row_map import RowMap

T = TypeVar("T")


@dataclass(frozen=True)
class Former:
    """The layout that an array had before members were added to it, and from where on it still stands so.

    geometry   of the array as it was
    positions  where its members stand in the array as it is, by their position as it was
    row        the first row of the members that is not in the new layout
    """

    geometry: Geometry
    positions: tuple[int, ...]
    row: int

    def border(self, made: Geometry) -> int:
        """The volume's first byte that stands in the former layout. made: the array as it is."""
        return made.pattern.strips_within(self.row) * made.strip_bytes

    def as_document(self) -> dict[str, Any]:
        """As JSON and TOML hold it; what is not said is as in the array as it is."""
        return {"positions": list(self.positions), "first_row": self.row, "volume_bytes": self.geometry.volume_bytes}

    @classmethod
    def from_document(cls, document: Mapping[str, Any], made: Geometry) -> Former:
        """Raises KeyError, TypeError, ValueError, GeometryError where it is not one. made: the array as it is."""
        positions, row = tuple(int(p) for p in document["positions"]), int(document["first_row"])
        if not all(0 <= p < made.members for p in positions) or len(set(positions)) < len(positions):
            raise ValueError("positions")
        found = cls(without(made, positions), positions, row)
        if not 0 < row < found.geometry.rows or found.border(made) >= found.geometry.volume_bytes:
            raise ValueError("first_row")
        return found


def without(made: Geometry, positions: Sequence[int]) -> Geometry:
    """The geometry of an array of some of the members, everything else the same. Raises GeometryError."""
    return resized(made, [made.start_bytes[p] for p in positions], [made.member_bytes[p] for p in positions])


def resized(made: Geometry, start_bytes: Sequence[int], member_bytes: Sequence[int]) -> Geometry:
    """The geometry of an array of as many members as sizes, everything else the same. Raises GeometryError."""
    chosen = made.layout
    return geometry(
        chosen.level, len(member_bytes), made.strip_bytes, start_bytes=tuple(start_bytes),
        member_bytes=tuple(member_bytes), rotation=chosen.rotation, data=chosen.data,
        copies=chosen.copies if chosen.level == "RAID10" else None, q_place=chosen.q_place,
        q_exponent=chosen.q_exponent, turn_rows=chosen.turn_rows, odd_strips=True,
    )  # fmt: skip


@dataclass(frozen=True)
class Zone:
    """Bytes of a volume that stand in one layout.

    positions  of the layout's members in the whole array
    volume     (first, one past the last) byte
    """

    geometry: Geometry
    positions: tuple[int, ...]
    volume: Range

    def chosen(self, members: Sequence[T]) -> list[T]:
        """Of something for every member of the array, that of the layout's members."""
        return [members[p] for p in self.positions]

    def inward(self, found: RowMap) -> RowMap:
        """A map of the array's rows with the faults of the layout's members, by their positions in it."""
        at = {p: i for i, p in enumerate(self.positions)}
        return replace(found, faults=tuple(replace(f, member=at[f.member]) for f in found.faults if f.member in at))

    def outward(self, found: RowMap) -> RowMap:
        """What a pass over the layout found, by positions in the whole array."""
        faults = tuple(replace(f, member=self.positions[f.member]) for f in found.faults)
        smaller = tuple((a, b, self.positions[who]) for a, b, who in found.smaller)
        return replace(found, faults=faults, smaller=smaller, open=tuple(clip(found.open, *self.volume)))


def zones(made: Geometry, former: Former | None) -> tuple[Zone, ...]:
    """The layouts in which a volume stands, from its first byte to its last."""
    every = tuple(range(made.members))
    if former is None:
        return (Zone(made, every, (0, made.volume_bytes)),)
    border = former.border(made)
    return (
        Zone(made, every, (0, border)),
        Zone(former.geometry, former.positions, (border, former.geometry.volume_bytes)),
    )


class Zoned:
    """A volume of which each zone is read in its own layout.

    sources  the volume in the layout of each zone, whole
    """

    def __init__(self, where: Sequence[Zone], sources: Sequence[BlockSource], name: str) -> None:
        self.zones, self.sources, self.name = tuple(where), tuple(sources), name

    def __str__(self) -> str:
        return self.name

    @property
    def size(self) -> int:
        return self.zones[-1].volume[1]

    def read_into(self, offset: int, buffer: Buffer) -> None:
        """Raises what reading the zones raises, OutOfBounds."""
        view = memoryview(buffer).cast("B")
        check_bounds(self, self.size, offset, len(view))
        for zone, source in zip(self.zones, self.sources, strict=True):
            for a, b in clip([zone.volume], offset, offset + len(view)):
                source.read_into(a, view[a - offset : b - offset])

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Range]:
        stop = self.size if end is None else min(end, self.size)
        found = list[Range]()
        for zone, source in zip(self.zones, self.sources, strict=True):
            for a, b in clip([zone.volume], start, stop):
                found += clip(source.data_ranges(a, b), a, b)
        yield from union(found)
