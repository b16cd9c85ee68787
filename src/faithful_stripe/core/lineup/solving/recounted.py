"""Arrays whose second parity is not counted as here: solved as if it were, where its rule is found; else named.

Where Q stands on each image is seen without knowing the order, and so is the polynomial. With what Q would be over ours
in its place, the images are a pile like any other, and the one search finds what they are. What is handed over is read
by P alone.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace

import numpy as np

from ...arrays.gf256 import POLYNOMIAL
from ...arrays.layout import OTHER
from ...ranges import Range
from ...source import BlockSource, Buffer, check_bounds, read
from ..document.lineup_document import Lineup, Solution
from ..document.other_parity import Second
from ..document.told_facts import Evidence, What
from ..evidence.second_parity import LEAST_IMAGES, Found, powers, second_parity
from ..reading.samples import Pile, Tell

Search = Callable[[Pile], Solution]


class Recounted:
    """An image on which Q over our polynomial stands in its rows, computed from what stands on the others.

    sources  all of the array's images, in their order round the circle; place: which of them this is
    """

    def __init__(self, sources: Sequence[BlockSource], place: int, found: Found) -> None:
        assert found.rule is not None
        self.sources, self.place, self.strip, self.rule = sources, place, found.told.strip, found.rule
        self._tables = powers(POLYNOMIAL, len(sources))

    def __str__(self) -> str:
        return str(self.sources[self.place])

    @property
    def size(self) -> int:
        return self.sources[self.place].size

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Range]:
        return iter(self.sources[self.place].data_ranges(start, end))

    def read_into(self, offset: int, buffer: Buffer) -> None:
        view = memoryview(buffer).cast("B")
        check_bounds(self, self.size, offset, view.nbytes)
        at = offset
        while at < offset + view.nbytes:
            row = at // self.strip
            end = min((row + 1) * self.strip, offset + view.nbytes)
            part = view[at - offset : end - offset]
            if row % len(self.sources) == self.place:
                part[:] = self._q(row, at, end - at)
            else:
                self.sources[self.place].read_into(at, part)
            at = end

    def _q(self, row: int, at: int, size: int) -> bytes:
        count, made = len(self.sources), np.zeros(size, np.uint8)
        for step, exponent in self.rule(row).items():
            held = read(self.sources[(self.place + step) % count], at, size)
            made ^= self._tables[exponent][np.frombuffer(held, np.uint8)]
        return made.tobytes()


def with_other_parity(pile: Pile, found: Solution, search: Search, tell: Tell, last: bool = True) -> Solution:
    """What was found, and what images make that no decided array has, where P matches and Q is another one.

    last  whether all else was tried: only then is a second parity named that is computed in no way known here
    """
    decided = {n for a in found.arrays if a.strength != "undecided" for n in (*a.seated, *a.stale)}
    free = [i for i, name in enumerate(pile.names) if name not in decided and pile.data(i)]
    if len(free) < LEAST_IMAGES or pile.given is not None:
        return found
    tell("whether there is a second parity of another kind")
    other = second_parity(pile, free)
    if other is None or not other.told.strip or other.told.polynomial == POLYNOMIAL:
        return found
    if other.told.kind is Second.UNKNOWN and not last:
        return found
    told = other.told
    kept = tuple(a for a in found.arrays if not set(told.images) & {n for n in a.seated if n})
    note = ("membership", f"P matches at {told.matching} of {told.places} places of {len(told.images)} images")
    found = replace(found, trace=(*found.trace, note))
    if told.kind is Second.Q:
        made = _solved(pile, other, search)
        if made is not None:
            used = {n for a in (*kept, made) for n in (*a.seated, *a.stale)}
            return replace(found, arrays=(*kept, made), unused=tuple(n for n in pile.names if n not in used))
    unused = tuple(n for n in found.unused if n not in told.images)
    return replace(found, arrays=kept, unused=unused, parities=(told,))


def _solved(pile: Pile, other: Found, search: Search) -> Lineup | None:
    """The array that these images are with Q counted over our polynomial; read without it. None where none is found."""
    sources = [pile.sources[i] for i in other.circle]
    names, count = other.told.images, len(other.circle)
    part = Pile(names, [Recounted(sources, place, other) for place in range(count)], effort=pile.effort)
    arrays = search(part).arrays
    pile.bytes_read += part.bytes_read
    made = next((a for a in arrays if a.geometry.layout.level == "RAID6" and set(a.members) == set(names)), None)
    if made is None or made.strength == "undecided":
        return None
    layout = replace(made.geometry.layout, q_exponent=OTHER)
    counted = Evidence("second-parity", other.told.matching, What.OTHER_Q, name=f"{other.told.polynomial:#x}")
    evidence = (counted, *made.evidence)
    return replace(made, geometry=replace(made.geometry, layout=layout), evidence=evidence)
