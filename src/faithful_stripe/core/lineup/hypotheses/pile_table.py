"""The table: a pile laid out, with everything found in it before an order is looked for."""

from __future__ import annotations

import zlib
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from ..document.lineup_document import Lineup
from ..evidence.field_algebra import sketch
from ..evidence.membership import Membership
from ..evidence.outdated_copies import without_outdated
from ..evidence.sampled_places import SAMPLE_BLOCKS, Place, Survey, places_of, survey
from ..evidence.shifted_copies import rings
from ..reading.samples import BLOCK, PIECE, Pile, Tell
from ..structures.anchors import Anchors, find_anchors
from ..structures.carved_files import Carved, find_files
from ..structures.ground import Piece, Stock, filled_blocks, read_stock
from .search import Shared

STOCK_BYTES = 192 << 20
"""How much of a pile is read and searched for structures."""

USUAL_STARTS = (0, 64 << 10, 1 << 20, 2 << 20)

WEAK_SHARE = 0.62

LABEL_BYTES = 16 << 10
"""What stands alone before the data, and is no larger, is not a part of them."""

PARTLY_SHARE, MOST_PARTLY = 0.1, 2
"""Zeros in a block that is only partly filled, and so many such blocks are where data end."""

NOISE_SHARE, DENSE_SHARE = 0.999, 0.985
"""What cannot be packed below this share is noise through and through; files that are compressed can, a little."""


@dataclass
class Table:
    """What is on the table: the pile and everything found in it before an order is looked for."""

    pile: Pile
    places: list[Place]
    groups: list[Membership]
    outdated: dict[int, int]
    stock: Stock
    anchors: list[Anchors]
    carved: list[Carved]
    tell: Tell
    budget: int
    shared: dict[tuple[tuple[tuple[int, ...], ...], bool], Shared] = field(default_factory=dict)
    trace: list[tuple[str, str]] = field(default_factory=list)
    fits_as_well: set[int] = field(default_factory=set)
    """Images that hold what a missing member must hold, as another one does that was seated."""
    best: Lineup | None = None
    """The best answer so far of what is being looked at, for when that is stopped."""

    def note(self, stage: str, text: str) -> None:
        self.trace.append((stage, text))

    def names(self, images: Iterable[int]) -> str:
        return ", ".join(self.pile.names[i] for i in images)


def lay_out(pile: Pile, tell: Tell, budget: int = STOCK_BYTES) -> Table:
    """Sample the pile and find what it shows by itself."""
    stock = read_stock(pile, budget, tell)
    tell("which images belong together")
    blocks = SAMPLE_BLOCKS * budget // STOCK_BYTES
    places, groups, outdated = without_outdated(pile, survey(pile, filled_blocks(stock), blocks))
    single = set(range(len(pile))) - {i for g in groups for i in g.images} - set(outdated)
    groups = groups + (rings(stock, single) if len(single) > 2 else [])
    table = Table(
        pile,
        places,
        groups,
        outdated,
        stock,
        find_anchors(stock, tell, budget >= STOCK_BYTES),
        find_files(stock),
        tell,
        budget,
    )
    table.note("samples", f"{len(places)} places with data; {sum(len(p.data) for p in stock) >> 20} MiB searched")
    for group in groups:
        share = f"close at {group.closing} of {group.blocks} places"
        table.note(
            "evidence",
            f"{len(group.images)} images are related ({group.kind}) and {share}: {table.names(group.images)}",
        )
    for old, new in outdated.items():
        table.note("evidence", f"{pile.names[old]} is an outdated copy of {pile.names[new]}")
    for one in table.anchors:
        kinds = ", ".join(f"{count} {kind}" for kind, count in one.ground.kinds.items())
        table.note("evidence", f"{one.ground.words}: {len(one)} facts ({kinds})")
    return table


def clusters(table: Table) -> list[tuple[set[int], list[Anchors]]]:
    """Images that share a group or a file system, with the grounds found on them; the richest first.

    Structures that do not name their file system bring an image in only where no closed group has that file system.
    """
    parts: list[tuple[set[int], list[Anchors]]] = [(set(g.images), []) for g in table.groups]
    closed = [set(g.images) for g in table.groups if g.closing >= WEAK_SHARE * g.blocks]
    several = any(len(a.ground.starts) > 1 for a in table.anchors)  # file systems may share a volume
    for anchors in table.anchors:
        bound = anchors.ground.bound() - set(table.outdated)
        whole = [g for g in closed if g & bound]
        images = bound if whole else {int(i) for i in anchors.image} - set(table.outdated)
        if bound and not whole and any(g & images for g in closed):
            # groups that hold another file system are not this one's
            others = {i for a in table.anchors if a is not anchors for i in a.ground.bound()}
            images -= {i for g in closed if g & others for i in g}
            images |= bound
        if bound and not whole and not several:
            images -= _elsewhere(table, anchors, bound)
        if not images:
            continue
        merged: tuple[set[int], list[Anchors]] = (set(images), [anchors])
        for part in [p for p in parts if p[0] & images]:
            parts.remove(part)
            merged = (merged[0] | part[0], part[1] + merged[1])
        parts.append(merged)
    parts = [p for p in parts if len(p[0]) > 1]
    return sorted(parts, key=lambda p: (-sum(len(a) for a in p[1]), -len(p[0]), min(p[0])))


def _elsewhere(table: Table, anchors: Anchors, bound: set[int]) -> set[int]:
    """Images that another file system names, or bears more structures of, none of whose own images this one shares:
    what looks like a structure of this one there is the other's."""
    found: set[int] = set()
    own = Counter(anchors.image.tolist())
    for other in table.anchors:
        theirs = other.ground.bound()
        if other is anchors or other.ground.table or other.ground.guessed or theirs & bound:
            continue
        found |= theirs | {i for i, count in Counter(other.image.tolist()).items() if count > own[i]}
    return found - bound


def loose_images(table: Table, taken: set[int]) -> list[int]:
    """Images that no relation and no array claims, and that hold something of the same kind."""
    grouped = {i for g in table.groups for i in g.images} | taken | set(table.outdated)
    shared = {int(i) for a in table.anchors if len(set(a.image.tolist())) > 1 for i in a.image}
    alone = {
        int(i) for a in table.anchors if len(a) >= 3 for i in a.image
        if a.ground.size <= table.pile.sources[int(i)].size  # a larger one is a part of something
    } - shared  # fmt: skip
    shares: dict[int, float] = {}
    for image in range(len(table.pile)):
        pieces = [block for p in table.stock if p.image == image and (block := _first_filled(p)) is not None]
        if image in grouped or image in alone or len(pieces) < 2:
            continue
        partly = [k for k, x in enumerate(pieces) if not x.all() and (x == 0).mean() > PARTLY_SHARE]
        if len(partly) <= MOST_PARTLY < len(pieces) - 2:  # where the data end, which says nothing of what they are
            pieces = [x for k, x in enumerate(pieces) if k not in partly]
        chosen = b"".join(x.tobytes() for x in pieces[:: max(1, len(pieces) // 24)])
        shares[image] = len(zlib.compress(chosen, 1)) / len(chosen)
    plain = [i for i, share in shares.items() if share < NOISE_SHARE]
    dense = len(plain) < 2 or max(shares[i] for i in plain) > DENSE_SHARE  # its other members may look like noise
    return list(shares) if dense else plain


def _first_filled(piece: Piece) -> npt.NDArray[np.uint8] | None:
    """The first block of a piece that holds anything: where strips are short, many begin with nothing."""
    blocks = piece.data[: min(PIECE, len(piece.data)) // BLOCK * BLOCK].reshape(-1, BLOCK)
    filled = np.flatnonzero(blocks.any(axis=1))
    return blocks[filled[0]] if len(filled) else None


def guessed_starts(table: Table, images: set[int], groups: Sequence[Membership]) -> list[int]:
    """Where data may start when no structure tells: where the images first hold what belongs together."""
    found: list[int] = []
    runs = _runs(table, images)
    if len(runs) > 1 and runs[0][1] - runs[0][0] <= LABEL_BYTES and _far_smaller(runs[0], runs[1]):
        runs.append(runs.pop(0))  # a label or a leftover, far from the data
    groups = [g for g in groups if "ring" not in g.kind]  # whose copies stand elsewhere
    for first, _end in runs:
        block = np.zeros((len(table.pile), 4096), np.uint8)
        for i in images:
            if first + 4096 <= table.pile.sources[i].size:
                block[i] = table.pile.stretch(i, first, 4096)
        taken = Survey(np.array([first]), sketch(block)[None], np.zeros((1, len(table.pile)), bool))
        covered = {i for p in places_of(taken) for r in p.relations for i in r.images}
        if not groups or covered & images:
            found.append(first)
            if groups:
                break
    lowest = min(found, default=0)
    usual = [s for s in USUAL_STARTS if s <= lowest]
    holding = sum(bool(table.pile.stretch(i, lowest, 512).any()) for i in images)
    sudden = lowest > 1 << 20 and holding > 0.6 * len(images)
    if lowest >= 1 << 20 and not sudden and not anything_before(table, images, lowest):  # more likely than such a start
        return [0, *found[:1], *usual[1:2]]
    return list(dict.fromkeys([*found[:2], *usual[::-1]]))[:3] or [0]


def _far_smaller(first: tuple[int, int], second: tuple[int, int]) -> bool:
    """Whether a stretch stands apart from a much longer one after it."""
    gap = second[0] - first[1]
    return gap > LABEL_BYTES or (gap >= 4096 and second[1] - second[0] > 16 * (first[1] - first[0]))


def anything_before(table: Table, images: set[int], offset: int, first: int = 0) -> bool:
    """Whether any of the images holds something before an offset, from another one on: then nobody wiped them."""
    return any(
        piece.image in images and piece.offset < offset
        and bool(piece.data[max(0, first - piece.offset) : offset - piece.offset].any())
        for piece in table.stock
    )  # fmt: skip


def _runs(table: Table, images: set[int]) -> list[tuple[int, int]]:
    """From where to where the first stretches reach in which any of the images holds something."""
    filled: set[int] = set()
    for piece in table.stock:
        if piece.image in images and piece.offset < 4 << 20:
            filled |= set((piece.offset // 512 + np.flatnonzero(piece.sectors.any(axis=1))).tolist())
    sectors = sorted(filled)
    found: list[tuple[int, int]] = []
    for sector in sectors:
        if found and sector - found[-1][1] <= 2:
            found[-1] = (found[-1][0], sector)
        else:
            found.append((sector, sector))
    return [(first * 512, last * 512 + 512) for first, last in found[:12]]
