"""Outdated members: which of a group's images does not belong to the present, where its parity does not close.

With P and Q the others still close without the one that is wrong. With one parity, what each member should hold is
computed from the others: only for the outdated one does that look like what the array holds elsewhere, for all others
it is a mixture. And the volume is read once more with each member left out: files and checksums that lie over the open
places hold only without the outdated one. Where none of it tells, nobody is blamed.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from ...arrays.layout import P_CELL
from ..evidence.byte_pairs import ANYTHING, accounts, best_pairs
from ..evidence.field_algebra import sketch
from ..evidence.membership import Membership
from ..evidence.sampled_places import SECTOR, Place, Survey, places_of
from ..reading.samples import BLOCK, Pile
from ..structures.ground import Stock
from .assignment import Hypothesis

LEAST_PLACES = 3
EXPLAINED, REST = 0.9, 0.7
"""Of the open places, those that one member explains, when nobody else explains more than a part of them."""

UNREAD_SECTORS, UNREAD_PLACES = 7, 256
"""Zeros of at most so many sectors on one member, in a place where the rest adds up, are sectors that could not be read
when the image was made; places that are looked at."""

SHARED = 0.5
"""Of the places at which a group does not close, those at which another one does not either."""

LEAST_GAIN = 6.0
"""Nats by which the volume reads better without the blamed member than with it, and than without any other one."""


def culprit(
    pile: Pile, stock: Stock, places: Sequence[Place], best: Hypothesis, groups: Sequence[Membership],
    worth: Callable[[Hypothesis], float],
) -> int | None:  # fmt: skip
    """The image that is out of date, or None where nobody stands out.

    worth  what was read in a hypothesis's volume, in nats
    """
    for group in groups:
        elsewhere = {o for other in groups if other is not group for o in other.open}
        if not group.open or len(elsewhere & set(group.open)) > SHARED * len(group.open):
            continue  # rows that add up in no span were never initialized
        blamed = None
        if group.kind != "sum":
            blamed = _by_algebra(places, group)
        else:
            blamed = _by_likelihood(pile, stock, best, group)
            if blamed is None and len(group.open) >= LEAST_PLACES:
                blamed = _by_reading(best, group, worth)
        if blamed is None and group.kind == "sum":
            blamed = _by_emptiness(pile, places, group)
        if blamed is not None:
            return blamed
    return None


PLACE_NATS, LEAST_LEAD, LEAD_SHARE = 12.0, 36.0, 0.5
"""What one place may add to a member's account; the lead in all that names one; and the share of the telling places in
which it must be the likeliest."""

SAMPLED, LOOKED_AT = 500, 240
"""Blocks that teach what the array's bytes look like, and open places that are weighed."""

Floats = npt.NDArray[np.float64]
Bytes = npt.NDArray[np.uint8]


def unread(pile: Pile, group: Membership) -> set[int]:
    """The open places of a group at which some image holds a few sectors of zeros, and all around them closes."""
    found = set()
    members = sorted(group.images)
    for offset in group.open[:: max(1, len(group.open) // UNREAD_PLACES)]:
        first = max(0, offset - 2 * BLOCK)
        data = np.zeros((len(members), 5 * BLOCK), np.uint8)
        for row, image in enumerate(members):
            length = min(5 * BLOCK, pile.sources[image].size - first)
            if length > 0:
                data[row, :length] = pile.stretch(image, first, length)
        sectors = data.reshape(len(members), -1, SECTOR).transpose(1, 0, 2)
        marks = np.stack([sketch(np.ascontiguousarray(s)) for s in sectors])
        at = first + SECTOR * np.arange(len(sectors))
        sound = {
            p.offset for p in places_of(Survey(at, marks, np.zeros(marks.shape[:2], bool)))
            if p.filled == {i for r in p.relations for i in r.images}
            and (group.kind != "two" or sum(len(r.basis) for r in p.relations) >= 2)
        }  # fmt: skip
        holds: npt.NDArray[np.bool_] = np.asarray(sectors.any(axis=2))
        wrong = [o not in sound and bool(holds[n].any()) for n, o in enumerate(at.tolist())]
        here = [r for r in _runs(wrong) if at[r[-1]] + SECTOR > offset and at[r[0]] < offset + BLOCK]
        if here and all(
            len(r) <= UNREAD_SECTORS and r[0] > 0 and r[-1] < len(wrong) - 1 and not holds[r].any(axis=0).all()
            for r in here
        ):
            found.add(offset)
    return found


def _runs(wrong: Sequence[bool]) -> list[list[int]]:
    """The indices of what is wrong, those next to one another together."""
    found: list[list[int]] = []
    for index, bad in enumerate(wrong):
        if bad and found and found[-1][-1] == index - 1:
            found[-1].append(index)
        elif bad:
            found.append([index])
    return found


def _by_algebra(places: Sequence[Place], group: Membership) -> int | None:
    """Who takes no part where the others close, or holds something where all the others hold nothing."""
    counts: Counter[int] = Counter()
    where = set(group.open)
    members = set(group.images)
    looked_at = 0
    for place in places:
        if place.offset not in where:
            continue
        looked_at += 1
        if len(place.filled & members) == 1:
            counts.update(place.filled & members)
            continue
        covered = {i for r in place.relations if set(r.images) <= members for i in r.images}
        absent = (place.filled & members) - covered
        if covered and len(absent) == 1:
            counts[next(iter(absent))] += 1
        elif covered and not absent:
            counts.update(members - place.filled)
    if not counts:
        return None
    (first, count), *rest = counts.most_common(2)
    second = rest[0][1] if rest else 0
    # a cell that is empty, and may be, stands beside an outdated one that is; but not everywhere
    explains = count >= EXPLAINED * looked_at and second <= REST * count
    return first if count >= LEAST_PLACES and (count >= 3 * second or explains) else None


def _by_reading(best: Hypothesis, group: Membership, worth: Callable[[Hypothesis], float]) -> int | None:
    whole = worth(best)
    without: dict[int, float] = {}
    for position, column in enumerate(best.order):
        if column is not None and best.candidate.columns[column][0] in group.images:
            order = (*best.order[:position], None, *best.order[position + 1 :])
            without[best.candidate.columns[column][0]] = worth(replace(best, order=order))
    ranked = sorted(without, key=lambda i: -without[i])
    if len(ranked) < 2:
        return None
    clear = without[ranked[0]] > max(whole, without[ranked[1]]) + LEAST_GAIN
    return ranked[0] if clear else None


def _by_likelihood(pile: Pile, stock: Stock, best: Hypothesis, group: Membership) -> int | None:
    """The member of which the others compute something likely where the group does not close."""
    seat = {
        best.candidate.columns[c][0]: p for p, c in enumerate(best.order)
        if c is not None and best.candidate.columns[c][0] in group.images
    }  # fmt: skip
    if len(seat) < len(group.images):
        return None
    pattern = best.layout.pattern()

    def cell(image: int, offset: int) -> int:
        return int(pattern.index[(offset - best.start) // best.strip % pattern.rows, seat[image]])

    taught = [
        piece.data[at : at + BLOCK] for piece in stock if piece.image in seat
        for at in range(0, len(piece.data) - BLOCK + 1, 16 * BLOCK)
        if piece.offset + at >= best.start and cell(piece.image, piece.offset + at) != P_CELL
    ]  # fmt: skip
    taught = [block for block in taught if block.any()]
    if len(taught) < 16:
        return None
    blocks = np.stack(taught[:: max(1, len(taught) // SAMPLED)])
    likely = best_pairs(blocks[::2], blocks[1::2], BLOCK)
    noise = (likely.each(blocks).mean(axis=1) < ANYTHING).mean()
    rare = float(np.log(max(float(noise), 1e-4)))  # some of the data may be like nothing: compressed, or encrypted
    members = sorted(seat)
    account = np.zeros(len(members))
    first: Counter[int] = Counter()
    open_at = [o for o in group.open if o >= best.start]
    for offset in open_at[:: max(1, len(open_at) // LOOKED_AT)]:
        length = min(BLOCK, best.strip - (offset - best.start) % best.strip)
        held = np.stack([pile.stretch(i, offset, length) for i in members])
        differs = np.bitwise_xor.reduce(held, axis=0)
        if not differs.any():
            continue
        parity = np.array([cell(image, offset) == P_CELL for image in members])
        told = accounts(likely, held, differs, parity, rare)
        told = np.maximum(told - told.max(), -PLACE_NATS)
        account += told
        if np.sort(told)[-2] < -2.0:
            first[members[int(told.argmax())]] += 1
    ranked = np.argsort(-account)
    blamed = members[int(ranked[0])]
    lead, behind = account[ranked[0]] - account[ranked[1]], abs(account[ranked[1]])
    clear = lead > max(LEAST_LEAD, LEAD_SHARE / 2 * behind) and first[blamed] >= LEAD_SHARE * first.total()
    return blamed if clear and first[blamed] >= LEAST_PLACES else None


EMPTY_SHARE, EMPTY_LEAD, STRETCH = 1 / 3, 6.0, 4 * BLOCK
"""How often what is out of date is empty, the lead in nats that names a member, and how near to one another the open
places of one stretch are."""


def _by_emptiness(pile: Pile, places: Sequence[Place], group: Membership) -> int | None:
    """The member that is empty where the group does not close, when members of it hardly ever are where it does: it
    lacks what was written later. Each stretch of open places counts once."""
    members = sorted(group.images)
    where = set(group.open)
    sound = [p for p in places if p.offset not in where and p.filled & set(members)]
    cells = len(sound) * len(members)
    empty = sum(len(members) - len(p.filled & set(members)) for p in sound)
    usual = (empty + 1) / (cells + 2)
    account = np.zeros(len(members))
    stretches: list[list[int]] = []
    for offset in sorted(where):
        if stretches and offset - stretches[-1][-1] <= STRETCH:
            stretches[-1].append(offset)
        else:
            stretches.append([offset])
    for stretch in stretches:
        if stretch[-1] - stretch[0] < UNREAD_SECTORS * SECTOR:
            continue  # sectors that could not be read are empty, too
        for row, image in enumerate(members):
            bare = not any(bool(pile.stretch(image, o, SECTOR).any()) for o in stretch[:: max(1, len(stretch) // 8)])
            account[row] += np.log(EMPTY_SHARE / usual if bare else (1 - EMPTY_SHARE) / (1 - usual))
    second, first = np.argsort(account)[-2:]
    return members[int(first)] if account[first] - account[second] > EMPTY_LEAD else None
