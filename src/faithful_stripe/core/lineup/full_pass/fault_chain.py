"""Fault chain: who is at fault along the rows that do not match, as states of a hidden Markov chain.

What is damaged on one drive lies together: the member at fault stays the same from piece to piece. Where it changes,
and anew after a gap, it is drawn from how often each was at fault so far. What stands at a piece speaks for each member
by so many nats; a piece is laid at one where, of all ways through the chain, nearly all have it there. Forward and
backward sums after Baum, Petrie, Soules and Weiss (1970).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]

TURN_TOUCHING, TURN_NEAR = 0.0005, 0.01
"""How often another member is at fault in the next piece, where that touches the one before, and where it is near, at
least."""

SPREAD_TOUCHING, SPREAD_NEAR = 0.1, 1.0
"""And what share of how often two stretches at random are of different members: where two drives are hurt all over,
what is near one's place may as well be the other's."""

FEW = 0.01
"""What a member counts that was never seen at fault: a second drive that is wrong as well is rare."""

MOST_COUNTED = 100.0
"""Stretches at most by which what is elsewhere counts."""

SEVERAL_SHARE = 0.02
"""How often several are at fault at one place, where more than one is anywhere: none can be computed there."""

LEAST_SPREAD = 0.02
"""What of that is left where one member alone is ever at fault."""

SURE_SHARE, TORN_WEIGHT = 0.95, 0.05
"""The probability that one member must have at the begin of a stretch for that to count for what is elsewhere, and what
it counts where two have as much together: of data and parity of one strip either may be the older, but it is the same
drive that is in question from row to row."""

ROUNDS = 8


@dataclass(frozen=True)
class Link:
    """A piece in a chain.

    nats   by member, and last for several at once: what stands there says of its being at fault; -inf for one that
           takes no part. float (members + 1,)
    turn   how often the member at fault is another one than in the piece before; 1 for a new stretch
    """

    nats: Floats
    turn: float


def posteriors(chains: Sequence[Sequence[Link]], known: Floats) -> tuple[list[Floats], Floats]:
    """By chain, the log probability of each member at each piece, and last of several, float (pieces, members + 1); and
    how often each member is at fault, float (members,).

    known   by member: nats that something else says of its being at fault, float (members,)
    """
    weight = np.exp(known - known.max())
    stretches = [stretch for chain in chains for stretch in _stretches(chain)]
    alone = weight / weight.sum()
    first = _with_several(alone)
    found = [_through(stretch, first, 0.0) for stretch in stretches]  # as if one alone were at fault
    for _round in range(ROUNDS):
        counts = np.array([_counted(told[0]) for told in found])
        most = counts.sum()
        counts *= min(1.0, MOST_COUNTED / most) if most else 1.0
        # no stretch counts for itself
        others = (counts.sum(axis=0) - counts + FEW) * weight
        shares = others / others.sum(axis=1, keepdims=True)
        before, alone = alone, (counts.sum(axis=0) + FEW) * weight / ((counts.sum(axis=0) + FEW) * weight).sum()
        spread = _spread(found, len(known))
        found = [_through(one, _with_several(share), spread) for one, share in zip(stretches, shares, strict=True)]
        if np.abs(alone - before).max() < 1e-3:
            break
    whole, made = iter(found), list[Floats]()
    for chain in chains:
        made.append(np.concatenate([next(whole) for _stretch in _stretches(chain)]))
    return made, alone


def _spread(found: Sequence[Floats], members: int) -> float:
    """How often two pieces at random are of different members, of those that are clear; 0 where none is."""
    shares = np.exp(np.concatenate(found))
    sure = shares.max(axis=1) >= SURE_SHARE
    counts = np.bincount(shares[sure].argmax(axis=1), minlength=members + 1)[:members]
    part = counts / max(1, counts.sum())
    return float(1.0 - (part * part).sum()) if counts.any() else 0.0


def _stretches(chain: Sequence[Link]) -> list[Sequence[Link]]:
    begins = [i for i, link in enumerate(chain) if link.turn >= 1.0 or not i]
    return [chain[a:b] for a, b in pairwise([*begins, len(chain)])]


def _counted(told: Floats) -> Floats:
    """What a stretch that begins with these log probabilities counts for what is elsewhere, by member."""
    shares = np.exp(told)
    count = len(shares) - 1
    ranked = np.sort(shares)
    if ranked[-1] >= SURE_SHARE:
        found: Floats = np.zeros(len(shares))
        found[shares.argmax()] = 1.0
        return found[:count]
    torn = ranked[-2:].sum() >= SURE_SHARE
    weighed: Floats = TORN_WEIGHT * shares[:count] if torn else np.zeros(count)
    return weighed


def _with_several(alone: Floats) -> Floats:
    """How often each member is at fault by itself, and last, several at one place: where one alone is at fault
    elsewhere, that is rarer still."""
    several = SEVERAL_SHARE * max(LEAST_SPREAD, 1.0 - float((alone * alone).sum()))
    return np.append(alone * (1 - several), several)


def _through(chain: Sequence[Link], share: Floats, spread: float) -> Floats:
    """The log probability of each member at each piece of one chain: forward and backward, scaled at each piece."""
    count = len(chain)
    said = np.stack([link.nats for link in chain])
    said = np.exp(said - said.max(axis=1, keepdims=True))
    mixed = np.array([SPREAD_TOUCHING if link.turn <= TURN_TOUCHING else SPREAD_NEAR for link in chain])
    turns = np.maximum([link.turn for link in chain], mixed * spread)
    ahead = np.zeros_like(said)
    now = said[0] * share
    ahead[0] = now / now.sum()
    for i in range(1, count):
        now = ((1 - turns[i]) * ahead[i - 1] + turns[i] * share) * said[i]
        ahead[i] = now / now.sum()
    back = np.ones_like(said)
    for i in range(count - 2, -1, -1):
        later = said[i + 1] * back[i + 1]
        now = (1 - turns[i + 1]) * later + turns[i + 1] * (share * later).sum()
        back[i] = now / now.sum()
    both = ahead * back
    with np.errstate(divide="ignore"):
        told: Floats = np.log(both / both.sum(axis=1, keepdims=True))
    return told
