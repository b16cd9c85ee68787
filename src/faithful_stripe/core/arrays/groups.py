"""The independent groups of a layout: how many members may be lost, and what a further loss does.

Pure counting, without the numerical libraries: `watch` asks it at every look. The chains over these groups, with
repairs, are in `risk.py`.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from .layout import Layout

HOURS_PER_YEAR = 8766.0


@dataclass(frozen=True)
class Redundancy:
    """The independent groups of a layout, all alike.

    groups  how many; size: members of each
    fatal   for 0, 1, 2, ... members lost: the fraction of the next failures that lose data, 1.0 last
    bare    so many members lost leave some data without redundancy: a sector that cannot be read is lost then
    reads   drives' worth of bytes that are read to rebuild a member then
    """

    groups: int
    size: int
    fatal: tuple[float, ...]
    bare: int
    reads: int


def redundancy(chosen: Layout) -> Redundancy:
    """The groups of a layout: spans of parity, mirrors, a ring for RAID 1E, everything for RAID 0 and spans.

    In a RAID 1E only the two neighbours of a lost member hold its copies. The fraction for k lost members follows
    from the number of ways to choose k of n in a ring without neighbours, n / (n - k) * C(n - k, k).
    """
    n, level = chosen.members, chosen.level
    if level in ("RAID0", "SPAN"):
        return Redundancy(1, n, (1.0,), 1, 0)
    if level == "RAID1":
        return Redundancy(1, n, (*[0.0] * (n - 1), 1.0), n - 1, 1)
    if level == "RAID10":
        copies = chosen.copies
        return Redundancy(n // copies, copies, (*[0.0] * (copies - 1), 1.0), copies - 1, 1)
    if level == "RAID1E":
        fatal = []
        for lost in range(n // 2 + 1):
            ways, more = _apart(n, lost), _apart(n, lost + 1)
            fatal.append(1.0 - (lost + 1) * more / (ways * (n - lost)))
        return Redundancy(1, n, tuple(fatal), 1, 1)
    size, parity = chosen.span_members, 2 if level in ("RAID6", "RAID60") else 1
    return Redundancy(chosen.spans, size, (*[0.0] * parity, 1.0), parity, size - parity)


def _apart(n: int, k: int) -> float:
    return 0.0 if 2 * k > n else n / (n - k) * math.comb(n - k, k)


def chance_without_repair(
    group: Redundancy, failures: float, hours: float, lost: int = 0, unreadable: float = 0.0
) -> float:
    """Chance that data are lost within `hours` when nothing is repaired meanwhile: one group starts with `lost`
    members gone, the others whole. `failures` of a drive per hour; `unreadable`: the chance that what is still to be
    read of one drive holds a sector that cannot be read, which loses data where no redundancy is left.

    Every member fails by then with the same chance, independently: the number of failures is binomial, and each of
    them loses data with the fraction that `fatal` has for it.
    """
    if lost >= len(group.fatal):
        return 1.0
    failing = -math.expm1(-failures * hours)
    meets = -math.expm1(group.reads * math.log1p(-unreadable)) if unreadable < 1 else 1.0
    one = _group_loss(group, failing, lost, meets)
    if lost >= group.bare:
        one = 1.0 - (1.0 - one) * (1.0 - meets)
    others = _group_loss(group, failing, 0, meets) if group.groups > 1 else 0.0
    return one + (1.0 - one) * -math.expm1((group.groups - 1) * math.log1p(-others)) if others < 1 else 1.0


def _group_loss(group: Redundancy, failing: float, lost: int, meets: float) -> float:
    left, survives, chance = group.size - lost, 1.0, 0.0
    for count in range(1, left + 1):
        at = lost + count - 1
        fatal = group.fatal[at] if at < len(group.fatal) else 1.0
        survives *= (1.0 - fatal) * (1.0 - (meets if at + 1 >= group.bare else 0.0))
        ways = math.comb(left, count) * failing**count * (1.0 - failing) ** (left - count)
        chance += ways * (1.0 - survives)
    return chance
