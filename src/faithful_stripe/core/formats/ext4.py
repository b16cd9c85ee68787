"""ext2/3/4: superblocks, group descriptors, inodes, extents and directory blocks, and what they prove.

Offsets and checksum rules are those of the published on-disk format description of ext4. Checksums are
CRC-32C without final inversion, seeded with the file system's UUID (`metadata_csum`).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from ..source import BlockSource, BlockSourceError, read
from .crc32c import crc, crc_many
from .declared import Field, Layout

MAGIC = 0xEF53
SUPER_OFFSET = 1024

SUPERBLOCK = Layout(
    "ext4 superblock",
    1024,
    "<",
    (
        Field(0x000, "inodes_count", "I", "", "inodes in all"),
        Field(0x004, "blocks_lo", "I", "blocks", "size of the file system, low half"),
        Field(0x014, "first_data_block", "I", "block", "1 with blocks of 1 KiB, else 0"),
        Field(0x018, "log_block_size", "I", "", "block size is 1024 << this"),
        Field(0x020, "blocks_per_group", "I", "blocks", ""),
        Field(0x028, "inodes_per_group", "I", "", ""),
        Field(0x030, "written", "I", "s", "when it was written, since 1970"),
        Field(0x038, "magic", "H", "", "0xEF53"),
        Field(0x04C, "revision", "I", "", "1: sizes below are valid"),
        Field(0x058, "inode_size", "H", "bytes", ""),
        Field(0x05A, "group", "H", "", "the group that this copy stands in"),
        Field(0x05C, "compat", "I", "", "features, compatible"),
        Field(0x060, "incompat", "I", "", "features, incompatible"),
        Field(0x064, "ro_compat", "I", "", "features, read-only compatible"),
        Field(0x068, "uuid", "16s", "", ""),
        Field(0x078, "label", "16s", "", ""),
        Field(0x0FD, "journal_kept", "B", "", "1: the journal's own map is kept in this superblock"),
        Field(0x0FE, "desc_size", "H", "bytes", "size of a group descriptor with the 64bit feature"),
        Field(0x10C, "journal_map", "60s", "", "of the journal, as an inode maps its blocks"),
        Field(0x150, "blocks_hi", "I", "blocks", "size of the file system, high half"),
        Field(0x175, "checksum_type", "B", "", "1: CRC-32C"),
        Field(0x270, "checksum_seed", "I", "", "with the csum_seed feature"),
        Field(0x3FC, "checksum", "I", "", "CRC-32C of the bytes before it"),
    ),
)

DESCRIPTOR = Layout(
    "ext4 group descriptor",
    64,
    "<",
    (
        Field(0x00, "block_bitmap_lo", "I", "block", ""),
        Field(0x04, "inode_bitmap_lo", "I", "block", ""),
        Field(0x08, "inode_table_lo", "I", "block", ""),
        Field(0x12, "flags", "H", "", "1 inodes unused, 2 block bitmap not written"),
        Field(0x18, "block_csum_lo", "H", "", "checksum of the block bitmap"),
        Field(0x1A, "inode_csum_lo", "H", "", "checksum of the inode bitmap"),
        Field(0x1C, "unused_inodes_lo", "H", "", "at the end of the group's table"),
        Field(0x1E, "checksum", "H", "", "low half of the CRC-32C of group number and descriptor"),
        Field(0x20, "block_bitmap_hi", "I", "block", ""),
        Field(0x24, "inode_bitmap_hi", "I", "block", ""),
        Field(0x28, "inode_table_hi", "I", "block", ""),
        Field(0x38, "block_csum_hi", "H", "", ""),
        Field(0x3A, "inode_csum_hi", "H", "", ""),
    ),
)

INODE_CSUM_LO, INODE_CSUM_HI, INODE_GENERATION = 0x7C, 0x82, 0x64

_EXTENTS_FLAG, _INLINE_FLAG, _INDEX_FLAG = 0x80000, 0x10000000, 0x1000
_64BIT, _CSUM_SEED, _META_BG = 0x80, 0x2000, 0x10
_METADATA_CSUM = 0x400
_MOST_GROUPS = 1 << 17

INODES_TOGETHER = 128
"""Inodes that are read at once."""


@dataclass(frozen=True)
class Superblock:
    """A superblock copy: sizes in bytes, counts as they stand; `checked` when its checksum is right."""

    uuid: bytes
    label: str
    block: int
    blocks: int
    first_block: int
    group_blocks: int
    group_inodes: int
    inodes: int
    inode_size: int
    desc_size: int
    group: int
    seed: int
    checksums: bool
    plain_groups: bool
    checked: bool
    journal: tuple[tuple[int, int], ...] = ()
    """Where the journal's blocks are, in bytes from the file system's start, as far as the superblock tells."""
    written: int = 0
    """When it was written, in seconds since 1970; a copy is not written with it."""

    @property
    def groups(self) -> int:
        return -(-(self.blocks - self.first_block) // self.group_blocks)

    @property
    def size(self) -> int:
        """Size of the file system in bytes."""
        return self.blocks * self.block

    def address(self, group: int) -> int:
        """Where this group's superblock copy stands, in bytes from the file system's start."""
        return SUPER_OFFSET if group == 0 else (self.first_block + group * self.group_blocks) * self.block


def parse_superblock(data: bytes) -> Superblock | None:
    """The superblock in 1024 bytes; None when this is not one (magic, sanity, checksum where it has one)."""
    v = SUPERBLOCK.read(data)
    if v["magic"] != MAGIC or v["log_block_size"] > 6 or v["revision"] != 1:
        return None
    block = 1024 << v["log_block_size"]
    blocks = v["blocks_lo"] | v["blocks_hi"] << 32 if v["incompat"] & _64BIT else v["blocks_lo"]
    checksums = bool(v["ro_compat"] & _METADATA_CSUM) and v["checksum_type"] == 1
    checked = checksums and crc(data[:0x3FC]) == v["checksum"]
    sane = (
        0 < v["blocks_per_group"] <= 8 * block
        and 0 < v["inodes_per_group"] <= 8 * block
        and v["inode_size"] in (128, 256, 512, 1024, 2048, 4096)
        and v["inode_size"] <= block
        and v["first_data_block"] == (1 if block == 1024 else 0)
        and blocks > v["first_data_block"]
    )
    if not sane or (checksums and not checked):
        return None
    made = Superblock(
        uuid=v["uuid"],
        label=v["label"].split(b"\0")[0].decode("utf-8", "replace"),
        block=block,
        blocks=blocks,
        first_block=v["first_data_block"],
        group_blocks=v["blocks_per_group"],
        group_inodes=v["inodes_per_group"],
        inodes=v["inodes_count"],
        inode_size=v["inode_size"],
        desc_size=max(32, v["desc_size"]) if v["incompat"] & _64BIT else 32,
        group=v["group"],
        seed=v["checksum_seed"] if v["incompat"] & _CSUM_SEED else crc(v["uuid"]),
        checksums=checksums,
        plain_groups=not v["incompat"] & _META_BG,
        checked=checked,
        journal=_journal(v["journal_map"], block, blocks) if v["journal_kept"] == 1 else (),
        written=v["written"],
    )
    fits = made.group < made.groups <= _MOST_GROUPS and made.inodes <= made.groups * made.group_inodes
    return made if fits and made.desc_size in (32, 64) else None


def _journal(node: bytes, block: int, blocks: int) -> tuple[tuple[int, int], ...]:
    """Byte ranges of the journal by the map that a superblock keeps. Of one in many pieces only the lists of its pieces
    are named: what they list follows them."""
    if node[:2] == b"\x0a\xf3":
        found = [(first * block, (first + count) * block) for _at, count, first in parse_extents(node) or ()]
    else:  # pointers: the journal lies in one run, each list of blocks before what it lists
        pointers = [int.from_bytes(node[i : i + 4], "little") for i in range(0, 60, 4)]
        whole = bool(pointers[0]) and pointers[11] - pointers[0] == 11
        end = max(pointers) + block // 4 * (1 + block // 4 * (pointers[13] > 0)) if whole else 0
        found = [(pointers[0] * block, min(end, pointers[0] + MOST_JOURNAL // block) * block)] if whole else []
    return tuple((a, min(b, blocks * block)) for a, b in found if 0 < a < blocks * block)


MOST_JOURNAL = 1 << 30


@dataclass(frozen=True)
class Descriptors:
    """The descriptors of consecutive groups from 0 on: int64 arrays over groups, addresses in blocks."""

    block_bitmap: npt.NDArray[np.int64]
    inode_bitmap: npt.NDArray[np.int64]
    inode_table: npt.NDArray[np.int64]
    flags: npt.NDArray[np.int64]
    block_csum: npt.NDArray[np.int64]
    inode_csum: npt.NDArray[np.int64]
    unused: npt.NDArray[np.int64]

    def __len__(self) -> int:
        return len(self.flags)

    def in_use(self, sb: Superblock) -> npt.NDArray[np.int64]:
        """Inodes of each group that were ever used: int64 (groups,)."""
        return np.where(self.flags & 1, 0, sb.group_inodes - self.unused)


def parse_descriptors(sb: Superblock, data: bytes) -> Descriptors:
    """As many descriptors from group 0 on as `data` holds with a right checksum, without a gap."""
    count = min(sb.groups, len(data) // sb.desc_size)
    raw = np.frombuffer(data, np.uint8, count * sb.desc_size).reshape(count, sb.desc_size)
    wide = np.zeros((count, 64), np.uint8)
    wide[:, : sb.desc_size] = raw
    v = wide.reshape(-1).view(DESCRIPTOR.dtype)
    good = count
    if sb.checksums:
        blank = raw.copy()
        blank[:, 0x1E:0x20] = 0
        numbers = np.arange(count, dtype="<u4").view(np.uint8).reshape(count, 4)
        sums = crc_many(np.concatenate([numbers, blank], axis=1), sb.seed) & 0xFFFF
        wrong = np.flatnonzero(sums != v["checksum"])
        good = int(wrong[0]) if len(wrong) else count

    def both(name: str, shift: int) -> npt.NDArray[np.int64]:
        low = v[f"{name}_lo"][:good].astype(np.int64)
        return low | v[f"{name}_hi"][:good].astype(np.int64) << shift

    return Descriptors(
        both("block_bitmap", 32),
        both("inode_bitmap", 32),
        both("inode_table", 32),
        v["flags"][:good].astype(np.int64),
        both("block_csum", 16),
        both("inode_csum", 16),
        v["unused_inodes_lo"][:good].astype(np.int64),
    )


@dataclass(frozen=True)
class Inode:
    """An inode in use: `extents` are (logical block, blocks, physical block), ascending."""

    number: int
    mode: int
    size: int
    generation: int
    extents: tuple[tuple[int, int, int], ...]
    indexed: bool = False
    """Whether it is a directory with an index in its first block."""

    @property
    def is_directory(self) -> bool:
        return self.mode >> 12 == 4

    @property
    def is_file(self) -> bool:
        return self.mode >> 12 == 8


def stored_checksum(records: npt.NDArray[np.uint8]) -> npt.NDArray[np.uint32]:
    """The checksum fields of inode records: uint32 (n,) from uint8 (n, inode_size >= 256)."""
    places = [INODE_CSUM_LO, INODE_CSUM_LO + 1, INODE_CSUM_HI, INODE_CSUM_HI + 1]
    return np.ascontiguousarray(records[:, places]).view("<u4")[:, 0].astype(np.uint32)


def checksum_input(records: npt.NDArray[np.uint8]) -> npt.NDArray[np.uint8]:
    """What an inode's checksum covers after the inode number: generation, then the record without it."""
    blank = records.copy()
    for at in (INODE_CSUM_LO, INODE_CSUM_HI):
        blank[:, at : at + 2] = 0
    return np.concatenate([records[:, INODE_GENERATION : INODE_GENERATION + 4], blank], axis=1)


def parse_inode(number: int, record: bytes) -> Inode:
    """The inode in a record; extents only where they lie in the inode itself."""
    mode, flags = int.from_bytes(record[0:2], "little"), int.from_bytes(record[0x20:0x24], "little")
    size = int.from_bytes(record[4:8], "little") | int.from_bytes(record[0x6C:0x70], "little") << 32
    generation = int.from_bytes(record[0x64:0x68], "little")
    extents: tuple[tuple[int, int, int], ...] = ()
    if flags & _EXTENTS_FLAG and not flags & _INLINE_FLAG:
        extents = tuple(parse_extents(record[0x28 : 0x28 + 60]) or ())
    return Inode(number, mode, size, generation, extents, bool(flags & _INDEX_FLAG))


def parse_extents(node: bytes) -> list[tuple[int, int, int]] | None:
    """The leaves of an extent node of depth 0; None for anything else."""
    if node[:2] != b"\x0a\xf3" or int.from_bytes(node[6:8], "little") != 0:
        return None
    found = []
    for i in range(min(int.from_bytes(node[2:4], "little"), len(node) // 12 - 1)):
        entry = node[12 + 12 * i : 24 + 12 * i]
        length = int.from_bytes(entry[4:6], "little")
        physical = int.from_bytes(entry[8:12], "little") | int.from_bytes(entry[6:8], "little") << 32
        if 0 < length <= 0x8000:  # longer ones are preallocated, not written
            found.append((int.from_bytes(entry[0:4], "little"), length, physical))
    return found


def first_block(record: bytes) -> int:
    """The first block of what an inode's record maps, by extents in it or by pointers; 0 for none."""
    node = record[0x28 : 0x28 + 60]
    extents = parse_extents(node)
    return extents[0][2] if extents else int.from_bytes(node[:4], "little")


def directory_seed(sb: Superblock, inode: Inode) -> int:
    """The CRC state before a directory block of this inode."""
    return crc(inode.generation.to_bytes(4, "little"), crc(inode.number.to_bytes(4, "little"), sb.seed))


def has_directory_tail(blocks: npt.NDArray[np.uint8]) -> npt.NDArray[np.bool_]:
    """Which of the blocks, uint8 (n, block), end as a checksummed directory block does."""
    tail = np.array([0, 0, 0, 0, 12, 0, 0, 0xDE], np.uint8)
    result: npt.NDArray[np.bool_] = (blocks[:, -12:-4] == tail).all(axis=1)
    return result


def is_index_node(blocks: npt.NDArray[np.uint8]) -> npt.NDArray[np.bool_]:
    """Which of the blocks of a directory, uint8 (n, block), are nodes of its index: an unused entry fills each."""
    length = blocks[:, 4].astype(np.int64) | blocks[:, 5].astype(np.int64) << 8
    result: npt.NDArray[np.bool_] = ~blocks[:, :4].any(axis=1) & (length == blocks.shape[1] % (1 << 16))
    return result


class Ext4:
    """A file system on a block source, read for what it proves.

    known  superblock and descriptors, where they are known from elsewhere
    Raises ValueError when there is no superblock with sound descriptors at `start` (bytes).
    """

    def __init__(
        self, source: BlockSource, start: int = 0, known: tuple[Superblock, Descriptors] | None = None
    ) -> None:
        self.source, self.start = source, start
        if known is not None:  # from copies, where the first ones are gone
            self.sb, self.groups = known
            return
        try:
            sb = parse_superblock(read(source, start + SUPER_OFFSET, 1024))
        except BlockSourceError as reason:
            raise ValueError("no superblock can be read there") from reason
        if sb is None or start + sb.size > source.size:
            raise ValueError("no superblock there, or one of a larger file system")
        self.sb = sb
        try:
            table = read(source, start + (sb.first_block + 1) * sb.block, sb.groups * sb.desc_size)
        except BlockSourceError as reason:
            raise ValueError("the group descriptors cannot be read") from reason
        self.groups = parse_descriptors(sb, table)

    def block(self, number: int, count: int = 1) -> bytes:
        """The bytes of `count` blocks. Raises BlockSourceError outside the source."""
        return read(self.source, self.start + number * self.sb.block, count * self.sb.block)

    def inode_address(self, number: int) -> int | None:
        """Where an inode's record stands, in bytes from the file system's start."""
        group, index = divmod(number - 1, self.sb.group_inodes)
        if not 0 <= group < len(self.groups):
            return None
        return int(self.groups.inode_table[group]) * self.sb.block + index * self.sb.inode_size

    @cached_property
    def used(self) -> list[tuple[int, int]]:
        """(first inode number, count) of the stretches of the inode tables that may be in use."""
        found = []
        for group in range(len(self.groups)):
            count = self.sb.group_inodes - int(self.groups.unused[group])
            if count > 0 and not int(self.groups.flags[group]) & 1:
                found.append((group * self.sb.group_inodes + 1, count))
        return found

    def inodes(self, most: int = 0) -> Iterator[tuple[Inode, bool]]:
        """Every inode in use, and whether its checksum holds for its place; of more than about `most`, some of each
        part of the tables."""
        for numbers, records, right in self.inode_records(most):
            for number, record, good in zip(numbers.tolist(), records, right.tolist(), strict=True):
                yield parse_inode(number, record.tobytes()), good

    def inode_records(
        self, most: int = 0
    ) -> Iterator[tuple[npt.NDArray[np.uint32], npt.NDArray[np.uint8], npt.NDArray[np.bool_]]]:
        """The same, some at a time, as they stand: numbers uint32 (n,), records uint8 (n, inode size), whether each
        checksum holds bool (n,)."""
        parts = [
            (first + at, min(INODES_TOGETHER, count - at))
            for first, count in self.used for at in range(0, count, INODES_TOGETHER)
        ]  # fmt: skip
        if most and len(parts) * INODES_TOGETHER > most:
            step = len(parts) * INODES_TOGETHER / most
            parts = [parts[int(i * step)] for i in range(int(len(parts) / step))]
        for first, count in parts:
            address = self.inode_address(first)
            if address is None:
                continue
            data = read(self.source, self.start + address, count * self.sb.inode_size)
            records = np.frombuffer(data, np.uint8).reshape(count, self.sb.inode_size)
            live = np.flatnonzero(records[:, :2].any(axis=1) & records[:, 0x1A:0x1C].any(axis=1))
            if not len(live):
                continue
            numbers = (first + live).astype("<u4")
            covered = np.concatenate([numbers.view(np.uint8).reshape(-1, 4), checksum_input(records[live])], axis=1)
            right = crc_many(covered, self.sb.seed) == stored_checksum(records[live])
            yield numbers, records[live], right

    def contents(self, inode: Inode, limit: int) -> bytes | None:
        """A file's bytes; None when it is larger than `limit`, has holes or is not mapped by its own extents."""
        if inode.size > limit or not inode.extents:
            return None
        parts, at = [], 0
        for logical, count, physical in inode.extents:
            if logical != at:
                return None
            parts.append(self.block(physical, count))
            at += count
        data = b"".join(parts)
        return data[: inode.size] if len(data) >= inode.size else None
