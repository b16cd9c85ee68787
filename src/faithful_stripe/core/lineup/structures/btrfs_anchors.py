"""btrfs: superblock copies and tree nodes, which state their logical address; the chunks map it to places.

Places of the fields are those of the published on-disk format; all numbers are little-endian. A chunk kept in two
copies gives two addresses for a node: both may vote, neither contradicts.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ..reading.samples import Bytes
from .ground import END, SECTOR, Ground, Stock, hits, little, numbers

COPIES = (64 << 10, 64 << 20, 256 << 30)
_INODE_ITEM, _EXTENT_ITEM, _CHUNK_ITEM = 1, 108, 228
_EXTENT_TREE, _CHUNK_TREE, _FILE_TREE, _FIRST_SUBVOLUME = 2, 3, 5, 256
_STRIPE = 64 << 10
"""What every chunk states as its stripe, striped or not."""

_HEADER, _ITEM = 101, 25
_PART = 4096
_MOST_CHUNKS = 10_000
_MOST_LEAVES = 24
_MOST_FILE_LEAVES = 2000


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
            made = Ground(fsid, "btrfs", little(sb, 0x70, 8), facts=Facts(fsid, node), weak=(END,))
            ground = found.setdefault(fsid, made)
            ground.filled = min(4096, little(sb, 0x90, 4))
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
    if little(item, 8, 8) != _EXTENT_TREE or little(item, 16, 8) != _STRIPE:
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
    nodes: list[tuple[int, int, int, int]] = []
    leaves: list[tuple[int, bytes]] = []
    files = Files()
    for piece in stock:
        rows = hits(piece.sectors, 0x20, facts.fsid[:2])
        rows = rows[(piece.sectors[rows, 0x20:0x30] == wanted).all(axis=1)]
        rows = rows[piece.sectors[rows, 0x40] != 0x5F]  # superblocks hold their mark there
        for row, bytenr, when, owner, level in zip(
            rows.tolist(), numbers(piece.sectors[rows], 0x30, "<u8").tolist(),
            numbers(piece.sectors[rows], 0x50, "<u8").tolist(),
            numbers(piece.sectors[rows], 0x58, "<u8").tolist(), piece.sectors[rows, 0x64].tolist(), strict=True,
        ):  # fmt: skip
            if level > 7 or bytenr % 4096:
                continue
            nodes.append((piece.image, piece.offset + row * SECTOR, bytenr, when))
            whole = piece.at(row, facts.node)
            if owner == _CHUNK_TREE and level == 0 and whole is not None:
                _chunk_leaf(whole.tobytes(), facts)
                leaves.append((piece.offset + row * SECTOR, whole[:_PART].tobytes()))
            if owner == _FILE_TREE or owner >= _FIRST_SUBVOLUME:
                files.read(level, whole)
    for at, head in leaves[:_MOST_LEAVES] if facts.node > _PART else []:
        _cut_leaf(stock, facts, at % _PART, head)
    for image, offset, bytenr, when in nodes:
        for logical, (length, _generation, places) in facts.chunks.items():
            if logical <= bytenr < logical + length:
                for place in places:
                    ground.add("tree node", image, offset, place + bytenr - logical)
                    ground.add_ages("generation", image, offset, place + bytenr - logical, when)

    for end in files.ends():
        for logical, (length, _generation, places) in facts.chunks.items():
            if logical < end <= logical + length:
                ground.add_ends(-1, [place + end - logical for place in places])


@dataclass
class Files:
    """What leaves of file trees tell: sizes by inode, and extents as (inode, offset in the file, bytes, logical
    address)."""

    leaves: int = 0
    sizes: dict[int, int] = field(default_factory=dict)
    extents: set[tuple[int, int, int, int]] = field(default_factory=set)

    def read(self, level: int, whole: Bytes | None) -> None:
        """Note a node, where it is a leaf that was read in one."""
        if level or whole is None or self.leaves >= _MOST_FILE_LEAVES:
            return
        self.leaves += 1
        node = whole.tobytes()
        for i in range(min(little(node, 0x60, 4), (len(node) - _HEADER) // _ITEM)):
            at = _HEADER + _ITEM * i
            inode, kind, offset = little(node, at, 8), node[at + 8], little(node, at + 9, 8)
            item = node[_HEADER + little(node, at + 17, 4) :][: little(node, at + 21, 4)]
            if kind == _INODE_ITEM and len(item) >= 24:
                self.sizes[inode] = little(item, 16, 8)
            elif kind == _EXTENT_ITEM and len(item) >= 53 and item[20] == 1 and not item[16]:  # neither packed nor here
                address = little(item, 21, 8)
                if address:
                    self.extents.add((inode, offset, little(item, 45, 8), address + little(item, 37, 8)))

    def ends(self) -> list[int]:
        """One past the last byte of each file, as logical addresses."""
        return [
            address + size - offset
            for inode, offset, length, address in self.extents
            if offset < (size := self.sizes.get(inode, 0)) <= offset + length
        ]


def _cut_leaf(stock: Stock, facts: Facts, phase: int, head: bytes) -> None:
    """The chunks of a leaf that is cut by borders of strips: its head says where in which of the following parts each
    item lies, and a part in which all of them are chunks is the right one, or a copy of it.

    phase  where parts begin on the images, in bytes of a part's length
    """
    generation = little(head, 0x50, 8)
    parts: dict[int, list[tuple[int, int, int]]] = {}  # number of the part: place in it, size, logical start
    for i in range(min(little(head, 0x60, 4), (_PART - _HEADER) // _ITEM)):
        at = _HEADER + _ITEM * i
        number, place = divmod(_HEADER + little(head, at + 17, 4), _PART)
        size = little(head, at + 21, 4)
        if head[at + 8] == _CHUNK_ITEM and 80 <= size <= 48 + 32 * 4 and place + size <= _PART:
            parts.setdefault(number, []).append((place, size, little(head, at + 9, 8)))
    for number, items in parts.items():
        if not 0 < number < facts.node // _PART:
            continue
        for piece in stock:
            first = (phase - piece.offset) % _PART
            count = (len(piece.data) - first) // _PART
            grid = piece.data[first : first + count * _PART].reshape(count, _PART)
            good = np.ones(count, bool)
            for place, _size, _logical in items:
                good &= numbers(grid, place + 8, "<u8") == _EXTENT_TREE
                good &= numbers(grid, place + 16, "<u8") == _STRIPE
            for row in np.flatnonzero(good).tolist():
                for place, size, logical in items:
                    _chunk(facts, logical, grid[row, place : place + size].tobytes(), generation)


def _chunk_leaf(node: bytes, facts: Facts) -> None:
    generation = little(node, 0x50, 8)
    for i in range(min(little(node, 0x60, 4), (len(node) - _HEADER) // _ITEM)):
        at = _HEADER + _ITEM * i
        where = _HEADER + little(node, at + 17, 4)
        if node[at + 8] == _CHUNK_ITEM and where < len(node):
            _chunk(facts, little(node, at + 9, 8), node[where : where + little(node, at + 21, 4)], generation)
