"""XFS: allocation-group headers, inodes and metadata blocks, each of which states where it belongs. In version 4 only
the headers do, and they do not name their file system.

Places of the fields are those of the published on-disk format; all numbers are big-endian.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...formats.crc32c import crc_many
from .ground import END, SECTOR, Ground, Piece, Stock, big, hits, numbers

_SHORT_BLOCKS = (b"AB3B", b"AB3C", b"IAB3", b"FIB3", b"RMB3", b"R3FC")
_DIRECTORY_BLOCKS = (b"XDB3", b"XDD3", b"XDF3", b"XARM")
_NODE_MAGICS = (0x3DF1, 0x3DFF, 0x3EBE, 0x3BEE)


MOST_GROUPS = 16
"""A copy of the superblock may stand in any group; of more it says too little."""


@dataclass(frozen=True)
class Facts:
    block: int
    sector: int
    inode: int
    ag_blocks: int
    ag_count: int
    ag_log: int
    inodes_log: int
    uuid: bytes
    version: int


def heads(stock: Stock) -> list[Ground]:
    """One ground for every XFS of which a superblock or a copy of it was found."""
    found: dict[bytes, Ground] = {}
    for piece in stock:
        for row in hits(piece.sectors, 0, b"XFSB").tolist():
            sb = piece.sectors[row].tobytes()
            facts = Facts(
                block=big(sb, 4, 4), sector=big(sb, 102, 2), inode=big(sb, 104, 2), ag_blocks=big(sb, 84, 4),
                ag_count=big(sb, 88, 4), ag_log=sb[124], inodes_log=sb[123], uuid=sb[32:48],
                version=sb[101] & 15,
            )  # fmt: skip
            sane = (
                facts.block in (1024, 2048, 4096, 8192, 16384, 32768, 65536) and facts.sector in (512, 1024, 2048, 4096)
                and facts.inode in (256, 512, 1024, 2048) and 0 < facts.ag_count < 1 << 20 and facts.ag_blocks > 0
                and 0 < facts.ag_log < 32 and facts.inodes_log <= 8 and facts.version in (4, 5)
            )  # fmt: skip
            if sane:
                size = big(sb, 8, 8) * facts.block
                weak = (END, "group header") if facts.version == 4 else (END,)
                ground = found.setdefault(facts.uuid, Ground(facts.uuid, "XFS", size, facts=facts, weak=weak))
                ground.silent = _log(sb, facts)
                if facts.version == 4:  # which names it; all copies but the first are marked unfinished
                    groups = range(1, min(facts.ag_count, MOST_GROUPS)) if sb[126] else (0,)
                    for group in groups:
                        address = group * facts.ag_blocks * facts.block
                        ground.add("superblock", piece.image, piece.offset + row * SECTOR, address)
    return list(found.values())


def _log(sb: bytes, facts: Facts) -> tuple[tuple[int, int], ...]:
    """Where the log is, when it is inside the file system."""
    first, count = big(sb, 48, 8), big(sb, 96, 4)
    group, within = first >> facts.ag_log, first & ((1 << facts.ag_log) - 1)
    if not first or group >= facts.ag_count or within >= facts.ag_blocks:
        return ()
    start = (group * facts.ag_blocks + within) * facts.block
    return ((start, start + count * facts.block),)


def search(stock: Stock, ground: Ground) -> None:
    """Anchors of one XFS."""
    facts = ground.facts
    assert isinstance(facts, Facts)
    ground.filled = min(facts.block, 4096)
    for piece in stock:
        _headers(piece, ground, facts)
        _file_ends(piece, ground, facts)
        if facts.version == 5:
            _inodes(piece, ground, facts)
            _blocks(piece, ground, facts)


def _headers(piece: Piece, ground: Ground, facts: Facts) -> None:
    sectors = piece.sectors
    for mark, number, place, uuid_at in ((b"XAGF", 8, 1, 64), (b"XAGI", 8, 2, 296), (b"XAFL", 4, 3, 8)):
        rows = hits(sectors, 0, mark)
        if facts.version == 5:
            rows = rows[(sectors[rows, uuid_at : uuid_at + 16] == np.frombuffer(facts.uuid, np.uint8)).all(axis=1)]
        else:
            rows = rows[numbers(sectors[rows], 12, ">u4") <= facts.ag_blocks]
        group = numbers(sectors[rows], number, ">u4")
        good = group < facts.ag_count
        address = group * facts.ag_blocks * facts.block + place * facts.sector
        ground.add("group header", piece.image, (piece.offset + rows * SECTOR)[good], address[good])
        ground.head |= bool(place == 1 and (group[good] == 0).any())


def _file_ends(piece: Piece, ground: Ground, facts: Facts) -> None:
    """Files by their inodes, those of which at most as many extents as fit into them place the data."""
    if facts.inode < SECTOR:
        halves = piece.sectors.reshape(-1, facts.inode)
        records = halves[hits(halves, 0, b"IN")]
    else:
        _rows, records = piece.records(hits(piece.sectors, 0, b"IN"), facts.inode)
    kept = (records[:, 2] >> 4 == 8) & (records[:, 5] == 2) & (records[:, 4] == (3 if facts.version == 5 else 2))
    if facts.version == 5:
        kept &= (records[:, 160:176] == np.frombuffer(facts.uuid, np.uint8)).all(axis=1)
    records = np.ascontiguousarray(records[kept])
    fork = 176 if facts.version == 5 else 100
    size, count = numbers(records, 56, ">u8"), numbers(records, 76, ">u4")
    fits = (size > 0) & (size < 1 << 50) & (count >= 1) & (count <= (facts.inode - fork) // 16)
    records, size, count = records[fits], size[fits], count[fits]
    at = fork + 16 * (count - 1)
    extent = records[np.arange(len(records))[:, None], at[:, None] + np.arange(16)]
    high, low = (np.ascontiguousarray(extent[:, i : i + 8]).view(">u8")[:, 0].astype(np.uint64) for i in (0, 8))
    first = ((high >> np.uint64(9)) & np.uint64((1 << 54) - 1)).astype(np.int64)
    block = ((high & np.uint64(511)) << np.uint64(43) | low >> np.uint64(21)).astype(np.int64)
    length = (low & np.uint64((1 << 21) - 1)).astype(np.int64)
    group, within = block >> facts.ag_log, block & ((1 << facts.ag_log) - 1)
    past = size - first * facts.block
    good = (past > 0) & (past <= length * facts.block) & (group < facts.ag_count) & (within < facts.ag_blocks)
    end = (group * facts.ag_blocks + within) * facts.block + past
    ground.add_ends(-1 if facts.version == 5 else piece.image, end[good])


def _inodes(piece: Piece, ground: Ground, facts: Facts) -> None:
    rows, records = piece.records(hits(piece.sectors, 0, b"IN"), facts.inode)
    if not len(rows):
        return
    mine = (records[:, 160:176] == np.frombuffer(facts.uuid, np.uint8)).all(axis=1) & (records[:, 4] == 3)
    rows, records = rows[mine], np.ascontiguousarray(records[mine])
    if not len(rows):
        return
    blank = records.copy()
    blank[:, 100:104] = 0
    right = crc_many(blank, 0xFFFFFFFF) ^ np.uint32(0xFFFFFFFF) == numbers(records, 100, "<u4").astype(np.uint32)
    number = numbers(records, 152, ">u8")
    shift = facts.ag_log + facts.inodes_log
    group, within = number >> shift, number & ((1 << shift) - 1)
    block, index = within >> facts.inodes_log, within & ((1 << facts.inodes_log) - 1)
    good = right & (group < facts.ag_count) & (block < facts.ag_blocks)
    address = (group * facts.ag_blocks + block) * facts.block + index * facts.inode
    at = (piece.offset + rows * SECTOR)[good]
    ground.add("inode", piece.image, at, address[good])
    ground.add_ages("log-number", piece.image, at, address[good], numbers(records[good], 112, ">u8"))


def _blocks(piece: Piece, ground: Ground, facts: Facts) -> None:
    sectors = piece.sectors
    uuid = np.frombuffer(facts.uuid, np.uint8)
    for marks, at, uuid_at in ((_SHORT_BLOCKS, 16, 32), ((b"BMA3",), 24, 40), (_DIRECTORY_BLOCKS, 8, 24)):
        for mark in marks:
            rows = hits(sectors, 0, mark)
            rows = rows[(sectors[rows, uuid_at : uuid_at + 16] == uuid).all(axis=1)]
            _add(piece, ground, rows, at)
    magic = sectors[:, 8].astype(np.int64) << 8 | sectors[:, 9]
    rows = np.flatnonzero(np.isin(magic, _NODE_MAGICS))
    rows = rows[(sectors[rows, 32:48] == uuid).all(axis=1)]
    _add(piece, ground, rows, 16)


def _add(piece: Piece, ground: Ground, rows: np.ndarray, at: int) -> None:
    address = numbers(piece.sectors[rows], at, ">u8")
    good = address < 1 << 50
    address = address[good] * 512
    inside = (address < ground.size) if ground.size else address >= 0
    ground.add("metadata block", piece.image, (piece.offset + rows * SECTOR)[good][inside], address[inside])
