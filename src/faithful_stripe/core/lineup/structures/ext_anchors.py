"""ext2, ext3 and ext4: superblock copies, inodes, bitmaps and directories, and where each belongs.

With metadata checksums an inode tells its number: the checksum covers it, and the CRC runs backwards through the
record. Without them the group descriptors help: a bitmap has as many free bits as its group's descriptor counts, a
directory's block names the inode that points to it, and an indirect block stands next to the blocks it lists.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ...formats import ext4
from ...formats.crc32c import advance, crc_many, state_before
from ..reading.samples import Bytes
from .ground import END, SECTOR, Ground, Int64, Piece, Stock, hits, numbers


@dataclass
class Facts:
    """The superblock, the group descriptors once they are found, and the phase of blocks on the images.

    listing  by image, the numbers of the inodes that directory blocks name as their own, where no checksum tells it
    """

    sb: ext4.Superblock
    groups: ext4.Descriptors | None = None
    raw: Bytes = field(default_factory=lambda: np.empty((0, 32), np.uint8))
    phases: set[int] = field(default_factory=set)
    listing: dict[int, set[int]] = field(default_factory=dict)


def heads(stock: Stock) -> list[Ground]:
    """One ground for every file system of which a superblock or a copy of it was found."""
    found: dict[bytes, Ground] = {}
    for piece in stock:
        for row in hits(piece.sectors, 0x38, b"\x53\xef").tolist():
            data = piece.at(row, 1024)
            sb = ext4.parse_superblock(data.tobytes()) if data is not None else None
            if sb is None:
                continue
            words = f"ext{4 if sb.checksums else ''} {sb.label!r}" if sb.label else f"ext{4 if sb.checksums else ''}"
            ground = found.setdefault(sb.uuid, Ground(sb.uuid, words, sb.size, facts=Facts(sb), weak=_weak(sb)))
            offset = piece.offset + row * SECTOR
            ground.add("superblock", piece.image, offset, sb.address(sb.group))
            ground.silent = ground.silent or sb.journal
            ground.head |= sb.group == 0
            if sb.group == 0:
                ground.add_ages("seconds", piece.image, [offset], [sb.address(0)], [sb.written])
            facts = ground.facts
            assert isinstance(facts, Facts)
            facts.phases.add((offset - sb.address(sb.group)) % sb.block)
    named = {i for ground in found.values() for i in ground.bound()}
    lists = _lists(stock, named)
    return [*found.values(), *([lists] if lists is not None else [])]


LISTED = 16
"""Consecutive block numbers with which an indirect block begins, at least."""

LEAST_LISTS = 4

LISTS = b"EXT-LISTS"
"""The key of what was made of lists alone: tables of other file systems look like them."""


def _lists(stock: Stock, named: set[int]) -> Ground | None:
    """The indirect blocks of a file system whose superblocks are all gone, on images that bear none of another: each
    lists the blocks that follow it. Their size tells the size of a block."""
    places: list[tuple[int, int, int]] = []  # image, offset, first block
    longest = 0
    most = sum(source.size for source in stock.pile.sources) // 1024
    for piece in stock:
        if piece.image in named:
            continue
        entries = np.ascontiguousarray(piece.sectors).view("<u4").astype(np.int64)
        rows = np.flatnonzero((np.diff(entries[:, :LISTED], axis=1) == 1).all(axis=1) & (entries[:, 0] > 1))
        for row in rows.tolist():
            first = int(entries[row, 0])
            if first + LISTED > most or (row and int(entries[row - 1, -1]) == first - 1):
                continue
            places.append((piece.image, piece.offset + row * SECTOR, first))
            run = entries[row : row + 8].reshape(-1) - first
            longest = max(longest, int(np.argmin(np.append(run == np.arange(len(run)), False))))
    if len(places) < LEAST_LISTS:
        return None
    sizes = (4096,) if longest > 1024 // 4 else (1024, 4096)  # a block of 1024 bytes lists no more; few have 2048
    ground = Ground(LISTS, "ext, all superblocks lost", weak=("indirect block",), guessed=True)
    for image, offset, first in places:
        for block in sizes:
            ground.add("indirect block", image, offset, (first - 1) * block)
    return ground


def _weak(sb: ext4.Superblock) -> tuple[str, ...]:
    bound = () if sb.checksums else ("directory inode", "directory", "block bitmap")
    return ("indirect block", END, *bound)


def search(stock: Stock, ground: Ground) -> None:
    """Anchors of one ext file system."""
    facts = ground.facts
    if not isinstance(facts, Facts):
        return
    _descriptors(stock, facts)
    if facts.groups is None or not len(facts.groups):
        return
    ground.filled = min(facts.sb.block, 4096)
    directories: dict[int, int] = {}
    for piece in stock:
        for phase in facts.phases:
            if facts.sb.checksums and facts.sb.inode_size >= 256:
                _inodes(piece, phase, ground, facts, directories)
            else:
                _offsets, records = piece.grid(phase % facts.sb.inode_size, facts.sb.inode_size)
                ground.add_ends(piece.image, _file_ends(facts.sb, records))
            _bitmaps(piece, phase, ground, facts)
            _indirect(piece, phase, ground, facts)
    for phase in facts.phases:
        if facts.sb.checksums:
            for piece in stock:
                _checked_directories(piece, phase, ground, facts, directories)
        else:
            _linked_directories(stock, phase, ground, facts)


def _descriptors(stock: Stock, facts: Facts) -> None:
    """The longest run of sound group descriptors anywhere, from group 0 on; of several as long the one by which most
    inodes are in use: backups are as old as the file system."""
    sb = facts.sb
    if not sb.plain_groups:
        return
    best = (0, 0)
    for piece in stock:
        for phase in facts.phases:
            offsets, blocks = piece.grid(phase, sb.block)
            for row in _descriptor_rows(sb, blocks):
                want = min(sb.groups * sb.desc_size, stock.pile.sources[piece.image].size - int(offsets[row]))
                data = stock.pile.stretch(piece.image, int(offsets[row]), want // sb.desc_size * sb.desc_size).tobytes()
                groups = ext4.parse_descriptors(sb, data)
                count = _plausible(sb, groups)  # of 16 bits of checksum one block in 65536 is right by chance
                worth = (count, int(groups.in_use(sb)[:count].sum()))
                if count and worth > best:
                    best = worth
                    facts.groups = ext4.parse_descriptors(sb, data[: count * sb.desc_size])
                    facts.raw = np.frombuffer(data, np.uint8, count * sb.desc_size).reshape(count, sb.desc_size)


def _descriptor_rows(sb: ext4.Superblock, blocks: Bytes) -> list[int]:
    """Blocks that may begin with the descriptor of group 0."""
    if not len(blocks):
        return []
    heads_ = np.ascontiguousarray(blocks[:, : sb.desc_size])
    if sb.checksums:
        blank = heads_.copy()
        blank[:, 0x1E:0x20] = 0
        numbered = np.concatenate([np.zeros((len(heads_), 4), np.uint8), blank], axis=1)
        sums = (crc_many(numbered, sb.seed) & 0xFFFF).astype(np.int64)
        return np.flatnonzero((sums == numbers(heads_, 0x1E, "<u2")) & heads_.any(axis=1)).tolist()
    bitmap, inodes, tables = (numbers(heads_, at, "<u4") for at in (0, 4, 8))
    reach = min(sb.blocks, sb.first_block + sb.group_blocks * 16)
    good = (bitmap > sb.first_block) & (inodes > sb.first_block) & (tables > sb.first_block)
    good &= (bitmap < reach) & (inodes < reach) & (tables < reach) & (bitmap != inodes) & (tables != inodes)
    good &= numbers(heads_, 0x0C, "<u2") <= sb.group_blocks
    good &= numbers(heads_, 0x0E, "<u2") <= sb.group_inodes
    return np.flatnonzero(good & (numbers(heads_, 0x10, "<u2") >= 1)).tolist()  # group 0 holds the root directory


def _plausible(sb: ext4.Superblock, groups: ext4.Descriptors) -> int:
    """How many descriptors from the first on point into the file system, each to places of its own."""
    good = (groups.inode_table > 0) & (groups.inode_table < sb.blocks) & (groups.block_bitmap < sb.blocks)
    good &= (groups.block_bitmap > 0) & (groups.inode_bitmap > 0) & (groups.inode_bitmap < sb.blocks)
    count = int(np.argmin(good)) if not good.all() else len(good)
    own = len(np.unique(groups.inode_table[:count]))
    return count if own == count else 0


def _inodes(piece: Piece, phase: int, ground: Ground, facts: Facts, directories: dict[int, int]) -> None:
    """Inode records tell their number through their checksum; one-block directories are noted: seed -> address."""
    sb, groups = facts.sb, facts.groups
    assert groups is not None
    offsets, records = piece.grid(phase % sb.inode_size, sb.inode_size)
    kind = records[:, 1] >> 4
    likely = np.isin(kind, (1, 2, 4, 6, 8, 10, 12)) & records[:, 0x1A:0x1C].any(axis=1) & (records[:, 0x80] >= 4)
    likely &= (records[:, 0x81] == 0) & (records[:, 0x80] % 4 == 0)
    offsets, records = offsets[likely], np.ascontiguousarray(records[likely])
    if not len(offsets):
        return
    before = state_before(ext4.stored_checksum(records), ext4.checksum_input(records))
    number = (advance(before, -4) ^ np.uint32(sb.seed)).astype(np.int64)
    group, index = np.divmod(number - 1, sb.group_inodes)
    good = (number >= 1) & (number <= sb.inodes) & (group < len(groups))
    address = groups.inode_table[np.where(good, group, 0)] * sb.block + index * sb.inode_size
    good &= address % 512 == (offsets - phase) % 512
    ground.add("inode", piece.image, offsets[good], address[good])
    ground.add_ages("seconds", piece.image, offsets[good], address[good], numbers(records[good], 0x0C, "<u4"))
    ground.add_ends(-1, _file_ends(sb, records[good]))
    for row in np.flatnonzero(good & (records[:, 1] >> 4 == 4)).tolist():
        inode = ext4.parse_inode(int(number[row]), records[row].tobytes())
        if inode.extents:
            directories[ext4.directory_seed(sb, inode)] = inode.extents[0][2] * sb.block


def _file_ends(sb: ext4.Superblock, records: Bytes) -> Int64:
    """One past the last byte of each file in inode records, in bytes. A file mapped by indirect blocks is taken to lie
    in one run, each list of blocks before what it lists."""
    kept = (records[:, 1] >> 4 == 8) & records[:, 0x1A:0x1C].any(axis=1) & ~records[:, 0x14:0x18].any(axis=1)
    kept &= ~records[:, 0x6C:0x70].any(axis=1) & records[:, 4:8].any(axis=1)  # not empty, and below 4 GiB
    records = np.ascontiguousarray(records[kept])
    last, within = np.divmod(numbers(records, 4, "<u4") - 1, sb.block)
    rows = np.arange(len(records))

    count = numbers(records, 0x2A, "<u2")
    in_extents = (records[:, 0x20:0x24].view("<u4")[:, 0] & 0x80000) > 0
    in_extents &= (numbers(records, 0x28, "<u2") == 0xF30A) & (numbers(records, 0x2E, "<u2") == 0)
    in_extents &= (count >= 1) & (count <= 4)
    at = 0x28 + 12 * np.where(in_extents, count, 1)
    extent = records[rows[:, None], at[:, None] + np.arange(12)]
    first, length = numbers(extent, 0, "<u4"), numbers(extent, 4, "<u2")
    block = numbers(extent, 8, "<u4") + (numbers(extent, 6, "<u2") << 32) + last - first
    block[~(in_extents & (first <= last) & (last < first + length) & (length <= 0x8000))] = 0

    per = sb.block // 4
    pointers = np.ascontiguousarray(records[:, 0x28 : 0x28 + 60]).view("<u4").astype(np.int64)
    beyond = last - 12 - per
    direct = np.where(
        last < 12,
        pointers[rows, np.minimum(last, 11)],
        np.where(beyond < 0, pointers[:, 12] + last - 11, pointers[:, 13] + beyond + beyond // per + 2),
    )
    mapped = (records[:, 0x22] & 0x08 == 0) & (pointers[:, 0] > sb.first_block) & (beyond < per * per)
    mapped &= (last < 12) | (pointers[:, 12] > 0)
    block = np.where(mapped, direct, block)
    good = (block > sb.first_block) & (block < sb.blocks)
    return (block * sb.block + within + 1)[good]


def _checked_directories(piece: Piece, phase: int, ground: Ground, facts: Facts, directories: dict[int, int]) -> None:
    """First blocks of directories: the CRC run backwards gives the seed, and that the directory."""
    offsets, blocks = piece.grid(phase, facts.sb.block)
    rows = np.flatnonzero(ext4.has_directory_tail(blocks) & (blocks[:, 6] == 1) & (blocks[:, 8] == 0x2E))
    if not len(rows) or not directories:
        return
    chosen = np.ascontiguousarray(blocks[rows])
    before = state_before(
        numbers(chosen, facts.sb.block - 4, "<u4").astype(np.uint32), np.ascontiguousarray(chosen[:, :-12])
    )
    for row, seed in zip(rows.tolist(), before.tolist(), strict=True):
        if seed in directories:
            ground.add("directory", piece.image, int(offsets[row]), directories[seed])


def _bitmaps(piece: Piece, phase: int, ground: Ground, facts: Facts) -> None:
    """Blocks that are a group's bitmap: by the checksum in its descriptor, or by the number of free bits."""
    sb, groups = facts.sb, facts.groups
    assert groups is not None
    offsets, blocks = piece.grid(phase, sb.block)
    if not len(offsets):
        return
    for name, bits, sums, where, free_at in (
        ("block bitmap", sb.group_blocks, groups.block_csum, groups.block_bitmap, 0x0C),
        ("inode bitmap", sb.group_inodes, groups.inode_csum, groups.inode_bitmap, 0x0E),
    ):
        if sb.checksums and sb.desc_size >= 64:
            got = crc_many(np.ascontiguousarray(blocks[:, : bits // 8]), sb.seed).astype(np.int64)
            plain = (blocks[:, : bits // 8] == blocks[:, :1]).all(axis=1)  # every empty group has the same
            got = np.where(plain, -1, got)
        elif not sb.checksums and name == "block bitmap":
            # a bitmap's tail is filled with ones where the last group is short: only whole groups are taken
            got = bits - np.bitwise_count(blocks[:, : bits // 8]).sum(axis=1).astype(np.int64)
            sums = numbers(facts.raw, free_at, "<u2")
            likely = (blocks[:, 0] == 0xFF) & (sums.max() >= got)
            got = np.where(likely & (got > 8), got, -1)
        else:
            continue
        unique, first, counts = np.unique(sums, return_index=True, return_counts=True)
        known = {int(s): int(where[i]) for s, i, c in zip(unique, first, counts, strict=True) if s > 0 and c == 1}
        for row, value in enumerate(got.tolist()):
            if value in known:
                ground.add(name, piece.image, int(offsets[row]), known[value] * sb.block)


def _indirect(piece: Piece, phase: int, ground: Ground, facts: Facts) -> None:
    """Blocks that list consecutive blocks stand just before the first of them (files mapped without extents)."""
    sb = facts.sb
    offsets, blocks = piece.grid(phase, sb.block)
    if not len(offsets):
        return
    entries = np.ascontiguousarray(blocks[:, :64]).view("<u4").astype(np.int64)
    rows = np.flatnonzero((np.diff(entries, axis=1) == 1).all(axis=1) & (entries[:, 0] > sb.first_block + 1))
    first = entries[rows, 0]
    good = first + 16 < sb.blocks
    ground.add("indirect block", piece.image, offsets[rows][good], (first[good] - 1) * sb.block)


def _linked_directories(stock: Stock, phase: int, ground: Ground, facts: Facts) -> None:
    """Directory inodes and the blocks they point to: the block names the inode, the inode the block.

    A pair fits when the inode's place in its block is right and it has as many links as the block lists folders.
    """
    sb, groups = facts.sb, facts.groups
    assert groups is not None
    inodes: list[tuple[int, int, int, int]] = []  # image, offset, first block, links
    blocks: list[tuple[int, int, int, int]] = []  # image, offset, inode number, folders listed
    for piece in stock:
        offsets, records = piece.grid(phase % sb.inode_size, sb.inode_size)
        likely = (records[:, 1] >> 4 == 4) & (numbers(records, 4, "<u4") == sb.block)
        likely &= (numbers(records, 0x1A, "<u2") >= 2) & (numbers(records, 0x1C, "<u4") > 0)
        for offset, record in zip(offsets[likely].tolist(), records[likely], strict=True):
            data = record.tobytes()
            first = ext4.first_block(data)
            if sb.first_block < first < sb.blocks:
                inodes.append((piece.image, offset, first, int.from_bytes(data[0x1A:0x1C], "little")))
        offsets, wide = piece.grid(phase, sb.block)
        marked = (wide[:, 4] == 12) & (wide[:, 5] == 0) & (wide[:, 6] == 1) & (wide[:, 8] == 0x2E)
        marked &= (wide[:, 18] == 2) & (wide[:, 20] == 0x2E) & (wide[:, 21] == 0x2E)
        for offset, block in zip(offsets[marked].tolist(), wide[marked], strict=True):
            number, folders = _listed(block.tobytes())
            if 0 < number <= sb.inodes:
                blocks.append((piece.image, offset, number, folders))
                facts.listing.setdefault(piece.image, set()).add(number)
    by_links: dict[int, list[tuple[int, int, int, int]]] = {}
    for inode in inodes:
        by_links.setdefault(inode[3], []).append(inode)
    for image, offset, number, folders in blocks:
        group, index = divmod(number - 1, sb.group_inodes)
        if group >= len(groups):
            continue
        address = int(groups.inode_table[group]) * sb.block + index * sb.inode_size
        fitting = [i for i in by_links.get(folders + 2, []) if (i[1] - phase - address) % min(4096, sb.block) == 0]
        for inode in fitting if len(fitting) <= 4 else []:
            ground.add("directory inode", inode[0], inode[1], address)
            ground.add("directory", image, offset, inode[2] * sb.block)


def _listed(block: bytes) -> tuple[int, int]:
    """A directory block's own inode number, and how many folders it lists beside itself and its parent."""
    at, folders = 0, 0
    while at + 8 <= len(block):
        step = int.from_bytes(block[at + 4 : at + 6], "little")
        if step < 8 or step % 4:
            break
        if int.from_bytes(block[at : at + 4], "little") and block[at + 7] == 2:
            folders += 1
        at += step
    return int.from_bytes(block[:4], "little"), max(0, folders - 2)
