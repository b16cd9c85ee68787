"""Labels of what volumes are made into: LVM's physical volumes, and the headers of encrypted ones.

Each states where it stands in its volume. LVM2: a label in one of the first four sectors names its own sector, and the
text of the volume group lists where its logical volumes begin. LUKS: the first header stands at byte 0, the second one
of version 2 names its place.
"""

from __future__ import annotations

import re

from .ground import SECTOR, Ground, Stock, big, hits, little

LUKS_PLACES = (0x4000, 0x8000, 0x10000, 0x20000, 0x40000, 0x80000, 0x100000, 0x200000, 0x400000)
MOST_TEXT = 64 << 10

_LIST = re.compile(rb'stripes = \[\s*"pv\d+", (\d+)')
_EXTENT = re.compile(rb"extent_size = (\d+)")


def heads(stock: Stock) -> list[Ground]:
    """One ground for each label found."""
    found: dict[bytes, Ground] = {}
    for piece in stock:
        for row in hits(piece.sectors, 0, b"LABELONE").tolist():
            _physical_volume(stock, piece.image, piece.offset + row * SECTOR, found)
        for mark, first in ((b"LUKS\xba\xbe", True), (b"SKUL\xba\xbe", False)):
            for row in hits(piece.sectors, 0, mark).tolist():
                head = piece.sectors[row].tobytes()
                version, place = big(head, 6, 2), big(head, 256, 8)
                if version not in (1, 2) or (version == 2 and place not in ((0,) if first else LUKS_PLACES)):
                    continue
                key = b"LUKS" + head[168:208]
                ground = found.setdefault(key, Ground(key, "LUKS header: encrypted", facts="encrypted"))
                ground.add("header", piece.image, piece.offset + row * SECTOR, place if version == 2 else 0)
                ground.head |= first
    return list(found.values())


def search(stock: Stock, ground: Ground) -> None:
    """Nothing more: `heads` adds all there is."""


def _physical_volume(stock: Stock, image: int, offset: int, found: dict[bytes, Ground]) -> None:
    label = stock.pile.stretch(image, offset, SECTOR).tobytes()
    sector, at = little(label, 8, 8), little(label, 20, 4)
    if label[24:32] != b"LVM2 001" or sector > 3 or not 32 <= at <= 256:
        return
    uuid, size = label[at : at + 32], little(label, at + 32, 8)
    data = little(label, at + 40, 8)
    if not data or data > 1 << 40:
        return
    ground = found.setdefault(
        b"LVM" + uuid, Ground(b"LVM" + uuid, "LVM physical volume", size, table=True, facts="lvm")
    )
    ground.head = True
    ground.add("label", image, offset, sector * SECTOR)
    ground.starts |= {data, *_volumes(stock, image, data)}


def _volumes(stock: Stock, image: int, data: int) -> set[int]:
    """Where logical volumes begin, by the newest text of the group that stands in one piece on this image."""
    best: tuple[int, set[int]] = (-1, set())
    for piece in stock.of(image):
        text = piece.data[: MOST_TEXT + SECTOR].tobytes()
        if b"physical_volumes {" not in text:
            continue
        for part in text.split(b"\0"):
            extent, number = _EXTENT.search(part), re.search(rb"seqno = (\d+)", part)
            if extent and number and int(number[1]) > best[0]:
                step = int(extent[1]) * SECTOR
                best = int(number[1]), {data + int(n) * step for n in _LIST.findall(part)}
    return best[1]
