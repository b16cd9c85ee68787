"""Arrays with P and a second parity that no rule of ours computes: found by P alone, and that parity named.

In every row all members but one, which holds the second parity, add up to zero: so the sum of all images is just what
that one holds. Which one it is, row by row, tells the strip and the members' order round the circle. What it holds is
then held against Q over every polynomial that makes a field of bytes, and against parity along diagonals.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache, partial
from itertools import combinations, product

import numpy as np
import numpy.typing as npt

from ...arrays.engine import SECTOR
from ..document.other_parity import Second, SecondParity
from ..reading.samples import BLOCK, Pile

LEAST_IMAGES = 4
PLACES = 1536
"""Blocks that are looked at, at most, spread over the data of all images."""

GLANCED, LEAST_GLANCED = 96, 6
"""Of those, the ones that are looked at first, and how many must tell for the rest to be."""

LEAST_TELLING, LEAST_SHARE = 24, 0.6
"""Places at which the sum of all is what one holds, at least, and the share of those at which three or more differ."""

ALIKE_SHARE = 0.95
"""Of the places of a row, those that must name the same member; likewise of rows that are a whole turn apart."""

STRIPS = tuple(1 << power for power in range(12, 23))
"""Strips that are tried, in bytes: 4 KiB to 4 MiB."""

ROWS_SHARE = 0.6
"""Of the rows in which it is computed, those in which a rule must give what stands there."""

TRIED_ROWS, COMPARED = 24, 512
"""Rows in which the second parity is computed, and the bytes of each that are compared."""

DIAGONAL_ROWS, LEAST_ROWS = 6, 3
"""Rows that are read whole for diagonals; rows that must hold something, at least, before anything is told of it."""

POLYNOMIALS = (
    0x11D, 0x12B, 0x12D, 0x14D, 0x15F, 0x163, 0x165, 0x169, 0x171, 0x187, 0x18D, 0x1A9, 0x1C3, 0x1CF, 0x1E7, 0x1F5,
)  # fmt: skip
"""Those of degree 8 over GF(2) of which x is a primitive element: all there are."""

PRIMES = (3, 5, 7, 11, 13, 17, 31, 257)
"""Lengths of a diagonal: a strip has one piece less."""

Bytes = npt.NDArray[np.uint8]

Exponents = dict[int, int]
"""By the steps round the circle from the second parity's place: how Q counts what stands there."""


@dataclass(frozen=True)
class Found:
    """What was found, and how to go on from it.

    circle  the images' indices, as `told.images`
    rule    how Q counts what stands in a row, where it is Q
    """

    told: SecondParity
    circle: tuple[int, ...]
    rule: Callable[[int], Exponents] | None = None


def second_parity(pile: Pile, images: Sequence[int]) -> Found | None:
    """The array that these images, or all of them but one, make with P and a second parity; None where they do not."""
    if len(images) < LEAST_IMAGES:
        return None
    least = min(pile.sources[i].size for i in images)
    offsets = np.array([o for o in pile.places(PLACES).tolist() if o + BLOCK <= least], np.int64)
    glance = offsets[np.unique(np.linspace(0, max(0, len(offsets) - 1), min(GLANCED, len(offsets))).astype(np.int64))]
    chosen = next((s for s in _choices(images) if _closes(*_outsiders(pile, s, glance), LEAST_GLANCED)), None)
    if chosen is None:
        return None
    told, places = _outsiders(pile, chosen, offsets)
    if not _closes(told, places, LEAST_TELLING) or len({who for _offset, who in told}) < 3:
        return None
    return _named(pile, chosen, told, places)


def _choices(images: Sequence[int]) -> Iterator[tuple[int, ...]]:
    yield tuple(images)
    if len(images) > LEAST_IMAGES:
        yield from combinations(images, len(images) - 1)


def _closes(told: Sequence[tuple[int, int]], places: int, least: int) -> bool:
    return len(told) >= least and len(told) >= LEAST_SHARE * places


def _outsiders(
    pile: Pile, images: Sequence[int], offsets: npt.NDArray[np.int64]
) -> tuple[list[tuple[int, int]], int]:  # fmt: skip
    """(offset, which of the images) where the sum of all is what that one holds, and no other; and at how many offsets
    three or more hold different things."""
    told, places = list[tuple[int, int]](), 0
    for offset in offsets.tolist():
        blocks = pile.column(offset, images)
        sector = int(np.argmax(blocks.reshape(len(images), -1, SECTOR).any(axis=2).sum(axis=0)))
        part = blocks[:, sector * SECTOR : sector * SECTOR + SECTOR]
        if len({row.tobytes() for row in part if row.any()}) < 3:
            continue
        places += 1
        alike = np.flatnonzero((part == np.bitwise_xor.reduce(part, axis=0)).all(axis=1))
        if len(alike) == 1:
            told.append((offset, int(alike[0])))
    return told, places


def _named(pile: Pile, images: Sequence[int], told: list[tuple[int, int]], places: int) -> Found:
    """What is to be said of it: strip and order where the turning shows them, and what the second parity is."""
    turning = _turning(told, len(images))
    if turning is None:
        return Found(SecondParity(tuple(pile.names[i] for i in images), len(told), places, 0), tuple(images))
    strip, turn = turning
    circle = [images[who] for who in turn]
    rows = sorted({offset // strip for offset, _who in told})
    rows = [rows[i] for i in np.unique(np.linspace(0, len(rows) - 1, min(TRIED_ROWS, len(rows))).astype(int))]
    kind, polynomial, rule = _computed(pile, circle, strip, rows)
    names = tuple(pile.names[i] for i in circle)
    return Found(SecondParity(names, len(told), places, strip, kind, polynomial), tuple(circle), rule)


def _turning(told: list[tuple[int, int]], count: int) -> tuple[int, list[int]] | None:
    """The strip, and the images by the rows of a turn that the second parity stands on; the largest strip that fits."""
    for strip in reversed(STRIPS):
        rows: dict[int, Counter[int]] = {}
        for offset, who in told:
            rows.setdefault(offset // strip, Counter())[who] += 1
        if len(rows) < count or not _agree(rows.values()):
            continue
        turn: dict[int, Counter[int]] = {}
        for row, votes in rows.items():
            turn.setdefault(row % count, Counter())[votes.most_common(1)[0][0]] += 1
        if len(turn) == count and _agree(turn.values()):
            chosen = [turn[phase].most_common(1)[0][0] for phase in range(count)]
            if len(set(chosen)) == count:
                return strip, chosen
    return None


def _agree(votes: Collection[Counter[int]]) -> bool:
    """Whether in nearly all of them together the votes are for one member each."""
    return sum(max(v.values()) for v in votes) >= ALIKE_SHARE * sum(v.total() for v in votes)


def _computed(
    pile: Pile, circle: Sequence[int], strip: int, rows: Sequence[int]
) -> tuple[Second, int, Callable[[int], Exponents] | None]:  # fmt: skip
    """How the second parity follows from the data, in every order in which these may stand round the circle."""
    held = [(row, _row(pile, circle, strip, row, COMPARED)) for row in rows]
    held = [(row, data) for row, data in held if data[0].any() and data.any(axis=1).sum() >= LEAST_IMAGES]
    if len(held) >= LEAST_ROWS:
        for polynomial in POLYNOMIALS:
            tables = powers(polynomial, len(circle))
            for rule in _counted(len(circle)):
                if _mostly(held, lambda row, data, rule=rule, tables=tables: _is_q(data, rule(row), tables)):
                    return Second.Q, polynomial, rule
    whole = [(row, _row(pile, circle, strip, row, strip)) for row, _data in held[:DIAGONAL_ROWS]]
    if len(whole) >= LEAST_ROWS:
        for prime, columns in product(PRIMES, _columns(len(circle))):
            fits = strip % (prime - 1) == 0 and len(columns) <= prime
            if fits and _mostly(whole, lambda _row, data, c=columns, p=prime: _is_diagonal(data, c, p)):
                return Second.DIAGONAL, 0, None
    return Second.UNKNOWN, 0, None


def _mostly(rows: Sequence[tuple[int, Bytes]], fits: Callable[..., bool]) -> bool:
    """Whether a rule fits in most rows: some may be damaged, or written by another array."""
    wrong = 0
    for number, (row, held) in enumerate(rows):
        wrong += not fits(row, held)
        if wrong > (1 - ROWS_SHARE) * len(rows) or (wrong > 1 and wrong == number + 1):
            return False
    return True


def _counted(count: int) -> Iterator[Callable[[int], Exponents]]:
    """The ways in which Q may count the members of a row, P standing beside it on either side: from one of them on
    round the circle, or by the positions that they have, whichever those are; forwards and backwards."""
    for p in (1, count - 1):
        steps = [step for step in range(1, count) if step != p]
        for order, first in product((steps, steps[::-1]), range(len(steps))):
            fixed = {step: (place - first) % len(steps) for place, step in enumerate(order)}
            yield lambda _row_number, fixed=fixed: fixed  # type: ignore[misc]
        for sign, base, by_place, back in product((1, -1), range(count), (False, True), (False, True)):
            yield partial(_by_position, steps, count, sign, base, by_place, back)


def _by_position(
    steps: Sequence[int], count: int, sign: int, base: int, by_place: bool, back: bool, row: int
) -> Exponents:
    """Counted by position: that itself, or the number of a data strip in ascending order of them."""
    places = {step: (base + sign * (row + step)) % count for step in steps}
    ranks = {step: rank for rank, step in enumerate(sorted(steps, key=lambda step: places[step]))}
    told, last = (places, count - 1) if by_place else (ranks, len(steps) - 1)
    return {step: last - e for step, e in told.items()} if back else told


def _is_q(held: Bytes, exponents: Exponents, tables: Bytes) -> bool:
    return bool((np.bitwise_xor.reduce([tables[e][held[s]] for s, e in exponents.items()], axis=0) == held[0]).all())


def _row(pile: Pile, circle: Sequence[int], strip: int, row: int, size: int) -> Bytes:
    """The first bytes of a row's strips, from the second parity's place on round the circle: uint8 (members, size)."""
    count, q = -(-size // BLOCK), row % len(circle)
    turned = [circle[(q + step) % len(circle)] for step in range(len(circle))]
    return np.stack([pile.blocks(image, row * strip, count).reshape(-1)[:size] for image in turned])


@lru_cache(maxsize=32)
def powers(polynomial: int, count: int) -> Bytes:
    """The products of every byte with x^e over a polynomial: uint8 (e, byte)."""
    tables = [np.arange(256)]
    for _ in range(count):
        doubled = tables[-1] << 1
        tables.append(np.where(doubled & 0x100, doubled ^ polynomial, doubled))
    return np.array(tables).astype(np.uint8)


def _columns(count: int) -> Iterator[tuple[int, ...]]:
    """The strips that diagonals may run through, in order: the data, with or without P, which stands beside."""
    for p in (1, count - 1):
        steps = [step for step in range(1, count) if step != p]
        for order in (steps, steps[::-1]):
            yield from ((*order, p), (p, *order), tuple(order))


def _is_diagonal(held: Bytes, columns: Sequence[int], prime: int) -> bool:
    """Whether each piece of it is the sum of one piece of each of these strips, every time one further on; the pieces
    of one diagonal are left out, or added to all others."""
    pieces = held.reshape(len(held), prime - 1, -1)[:, :, :COMPARED]
    sums = np.zeros((prime, pieces.shape[2]), np.uint8)
    for shift, step in enumerate(columns):
        for piece in range(prime - 1):
            sums[(piece + shift) % prime] ^= pieces[step, piece]
    return any(bool((made == pieces[0]).all()) for made in (sums[:-1], sums[:-1] ^ sums[-1]))
