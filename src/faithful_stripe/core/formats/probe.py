"""What a few well-known signatures say is on a medium: a short description, or nothing.

The places and values are those of the formats' published descriptions. A signature is a hint for a person
who is about to overwrite something, not a proof.
"""

from __future__ import annotations

from ..source import BlockSource, BlockSourceError, read

HEAD_BYTES = 68 * 1024
"""How much of the start is looked at; the farthest signature lies at 64 KiB (btrfs)."""

SIGNATURES: tuple[tuple[int, bytes, str], ...] = (
    (0x438, b"\x53\xef", "ext file system"),
    (0, b"XFSB", "XFS file system"),
    (0x10040, b"_BHRfS_M", "btrfs file system"),
    (3, b"NTFS    ", "NTFS file system"),
    (3, b"EXFAT   ", "exFAT file system"),
    (0x52, b"FAT32   ", "FAT32 file system"),
    (0x36, b"FAT16   ", "FAT16 file system"),
    (0x36, b"FAT12   ", "FAT12 file system"),
    (0xFF6, b"SWAPSPACE2", "swap space"),
    (0, b"LUKS\xba\xbe", "LUKS encryption header"),
    (0x200, b"LABELONE", "LVM physical volume"),
    (0x200, b"EFI PART", "GPT partition table"),
    (0x1000, b"EFI PART", "GPT partition table"),
    (0x1FE, b"\x55\xaa", "MBR boot record"),
)


def describe(source: BlockSource) -> str:
    """What the start of `source` looks like: a name from SIGNATURES, "data", or "" where it holds only zeros."""
    if next(iter(source.data_ranges()), None) is None:
        return ""
    try:
        head = read(source, 0, min(HEAD_BYTES, source.size))
    except BlockSourceError:
        return "data (its start cannot be read)"
    for offset, mark, name in SIGNATURES:
        if head[offset : offset + len(mark)] == mark:
            if name.startswith("ext"):
                label = head[0x478:0x488].split(b"\0")[0].decode("ascii", "replace")
                return f"{name} {label!r}" if label else name
            return name
    return "data"
