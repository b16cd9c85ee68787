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

from ..arrays.layout import P_CELL
from .algebra import sketch
from .hypotheses import Hypothesis
from .marks.ground import Stock
from .membership import SECTOR, Membership, Place, Survey, places_of
from .samples import BLOCK, Pile

LEAST_PLACES = 3
UNREAD_SECTORS, UNREAD_PLACES = 7, 256
"""Zeros of at most so many sectors on one member, in a place where the rest adds up, are sectors that could not be read
when the image was made; places that are looked at."""

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
        if not group.open:
            continue
        blamed = None
        if group.kind != "sum":
            blamed = _by_algebra(places, group)
        else:
            blamed = _by_likelihood(pile, stock, best, group)
            if blamed is None:
                blamed = _by_reading(best, group, worth)
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
    """The open places of a group at which one image holds a few sectors of zeros, and all around them closes."""
    found = set()
    members = sorted(group.images)
    for offset in group.open[:: max(1, len(group.open) // UNREAD_PLACES)]:
        first = max(0, offset - BLOCK)
        data = np.zeros((len(members), 3 * BLOCK), np.uint8)
        for row, image in enumerate(members):
            length = min(3 * BLOCK, pile.sources[image].size - first)
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
        bad = [n for n, w in enumerate(wrong) if w]
        short = bad and len(bad) <= UNREAD_SECTORS and not wrong[0] and not wrong[-1]
        if short and not holds[bad].any(axis=0).all():
            found.add(offset)
    return found


def _by_algebra(places: Sequence[Place], group: Membership) -> int | None:
    """Who takes no part where the others close, or holds something where all the others hold nothing."""
    counts: Counter[int] = Counter()
    where = set(group.open)
    members = set(group.images)
    for place in places:
        if place.offset not in where:
            continue
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
    return first if count >= LEAST_PLACES and count >= 3 * (rest[0][1] if rest else 0) else None


def _by_reading(best: Hypothesis, group: Membership, worth: Callable[[Hypothesis], float]) -> int | None:
    whole = worth(best)
    without: dict[int, float] = {}
    for position, column in enumerate(best.order):
        if column is not None and best.cast.columns[column][0] in group.images:
            order = (*best.order[:position], None, *best.order[position + 1 :])
            without[best.cast.columns[column][0]] = worth(replace(best, order=order))
    ranked = sorted(without, key=lambda i: -without[i])
    if len(ranked) < 2:
        return None
    clear = without[ranked[0]] > max(whole, without[ranked[1]]) + LEAST_GAIN
    return ranked[0] if clear else None


def _by_likelihood(pile: Pile, stock: Stock, best: Hypothesis, group: Membership) -> int | None:
    """The member of which the others compute something likely where the group does not close.

    If it is m that is out of date, the others hold what they should, and the log-likelihood of the row differs from
    that of any other answer by log P(computed m) - log P(held m) + log P(held m, out of date), over the bytes that do
    not add up; what is out of date is either like the rest or, at worst, anything. Parity is anything as well,
    and so are compressed data.
    """
    seat = {
        best.cast.columns[c][0]: p for p, c in enumerate(best.order)
        if c is not None and best.cast.columns[c][0] in group.images
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
    likely = _bigrams(blocks)
    noise = (likely[blocks[:, :-1], blocks[:, 1:]].mean(axis=1) < -np.log(256.0)).mean()
    rare = float(np.log(max(float(noise), 1e-4)))  # some of the data may be like nothing: compressed, or encrypted
    members = sorted(seat)
    anything = -np.log(256.0)
    account = np.zeros(len(members))
    first: Counter[int] = Counter()
    open_at = [o for o in group.open if o >= best.start]
    for offset in open_at[:: max(1, len(open_at) // LOOKED_AT)]:
        length = min(BLOCK, best.strip - (offset - best.start) % best.strip)
        held = np.stack([pile.stretch(i, offset, length) for i in members])
        differs = np.bitwise_xor.reduce(held, axis=0)
        count = int((differs != 0).sum())
        if not count:
            continue
        told = np.full(len(members), anything * count)
        for row, image in enumerate(members):
            if cell(image, offset) == P_CELL:
                told[row] = max(told[row], _sum_of(likely, held[row], differs))
            else:
                if _noisy(likely, held[row], differs):
                    continue  # bytes among noise are noise
                now = _sum_of(likely, held[row], differs)
                due = _sum_of(likely, held[row] ^ differs, differs)
                told[row] = max(due, anything * count + rare) - max(now, anything * count + rare)
                told[row] += max(now, anything * count)
        told = np.maximum(told - told.max(), -PLACE_NATS)
        account += told
        if np.sort(told)[-2] < -2.0:
            first[members[int(told.argmax())]] += 1
    ranked = np.argsort(-account)
    blamed = members[int(ranked[0])]
    lead, behind = account[ranked[0]] - account[ranked[1]], abs(account[ranked[1]])
    clear = lead > max(LEAST_LEAD, LEAD_SHARE / 2 * behind) and first[blamed] >= LEAD_SHARE * first.total()
    return blamed if clear and first[blamed] >= LEAST_PLACES else None


def _bigrams(blocks: Bytes) -> Floats:
    """(256, 256) log P(byte | the one before), smoothed, from uint8 (blocks, bytes)."""
    pairs = blocks[:, :-1].astype(np.int64) * 256 + blocks[:, 1:]
    counts = np.bincount(pairs.reshape(-1), minlength=1 << 16).reshape(256, 256).astype(np.float64)
    after = counts.sum(axis=1, keepdims=True)
    single = (counts.sum(axis=0) + 1) / (counts.sum() + 256)
    logs: Floats = np.log(0.9 * (counts + 64 * single) / (after + 64) + 0.1 / 256)
    return logs


def _noisy(likely: Floats, block: Bytes, differs: Bytes) -> bool:
    """Whether the rest of a block, beside the bytes that do not add up, is like nothing."""
    around = differs[1:] == 0
    return int(around.sum()) >= SECTOR and float(likely[block[:-1], block[1:]][around].mean()) < -np.log(256.0)


def _sum_of(likely: Floats, block: Bytes, differs: Bytes) -> float:
    """Log-likelihood of the bytes of a block that do not add up, each after the one before it."""
    here = differs != 0
    return float(likely[np.concatenate([[0], block[:-1]]), block][here].sum())
