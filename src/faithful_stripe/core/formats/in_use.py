"""What a file system says is in use on its volume: all else is free, and holds at most what was deleted.

ext, XFS, btrfs, NTFS, FAT and exFAT keep that in maps or trees of their own; places, sizes and values are those of
their published descriptions. Where a map does not hold by its own sum, where a log holds changes that are not in their
places yet, or where it was not unmounted, nothing is said: FormatError.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator

import google_crc32c
import numpy as np
import numpy.typing as npt

from ..ranges import Range, clip, subtract, union
from ..source import BlockSource, BlockSourceError, read
from . import ext4
from .btrfs import Btrfs
from .crc32c import crc
from .declared import FormatError
from .xfs import Xfs

ELSEWHERE = "write out all of it"

MOST_BITMAP = 1 << 30
EXT_CLEAN, EXT_RECOVER, EXT_CLUSTERS = 1, 4, 0x200
"""Of ext: its state when it was unmounted; features of a journal to be played back, and of blocks kept in clusters."""


def in_use(source: BlockSource) -> list[Range]:
    """Ranges of a volume, in bytes, that the file system on it uses, its own structures among them; ascending and
    disjoint.

    Raises FormatError where there is none of a known kind, or where its own word cannot be relied on.
    """
    try:
        head = read(source, 0, min(68 << 10, source.size)).ljust(68 << 10, b"\0")
        for known, ranges in KINDS:
            if known(head):
                return clip(union(ranges(source)), 0, source.size)
    except BlockSourceError as reason:
        raise _unknown("its own structures cannot be read") from reason
    except (struct.error, IndexError, ValueError, OverflowError) as reason:
        raise _unknown("its own structures are damaged") from reason
    raise _unknown("there is no file system of a known kind")


def _unknown(why: str) -> FormatError:
    return FormatError(what=f"what is in use is not known: {why}", to_do=ELSEWHERE)


def _set(bits: npt.NDArray[np.uint8], first: int, unit: int, count: int) -> list[Range]:
    """Ranges of the units whose bits are set, the lowest bit of a byte first; `first`: where the first unit begins."""
    flags = np.unpackbits(bits, bitorder="little")[:count]
    edges = np.flatnonzero(np.diff(np.concatenate([[0], flags, [0]]).astype(np.int8)))
    pairs = zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True)
    return [(first + a * unit, first + b * unit) for a, b in pairs]


# ext ----------------------------------------------------------------------------------------------


def _ext(source: BlockSource) -> Iterator[Range]:
    raw = read(source, ext4.SUPER_OFFSET, 1024)
    state, reserved = struct.unpack_from("<H", raw, 0x3A)[0], struct.unpack_from("<H", raw, 0xCE)[0]
    value = ext4.SUPERBLOCK.read(raw)
    sb = ext4.parse_superblock(raw)
    if sb is None or not sb.plain_groups or value["ro_compat"] & EXT_CLUSTERS:
        raise _unknown("its superblock is damaged, or of a kind that is not read")
    if value["incompat"] & EXT_RECOVER or not state & EXT_CLEAN:
        raise _unknown("it was not unmounted")
    table = -(-sb.groups * sb.desc_size // sb.block)
    groups = ext4.parse_descriptors(sb, read(source, (sb.first_block + 1) * sb.block, sb.groups * sb.desc_size))
    if len(groups) < sb.groups:
        raise _unknown("a group descriptor is damaged")
    yield 0, (sb.first_block + 1 + table + reserved) * sb.block
    inodes = -(-sb.group_inodes * sb.inode_size // sb.block)
    for group in range(sb.groups):
        begin = sb.first_block + group * sb.group_blocks
        for at, length in (
            (int(groups.block_bitmap[group]), 1), (int(groups.inode_bitmap[group]), 1),
            (int(groups.inode_table[group]), inodes),
        ):  # fmt: skip
            yield at * sb.block, (at + length) * sb.block
        if int(groups.flags[group]) & 2:  # its map was never written: it holds a copy of the head at most
            yield begin * sb.block, (begin + 1 + table + reserved) * sb.block
            continue
        held = read(source, int(groups.block_bitmap[group]) * sb.block, sb.block)
        if sb.checksums:
            told = int(groups.block_csum[group]) & (0xFFFFFFFF if sb.desc_size > 32 else 0xFFFF)
            own = crc(held[: sb.group_blocks // 8], sb.seed)
            if own & (0xFFFFFFFF if sb.desc_size > 32 else 0xFFFF) != told:
                raise _unknown(f"the map of group {group} is damaged")
        count = min(sb.group_blocks, sb.blocks - begin)
        yield from _set(np.frombuffer(held, np.uint8), begin * sb.block, sb.block, count)


# XFS ----------------------------------------------------------------------------------------------


def _xfs(source: BlockSource) -> Iterator[Range]:
    if Xfs(lambda at, size: read(source, at, size)).pending:
        raise _unknown("its log holds changes that are not in their places yet")
    head = read(source, 0, 512)
    block, (size,) = struct.unpack_from(">I", head, 4)[0], struct.unpack_from(">Q", head, 8)
    in_group, groups, version = *struct.unpack_from(">II", head, 84), struct.unpack_from(">H", head, 100)[0] & 15
    sector = struct.unpack_from(">H", head, 102)[0]
    for group in range(groups):
        begin = group * in_group
        raw = read(source, begin * block + sector, sector)
        length, root = struct.unpack_from(">I", raw, 12)[0], struct.unpack_from(">I", raw, 16)[0]
        fine = raw[:4] == b"XAGF" and length == min(in_group, size - begin)
        if not fine or (version == 5 and _sum_of(raw, 216) != raw[216:220]):
            raise _unknown(f"the head of group {group} is damaged")
        free = [
            ((begin + first) * block, (begin + first + count) * block)
            for first, count in _xfs_free(
                source, begin, root, block, version == 5, struct.unpack_from(">I", raw, 28)[0]
            )
        ]
        yield from subtract([(begin * block, (begin + length) * block)], union(free))


def _xfs_free(
    source: BlockSource, begin: int, at: int, block: int, five: bool, levels: int
) -> Iterator[tuple[int, int]]:  # fmt: skip
    """(first block, count) of the free space in a group, from its tree by place."""
    raw = read(source, (begin + at) * block, block)
    magic, level, count = struct.unpack_from(">4sHH", raw, 0)
    head = 56 if five else 16
    if magic != (b"AB3B" if five else b"ABTB") or level != levels - 1 or (five and _sum_of(raw, 52) != raw[52:56]):
        raise _unknown("the tree of its free space is damaged")
    if level:
        most = (block - head) // 12
        for child in struct.unpack_from(f">{count}I", raw, head + 8 * most):
            yield from _xfs_free(source, begin, child, block, five, level)
        return
    for n in range(count):
        first, length = struct.unpack_from(">II", raw, head + 8 * n)
        yield int(first), int(length)


def _sum_of(raw: bytes, at: int) -> bytes:
    """CRC-32C of a structure with its own sum, four bytes at a place, as zeros."""
    return int(google_crc32c.value(raw[:at] + bytes(4) + raw[at + 4 :])).to_bytes(4, "little")


# btrfs --------------------------------------------------------------------------------------------

BTRFS_HEADS = (64 << 10, 64 << 20, 256 << 30)


def _btrfs(source: BlockSource) -> Iterator[Range]:
    found = Btrfs(lambda at, size: read(source, at, size).ljust(size, b"\0"))
    if found.pending:
        raise _unknown("its log holds changes that are not in their places yet")
    yield 0, 1 << 20
    yield from ((at, at + 4096) for at in BTRFS_HEADS)
    yield from found.allocated()


# NTFS ---------------------------------------------------------------------------------------------

RECORDS, VOLUME, BITMAP, LOG = 0, 3, 6, 2
DATA, VOLUME_INFORMATION, DIRTY = 0x80, 0x70, 1


def _ntfs(source: BlockSource) -> Iterator[Range]:
    head = read(source, 0, 512)
    sector, per_cluster = struct.unpack_from("<HB", head, 11)
    cluster = sector * (per_cluster if per_cluster < 0x80 else 1 << (256 - per_cluster))
    sectors, first = struct.unpack_from("<QQ", head, 40)
    size = struct.unpack_from("<b", head, 64)[0]
    record = size * cluster if size > 0 else 1 << -size
    if not 256 <= record <= 1 << 16 or not 512 <= cluster <= 1 << 21:
        raise _unknown("its boot sector is damaged")
    table = [(first * cluster, first * cluster + record)]
    table = _ntfs_runs(_ntfs_record(source, table, RECORDS, record, sector), cluster)
    volume, log, bitmap = (_ntfs_record(source, table, n, record, sector) for n in (VOLUME, LOG, BITMAP))
    told = next((held for kind, held in _attributes(volume) if kind == VOLUME_INFORMATION), b"")
    if len(told) < 24 + 12 or struct.unpack_from("<H", told, struct.unpack_from("<H", told, 20)[0] + 10)[0] & DIRTY:
        raise _unknown("it was not unmounted")
    if not _log_at_rest(source, _ntfs_runs(log, cluster)):
        raise _unknown("its log holds changes that are not in their places yet")
    runs = _ntfs_runs(bitmap, cluster)
    if sum(b - a for a, b in runs) > MOST_BITMAP:
        raise _unknown("its map is larger than any")
    count = sectors * sector // cluster
    held = b"".join(read(source, a, b - a) for a, b in runs)
    if len(held) * 8 < count:
        raise _unknown("its map is cut short")
    yield from _set(np.frombuffer(held, np.uint8), 0, cluster, count)
    yield count * cluster, sectors * sector + sector  # the copy of the boot sector behind the last cluster


def _log_at_rest(source: BlockSource, runs: list[Range]) -> bool:
    """Whether the log of an NTFS says that nothing has to be played back: it is blank, or its newest restart page names
    no client that is in use, or a volume that was left clean."""
    pages = [read(source, runs[0][0] + n * 4096, 4096) for n in (0, 1)] if runs else []
    marked = [page for page in pages if page[:4] == b"RSTR"]
    if not marked:
        return bool(pages) and all(page == b"\xff" * 4096 or not any(page) for page in pages)
    areas = [page[struct.unpack_from("<H", page, 24)[0] :] for page in marked]
    newest = max(areas, key=lambda area: struct.unpack_from("<Q", area, 0)[0])
    in_use, flags = struct.unpack_from("<HH", newest, 12)
    return bool(in_use == 0xFFFF or flags & 2)


def _ntfs_record(source: BlockSource, table: list[Range], number: int, size: int, sector: int) -> bytes:
    """A record of the file table, its sectors' last words put back."""
    at = number * size
    for a, b in table:
        if at < b - a:
            break
        at -= b - a
    else:
        raise _unknown("its file table is cut short")
    raw = bytearray(read(source, a + at, size))
    words, count = struct.unpack_from("<HH", raw, 4)
    if raw[:4] != b"FILE" or count != size // sector + 1 or words + 2 * count > sector:
        raise _unknown(f"record {number} of its file table is damaged")
    mark = raw[words : words + 2]
    for n in range(1, count):
        end = n * sector
        if raw[end - 2 : end] != mark:
            raise _unknown(f"record {number} of its file table is damaged")
        raw[end - 2 : end] = raw[words + 2 * n : words + 2 * n + 2]
    return bytes(raw)


def _attributes(record: bytes) -> Iterator[tuple[int, bytes]]:
    at = struct.unpack_from("<H", record, 20)[0]
    while at + 16 <= len(record):
        kind, length = struct.unpack_from("<II", record, at)
        if kind == 0xFFFFFFFF or not 16 <= length <= len(record) - at:
            return
        yield kind, record[at : at + length]
        at += length


def _ntfs_runs(record: bytes, cluster: int) -> list[Range]:
    """Where the unnamed content of a record stands, in order. What goes on in another record is not known."""
    held = next((h for kind, h in _attributes(record) if kind == DATA and not h[9]), b"")
    if not held or not held[8] or any(kind == 0x20 for kind, _h in _attributes(record)):
        raise _unknown("its file table goes on in records that are not read")
    at, place, found = struct.unpack_from("<H", held, 32)[0], 0, list[Range]()
    while at < len(held) and held[at]:
        wide, far = held[at] & 15, held[at] >> 4
        count = int.from_bytes(held[at + 1 : at + 1 + wide], "little")
        place += int.from_bytes(held[at + 1 + wide : at + 1 + wide + far], "little", signed=True)
        if not far or place < 0:
            raise _unknown("its maps have holes")
        found.append((place * cluster, (place + count) * cluster))
        at += 1 + wide + far
    return found


# FAT and exFAT ------------------------------------------------------------------------------------


def _fat(source: BlockSource) -> Iterator[Range]:
    head = read(source, 0, 512)
    sector, per_cluster, reserved, tables, roots, few = struct.unpack_from("<HBHBHH", head, 11)
    total = few or struct.unpack_from("<I", head, 32)[0]
    long = struct.unpack_from("<H", head, 22)[0] or struct.unpack_from("<I", head, 36)[0]
    data = (reserved + tables * long + -(-roots * 32 // sector)) * sector
    cluster = per_cluster * sector
    if not cluster or sector & (sector - 1) or data > total * sector:
        raise _unknown("its boot sector is damaged")
    count = (total * sector - data) // cluster
    bits = 12 if count < 4085 else 16 if count < 65525 else 32
    raw = np.frombuffer(read(source, reserved * sector, long * sector), np.uint8)
    if bits == 12:
        trios = raw[: len(raw) // 3 * 3].reshape(-1, 3).astype(np.uint32)
        pairs = np.stack([trios[:, 0] | (trios[:, 1] & 15) << 8, trios[:, 1] >> 4 | trios[:, 2] << 4], axis=1)
        values = pairs.reshape(-1)
    else:
        values = raw[: len(raw) // 4 * 4].view("<u2" if bits == 16 else "<u4").astype(np.uint32)
        values = values & 0x0FFFFFFF if bits == 32 else values
    if len(values) < count + 2:
        raise _unknown("its table is cut short")
    yield 0, data
    yield from _set(np.packbits(values[2 : count + 2] != 0, bitorder="little"), data, cluster, count)
    yield data + count * cluster, total * sector


def _exfat(source: BlockSource) -> Iterator[Range]:
    head = read(source, 0, 512)
    table, table_sectors, heap, count, root = struct.unpack_from("<IIIII", head, 80)
    shift, cluster = head[108], 1 << (head[108] + head[109])
    if not 9 <= shift <= 12 or cluster > 32 << 20 or head[106] & 2:
        raise _unknown("its boot sector is damaged, or it was not unmounted")
    heap_at = heap << shift
    links = np.frombuffer(read(source, table << shift, table_sectors << shift), "<u4")

    def chain(first: int) -> bytes:
        parts, at = list[bytes](), first
        while 2 <= at < count + 2 and len(parts) * cluster < MOST_BITMAP:
            parts.append(read(source, heap_at + (at - 2) * cluster, cluster))
            at = int(links[at])
        return b"".join(parts)

    folder = chain(root)
    entries = (folder[n : n + 32] for n in range(0, len(folder), 32))
    told = next((e for e in entries if e[0] == 0x81), None)
    if told is None:
        raise _unknown("its map is not found")
    held = chain(struct.unpack_from("<I", told, 20)[0])
    if len(held) * 8 < count:
        raise _unknown("its map is cut short")
    yield 0, heap_at
    yield from _set(np.frombuffer(held, np.uint8), heap_at, cluster, count)


KINDS: tuple[tuple[Callable[[bytes], bool], Callable[[BlockSource], Iterator[Range]]], ...] = (
    (lambda head: head[0x438:0x43A] == b"\x53\xef", _ext),
    (lambda head: head[:4] == b"XFSB", _xfs),
    (lambda head: head[0x10040:0x10048] == b"_BHRfS_M", _btrfs),
    (lambda head: head[3:11] == b"NTFS    ", _ntfs),
    (lambda head: head[3:11] == b"EXFAT   ", _exfat),
    (lambda head: head[0x1FE:0x200] == b"\x55\xaa" and b"FAT" in (head[0x36:0x39], head[0x52:0x55]), _fat),
)
"""How each kind is known by its head, and what tells its ranges."""
