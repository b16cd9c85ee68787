"""btrfs: superblock copies and tree nodes, which state their logical address; the chunks map it to places.

Places of the fields are those of the published on-disk format; all numbers are little-endian. A chunk kept in two
copies gives two addresses for a node: both may vote, neither contradicts.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from .ground import SECTOR, Ground, Stock, hits, little, numbers

COPIES = (64 << 10, 64 << 20, 256 << 30)
_CHUNK_ITEM, _CHUNK_TREE = 228, 3
_MOST_CHUNKS = 10_000


@dataclass
class Facts:
    """fsid, node size, and chunks by logical start: (length, generation seen in, places)."""

    fsid: bytes
    node: int
    chunks: dict[int, tuple[int, int, tuple[int, ...]]] = field(default_factory=dict)


def heads(stock: Stock) -> list[Ground]:
    """One ground for every btrfs of which a superblock copy was found."""
    found: dict[bytes, Ground] = {}
    for piece in stock:
        for row in hits(piece.sectors, 0x40, b"_BHRfS_M").tolist():
            sb = piece.at(row, 4096)
            if sb is None:
                continue
            fsid, node, bytenr = sb[0x20:0x30].tobytes(), little(sb, 0x94, 4), little(sb, 0x30, 8)
            if node not in (4096, 8192, 16384, 32768, 65536) or bytenr not in COPIES:
                continue
            ground = found.setdefault(fsid, Ground(fsid, "btrfs", little(sb, 0x70, 8), facts=Facts(fsid, node)))
            ground.add("superblock", piece.image, piece.offset + row * SECTOR, bytenr)
            ground.head |= bytenr == COPIES[0]
            facts = ground.facts
            assert isinstance(facts, Facts)
            _system_chunks(sb.tobytes(), facts)
    return list(found.values())


def _system_chunks(sb: bytes, facts: Facts) -> None:
    """The chunks that the superblock itself lists."""
    at, end = 0x32B, 0x32B + min(little(sb, 0xA0, 4), 2048)
    while at + 17 + 48 <= end:
        logical = little(sb, at + 9, 8)
        size = _chunk(facts, logical, sb[at + 17 :], little(sb, 0x48, 8))
        if not size:
            return
        at += 17 + size


def _chunk(facts: Facts, logical: int, item: bytes, generation: int) -> int:
    """Note a chunk item; its size in bytes, 0 where it makes no sense."""
    length, stripes = little(item, 0, 8), little(item, 44, 2)
    size = 48 + 32 * stripes
    if not 0 < stripes <= 4 or len(item) < size or not 0 < length < 1 << 48 or len(facts.chunks) > _MOST_CHUNKS:
        return 0
    places = tuple(little(item, 48 + 32 * i + 8, 8) for i in range(stripes))
    known = facts.chunks.get(logical)
    if known is None or known[1] <= generation:
        facts.chunks[logical] = (length, generation, places)
    return size


def search(stock: Stock, ground: Ground) -> None:
    """Anchors of one btrfs: first the chunks, then the nodes that they place."""
    facts = ground.facts
    assert isinstance(facts, Facts)
    wanted = np.frombuffer(facts.fsid, np.uint8)
    nodes: list[tuple[int, int, int]] = []
    for piece in stock:
        rows = hits(piece.sectors, 0x20, facts.fsid[:2])
        rows = rows[(piece.sectors[rows, 0x20:0x30] == wanted).all(axis=1)]
        rows = rows[piece.sectors[rows, 0x40] != 0x5F]  # superblocks hold their mark there
        for row, bytenr, owner, level in zip(
            rows.tolist(), numbers(piece.sectors[rows], 0x30, "<u8").tolist(),
            numbers(piece.sectors[rows], 0x58, "<u8").tolist(), piece.sectors[rows, 0x64].tolist(), strict=True,
        ):  # fmt: skip
            if level > 7 or bytenr % 4096:
                continue
            nodes.append((piece.image, piece.offset + row * SECTOR, bytenr))
            whole = piece.at(row, facts.node)
            if owner == _CHUNK_TREE and level == 0 and whole is not None:
                _chunk_leaf(whole.tobytes(), facts)
    for image, offset, bytenr in nodes:
        for logical, (length, _generation, places) in facts.chunks.items():
            if logical <= bytenr < logical + length:
                for place in places:
                    ground.add("tree node", image, offset, place + bytenr - logical)


def _chunk_leaf(node: bytes, facts: Facts) -> None:
    generation = little(node, 0x50, 8)
    for i in range(min(little(node, 0x60, 4), (len(node) - 101) // 25)):
        at = 101 + 25 * i
        where = 101 + little(node, at + 17, 4)
        if node[at + 8] == _CHUNK_ITEM and where < len(node):
            _chunk(facts, little(node, at + 9, 8), node[where : where + little(node, at + 21, 4)], generation)
