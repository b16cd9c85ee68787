"""btrfs, read-only: chunks, trees, subvolumes, folders, extents with their compression, on one device.

Offsets and values are those of the published on-disk format. Nodes whose sum does not hold are read from their second
copy where there is one, else they are taken for damaged. What a log tree holds beyond the last commit is not seen.
"""

from __future__ import annotations

import hashlib
import struct
import zlib
from bisect import bisect_right
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import lru_cache

import google_crc32c

from ..ranges import Range, union
from .declared import Field, FormatError, Layout
from .inodes import Extent, Read, Stat, damaged, kind_of, pieces

SUPER_AT = 64 << 10
MAGIC_AT = SUPER_AT + 64
SUPERBLOCK = Layout(
    "btrfs superblock",
    4096,
    "<",
    (
        Field(64, "magic", "8s", "", "_BHRfS_M"),
        Field(80, "root", "Q", "", "logical address of the tree of roots"),
        Field(88, "chunk_root", "Q", "", "and of the tree of chunks"),
        Field(96, "log_root", "Q", "", "of what was made durable since the last commit; 0 for nothing"),
        Field(136, "devices", "Q"),
        Field(148, "node_size", "I", "bytes"),
        Field(160, "chunks_bytes", "I", "bytes", "of the chunks at byte 811"),
        Field(196, "sum_type", "H", "", "0 CRC-32C, 1 xxHash64, 2 SHA-256, 3 BLAKE2b"),
        Field(201, "device", "Q", "", "the number of this device"),
    ),
)
CHUNKS_AT = 811
INODE, FOLDER_INDEX, EXTENT_DATA, ROOT, CHUNK = 1, 96, 108, 132, 228
TOP_TREE, FIRST_INODE = 5, 256
EXTENT_TREE, EXTENT, NODE = 2, 168, 169
"""The tree of what is in use, and the kinds of its items: an extent of files, and a node of a tree."""
STRIPED = 8 | 64 | 128 | 256
"""Kinds of chunks that are spread over several devices."""
INLINE, REGULAR = 0, 1
SUMS: dict[int, Callable[[bytes], bytes]] = {
    0: lambda data: int(google_crc32c.value(data)).to_bytes(4, "little"),
    2: lambda data: hashlib.sha256(data).digest(),
    3: lambda data: hashlib.blake2b(data, digest_size=32).digest(),
}
KEY, ITEM, POINTER = struct.Struct("<QBQ"), struct.Struct("<QBQII"), struct.Struct("<QBQQQ")
HEAD = 101
MOST_LEVELS, KNOWN_NODES = 8, 512
MOST_UNPACKED = 1 << 20
"""Bytes of a compressed extent: they are never larger than 128 KiB."""

Unpack = Callable[[bytes, int], bytes]
"""(packed, bytes that come of it) -> bytes. Raises ValueError."""


@dataclass(frozen=True)
class _Chunk:
    length: int
    striped: bool
    places: tuple[int, ...]


@dataclass(frozen=True)
class _Stretch:
    """A file's bytes from `at` on: zeros (place None), as they stand, or packed (how) and `offset` bytes into it."""

    at: int
    length: int
    place: int | None
    how: int
    packed: int
    unpacked: int
    offset: int
    inline: bytes = b""


class Btrfs:
    """A btrfs file system; `read` gives its device's bytes. Raises FormatError where there is none.

    unpack  how what is compressed is unpacked, by its number in the format (1 zlib is known)
    """

    def __init__(self, read: Read, unpack: dict[int, Unpack] | None = None) -> None:
        self._read, self.hurt = read, list[Range]()
        self._unpack: dict[int, Unpack] = {1: _zlib, **(unpack or {})}
        raw = read(SUPER_AT, SUPERBLOCK.size)
        found = SUPERBLOCK.read(raw)
        size = found["node_size"]
        if found["magic"] != b"_BHRfS_M" or size & (size - 1) or not 4096 <= size <= 1 << 16:
            raise damaged("the superblock")
        self._node_size, self._sum, self._device = size, SUMS.get(found["sum_type"]), found["device"]
        self.pending = bool(found["log_root"])
        self._chunks: dict[int, _Chunk] = {}
        self._starts: list[int] = []
        self._node = lru_cache(KNOWN_NODES)(self._node_at)
        at, end = CHUNKS_AT, CHUNKS_AT + min(found["chunks_bytes"], SUPERBLOCK.size - CHUNKS_AT)
        while at + 17 + 48 <= end:
            _id, kind, logical = KEY.unpack_from(raw, at)
            if kind != CHUNK:
                raise damaged("the superblock")
            at = self._add_chunk(raw, at + 17, logical)
        for (_id, _kind, logical), item in self._items(found["chunk_root"], (0, CHUNK, 0), (1 << 63, CHUNK, 1 << 64)):
            if _kind == CHUNK:
                self._add_chunk(item, 0, logical)
        self._roots = found["root"]
        self._trees: dict[int, int] = {}
        self.root = TOP_TREE << 64 | FIRST_INODE

    def stat(self, inode: int) -> Stat:
        """What an inode is."""
        tree, number = self._split(inode)
        item = next((i for _k, i in self._of(tree, number, INODE)), None)
        if item is None or len(item) < 160:
            raise damaged(f"inode {number}")
        (mode,) = struct.unpack_from("<I", item, 52)
        size, modified = struct.unpack_from("<Q", item, 16)[0], struct.unpack_from("<q", item, 136)[0]
        return Stat(kind_of(mode), size, modified)

    def names(self, inode: int) -> Iterator[tuple[bytes, int]]:
        """The names in a folder; subvolumes are folders."""
        tree, number = self._split(inode)
        for _key, item in self._of(tree, number, FOLDER_INDEX):
            target, kind, _offset = KEY.unpack_from(item)
            (length,) = struct.unpack_from("<H", item, 27)
            name = item[30 : 30 + length]
            if kind == INODE:
                yield name, tree << 64 | target
            elif kind == ROOT:
                yield name, target << 64 | FIRST_INODE

    def places(self, inode: int) -> list[Range]:
        """Where a file's content stands, in bytes of the device."""
        found = []
        for one in self._stretches(inode):
            if one.place is not None:
                begin, length = (one.place, one.packed) if one.how else (one.place + one.offset, one.length)
                found += [(p, p + n) for p, n in self._physical(begin, length)]
        return union(found)

    def content(self, inode: int, step: int) -> Iterator[bytes]:
        """A file's content."""
        size, stretches = self.stat(inode).size, self._stretches(inode)
        inner = {one.at: one for one in stretches}
        extents = [Extent(one.at, one.length, one.at) for one in stretches if one.place is not None or one.inline]

        def given(at: int, length: int) -> bytes:
            number = bisect_right(starts, at) - 1
            return self._content_of(inner[starts[number]], at - starts[number], length)

        starts = sorted(inner)
        yield from pieces(given, extents, size, step)

    def _content_of(self, one: _Stretch, at: int, length: int) -> bytes:
        if one.inline:
            return self._unpacked(one.inline, one)[at : at + length].ljust(length, b"\0")
        assert one.place is not None
        if one.how:
            packed = b"".join(self._read(p, n) for p, n in self._physical(one.place, one.packed))
            return self._unpacked(packed, one)[one.offset + at : one.offset + at + length].ljust(length, b"\0")
        return b"".join(self._read(p, n) for p, n in self._physical(one.place + one.offset + at, length))

    def _unpacked(self, data: bytes, one: _Stretch) -> bytes:
        if not one.how:
            return data
        if one.how not in self._unpack:
            raise FormatError(what=f"packed in a way that is not read here (number {one.how})", to_do="copy the others")
        if one.unpacked > MOST_UNPACKED:
            raise damaged("an extent")
        try:
            return self._unpack[one.how](data, one.unpacked)
        except (ValueError, EOFError) as reason:
            raise damaged("what is packed") from reason

    def _stretches(self, inode: int) -> list[_Stretch]:
        tree, number = self._split(inode)
        found = []
        for (_id, _kind, at), item in self._of(tree, number, EXTENT_DATA):
            if len(item) < 21:
                raise damaged(f"inode {number}")
            (unpacked,), how, kind = struct.unpack_from("<Q", item, 8), item[16], item[20]
            if kind == INLINE:
                found.append(_Stretch(at, unpacked, None, how, len(item) - 21, unpacked, 0, item[21:]))
                continue
            place, packed, offset, length = struct.unpack_from("<QQQQ", item, 21)
            none = kind != REGULAR or not place  # reserved and never written, or a hole
            found.append(_Stretch(at, length, None if none else place, how, packed, unpacked, offset))
        return found

    def allocated(self) -> Iterator[Range]:
        """Where everything that is in use stands on the device, every copy of it. Raises FormatError."""
        root = self._tree(EXTENT_TREE)
        for (logical, kind, size), _item in self._items(root, (0, 0, 0), (1 << 64, 255, 1 << 64)):
            length = size if kind == EXTENT else self._node_size if kind == NODE else 0
            while length > 0:
                start, chunk = self._chunk_at(logical)
                here = min(length, start + chunk.length - logical)
                yield from ((at, at + here) for at in self._copies(logical))
                logical, length = logical + here, length - here

    # trees and chunks ---------------------------------------------------------------------------

    @staticmethod
    def _split(inode: int) -> tuple[int, int]:
        return inode >> 64, inode & (1 << 64) - 1

    def _of(self, tree: int, number: int, kind: int) -> Iterator[tuple[tuple[int, int, int], bytes]]:
        """The items of one kind of an inode."""
        return self._items(self._tree(tree), (number, kind, 0), (number, kind, 1 << 64))

    def _tree(self, tree: int) -> int:
        """The logical address of a tree's root."""
        if tree not in self._trees:
            items = self._items(self._roots, (tree, ROOT, 0), (tree, ROOT, 1 << 64))
            item = next((i for _k, i in items), None)
            if item is None or len(item) < 184:
                raise damaged(f"subvolume {tree}")
            self._trees[tree] = int(struct.unpack_from("<Q", item, 176)[0])
        return self._trees[tree]

    def _items(
        self, root: int, first: tuple[int, int, int], last: tuple[int, int, int], level: int = -1
    ) -> Iterator[tuple[tuple[int, int, int], bytes]]:
        """(key, item) of a tree with keys from first to last."""
        node = self._node(root)
        count, own = struct.unpack_from("<I", node, 96)[0], node[100]
        width = POINTER.size if own else ITEM.size
        if own > MOST_LEVELS or level not in (-1, own) or HEAD + count * width > len(node):
            raise damaged("a tree")
        keys = [KEY.unpack_from(node, HEAD + n * width) for n in range(count)]
        low = bisect_right(keys, first)
        low -= bool(low) and (own > 0 or keys[low - 1] == first)
        for n in range(low, count):
            if keys[n] > last:
                return
            if own:
                yield from self._items(POINTER.unpack_from(node, HEAD + n * width)[3], first, last, own - 1)
            else:
                at, size = ITEM.unpack_from(node, HEAD + n * width)[3:]
                yield keys[n], node[HEAD + at : HEAD + at + size]

    def _node_at(self, logical: int) -> bytes:
        places = self._copies(logical)
        for place in places:
            node = self._read(place, self._node_size)
            right = self._sum is None or node.startswith(self._sum(node[32:]))
            if right and int.from_bytes(node[48:56], "little") == logical:
                return node
        self.hurt += [(place, place + self._node_size) for place in places]
        raise damaged("a tree")

    def _add_chunk(self, raw: bytes, at: int, logical: int) -> int:
        length, _owner, _stripe, kind = struct.unpack_from("<QQQQ", raw, at)
        (count,) = struct.unpack_from("<H", raw, at + 44)
        stripes = [struct.unpack_from("<QQ", raw, at + 48 + 32 * n) for n in range(count)]
        mine = tuple(place for device, place in stripes if device == self._device)
        if logical not in self._chunks:
            self._chunks[logical] = _Chunk(length, bool(kind & STRIPED), mine)
            self._starts = sorted(self._chunks)
        return int(at + 48 + 32 * count)

    def _chunk_at(self, logical: int) -> tuple[int, _Chunk]:
        number = bisect_right(self._starts, logical) - 1
        start = self._starts[number] if number >= 0 else 0
        chunk = self._chunks.get(start)
        if chunk is None or logical >= start + chunk.length:
            raise damaged("an address")
        if chunk.striped or not chunk.places:
            what = "it stands on several devices, of which this is one"
            raise FormatError(what=what, to_do="read it with a system that has them all")
        return start, chunk

    def _copies(self, logical: int) -> list[int]:
        start, chunk = self._chunk_at(logical)
        return [place + logical - start for place in chunk.places]

    def _physical(self, logical: int, length: int) -> Iterator[tuple[int, int]]:
        """(place on the device, bytes) of a logical range, from the first copy."""
        while length > 0:
            start, chunk = self._chunk_at(logical)
            size = min(length, start + chunk.length - logical)
            yield chunk.places[0] + logical - start, size
            logical, length = logical + size, length - size


def _zlib(data: bytes, size: int) -> bytes:
    try:
        return zlib.decompressobj().decompress(data, size)
    except zlib.error as reason:
        raise ValueError(str(reason)) from reason
