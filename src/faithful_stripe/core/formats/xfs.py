"""XFS, read-only: superblock, inodes, extent lists and trees, directories. Versions 4 and 5.

Offsets and values are those of the published on-disk description (XFS Algorithms and Data Structures, 3rd edition).
Sums of version 5 are CRC-32C; a block whose sum does not hold is taken for damaged.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from functools import lru_cache

import google_crc32c

from ..ranges import Range, union
from .declared import Field, FormatError, Layout
from .inodes import Extent, Read, Stat, damaged, kind_of, pieces

SUPERBLOCK = Layout(
    "XFS superblock",
    512,
    ">",
    (
        Field(0, "magic", "4s", "", "XFSB"),
        Field(4, "block_size", "I", "bytes"),
        Field(8, "blocks", "Q", "blocks", "of the data device"),
        Field(32, "uuid", "16s"),
        Field(48, "log", "Q", "block", "where the log begins; 0 where it is on another device"),
        Field(56, "root", "Q", "", "inode of the first folder"),
        Field(84, "group_blocks", "I", "blocks", "of one allocation group"),
        Field(88, "groups", "I"),
        Field(96, "log_blocks", "I", "blocks"),
        Field(100, "version", "H", "", "low four bits: 4 or 5"),
        Field(104, "inode_size", "H", "bytes"),
        Field(123, "inodes_per_block_log", "B"),
        Field(124, "group_log", "B", "", "bits of a block number within a group"),
        Field(192, "folder_log", "B", "", "blocks of a directory block, as a power of two"),
        Field(200, "features2", "I"),
        Field(216, "incompatible", "I", "", "features of version 5"),
    ),
)
INODE = Layout(
    "XFS inode",
    100,
    ">",
    (
        Field(0, "magic", "2s", "", "IN"),
        Field(2, "mode", "H"),
        Field(4, "version", "B"),
        Field(5, "format", "B", "", "of the data: 1 local, 2 extents, 3 tree"),
        Field(24, "many_extents", "Q", "", "how many, where flags2 says so"),
        Field(40, "modified", "i", "s"),
        Field(56, "size", "Q", "bytes"),
        Field(76, "extents", "I", "", "how many"),
        Field(82, "fork", "B", "8 bytes", "where attributes begin behind the data"),
        Field(90, "flags", "H"),
    ),
)
LOCAL, EXTENTS, TREE = 1, 2, 3
REALTIME = 1
BIG_TIME, MANY_EXTENTS = 1 << 3, 1 << 4
NAMED_TYPES, NAMED_TYPES_4 = 1 << 0, 0x200
"""Whether names in directories carry the type of their inode: of version 5, and of version 4."""
EPOCH = -(1 << 31)
"""Where times of many bits begin, in seconds since 1970."""

MOST_FOLDER = 1 << 30
FOLDER_END = 32 << 30
"""Above this place in a folder stands what finds names quickly, in bytes: nothing there is another name."""

MOST_LEVELS = 9
FREE = 0xFFFF
KNOWN_INODES = 4096

RECORD, RECORD_BYTES, UNMOUNTED = b"\xfe\xed\xba\xbe", 32 << 10, 0x20
"""What a record of the log begins with, what one sector of its head stands for, and the mark of an unmounting."""
LOG_PIECE, MOST_LOG = 1 << 20, 2 << 30


class Xfs:
    """An XFS file system; `read` gives its bytes from its start on. Raises FormatError where there is none."""

    def __init__(self, read: Read) -> None:
        self._read, self.hurt = read, list[Range]()
        found = SUPERBLOCK.read(read(0, SUPERBLOCK.size))
        self._version = found["version"] & 15
        block, log = found["block_size"], found["folder_log"]
        fine = found["magic"] == b"XFSB" and self._version in (4, 5) and block & (block - 1) == 0
        if not (fine and 512 <= block <= 1 << 16 and 256 <= found["inode_size"] <= 2048 and log < 9):
            raise damaged("the superblock")
        self._block, self._folder_block = block, block << log
        self._inode_size, self._per_block = found["inode_size"], found["inodes_per_block_log"]
        self._group_log, self._group_blocks = found["group_log"], found["group_blocks"]
        five = self._version == 5
        self._typed = bool(found["incompatible"] & NAMED_TYPES if five else found["features2"] & NAMED_TYPES_4)
        self.root: int = found["root"]
        self._inode = lru_cache(KNOWN_INODES)(self._inode_of)
        self.pending = found["log"] > 0 and self._not_unmounted(found["log"], found["log_blocks"])

    def stat(self, inode: int) -> Stat:
        """What an inode is."""
        found, raw = self._inode(inode)
        modified = int(found["modified"])
        if found["version"] == 3 and struct.unpack_from(">Q", raw, 120)[0] & BIG_TIME:
            modified = int(struct.unpack_from(">Q", raw, 40)[0]) // 10**9 + EPOCH
        return Stat(kind_of(found["mode"]), int(found["size"]), modified)

    def places(self, inode: int) -> list[Range]:
        """Where a file's content stands, in bytes of the file system."""
        return union((e.place, e.place + e.length) for e in self._extents(inode) if e.place is not None)

    def content(self, inode: int, step: int) -> Iterator[bytes]:
        """A file's content."""
        found, raw = self._inode(inode)
        size = int(found["size"])
        if found["format"] == LOCAL:
            yield self._fork(found, raw)[:size]
        else:
            yield from pieces(self._read, self._extents(inode), size, step)

    def names(self, inode: int) -> Iterator[tuple[bytes, int]]:
        """The names in a folder."""
        found, raw = self._inode(inode)
        if found["format"] == LOCAL:
            yield from self._short(self._fork(found, raw))
            return
        size, blocks = self._folder_block, dict[int, bytearray]()
        for extent in self._extents(inode):
            if extent.at < FOLDER_END and extent.place is not None:
                if extent.length > MOST_FOLDER:
                    raise damaged("a folder")
                data = self._read(extent.place, extent.length)
                for at in range(0, extent.length, self._block):
                    number, inner = divmod(extent.at + at, size)
                    block = blocks.setdefault(number, bytearray(size))
                    block[inner : inner + self._block] = data[at : at + self._block]
        for number, whole in sorted(blocks.items()):
            try:
                yield from self._names_in(bytes(whole), inode)
            except (FormatError, struct.error):
                self.hurt += [
                    (e.place, e.place + e.length) for e in self._extents(inode)
                    if e.place is not None and e.at < (number + 1) * size and number * size < e.at + e.length
                ]  # fmt: skip

    def _short(self, fork: bytes) -> Iterator[tuple[bytes, int]]:
        """Names that stand in the inode itself."""
        if len(fork) < 6:
            raise damaged("a folder")
        wide = 8 if fork[1] else 4
        at = 2 + wide
        for _ in range(fork[0]):
            length = fork[at]
            name, at = fork[at + 3 : at + 3 + length], at + 3 + length + self._typed
            number = fork[at : at + wide]
            if len(number) < wide:
                raise damaged("a folder")
            yield name, int.from_bytes(number, "big")
            at += wide

    def _names_in(self, block: bytes, owner: int) -> Iterator[tuple[bytes, int]]:
        magic = block[:4]
        five, single = magic in (b"XDB3", b"XDD3"), magic in (b"XD2B", b"XDB3")
        if magic not in (b"XD2B", b"XDB3", b"XD2D", b"XDD3"):
            raise damaged("a directory block")
        if five and (_sum(block, 4) != block[4:8] or int.from_bytes(block[40:48], "big") != owner):
            raise damaged("a directory block")
        at, end = (64 if five else 16), len(block)
        if single:
            end -= 8 + 8 * int.from_bytes(block[-8:-4], "big")
        found = []
        while at + 8 <= end:
            if int.from_bytes(block[at : at + 2], "big") == FREE:
                step = int.from_bytes(block[at + 2 : at + 4], "big")
            else:
                length = block[at + 8]
                step = -(-(11 + length + self._typed) // 8) * 8
                found.append((block[at + 9 : at + 9 + length], int.from_bytes(block[at : at + 8], "big")))
            if step < 8 or step % 8 or at + step > end:
                raise damaged("a directory block")
            at += step
        yield from found

    def _not_unmounted(self, log: int, blocks: int) -> bool:
        """Whether the last record of the log is another one than that of an unmounting: what is in the log then need
        not be in its place."""
        begin, last = self._place(log), (0, 0)
        for at in range(begin, begin + min(blocks * self._block, MOST_LOG), LOG_PIECE):
            piece = self._read(at, LOG_PIECE)
            hit = piece.find(RECORD)
            while hit >= 0:
                if hit % 512 == 0:
                    last = max(last, (int.from_bytes(piece[hit + 16 : hit + 24], "big"), at + hit))
                hit = piece.find(RECORD, hit + 1)
        if not last[1]:
            return False
        head = self._read(last[1], 512)
        size = int.from_bytes(head[320:324], "big") or RECORD_BYTES
        behind = last[1] + 512 * max(1, -(-size // RECORD_BYTES))
        alone = int.from_bytes(head[40:44], "big") == 1
        return not (alone and self._read(behind, 16)[9] & UNMOUNTED)

    def _place(self, block: int) -> int:
        """Where a block stands, in bytes, by its number: the group's in the high bits."""
        group, inner = block >> self._group_log, block & (1 << self._group_log) - 1
        return int((group * self._group_blocks + inner) * self._block)

    # inodes and extents -------------------------------------------------------------------------

    def _inode_of(self, inode: int) -> tuple[dict[str, int], bytes]:
        size, log = self._inode_size, self._group_log + self._per_block
        group, inner = inode >> log, inode & (1 << log) - 1
        block, index = inner >> self._per_block, inner & (1 << self._per_block) - 1
        at = (group * self._group_blocks + block) * self._block + index * size
        raw = self._read(at, size)
        found = INODE.read(raw)
        own = found["version"] < 3 or (_sum(raw, 100) == raw[100:104] and int.from_bytes(raw[152:160], "big") == inode)
        if found["magic"] != b"IN" or block >= self._group_blocks or not own:
            self.hurt.append((at, at + size))
            raise damaged(f"inode {inode}")
        return found, raw

    def _fork(self, found: dict[str, int], raw: bytes) -> bytes:
        """The part of an inode that its data, or what leads to them, stand in."""
        begin = 176 if found["version"] == 3 else 100
        return raw[begin : begin + 8 * found["fork"] if found["fork"] else len(raw)]

    def _extents(self, inode: int) -> list[Extent]:
        found, raw = self._inode(inode)
        if found["flags"] & REALTIME:
            raise FormatError(what=f"inode {inode}: its content is on another device", to_do="copy the others")
        fork = self._fork(found, raw)
        if found["format"] == TREE:
            return list(self._tree(fork, inode))
        if found["format"] != EXTENTS:
            return []
        count = found["extents"]
        if found["version"] == 3 and struct.unpack_from(">Q", raw, 120)[0] & MANY_EXTENTS:
            count = found["many_extents"]
        if count * 16 > len(fork):
            raise damaged(f"inode {inode}")
        return [self._record(fork, 16 * n) for n in range(count)]

    def _record(self, data: bytes, at: int) -> Extent:
        high, low = struct.unpack_from(">QQ", data, at)
        block = (high & 0x1FF) << 43 | low >> 21
        length, unwritten = (low & 0x1FFFFF) * self._block, high >> 63
        at = (high >> 9 & (1 << 54) - 1) * self._block
        return Extent(at, length, None if unwritten else self._place(block))

    def _tree(self, root: bytes, inode: int) -> Iterator[Extent]:
        level, count = struct.unpack_from(">HH", root)
        most = (len(root) - 4) // 16
        if not 0 < level < MOST_LEVELS or count > most:
            raise damaged(f"inode {inode}")
        for n in range(count):
            yield from self._below(struct.unpack_from(">Q", root, 4 + 8 * most + 8 * n)[0], level - 1, inode)

    def _below(self, number: int, level: int, inode: int) -> Iterator[Extent]:
        at = self._place(number)
        block = self._read(at, self._block)
        head = 72 if block[:4] == b"BMA3" else 24
        told, count = struct.unpack_from(">HH", block, 4)
        most = (len(block) - head) // 16
        sound = head == 24 or (_sum(block, 64) == block[64:68] and int.from_bytes(block[56:64], "big") == inode)
        if block[:4] not in (b"BMAP", b"BMA3") or told != level or count > most or not sound:
            self.hurt.append((at, at + self._block))
            raise damaged(f"inode {inode}")
        for n in range(count):
            if level:
                yield from self._below(struct.unpack_from(">Q", block, head + 8 * most + 8 * n)[0], level - 1, inode)
            else:
                yield self._record(block, head + 16 * n)


def _sum(data: bytes, at: int) -> bytes:
    """CRC-32C of a structure with the four bytes of its sum, at `at`, taken for zeros."""
    return int(google_crc32c.value(data[:at] + bytes(4) + data[at + 4 :])).to_bytes(4, "little")
