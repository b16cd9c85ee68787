"""Partition tables: MBR, GPT with sectors of 512 and 4096 bytes, Apple's map and BSD's label.

They are the grounds whose address 0 is the volume's own first byte.
"""

from __future__ import annotations

import zlib

from .ground import SECTOR, Ground, Stock, hits, little

MOST_ENTRIES = 128
EXTENDED = (0x05, 0x0F, 0x85)
GPT_SECTORS = (512, 4096)
BSD_MARK = b"\x57\x45\x56\x82"


def heads(stock: Stock) -> list[Ground]:
    """One ground for each partition table found, with where its partitions start."""
    found: dict[bytes, Ground] = {}
    _gpt(stock, found)
    _mbr(stock, found)
    _apple(stock, found)
    _bsd(stock, found)
    return list(found.values())


def _gpt(stock: Stock, found: dict[bytes, Ground]) -> None:
    for piece in stock:
        for row in hits(piece.sectors, 0, b"EFI PART").tolist():
            header = piece.sectors[row].tobytes()
            size = little(header, 12, 4)
            blank = header[:16] + bytes(4) + header[20:]
            if not 92 <= size <= 512 or zlib.crc32(blank[:size]) != little(header, 16, 4):
                continue
            mine, entries_at = little(header, 24, 8), little(header, 72, 8)
            step, count = little(header, 84, 4), min(little(header, 80, 4), MOST_ENTRIES)
            ground = found.setdefault(header[56:72], Ground(header[56:72], "GPT", table=True))
            offset = piece.offset + row * SECTOR
            sectors = _sectors_of(stock, piece.image, offset, header)
            # the least that the disk may have: of a header whose entries are elsewhere the sector's size is not known
            ground.size = max(ground.size, (max(mine, little(header, 32, 8)) + 1) * min(sectors))
            for sector in sectors:
                ground.add("table header", piece.image, offset, mine * sector)
                first = offset + (entries_at - mine) * sector
                if 128 <= step <= 4096 and first >= 0:
                    ground.starts |= _gpt_starts(stock, piece.image, first, step, count, sector)
            ground.head |= mine == 1


def _sectors_of(stock: Stock, image: int, offset: int, header: bytes) -> tuple[int, ...]:
    """The sector size with which the entries stand where the header says; both where that cannot be told."""
    mine, at = little(header, 24, 8), little(header, 72, 8)
    length = little(header, 80, 4) * little(header, 84, 4)
    if not 0 < length <= 1 << 16:
        return GPT_SECTORS[:1]
    good, near = [], []
    for sector in GPT_SECTORS:
        first = offset + (at - mine) * sector
        if 0 <= first <= stock.pile.sources[image].size - length:
            entries = stock.pile.stretch(image, first, length).tobytes()
            if zlib.crc32(entries) == little(header, 88, 4):
                good.append(sector)
            elif any(entries[:16]) and 0 < little(entries, 32, 8) <= little(entries, 40, 8) < 1 << 50:
                near.append(sector)
    return tuple(good or near or GPT_SECTORS)


def _gpt_starts(stock: Stock, image: int, at: int, step: int, count: int, sector: int) -> set[int]:
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
                starts.add(first * sector)
    return starts


def _mbr(stock: Stock, found: dict[bytes, Ground]) -> None:
    """Boot records. Those of logical partitions say where theirs starts behind themselves; one that looks like them
    is a table only where no other one has an extended partition, and does not tell that the volume begins with it."""
    links: dict[bytes, list[tuple[int, int]]] = {}
    chains: dict[bytes, set[int]] = {}
    for piece in stock:
        for row in hits(piece.sectors, 510, b"\x55\xaa").tolist():
            sector = piece.sectors[row].tobytes()
            entries = _entries(sector)
            if not entries:
                continue
            key = b"MBR" + sector[440:512]
            if is_link(sector):
                links[key] = entries
            ground = found.setdefault(key, Ground(key, "MBR", head=not is_link(sector), table=True))
            ground.add("boot record", piece.image, piece.offset + row * SECTOR, 0)
            ground.starts |= {first for kind, first in entries if kind != 0xEE}
            if not is_link(sector):
                chains.setdefault(key, set()).update(first for kind, first in entries if kind in EXTENDED)
    if any(chains.values()):
        for key in links:
            del found[key]
    own = {first for entries in links.values() for kind, first in entries if kind not in EXTENDED}
    onward = {0} | {first for entries in links.values() for kind, first in entries if kind in EXTENDED}
    for key, starts in chains.items():
        for chain in starts:
            found[key].starts |= {chain + way + first for way in onward for first in own}
    for key in [k for k, ground in found.items() if k[:3] == b"MBR" and not ground.starts]:
        del found[key]


def is_link(sector: bytes) -> bool:
    """Whether a boot record is one of the chain behind an extended partition: no program, no number of a disk, and at
    most its own partition and the way to the next one."""
    return not any(sector[:446]) and not any(sector[478:510])


def _entries(sector: bytes) -> list[tuple[int, int]]:
    """(type, start in bytes) of the used entries of a boot record; none where it is not one."""
    entries = [sector[446 + 16 * i : 462 + 16 * i] for i in range(4)]
    if any(e[0] not in (0, 0x80) for e in entries):
        return []
    used = [e for e in entries if e[4]]
    if any(not little(e, 8, 4) or not little(e, 12, 4) for e in used):
        return []
    return [(e[4], little(e, 8, 4) * SECTOR) for e in used]


def _apple(stock: Stock, found: dict[bytes, Ground]) -> None:
    """Apple's map: a record of the device in block 0, and a block for each partition behind it."""
    for piece in stock:
        for row in hits(piece.sectors, 0, b"ER").tolist():
            block = int.from_bytes(piece.sectors[row, 2:4].tobytes(), "big")
            data = piece.at(row, 2 * block) if block in (512, 2048, 4096) else None
            if data is None or data[block : block + 2].tobytes() != b"PM":
                continue
            count = int.from_bytes(data[block + 4 : block + 8].tobytes(), "big")
            whole = piece.at(row, (1 + min(count, 64)) * block)
            if whole is None or not 0 < count <= 64:
                continue
            key = b"APM" + data[: block + 64].tobytes()[:512]
            ground = found.setdefault(key, Ground(key, "Apple partition map", head=True, table=True))
            ground.add("device record", piece.image, piece.offset + row * SECTOR, 0)
            for i in range(1, count + 1):
                entry = whole[i * block : i * block + 16].tobytes()
                if entry[:2] == b"PM":
                    ground.starts.add(int.from_bytes(entry[8:12], "big") * block)


def _bsd(stock: Stock, found: dict[bytes, Ground]) -> None:
    """BSD's label in the second sector: its mark twice, and entries of size and offset in sectors."""
    for piece in stock:
        for row in hits(piece.sectors, 0, BSD_MARK).tolist():
            sector = piece.sectors[row].tobytes()
            count, unit = little(sector, 138, 2), little(sector, 40, 4)
            if sector[132:136] != BSD_MARK or not 0 < count <= 22 or unit not in (512, 4096):
                continue
            key = b"BSD" + sector[:148]
            ground = found.setdefault(key, Ground(key, "BSD label", head=True, table=True))
            ground.add("disk label", piece.image, piece.offset + row * SECTOR, SECTOR)
            for i in range(count):
                size, first = little(sector, 148 + 16 * i, 4), little(sector, 152 + 16 * i, 4)
                if size:
                    ground.starts.add(first * unit)
            ground.starts.discard(0)
            if not ground.starts:
                del found[key]
