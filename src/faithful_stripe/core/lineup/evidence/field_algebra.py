"""Linear algebra over GF(2^8) on what stands at one offset of every image: who depends on whom, and how.

A block is sketched to 64 bytes by a map that is linear over GF(2^8), so every relation among blocks (P is the sum of
the data, Q the sum of g^e times the data: H. P. Anvin, "The mathematics of CTRL-6") survives in the sketches. The
relations at one offset are the left null space of the sketches; its connected parts are the parity groups.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from ...arrays.gf256 import EXP, LOG, multiply
from ..reading.samples import Blocks

Uint8 = npt.NDArray[np.uint8]

WIDTH = 64

TIMES: Uint8 = np.array([[multiply(a, b) for b in range(256)] for a in range(256)], np.uint8)
INVERSE: Uint8 = np.array([0, *(EXP[(255 - LOG[a]) % 255] for a in range(1, 256))], np.uint8)
POWERS: Uint8 = np.array(EXP, np.uint8)


@dataclass(frozen=True)
class Relation:
    """A connected part of the relations at one place.

    images  who takes part, ascending
    basis   uint8 (dimension, images): the coefficients of independent relations
    """

    images: tuple[int, ...]
    basis: Uint8

    @property
    def plain(self) -> bool:
        """One relation with every coefficient the same: the images add up to zero."""
        return len(self.basis) == 1 and bool((self.basis[0] == self.basis[0, 0]).all())


def sketch(blocks: Blocks) -> Uint8:
    """64 bytes of each block that keep its linear relations over GF(2^8): uint8 (n, 64) from uint8 (n, length).

    Horner's rule in g over the block's 64 pieces; unrelated blocks agree by chance once in 2^512.
    """
    rows = blocks.reshape(len(blocks), -1, WIDTH)
    value: Uint8 = rows[:, 0].copy()
    for i in range(1, rows.shape[1]):
        value = TIMES[2][value] ^ rows[:, i]
    return value


def null_spaces(sketches: Uint8) -> list[Uint8]:
    """The left null space of each matrix: from uint8 (places, images, width), per place uint8 (dimension, images).

    Gauss-Jordan on all places at once; every place picks its own pivots.
    """
    places, images, width = sketches.shape
    work = np.concatenate([sketches, np.broadcast_to(np.eye(images, dtype=np.uint8), (places, images, images))], axis=2)
    every = np.arange(places)
    rank = np.zeros(places, np.int64)
    for _ in range(images):
        left = work[:, :, :width]
        free = left.any(axis=2) & (np.arange(images) >= rank[:, None])
        active = free.any(axis=1)
        if not active.any():
            break
        who = every[active]
        row = np.argmax(free[active], axis=1)
        to = rank[active]
        work[who, row], work[who, to] = work[who, to].copy(), work[who, row].copy()
        pivot_row = work[who, to]
        column = np.argmax(pivot_row[:, :width] != 0, axis=1)
        pivot = pivot_row[np.arange(len(who)), column]
        pivot_row = TIMES[INVERSE[pivot][:, None], pivot_row]
        work[who, to] = pivot_row
        factors = work[who, :, column]
        factors[np.arange(len(who)), to] = 0
        work[who] ^= TIMES[factors[:, :, None], pivot_row[:, None, :]]
        rank[active] += 1
    return [work[p, rank[p] :, width:].copy() for p in range(places)]


def relations(null_space: Uint8, zero: npt.NDArray[np.bool_]) -> list[Relation]:
    """The connected parts of a null space; images that hold only zeros here (`zero`) take no part."""
    basis = _reduced(null_space[(null_space[:, ~zero] != 0).any(axis=1)])  # an empty one is a relation by itself
    parts: list[tuple[set[int], list[int]]] = []
    for i, row in enumerate(basis):
        support, rows = set(np.flatnonzero(row).tolist()), [i]
        for part in [p for p in parts if p[0] & support]:
            parts.remove(part)
            support |= part[0]
            rows = part[1] + rows
        parts.append((support, rows))
    found = []
    for support, rows in parts:
        images = tuple(sorted(support))
        if len(images) > 1:
            found.append(Relation(images, basis[np.ix_(rows, images)]))
    return found


def inside(relation: Relation, images: frozenset[int]) -> list[Relation]:
    """The relations among some of the images of a part: where spans hold the same, as copies of one table do, the parts
    of two groups are one, and each group's own relations are hidden in it."""
    among = np.array([i in images for i in relation.images])
    if among.all():
        return [relation]
    order = np.argsort(among, kind="stable")  # what is outside first: it is eliminated
    out = int((~among).sum())
    reduced = _reduced(relation.basis[:, order])
    rows = reduced[~reduced[:, :out].any(axis=1)][:, out:]
    rows = rows[rows.any(axis=1)]
    if not len(rows):
        return []
    names = np.array(relation.images)[order[out:]]
    found = relations(rows, np.zeros(rows.shape[1], bool))
    return [Relation(tuple(int(names[i]) for i in part.images), part.basis) for part in found]


def _reduced(matrix: Uint8) -> Uint8:
    """The reduced row echelon form."""
    work = matrix.copy()
    rank = 0
    for column in range(work.shape[1]):
        rows = np.flatnonzero(work[rank:, column])
        if not len(rows):
            continue
        first = rank + int(rows[0])
        work[[rank, first]] = work[[first, rank]]
        work[rank] = TIMES[INVERSE[work[rank, column]], work[rank]]
        factors = work[:, column].copy()
        factors[rank] = 0
        work ^= TIMES[factors[:, None], work[rank][None, :]]
        rank += 1
        if rank == len(work):
            break
    return work[:rank]


P_ROLE, Q_ROLE = -1, -2


def roles(relation: Relation, members: int) -> list[dict[int, int]]:
    """What each image of a RAID 6 relation is at this place: P_ROLE, Q_ROLE, or the exponent of its data.

    members  of the array, missing ones counted; exponents lie below it. Several answers where the coefficients
    allow them. With one member missing a single relation is left, whose coefficients still tell.
    """
    found: list[dict[int, int]] = []
    if len(relation.basis) == 2:
        found = _roles_of_two(relation, members)
    elif len(relation.basis) == 1 and not relation.plain:
        found = _roles_of_one(relation, members)
    return found


def _exponents(coefficients: Uint8, members: int) -> list[int] | None:
    """The exponents of distinct powers of g below `members`, or None."""
    if not coefficients.all():
        return None
    found = [LOG[int(c)] for c in coefficients]
    return found if max(found, default=0) < members and len(set(found)) == len(found) else None


def _roles_of_two(relation: Relation, members: int) -> list[dict[int, int]]:
    a, b = relation.basis
    found = []
    count = len(relation.images)
    for q in range(count):
        p_row = TIMES[b[q], a] ^ TIMES[a[q], b]  # the combination in which q takes no part
        rest = np.delete(p_row, q)
        if not rest.all() or (rest != rest[0]).any():
            continue
        q_row = a if a[q] else b
        q_row = TIMES[INVERSE[q_row[q]], q_row]
        for p in range(count):
            if p == q:
                continue
            others = [i for i in range(count) if i not in (p, q)]
            exponents = _exponents(q_row[others] ^ q_row[p], members)
            if exponents is not None:
                names = dict(zip([relation.images[i] for i in others], exponents, strict=True))
                found.append(names | {relation.images[p]: P_ROLE, relation.images[q]: Q_ROLE})
    return found


def _roles_of_one(relation: Relation, members: int) -> list[dict[int, int]]:
    row = relation.basis[0]
    found = []
    count = len(relation.images)
    for q in range(count):
        scaled = TIMES[INVERSE[row[q]], row]
        others = [i for i in range(count) if i != q]
        exponents = _exponents(scaled[others], members)
        if exponents is not None:  # P is the one that is missing
            found.append(
                dict(zip([relation.images[i] for i in others], exponents, strict=True)) | {relation.images[q]: Q_ROLE}
            )
        # the data with exponent `lost` is missing: P stands with g^lost, the others with g^e + g^lost
        for lost, p in sorted((LOG[int(scaled[i])], i) for i in others if scaled[i]):
            rest = [i for i in others if i != p]
            exponents = _exponents(scaled[rest] ^ POWERS[lost], members) if lost < members else None
            if exponents is not None and lost not in exponents:
                names = dict(zip([relation.images[i] for i in rest], exponents, strict=True))
                found.append(names | {relation.images[p]: P_ROLE, relation.images[q]: Q_ROLE})
    return found
