"""Anchors: structures that state their own address, each an equation between (image, offset) and volume.

ext2/3/4 so far: superblock copies state their group; an inode's checksum covers its number, which is
found by running the CRC backwards through the record; the bitmaps' checksums stand in their group's
descriptor; a directory's first block names its inode, whose extents say where it lies.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from ..formats import ext4
from ..formats.crc32c import advance, crc_many, state_before
from .samples import BLOCK, Blocks, Pile

SCAN_BYTES = 256 << 20
"""At most this much is searched for anchors, the images sharing it."""

Int64 = npt.NDArray[np.int64]


@dataclass
class Anchors:
    """The anchors of one file system: int64 arrays of one length.

    image    index into the pile
    offset   bytes from the start of the image
    address  bytes from the start of the file system
    kinds    how many of each kind were found
    """

    sb: ext4.Superblock
    image: Int64
    offset: Int64
    address: Int64
    kinds: dict[str, int]

    def __len__(self) -> int:
        return len(self.image)


@dataclass
class _Found:
    """Anchors being collected."""

    rows: list[tuple[str, Int64, Int64, Int64]] = field(default_factory=list)

    def add(self, kind: str, image: int, offset: npt.ArrayLike, address: npt.ArrayLike) -> None:
        offsets, addresses = np.atleast_1d(np.asarray(offset)), np.atleast_1d(np.asarray(address))
        if len(offsets):
            self.rows.append((kind, np.full(len(offsets), image), offsets.astype(np.int64), addresses.astype(np.int64)))


def find_anchors(pile: Pile, tell: Callable[[str], None] = lambda _text: None) -> list[Anchors]:
    """The anchors of every file system in the pile, the one with most anchors first."""
    budget = max(BLOCK, SCAN_BYTES // max(1, len(pile)))
    copies: dict[bytes, list[tuple[int, int, ext4.Superblock]]] = {}
    for image in range(len(pile)):
        tell(f"superblocks in {pile.names[image]}")
        for offsets, blocks in pile.scan(image, budget):
            for offset, sb in _superblocks(offsets, blocks):
                copies.setdefault(sb.uuid, []).append((image, offset, sb))
    found = [_file_system(pile, budget, places, tell) for places in copies.values()]
    return sorted((a for a in found if len(a)), key=lambda a: -len(a))


def _superblocks(offsets: Int64, blocks: Blocks) -> list[tuple[int, ext4.Superblock]]:
    slots = blocks.reshape(-1, 1024)
    marked = np.flatnonzero((slots[:, 0x38] == 0x53) & (slots[:, 0x39] == 0xEF))
    found = []
    for slot in marked.tolist():
        sb = ext4.parse_superblock(slots[slot].tobytes())
        if sb is not None:
            found.append((int(offsets[slot // 4]) + slot % 4 * 1024, sb))
    return found


def _file_system(
    pile: Pile, budget: int, places: list[tuple[int, int, ext4.Superblock]], tell: Callable[[str], None]
) -> Anchors:
    sb = places[0][2]
    found = _Found()
    for image, offset, copy in places:
        found.add("superblock", image, offset, copy.address(copy.group))
    groups = _descriptors(pile, budget, sb)
    if groups is not None and sb.checksums and sb.inode_size >= 256:
        directories = dict[int, tuple[int, int]]()
        for image in range(len(pile)):
            tell(f"inodes and bitmaps in {pile.names[image]}")
            for offsets, blocks in pile.scan(image, budget):
                _inodes(found, sb, groups, image, offsets, blocks, directories)
                _bitmaps(found, sb, groups, image, offsets, blocks)
        for image in range(len(pile)) if directories and sb.block == BLOCK else ():
            tell(f"directories in {pile.names[image]}")
            for offsets, blocks in pile.scan(image, budget):
                _directories(found, image, offsets, blocks, directories)
    kinds: dict[str, int] = {}
    for kind, images, _offsets, _addresses in found.rows:
        kinds[kind] = kinds.get(kind, 0) + len(images)
    joined = [np.concatenate([row[i] for row in found.rows]) for i in (1, 2, 3)]
    return Anchors(sb, joined[0], joined[1], joined[2], kinds)


def _descriptors(pile: Pile, budget: int, sb: ext4.Superblock) -> ext4.Descriptors | None:
    """The longest run of sound group descriptors found anywhere, from group 0 on."""
    best: ext4.Descriptors | None = None
    if not sb.checksums or not sb.plain_groups:
        return None
    for image in range(len(pile)):
        for offsets, blocks in pile.scan(image, budget):
            for first in range(0, BLOCK, min(BLOCK, sb.block)):
                heads = np.ascontiguousarray(blocks[:, first : first + sb.desc_size])
                blank = heads.copy()
                blank[:, 0x1E:0x20] = 0
                numbered = np.concatenate([np.zeros((len(heads), 4), np.uint8), blank], axis=1)
                sums = crc_many(numbered, sb.seed) & 0xFFFF
                stored = heads[:, 0x1E].astype(np.uint32) | heads[:, 0x1F].astype(np.uint32) << 8
                for row in np.flatnonzero((sums == stored) & heads.any(axis=1)).tolist():
                    start = int(offsets[row])
                    count = -(-(first + sb.groups * sb.desc_size) // BLOCK)
                    whole = min(count, (pile.sources[image].size - start) // BLOCK)
                    data = pile.blocks(image, start, whole).tobytes()[first:]
                    groups = ext4.parse_descriptors(sb, data)
                    if best is None or len(groups) > len(best):
                        best = groups
    return best


def _inodes(
    found: _Found,
    sb: ext4.Superblock,
    groups: ext4.Descriptors,
    image: int,
    offsets: Int64,
    blocks: Blocks,
    directories: dict[int, tuple[int, int]],
) -> None:
    """Inode records tell their number through their checksum; directories are noted with seed and address."""
    per = BLOCK // sb.inode_size
    records = blocks.reshape(-1, sb.inode_size)
    kind = records[:, 1] >> 4
    likely = np.isin(kind, (1, 2, 4, 6, 8, 10, 12)) & records[:, 0x1A:0x1C].any(axis=1)
    rows = np.flatnonzero(likely & (records[:, 0x80] >= 4))
    if not len(rows):
        return
    chosen = np.ascontiguousarray(records[rows])
    before = state_before(ext4.stored_checksum(chosen), ext4.checksum_input(chosen))
    numbers = (advance(before, -4) ^ np.uint32(sb.seed)).astype(np.int64)
    at = offsets[rows // per] + rows % per * sb.inode_size
    group, index = np.divmod(numbers - 1, sb.group_inodes)
    good = (numbers >= 1) & (numbers <= sb.inodes) & (group < len(groups))
    table = groups.inode_table[np.where(good, group, 0)]
    address = table * sb.block + index * sb.inode_size
    good &= address % 512 == at % 512  # every start there is keeps to sectors
    found.add("inode", image, at[good], address[good])
    for row in np.flatnonzero(good & (kind[rows] == 4)).tolist():
        inode = ext4.parse_inode(int(numbers[row]), chosen[row].tobytes())
        if inode.size == sb.block and len(inode.extents) == 1:
            directories[ext4.directory_seed(sb, inode)] = (inode.number, inode.extents[0][2] * sb.block)


def _bitmaps(
    found: _Found, sb: ext4.Superblock, groups: ext4.Descriptors, image: int, offsets: Int64, blocks: Blocks
) -> None:
    """Blocks whose checksum stands in a descriptor as that of a bitmap."""
    if sb.desc_size < 64 or sb.block != BLOCK:
        return
    for name, bits, sums, where in (
        ("block bitmap", sb.group_blocks, groups.block_csum, groups.block_bitmap),
        ("inode bitmap", sb.group_inodes, groups.inode_csum, groups.inode_bitmap),
    ):
        got = crc_many(np.ascontiguousarray(blocks[:, : bits // 8]), sb.seed).astype(np.int64)
        unique, first, counts = np.unique(sums, return_index=True, return_counts=True)
        known = {int(s): int(where[i]) for s, i, c in zip(unique, first, counts, strict=True) if s and c == 1}
        rows = [(row, known[s]) for row, s in enumerate(got.tolist()) if s in known]
        found.add(name, image, [int(offsets[r]) for r, _ in rows], [b * sb.block for _, b in rows])


def _directories(
    found: _Found, image: int, offsets: Int64, blocks: Blocks, directories: dict[int, tuple[int, int]]
) -> None:
    """Directory blocks of one block each: the CRC run backwards gives the seed, and that the directory."""
    rows = np.flatnonzero(ext4.has_directory_tail(blocks))
    if not len(rows):
        return
    chosen = np.ascontiguousarray(blocks[rows])
    stored = np.ascontiguousarray(chosen[:, -4:]).view("<u4")[:, 0].astype(np.uint32)
    before = state_before(stored, np.ascontiguousarray(chosen[:, :-12]))
    known = [
        (row, directories[s][1]) for row, s in zip(rows.tolist(), before.tolist(), strict=True) if s in directories
    ]
    found.add("directory", image, [int(offsets[row]) for row, _ in known], [address for _, address in known])
