"""Where partition tables say that file systems start: MBR and GPT found at the start of any image."""

from __future__ import annotations

import zlib

from .samples import Pile

SECTOR = 512
MOST_ENTRIES = 128

COMMON_STARTS = (0, 63 * SECTOR, 1 << 20)
"""Where file systems start in a volume when no partition table says: bare, and the two usual first partitions."""


def partition_starts(pile: Pile) -> set[int]:
    """Starts of partitions, in bytes of the volume, from every table at the head of an image."""
    found: set[int] = set()
    for image in range(len(pile)):
        if pile.sources[image].size >= 8 * 4096:
            head = pile.blocks(image, 0, 8).tobytes()
            found |= _mbr(head) | _gpt(head)
    return found


def _mbr(head: bytes) -> set[int]:
    if head[510:512] != b"\x55\xaa":
        return set()
    entries = [head[446 + 16 * i : 462 + 16 * i] for i in range(4)]
    starts = {int.from_bytes(e[8:12], "little") for e in entries if e[0] in (0, 0x80) and e[4] not in (0, 0xEE)}
    return {start * SECTOR for start in starts if start}


def _gpt(head: bytes) -> set[int]:
    """GPT: header at sector 1 with a right CRC; only as many entries as the first strip holds."""
    header = head[SECTOR : SECTOR + 92]
    if header[:8] != b"EFI PART":
        return set()
    blank = header[:16] + bytes(4) + header[20:]
    if zlib.crc32(blank) != int.from_bytes(header[16:20], "little"):
        return set()
    at = int.from_bytes(header[72:80], "little") * SECTOR
    count, size = (int.from_bytes(header[i : i + 4], "little") for i in (80, 84))
    if size < 128 or at >= len(head):
        return set()
    starts = set()
    for i in range(min(count, MOST_ENTRIES)):
        entry = head[at + i * size : at + i * size + 128]
        if len(entry) == 128 and any(entry[:16]):
            starts.add(int.from_bytes(entry[32:40], "little") * SECTOR)
    return starts
