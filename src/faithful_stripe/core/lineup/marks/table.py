"""Partition tables: MBR and GPT, the one ground whose address 0 is the volume's own first byte."""

from __future__ import annotations

import zlib

from .ground import SECTOR, Ground, Stock, hits, little

MOST_ENTRIES = 128


def heads(stock: Stock) -> list[Ground]:
    """One ground for each partition table found, with where its partitions start."""
    found: dict[bytes, Ground] = {}
    for piece in stock:
        for row in hits(piece.sectors, 0, b"EFI PART").tolist():
            header = piece.sectors[row].tobytes()
            size = little(header, 12, 4)
            blank = header[:16] + bytes(4) + header[20:]
            if not 92 <= size <= 512 or zlib.crc32(blank[:size]) != little(header, 16, 4):
                continue
            mine, entries_at = little(header, 24, 8), little(header, 72, 8)
            ground = found.setdefault(header[56:72], Ground(header[56:72], "GPT"))
            ground.add("table header", piece.image, piece.offset + row * SECTOR, mine * SECTOR)
            ground.size = max(ground.size, (max(mine, little(header, 32, 8)) + 1) * SECTOR)
            ground.head |= mine == 1
            step = little(header, 84, 4)
            first = piece.offset + row * SECTOR + (entries_at - mine) * SECTOR
            if 128 <= step <= 4096 and first >= 0:
                ground.starts |= _gpt_starts(stock, piece.image, first, step, min(little(header, 80, 4), MOST_ENTRIES))
        for row in hits(piece.sectors, 510, b"\x55\xaa").tolist():
            starts = _mbr_starts(piece.sectors[row].tobytes())
            if starts:
                key = b"MBR" + piece.sectors[row, 440:512].tobytes()
                ground = found.setdefault(key, Ground(key, "MBR", head=True))
                ground.add("boot record", piece.image, piece.offset + row * SECTOR, 0)
                ground.starts |= starts
    return list(found.values())


def _gpt_starts(stock: Stock, image: int, at: int, step: int, count: int) -> set[int]:
    """Starts of the partitions in an entry array, as far as it stands in one piece on this image."""
    starts = set()
    length = min(count * step, 4096)
    if at + length > stock.pile.sources[image].size:
        return set()
    data = stock.pile.stretch(image, at, length).tobytes()
    for i in range(length // step):
        entry = data[i * step : i * step + 128]
        if any(entry[:16]):
            first, last = little(entry, 32, 8), little(entry, 40, 8)
            if 0 < first <= last < 1 << 50:
                starts.add(first * SECTOR)
    return starts


def _mbr_starts(sector: bytes) -> set[int]:
    entries = [sector[446 + 16 * i : 462 + 16 * i] for i in range(4)]
    if any(e[0] not in (0, 0x80) for e in entries):
        return set()
    used = [e for e in entries if e[4]]
    if any(not little(e, 8, 4) or not little(e, 12, 4) for e in used):
        return set()
    return {little(e, 8, 4) * SECTOR for e in used if e[4] != 0xEE}
