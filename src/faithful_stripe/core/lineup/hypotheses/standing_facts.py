"""Facts that stand: which structures are where a hypothesis puts them, which are elsewhere, and which say nothing."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from ...arrays.geometry import Geometry
from ..structures.anchors import FACT_BYTES, Anchors
from .assignment import Hypothesis
from .equivalence import volume_map
from .placement import KEY

Int64 = npt.NDArray[np.int64]


def held_facts(h: Hypothesis, anchors: Anchors, base: int, whole: Anchors | None = None) -> tuple[int, int]:
    """How many addresses hold what says that it belongs there, of all that something says so of. A copy elsewhere, in
    a journal or as the parity of an almost empty row, takes nothing from the one that stands right.

    whole  all facts of the ground, where `anchors` are a part of them: what stands right may be told by another one
    """
    column = {i: c for c in h.order if c is not None for i in h.candidate.columns[c]}
    inside = np.isin(anchors.image, list(column))
    silent = says_nothing(h, anchors, base)[inside]
    image, offset, address = anchors.image[inside], anchors.offset[inside], anchors.address[inside]
    if not len(image):
        return 0, 0
    who = np.array([column[int(i)] for i in image])
    hit = fits(h, who, offset, address + base) | _held_by_parity(h, who, offset, address + base)
    told = hit | ~silent
    who, offset, address, hit = who[told], offset[told], address[told], hit[told]
    standing = np.unique((who * KEY + offset)[hit])
    block, block_address = who * KEY + offset // FACT_BYTES, address // FACT_BYTES
    if whole is not None:
        right, there = _standing(h, column, whole, base)
    else:
        right, there = block_address[hit], block[hit]
    # one that may belong at several places, or of which another one stands right, or that belongs where a member is
    # missing (it is what parity holds of it), is not against it
    told = np.isin(block_address, right) | np.isin(block, there)
    told |= (volume_map(h, address + base)[..., 0] < 0).all(axis=0)
    elsewhere = np.setdiff1d(block[~told], block[told])
    return len(standing), len(standing) + len(elsewhere)


def says_nothing(h: Hypothesis, anchors: Anchors, base: int) -> npt.NDArray[np.bool_]:
    """Which facts, where they stand under a hypothesis, say nothing of their place: copies in the journal of their file
    system, and what stands where a member holds parity: in a nearly empty row that is a copy of the only data."""
    silent = np.zeros(len(anchors), bool)
    count = h.layout.members
    made = Geometry(h.layout, h.strip, (h.start,) * count, (1 << 60,) * count)
    for position, column in enumerate(h.order):
        mine = np.isin(anchors.image, h.candidate.columns[column]) if column is not None else silent[:0]
        if mine.any():
            at = made.to_volume(position, anchors.offset[mine])
            parity = (at < 0) & (anchors.offset[mine] >= h.start)
            silent[mine] = parity | anchors.ground.in_journal(at - base)
    return silent


def _held_by_parity(h: Hypothesis, who: Int64, offset: Int64, volume: Int64) -> npt.NDArray[np.bool_]:
    """Which facts belong on a missing member and stand, at the same place, where another one holds parity: nothing else
    is in that row, and what is computed for the missing one is just this."""
    if not h.candidate.missing or not h.layout.rotation:
        return np.zeros(len(who), bool)
    pattern = h.layout.pattern()
    position = np.full(len(h.candidate.columns), -1, np.int64)
    for p, c in enumerate(h.order):
        if c is not None:
            position[c] = p
    row = (offset - h.start) // h.strip % pattern.rows
    parity = (pattern.index[row, position[who]] < 0) & (offset >= h.start)
    placed = volume_map(h, volume)
    lost: npt.NDArray[np.bool_] = ((placed[..., 0] < 0) & (placed[..., 1] == offset)).any(axis=0)
    return lost & parity


def _standing(h: Hypothesis, column: dict[int, int], anchors: Anchors, base: int) -> tuple[Int64, Int64]:
    """The blocks of FACT_BYTES in which a structure stands right: by address, and by place (column * KEY + block). Of
    two addresses that one may have, the facts may hold only the other."""
    inside = np.isin(anchors.image, list(column))
    who = np.array([column[int(i)] for i in anchors.image[inside]], np.int64)
    offset, address = anchors.offset[inside], anchors.address[inside]
    right = fits(h, who, offset, address + base)
    return (address // FACT_BYTES)[right], (who * KEY + offset // FACT_BYTES)[right]


def fits(
    h: Hypothesis, who: npt.NDArray[np.int64], offset: npt.NDArray[np.int64], volume: npt.NDArray[np.int64]
) -> npt.NDArray[np.bool_]:
    """Which facts (column, offset, volume address) hold under a hypothesis."""
    placed = volume_map(h, volume)
    result: npt.NDArray[np.bool_] = ((placed[..., 0] == who) & (placed[..., 1] == offset)).any(axis=0)
    return result
