"""Beside other answers: whether two are one, and how sure one is beside another or beside what was not tried."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..document.calibration import chance
from ..document.four_verdicts import Reason, Sure, Verdict, least_of
from ..document.lineup_document import Lineup
from ..document.told_facts import Settle, Settles
from .volume_reading import MARGIN_NATS, PROBABLE_NATS

LEAST_DIFFERENCE = 1.0
"""Of two scores: those that are nearer to each other are as good as equal."""


def close_rival(lead: float) -> Settle:
    """What would settle it where another answer is so many nats behind."""
    return Settle.EQUAL_RIVAL if lead < LEAST_DIFFERENCE else Settle.RIVAL


def alike(one: Lineup, other: Lineup) -> bool:
    """Whether two answers put the same bytes after one another, wherever their volumes begin."""
    a, b = one.geometry, other.geometry
    if a.layout.level == "SPAN" or b.layout.level == "SPAN":
        return one.members == other.members
    first, period = max(*a.start_bytes, *b.start_bytes), a.strip_bytes * a.layout.members
    step = min(a.strip_bytes, b.strip_bytes)
    offsets = np.arange(first, first + 2 * max(period, b.strip_bytes * b.layout.members), step, dtype=np.int64)
    apart = set[int]()
    for position, name in enumerate(one.members):
        if name is None or name not in other.members:
            continue
        mine, theirs = a.to_volume(position, offsets), b.to_volume(other.members.index(name), offsets)
        if ((mine < 0) != (theirs < 0)).any():
            return False
        apart |= set((mine - theirs)[mine >= 0].tolist())
    return len(apart) == 1 and set(one.members) == set(other.members)


def beside_another(made: Lineup, other: Lineup) -> Lineup:
    """An answer beside one that was found by itself and has less: no surer than its lead over that allows."""
    lead = made.best - other.best
    most = Sure.UNDECIDED if lead <= PROBABLE_NATS else Sure.PROBABLE if lead <= MARGIN_NATS else Sure.CERTAIN
    signs = None if made.signs is None else replace(made.signs, lead=min(made.signs.lead, lead))
    made = replace(made, next=max(made.next, other.best), signs=signs, chance=None if signs is None else chance(signs))
    return _at_most(made, most, Reason.RIVAL, close_rival(lead))


def beside_untried(made: Lineup) -> Lineup:
    """An answer of a search that ran out of time before all was tried that could have been as good."""
    return _at_most(made, Sure.PROBABLE, Reason.UNTRIED, Settle.UNTRIED)


def _at_most(made: Lineup, most: Sure, reason: Reason, settle: Settle) -> Lineup:
    """An answer with order and start no surer than that."""
    order, start = made.verdicts.order, made.verdicts.start
    if least_of(order.sure, most) is order.sure:
        return made
    start = replace(start, sure=least_of(start.sure, most))
    return replace(
        made, verdicts=replace(made.verdicts, order=Verdict(most, reason), start=start), settle=Settles(settle)
    )
