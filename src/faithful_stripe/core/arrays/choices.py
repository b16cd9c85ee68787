"""The sensible layouts for a number of drives: every level, every way to split the spans, spares set aside."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from .groups import redundancy
from .layout import Layout, layout
from .levels import MOST_MEMBERS, MOST_SPANS
from .margin import margin

ALIGN = 1 << 20
"""Members are counted in whole multiples of this many bytes."""


@dataclass(frozen=True)
class Choice:
    """A way to use some drives.

    layout     the level over its members; spares: drives set aside
    members    the sizes of the members' drives; capacities in bytes
    unequal    bytes of the members that stay unused because the smallest sets the size
    margin     failures certainly survived; best: failures survived if they fall where they hurt least
    """

    layout: Layout
    spares: int
    members: tuple[int, ...]
    usable: int
    unequal: int
    margin: int
    best: int

    @property
    def name(self) -> str:
        """Level and split, such as "RAID50 3x3" or "RAID6 of 8"."""
        spans, n = self.layout.spans, self.layout.members
        if self.layout.level == "RAID10" and self.layout.copies > 2:
            return f"RAID10 of {n}, mirrors of {self.layout.copies}"
        return f"{self.layout.level} {spans}x{n // spans}" if spans > 1 else f"{self.layout.level} of {n}"


def choices(sizes: Sequence[int], spares: Sequence[int] = (0, 1, 2)) -> Iterator[Choice]:
    """Every sensible layout of drives with these sizes in bytes, for each number of spares set aside.

    Spares are the largest drives: one must be at least as large as every member. RAID 4 is left out (its one parity
    drive is in the way of every write), and so are mirrors of more than three.
    """
    ordered = sorted(sizes)
    for aside in spares:
        members = ordered[: len(ordered) - aside] if aside else ordered
        for chosen in _layouts(len(members)):
            if chosen.level == "RAID0" and aside:
                continue  # a spare cannot help where nothing can be rebuilt
            yield _choice(chosen, aside, tuple(members))


def _layouts(n: int) -> Iterator[Layout]:
    if 1 <= n <= MOST_MEMBERS:
        yield layout("RAID0", n)
    if n in (2, 3):
        yield layout("RAID1", n)
    if 3 <= n <= MOST_MEMBERS:
        if n % 2:
            yield layout("RAID1E", n)
        yield layout("RAID5", n)
    if 4 <= n <= MOST_MEMBERS:
        yield layout("RAID6", n)
        if n % 2 == 0:
            yield layout("RAID10", n)
        if n % 3 == 0 and n >= 6:
            yield layout("RAID10", n, copies=3)
    for spans in range(2, MOST_SPANS + 1):
        size, rest = divmod(n, spans)
        if rest == 0 and 3 <= size <= MOST_MEMBERS:
            yield layout("RAID50", n, spans=spans)
        if rest == 0 and 4 <= size <= MOST_MEMBERS:
            yield layout("RAID60", n, spans=spans)


def _choice(chosen: Layout, spares: int, members: tuple[int, ...]) -> Choice:
    each = min(members) // ALIGN * ALIGN
    pattern, groups = chosen.pattern(), redundancy(chosen)
    return Choice(
        layout=chosen,
        spares=spares,
        members=members,
        usable=each * chosen.members * pattern.strips // (pattern.rows * chosen.members),
        unequal=sum(members) - min(members) * len(members),
        margin=margin(pattern, []),
        best=groups.groups * (len(groups.fatal) - 1),
    )
