"""Proof: read the rebuilt volume where checksums span strips and members, and count what holds.

Nothing here was used to find the lineup beyond the anchors: group descriptors in sequence, every inode of
every table at its own place, directories through their inodes' extents, and files that carry their own
checksum. A proof counts only as far as it fails for the next-best lineup.
"""

from __future__ import annotations

import gzip
import zlib
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from functools import partial

import numpy as np

from ...formats import ext4
from ...formats.crc32c import crc_many
from ...ranges import Range
from ...source import BlockSource, BlockSourceError, read

MOST_INODES, MOST_FILES, MOST_FILE_BYTES = 200_000, 400, 16 << 20


MOST_WRONG = 256


@dataclass(frozen=True)
class Expected:
    """A structure within one block that did not hold: its place in the volume, its length in bytes, and what tells
    whether some bytes are what belongs there."""

    address: int
    length: int
    fits: Callable[[bytes], bool]


@dataclass
class Proof:
    """Counts by kind of what held and what did not.

    wrong   some of those that did not, as what should stand there
    broken  where the files stand that did not: the byte ranges of each in the volume
    """

    held: dict[str, int] = field(default_factory=dict)
    failed: dict[str, int] = field(default_factory=dict)
    wrong: list[Expected] = field(default_factory=list)
    broken: list[list[Range]] = field(default_factory=list)

    def note(self, kind: str, good: int, bad: int) -> None:
        for counts, number in ((self.held, good), (self.failed, bad)):
            if number:
                counts[kind] = counts.get(kind, 0) + number

    @property
    def passes(self) -> int:
        return sum(self.held.values())

    @property
    def failures(self) -> int:
        return sum(self.failed.values())

    @property
    def holds(self) -> bool:
        return self.failures == 0 and self.passes >= 8


def prove_ext4(
    volume: BlockSource, base: int, most_inodes: int = MOST_INODES, most_files: int = MOST_FILES,
    known: tuple[ext4.Superblock, ext4.Descriptors] | None = None,
) -> Proof:  # fmt: skip
    """What an ext4 file system at `base` proves about the volume it is read from.

    known  its superblock and descriptors, where they were found elsewhere; else they are read at `base`
    """
    proof = Proof()
    try:
        fs = ext4.Ext4(volume, base, known)
    except ValueError:
        proof.note("superblock", 0, 1)
        return proof
    if known is None:
        proof.note("superblock", 1, 0)
    if not fs.sb.checksums:
        return proof
    if known is None:
        proof.note("group descriptors", len(fs.groups), fs.sb.groups - len(fs.groups))
    try:
        _prove_inodes(fs, proof, most_inodes, most_files)
    except BlockSourceError:
        proof.note("reads inside the volume", 0, 1)
    return proof


MOST_LINKED = 64
"""Directories that are looked up: the volumes of many hypotheses are read."""


def linked_directories(
    volume: BlockSource, base: int, sb: ext4.Superblock, groups: ext4.Descriptors, numbers: Iterable[int]
) -> tuple[int, int]:
    """How many directories there are where their inodes say, and how many are not: what holds in an ext file system
    without checksums.

    numbers  of inodes that directory blocks somewhere name as their own; of a block that was left behind, in a journal
             or by a file system that was there before, nothing is said
    """
    fs = ext4.Ext4(volume, base, (sb, groups))
    good = bad = 0
    known = sorted(numbers)
    for number in known[:: max(1, -(-len(known) // MOST_LINKED))]:
        address = fs.inode_address(number)
        try:
            record = b"" if address is None else read(volume, base + address, sb.inode_size)
            if not any(record) or not any(record[0x1A:0x1C]):  # never used, or deleted
                continue
            first = ext4.first_block(record) if record[1] >> 4 == 4 else 0
            head = fs.block(first)[:9] if sb.first_block < first < sb.blocks else b""
        except BlockSourceError:
            continue
        names_it = head[:4] == number.to_bytes(4, "little") and head[6:9] == b"\x01\x02."
        good, bad = good + names_it, bad + (not names_it)
    return good, bad


DIRECTORY, FILE = 4, 8


def _prove_inodes(fs: ext4.Ext4, proof: Proof, most_inodes: int, most_files: int) -> None:
    files = 0
    for numbers, records, right in fs.inode_records(most_inodes):
        proof.note("inodes", int(right.sum()), int((~right).sum()))
        for number in numbers[~right].tolist() if len(proof.wrong) < MOST_WRONG else ():
            address = fs.start + (fs.inode_address(number) or 0)
            proof.wrong.append(Expected(address, fs.sb.inode_size, partial(_is_inode, fs.sb.seed, number)))
        kinds = records[:, 1] >> 4  # of the mode, little-endian: 4 a directory, 8 a file
        wanted = right & ((kinds == DIRECTORY) | ((kinds == FILE) & (files < most_files)))
        for row in np.flatnonzero(wanted).tolist():  # of the others nothing more is asked, and reading them takes long
            inode = ext4.parse_inode(int(numbers[row]), records[row].tobytes())
            if inode.is_directory:
                _prove_directory(fs, inode, proof)
            elif inode.is_file and files < most_files and inode.size > fs.sb.block:
                files += _prove_file(fs, inode, proof)


def _prove_directory(fs: ext4.Ext4, inode: ext4.Inode, proof: Proof) -> None:
    seed = ext4.directory_seed(fs.sb, inode)
    for logical, count, physical in inode.extents:
        data = np.frombuffer(fs.block(physical, count), np.uint8).reshape(count, fs.sb.block)
        tailed = ext4.has_directory_tail(data) & ~ext4.is_index_node(data)
        tailed[0] &= not (inode.indexed and logical == 0)  # the index's root, which has a checksum of another kind
        if tailed.any():
            blocks = np.ascontiguousarray(data[tailed])
            stored = np.ascontiguousarray(blocks[:, -4:]).view("<u4")[:, 0]
            right = crc_many(np.ascontiguousarray(blocks[:, :-12]), seed) == stored
            proof.note("directory blocks", int(right.sum()), int((~right).sum()))
            for number in np.flatnonzero(tailed)[~right].tolist() if len(proof.wrong) < MOST_WRONG else ():
                address = fs.start + (physical + number) * fs.sb.block
                proof.wrong.append(Expected(address, fs.sb.block, partial(_is_directory, seed)))


def _is_inode(seed: int, number: int, data: bytes) -> bool:
    record = np.frombuffer(data, np.uint8).reshape(1, -1)
    told = np.frombuffer(number.to_bytes(4, "little"), np.uint8).reshape(1, -1)
    covered = np.concatenate([told, ext4.checksum_input(record)], axis=1)
    return any(data) and bool(crc_many(covered, seed)[0] == ext4.stored_checksum(record)[0])


def _is_directory(seed: int, data: bytes) -> bool:
    block = np.frombuffer(data, np.uint8).reshape(1, -1)
    stored = int.from_bytes(data[-4:], "little")
    return bool(ext4.has_directory_tail(block)[0]) and int(crc_many(block[:, :-12], seed)[0]) == stored


def _prove_file(fs: ext4.Ext4, inode: ext4.Inode, proof: Proof) -> int:
    """Files with a checksum over their contents, gzip and PNG: 1 where this was one, else 0."""
    if not inode.extents:
        return 0
    head = fs.block(inode.extents[0][2])[:8]
    if head[:4] not in (b"\x1f\x8b\x08\x00", b"\x1f\x8b\x08\x08", b"\x89PNG"):
        return 0
    data = fs.contents(inode, MOST_FILE_BYTES)
    if data is None:
        return 0
    good = _png_holds(data) if head[:4] == b"\x89PNG" else _gzip_holds(data)
    proof.note("files with their own checksum", int(good), int(not good))
    if not good:
        size, start = fs.sb.block, fs.start
        places = ((start + at * size, start + (at + count) * size) for _logical, count, at in inode.extents)
        proof.broken.append(list(places))
    return 1


def _gzip_holds(data: bytes) -> bool:
    try:
        gzip.decompress(data)
    except (OSError, EOFError, zlib.error):
        return False
    return True


def _png_holds(data: bytes) -> bool:
    at = 8
    while at + 12 <= len(data):
        length = int.from_bytes(data[at : at + 4], "big")
        body = data[at + 4 : at + 8 + length]
        if int.from_bytes(data[at + 8 + length : at + 12 + length], "big") != zlib.crc32(body):
            return False
        if body[:4] == b"IEND":
            return True
        at += 12 + length
    return False
