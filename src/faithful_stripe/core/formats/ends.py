"""How far a volume reaches by what stands on its head: file systems and partition tables say how large they are.

Places and units are those of the formats' published descriptions. Nothing here is a proof that the rest is sound.
"""

from __future__ import annotations

import struct

from ..source import BlockSource, BlockSourceError, read
from . import gpt, lvm, mbr
from .declared import FormatError

HEAD_BYTES = 68 << 10


def declared_end(source: BlockSource) -> int | None:
    """Bytes from the volume's start that belong to what begins there; None where nothing there says so.

    Of a boot record's partitions the end of the last one.
    """
    try:
        head = read(source, 0, min(HEAD_BYTES, source.size)).ljust(HEAD_BYTES, b"\0")
        found = next((end for of in (_ext, _xfs, _btrfs, _ntfs, _exfat, _fat) if (end := of(head)) is not None), None)
        if found is None:
            found = lvm.device_size(source)
        return _partitions(source) if found is None else found
    except (BlockSourceError, FormatError):
        return None


def _ext(head: bytes) -> int | None:
    if head[0x438:0x43A] != b"\x53\xef":
        return None
    low, shift, wide = _at(head, "<I", 0x404), _at(head, "<I", 0x418), _at(head, "<I", 0x460) & 0x80
    high = _at(head, "<I", 0x550) if wide else 0
    return (high << 32 | low) << (10 + shift) if shift <= 6 else None


def _xfs(head: bytes) -> int | None:
    return _at(head, ">I", 4) * _at(head, ">Q", 8) if head[:4] == b"XFSB" else None


def _btrfs(head: bytes) -> int | None:
    return _at(head, "<Q", 0x10000 + 0xD1) if head[0x10040:0x10048] == b"_BHRfS_M" else None  # of this device


def _ntfs(head: bytes) -> int | None:
    if head[3:11] != b"NTFS    ":
        return None
    return (_at(head, "<Q", 0x28) + 1) * _at(head, "<H", 0x0B)  # the copy of the boot sector stands behind


def _exfat(head: bytes) -> int | None:
    if head[3:11] != b"EXFAT   ":
        return None
    return _at(head, "<Q", 0x48) << head[0x6C] if head[0x6C] <= 12 else None


def _fat(head: bytes) -> int | None:
    if head[0x1FE:0x200] != b"\x55\xaa" or b"FAT" not in (head[0x36:0x39], head[0x52:0x55]):
        return None
    return (_at(head, "<H", 0x13) or _at(head, "<I", 0x20)) * _at(head, "<H", 0x0B)


def _partitions(source: BlockSource) -> int | None:
    table = gpt.table(source)
    if table is not None:
        return table.end
    return max((e.start + e.length for e in mbr.entries(source)), default=None)


def _at(head: bytes, kind: str, place: int) -> int:
    return int(struct.unpack_from(kind, head, place)[0])
