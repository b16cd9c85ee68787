"""Margin: how many more member failures a volume is certain to survive, whichever they are."""

from __future__ import annotations

from collections.abc import Collection

from .layout import Pattern


def margin(pattern: Pattern, lost: Collection[int]) -> int:
    """Further failures that are certainly survived, with the members in `lost` gone or not yet rebuilt.

    Counted over the groups' sets of members: each survives as many losses as it has check equations
    (mirrors, P and P+Q are all maximum-distance codes), and the weakest set decides. -1 means that
    data are lost already.

    >>> from .layout import layout
    >>> five = layout("RAID5", 4).pattern()
    >>> margin(five, []), margin(five, [2]), margin(five, [0, 2])
    (1, 0, -1)
    """
    gone = set(lost)
    return max(-1, min(survives - len(gone & members) for members, survives in pattern.sets))
