"""The geometry of an array: the one map between volume bytes and (member, offset), both ways, vectorised.

Reads, writes, rebuilds, checks, drawings, exports and the lineup solver all use this map. It is a frozen
value: two arrays with equal geometries put every byte in the same place.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from ..ranges import Range, clip, union
from .layout import UNUSED, Layout, Pattern, layout
from .levels import GeometryError

Int64 = npt.NDArray[np.int64]

STRIP_LEAST, STRIP_MOST = 4096, 4 << 20


class Runs(NamedTuple):
    """Consecutive pieces of a volume range, none crossing a strip: int64 arrays of one length.

    volume  where the piece starts in the volume, in bytes
    member  on which member it stands
    offset  where on that member, in bytes from the member's byte 0
    length  in bytes
    """

    volume: Int64
    member: Int64
    offset: Int64
    length: Int64


@dataclass(frozen=True)
class Geometry:
    """An array's layout with its sizes.

    layout        level, members, rotation, data order
    strip_bytes   a strip's length
    start_bytes   where data starts on each member
    member_bytes  the length of each member's data area from there; what follows the last whole row is unused
    """

    layout: Layout
    strip_bytes: int
    start_bytes: tuple[int, ...]
    member_bytes: tuple[int, ...]

    @cached_property
    def pattern(self) -> Pattern:
        return self.layout.pattern()

    @property
    def members(self) -> int:
        return self.layout.members

    @cached_property
    def rows(self) -> int:
        """Whole rows that fit on the smallest member; where groups span rows, whole sets of those."""
        unit = self.pattern.unit_rows
        return min(self.member_bytes) // self.strip_bytes // unit * unit

    @cached_property
    def volume_bytes(self) -> int:
        """Size of the volume."""
        return self.pattern.strips_within(self.rows) * self.strip_bytes

    @cached_property
    def _starts(self) -> Int64:
        return np.array(self.start_bytes, np.int64)

    @property
    def _q(self) -> dict[str, str | None]:
        return {"place": self.layout.q_place, "exponent": self.layout.q_exponent}

    def to_member(self, volume: npt.ArrayLike, copy: int = 0) -> tuple[Int64, Int64]:
        """Where volume bytes stand: (member, offset on it), int64 arrays of the shape of `volume`.

        volume  byte offsets in the volume, each in [0, volume_bytes)
        copy    which copy, for mirrored levels
        """
        at = np.asarray(volume, np.int64)
        strip, inner = np.divmod(at, self.strip_bytes)
        period, index = np.divmod(strip, self.pattern.strips)
        place = self.pattern.places[copy, index]
        member = place[..., 1]
        row = period * self.pattern.rows + place[..., 0]
        return member, self._starts[member] + row * self.strip_bytes + inner

    def to_volume(self, member: npt.ArrayLike, offset: npt.ArrayLike) -> Int64:
        """Which volume byte stands at (member, offset): int64 of the broadcast shape.

        P_CELL or Q_CELL where parity stands; UNUSED before the start, past the last row, or where
        the volume has ended.
        """
        who, at = np.broadcast_arrays(np.asarray(member, np.int64), np.asarray(offset, np.int64))
        row, inner = np.divmod(at - self._starts[who], self.strip_bytes)
        period, phase = np.divmod(row, self.pattern.rows)
        index = self.pattern.index[phase, who]
        volume = (period * self.pattern.strips + index) * self.strip_bytes + inner
        result = np.where(index >= 0, volume, index)
        outside = (row < 0) | (row >= self.rows) | (result >= self.volume_bytes)
        return np.where(outside, UNUSED, result)

    def runs(self, offset: int, length: int) -> Runs:
        """The pieces of the volume range [offset, offset + length), in order (first copies)."""
        if length == 0:
            none = np.empty(0, np.int64)
            return Runs(none, none, none, none)
        first, last = offset // self.strip_bytes, (offset + length - 1) // self.strip_bytes
        edges = np.arange(first, last + 2, dtype=np.int64) * self.strip_bytes
        edges[0], edges[-1] = offset, offset + length
        volume, sizes = edges[:-1], np.diff(edges)
        member, at = self.to_member(volume)
        return Runs(volume, member, at, sizes)

    def cell_offset(self, period: int, row: int, member: int) -> int:
        """Where the cell (row in the period, member) of the given period starts on its member."""
        return self.start_bytes[member] + (period * self.pattern.rows + row) * self.strip_bytes

    @property
    def redundant(self) -> bool:
        """Whether any strip stands, or can be computed, more than once."""
        return any(group.checks for group in self.pattern.groups)

    def row_ranges(self, rows: list[Range]) -> list[Range]:
        """Volume ranges of whole rows (first, last), the last ones clipped to the volume."""
        unit, strip = self.pattern.unit_rows, self.strip_bytes
        per_unit = self.pattern.strips * unit // self.pattern.rows * strip
        return clip(union((a // unit * per_unit, -(-b // unit) * per_unit) for a, b in rows), 0, self.volume_bytes)

    def as_document(self) -> dict[str, Any]:
        """The fields of this geometry as the lineup document names them (sizes in bytes)."""
        return {
            "level": self.layout.level,
            "strip_bytes": self.strip_bytes,
            "rotation": self.layout.rotation,
            "data": self.layout.data,
            **({"q": self._q} if self.layout.q_place else {}),
            **({"turn_rows": self.layout.turn_rows} if self.layout.turn_rows > 1 else {}),
            **({"spare": self.layout.spare} if self.layout.spare else {}),
            **({"outer": self.layout.outer} if self.layout.outer != "row" else {}),
            "start_bytes": _one_or_list(self.start_bytes),
            "member_bytes": _one_or_list(self.member_bytes),
            "volume_bytes": self.volume_bytes,
        }


class Concatenation(Geometry):
    """The geometry of SPAN: members one after the other, whatever their sizes. Strips have no meaning here."""

    @cached_property
    def _edges(self) -> Int64:
        return np.concatenate([[0], np.cumsum(self.member_bytes)]).astype(np.int64)

    @cached_property
    def volume_bytes(self) -> int:
        return sum(self.member_bytes)

    def to_member(self, volume: npt.ArrayLike, copy: int = 0) -> tuple[Int64, Int64]:
        at = np.asarray(volume, np.int64)
        member = np.searchsorted(self._edges, at, side="right") - 1
        return member, self._starts[member] + at - self._edges[member]

    def to_volume(self, member: npt.ArrayLike, offset: npt.ArrayLike) -> Int64:
        who, at = np.broadcast_arrays(np.asarray(member, np.int64), np.asarray(offset, np.int64))
        inner = at - self._starts[who]
        outside = (inner < 0) | (inner >= np.array(self.member_bytes)[who])
        return np.where(outside, UNUSED, self._edges[who] + inner)

    def runs(self, offset: int, length: int) -> Runs:
        inside = self._edges[(self._edges > offset) & (self._edges < offset + length)]
        edges = np.concatenate([[offset], inside, [offset + length]]).astype(np.int64)
        volume, sizes = (edges[:-1], np.diff(edges)) if length else (edges[:0], edges[:0])
        return Runs(volume, *self.to_member(volume), sizes)


def geometry(
    level: str,
    members: int,
    strip_bytes: int,
    *,
    member_bytes: int | tuple[int, ...],
    start_bytes: int | tuple[int, ...] = 0,
    rotation: str | None = None,
    data: str | None = None,
    spans: int | None = None,
    copies: int | None = None,
    q_place: str | None = None,
    q_exponent: str | None = None,
    turn_rows: int = 1,
    spare: str | None = None,
    outer: str = "row",
    odd_strips: bool = False,
) -> Geometry:
    """A checked geometry; sizes may be one number for all members or one per member.

    odd_strips  whether strips may be any multiple of 4 KiB: no array is made so, but some were, elsewhere

    Raises GeometryError: no such layout; a strip that is not a power of two from 4 KiB to 4 MiB;
    members smaller than one strip; as many sizes as members expected.
    """
    odd = strip_bytes % STRIP_LEAST if odd_strips else strip_bytes & (strip_bytes - 1)
    if not STRIP_LEAST <= strip_bytes <= STRIP_MOST or odd:
        raise GeometryError(
            what=f"a strip of {strip_bytes} bytes is not possible",
            to_do="strips are powers of two from 4KiB to 4MiB",
        )
    chosen = layout(
        level, members, rotation, data, spans=spans, copies=copies, q_place=q_place, q_exponent=q_exponent,
        turn_rows=turn_rows, spare=spare, outer=outer,
    )  # fmt: skip
    sizes = _per_member(member_bytes, members)
    if min(sizes) < strip_bytes * chosen.pattern().unit_rows:
        raise GeometryError(
            what=f"a member of {min(sizes)} bytes is smaller than one strip of {strip_bytes} bytes",
            to_do="use larger drives or smaller strips",
        )
    kind = Concatenation if chosen.level == "SPAN" else Geometry
    return kind(chosen, strip_bytes, _per_member(start_bytes, members), sizes)


def _per_member(value: int | tuple[int, ...], members: int) -> tuple[int, ...]:
    sizes = (value,) * members if isinstance(value, int) else tuple(value)
    if len(sizes) != members:
        raise GeometryError(what=f"{len(sizes)} sizes for {members} members", to_do="give one for each member")
    return sizes


def _one_or_list(values: tuple[int, ...]) -> int | list[int]:
    return values[0] if len(set(values)) == 1 else list(values)
