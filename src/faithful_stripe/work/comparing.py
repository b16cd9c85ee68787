"""Two lineups of the same images, compared: where their volumes differ, and what speaks for each."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from math import gcd, lcm
from pathlib import Path

import numpy as np
import numpy.typing as npt

from ..core.arrays.geometry import Concatenation, Geometry
from ..core.lineup.document.lineup_document import Lineup, LineupError
from ..core.lineup.reading.samples import Pile, Tell, silent
from ..core.lineup.structures.standing import standing, structures_on
from ..core.ranges import Range, total, union
from .lineup import load, locate, open_drive_of

MOST_STEPS = 4_000_000
"""Places of the volumes that are compared; where there are more, those of the first bytes."""


@dataclass(frozen=True)
class Comparison:
    """What two lineups differ in.

    set_up     what they state otherwise: (what, the first's, the second's)
    differ     ranges of the volume, in bytes, that stand elsewhere under the second; of the first `compared` bytes
    only_first, only_second  bytes that one volume has and the other has not
    standing   structures that state their address and stand right, under the first and under the second; None where
               the images were not read
    """

    first: Lineup
    second: Lineup
    set_up: tuple[tuple[str, str, str], ...]
    differ: tuple[Range, ...]
    compared: int
    only_first: int
    only_second: int
    standing: tuple[int, int] | None

    @property
    def same(self) -> bool:
        return not self.differ and not self.only_first and not self.only_second

    @property
    def bytes_differ(self) -> int:
        return total(self.differ)


def compare(
    first: Path, second: Path, numbers: tuple[int, int] = (1, 1), read: bool = True, tell: Tell = silent
) -> Comparison:  # fmt: skip
    """Compare the numbered arrays (from 1) of two lineup files. Raises LineupError, MediaError.

    read  whether the images are searched for structures, to see what speaks for each
    """
    one, other = (_array(path, number) for path, number in zip((first, second), numbers, strict=True))
    size = min(one.volume_bytes, other.volume_bytes)
    differ, compared = _differ(one, other, size)
    stand = _standing((first, one), (second, other), tell) if read else None
    return Comparison(
        one, other, tuple(_set_up(one, other)), tuple(differ), compared,
        one.volume_bytes - size, other.volume_bytes - size, stand,
    )  # fmt: skip


def _array(path: Path, number: int) -> Lineup:
    arrays = load(path).arrays
    if number > len(arrays):
        raise LineupError(what=f"{path}: there is no array {number}", to_do=f"it has {len(arrays)}")
    return arrays[number - 1]


def _set_up(one: Lineup, other: Lineup) -> list[tuple[str, str, str]]:
    told = []
    for made in (one, other):
        g = made.geometry
        layout = g.layout
        told.append({
            "level": layout.level, "members": str(g.members), "strip, bytes": str(g.strip_bytes),
            "rotation": layout.rotation or "", "data": layout.data or "", "spans": str(layout.spans),
            "Q": " ".join(w for w in (layout.q_place, layout.q_exponent) if w),
            "rows at a turn": str(layout.turn_rows), "spare space": layout.spare or "", "outer unit": layout.outer,
            "in the former layout from row": str(made.former.row) if made.former else "",
            "start, bytes": ", ".join(map(str, sorted(set(g.start_bytes)))),
            **{f"position {p}": Path(name).name if name else "missing" for p, name in enumerate(made.seated)},
        })  # fmt: skip
    keys = [*told[0], *(k for k in told[1] if k not in told[0])]
    return [(k, told[0].get(k, ""), told[1].get(k, "")) for k in keys if told[0].get(k) != told[1].get(k)]


def _differ(one: Lineup, other: Lineup, size: int) -> tuple[list[Range], int]:
    """Ranges of the first bytes of both volumes that stand at other places, and how many bytes were compared."""
    step = _step(one.geometry, other.geometry)
    period = lcm(*(_period(lineup, size) for lineup in (one, other)))
    compared = min(size, MOST_STEPS * step)
    if compared < size and period < compared:
        compared = compared // period * period
    names = sorted({name for lineup in (one, other) for name in lineup.seated if name is not None})
    found: list[Range] = []
    for low in range(0, compared, 1 << 20 if step < 4096 else step << 16):
        high = min(compared, low + (1 << 20 if step < 4096 else step << 16))
        at = np.arange(low, high, step, dtype=np.int64)
        apart = (_where(one, names, at) != _where(other, names, at)).any(axis=(0, 1))
        edges = np.flatnonzero(np.diff(np.concatenate([[0], apart.astype(np.int8), [0]])))
        found += [
            (low + int(a) * step, min(high, low + int(b) * step)) for a, b in zip(edges[::2], edges[1::2], strict=True)
        ]
        found = union(found)
    return found, compared


def _step(one: Geometry, other: Geometry) -> int:
    sizes = [g.strip_bytes for g in (one, other) if not isinstance(g, Concatenation)]
    edges = [b for g in (one, other) if isinstance(g, Concatenation) for b in g.member_bytes]
    return max(512, gcd(*sizes, *edges))


def _period(lineup: Lineup, size: int) -> int:
    made = lineup.geometry
    return size if isinstance(made, Concatenation) or lineup.former else made.pattern.strips * made.strip_bytes


def _where(lineup: Lineup, names: list[str], at: npt.NDArray[np.int64]) -> npt.NDArray[np.int64]:
    """(2, copies, places): which image, and where on it; copies sorted, and -1 where one is missing."""
    found = np.full((2, 1, at.size), -1, np.int64)
    for zone in lineup.zones:
        inside = (at >= zone.volume[0]) & (at < zone.volume[1])
        found[:, :, inside] = _in_zone(zone.geometry, zone.chosen(lineup.seated), names, at[inside])
    return found


def _in_zone(
    made: Geometry, seated: Sequence[str | None], names: list[str], at: npt.NDArray[np.int64]
) -> npt.NDArray[np.int64]:
    index = np.array([names.index(n) if n is not None else -1 for n in seated], np.int64)
    copies = 1 if isinstance(made, Concatenation) else made.pattern.places.shape[0]
    found = []
    for copy in range(copies):
        member, offset = made.to_member(at, copy)
        who = index[np.asarray(member, np.int64)]
        found.append(np.where(who >= 0, np.asarray(offset, np.int64) * 512 + who, -1))
    joined = np.sort(np.array(found), axis=0)
    return np.array([joined[-1:], joined[:1]])


def _standing(one: tuple[Path, Lineup], other: tuple[Path, Lineup], tell: Tell) -> tuple[int, int]:
    names = list(dict.fromkeys(n for _p, lineup in (one, other) for n in lineup.seated if n is not None))
    where = {n: p for p, lineup in (other, one) for n in lineup.seated if n is not None}
    with ExitStack() as stack:
        sources = [open_drive_of(stack, locate(name, where[name])) for name in names]
        known = structures_on(Pile(names, sources), tell)
        counts = []
        for _path, lineup in (one, other):
            images = [names.index(n) if n is not None else None for n in lineup.seated]
            zones = lineup.zones
            counts.append(sum(standing(z.geometry, z.chosen(images), known, z.volume) for z in zones))
    return counts[0], counts[1]
