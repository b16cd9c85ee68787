"""FAT12, FAT16, FAT32 and exFAT: boot sectors and their copies, directories that name their own cluster, and sectors
of the allocation table that count up.

Places of the fields are those of the published specifications; all numbers are little-endian.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .ground import END, SECTOR, Ground, Int64, Piece, Stock, hits, little, numbers

_WEAK = (END, "directory", "table sector", "table head", "information sector", "root directory", "up-case table")

_LEAST_COUNTING = 24
"""Entries of an allocation-table sector that must point to the next cluster before the sector counts."""


@dataclass(frozen=True)
class Facts:
    """Sizes and places in bytes; `width` of a table entry in bits."""

    cluster: int
    heap: int
    tables: tuple[int, ...]
    table_bytes: int
    width: int
    root: int
    exfat: bool
    sector: int = SECTOR


def heads(stock: Stock) -> list[Ground]:
    """One ground for every FAT or exFAT of which a boot sector was found."""
    found: dict[bytes, Ground] = {}
    for piece in stock:
        sectors = piece.sectors
        for row in hits(sectors, 510, b"\x55\xaa").tolist():
            boot = sectors[row].tobytes()
            made = _exfat(boot) if boot[3:11] == b"EXFAT   " else _fat(boot)
            if made is None:
                continue
            facts, size, serial, copies = made
            words = "exFAT" if facts.exfat else f"FAT{facts.width}"
            ground = found.setdefault(serial, Ground(serial, words, size, facts=facts, weak=_WEAK))
            for address in copies:
                ground.add("boot sector", piece.image, piece.offset + row * SECTOR, address)
            ground.head = True
    return list(found.values())


def _fat(boot: bytes) -> tuple[Facts, int, bytes, tuple[int, ...]] | None:
    sector, per, reserved, tables = little(boot, 11, 2), boot[13], little(boot, 14, 2), boot[16]
    if boot[0] not in (0xEB, 0xE9) or sector not in (512, 1024, 2048, 4096) or per not in (1, 2, 4, 8, 16, 32, 64, 128):
        return None
    if not 1 <= tables <= 2 or not reserved or boot[21] < 0xF0:
        return None
    wide = little(boot, 22, 2) == 0
    table = (little(boot, 36, 4) if wide else little(boot, 22, 2)) * sector
    total = (little(boot, 19, 2) or little(boot, 32, 4)) * sector
    root = reserved * sector + tables * table
    heap = root + -(-little(boot, 17, 2) * 32 // sector) * sector
    clusters = (total - heap) // (sector * per)
    if not table or clusters < 1:
        return None
    width = 32 if wide else 12 if clusters < 4085 else 16
    serial = boot[67:71] if wide else boot[39:43]
    places = tuple(reserved * sector + i * table for i in range(tables))
    facts = Facts(sector * per, heap, places, table, width, root, False, sector)
    return facts, total, b"FAT" + serial, (0, little(boot, 50, 2) * sector) if wide else (0,)


def _exfat(boot: bytes) -> tuple[Facts, int, bytes, tuple[int, ...]] | None:
    sector_log, cluster_log = boot[108], boot[109]
    if not 9 <= sector_log <= 12 or cluster_log > 25 - sector_log:
        return None
    sector = 1 << sector_log
    table, length, heap = (little(boot, at, 4) * sector for at in (80, 84, 88))
    cluster = sector << cluster_log
    root = heap + (little(boot, 96, 4) - 2) * cluster
    facts = Facts(cluster, heap, (table,), length, 32, root, True)
    return facts, little(boot, 72, 8) * sector, b"EXF" + boot[100:104], (0, 12 * sector)


def search(stock: Stock, ground: Ground) -> None:
    """Anchors of one FAT or exFAT."""
    facts = ground.facts
    assert isinstance(facts, Facts)
    ground.filled = min(facts.cluster, 4096)
    ground.grid = facts.heap % ground.filled
    for piece in stock:
        if facts.exfat:
            _root(piece, ground, facts)
            _listed_exfat(piece, ground, facts)
        else:
            _directories(piece, ground, facts)
            _listed(piece, ground, facts)
        _table_heads(piece, ground, facts)
        if facts.width == 12:
            _counting_12(piece, ground, facts)
        else:
            _counting(piece, ground, facts)


def _directories(piece: Piece, ground: Ground, facts: Facts) -> None:
    """A directory's first entry, ".", states its own first cluster."""
    sectors = piece.sectors
    rows = hits(sectors, 0, b".          \x10")
    rows = rows[(sectors[rows, 32] == 0x2E) & (sectors[rows, 33] == 0x2E)]
    if len(rows):
        cluster = numbers(sectors[rows], 20, "<u2") << 16 | numbers(sectors[rows], 26, "<u2")
        address = facts.heap + (cluster - 2) * facts.cluster
        good = (cluster >= 2) & (address < ground.size)
        ground.add("directory", piece.image, (piece.offset + rows * SECTOR)[good], address[good])


def _listed(piece: Piece, ground: Ground, facts: Facts) -> None:
    """Files in what may be directory entries; each is taken to lie in one run."""
    entries = piece.sectors.reshape(-1, 32)
    rows = np.flatnonzero(np.isin(entries[:, 11], (0x20, 0x00)) & np.isin(entries[:, 12], (0, 8, 16, 24)))
    entries = entries[rows]
    name = entries[:, :11]
    lower = ((name >= 0x61) & (name <= 0x7A)).any(axis=1)
    entries = np.ascontiguousarray(entries[(name >= 0x20).all(axis=1) & ~lower & ~np.isin(name[:, 0], (0x2E, 0xE5))])
    cluster = numbers(entries, 26, "<u2") | (numbers(entries, 20, "<u2") << 16 if facts.width == 32 else 0)
    _end(piece, ground, facts, cluster, numbers(entries, 28, "<u4"))


def _listed_exfat(piece: Piece, ground: Ground, facts: Facts) -> None:
    """The same for exFAT, where a file's entry is followed by one with its place and size."""
    entries = piece.sectors.reshape(-1, 32)
    rows = np.flatnonzero((entries[:-1, 0] == 0x85) & (entries[1:, 0] == 0xC0) & (entries[:-1, 4] & 0x10 == 0))
    placed = np.ascontiguousarray(entries[rows + 1])
    _end(piece, ground, facts, numbers(placed, 20, "<u4"), numbers(placed, 24, "<u8"))


def _end(piece: Piece, ground: Ground, facts: Facts, cluster: Int64, size: Int64) -> None:
    good = (cluster >= 2) & (size > 0) & (size < ground.size)
    ground.add_ends(piece.image, facts.heap + (cluster[good] - 2) * facts.cluster + size[good])


def _table_heads(piece: Piece, ground: Ground, facts: Facts) -> None:
    """The table's first sector begins with the medium and an end mark; FAT32's information sector follows the boot
    sector and its copy."""
    sectors = piece.sectors
    if not facts.exfat:
        marks = {12: b"\xff\xff", 16: b"\xff\xff\xff", 32: b"\xff\xff\x0f"}
        rows = hits(sectors, 1, marks[facts.width])
        rows = rows[(sectors[rows, 0] >= 0xF0) & (sectors[rows, 0] != 0xFF)]
        for table in facts.tables:
            ground.add("table head", piece.image, piece.offset + rows * SECTOR, np.full(len(rows), table))
    if facts.width == 32 and not facts.exfat:
        rows = hits(sectors, 0, b"RRaA")
        rows = rows[(sectors[rows, 484:488] == np.frombuffer(b"rrAa", np.uint8)).all(axis=1)]
        boots = {int(a) for kind, _i, _o, where in ground.found if kind == "boot sector" for a in where}
        for boot in sorted(boots):
            place = np.full(len(rows), boot + facts.sector)
            ground.add("information sector", piece.image, piece.offset + rows * SECTOR, place)


def _counting_12(piece: Piece, ground: Ground, facts: Facts) -> None:
    """The same for entries of 12 bits: two in three bytes, so a sector may begin within a pair, in one of three ways;
    only with the right one is the first entry's place in the table a whole sector."""
    sectors = piece.sectors
    for skip in range(3):
        count = (SECTOR - skip) // 3
        threes = sectors[:, skip : skip + 3 * count].reshape(len(sectors), count, 3).astype(np.int64)
        entries = np.empty((len(sectors), 2 * count), np.int64)
        entries[:, 0::2] = threes[..., 0] | (threes[..., 1] & 15) << 8
        entries[:, 1::2] = threes[..., 1] >> 4 | threes[..., 2] << 4
        shifted = entries - np.arange(1, 2 * count + 1)
        same = (shifted[:, 1:] == shifted[:, :-1]).sum(axis=1)
        for row in np.flatnonzero(same >= _LEAST_COUNTING).tolist():
            values, counts = np.unique(shifted[row], return_counts=True)
            first = int(values[np.argmax(counts)])
            place = first // 2 * 3 - skip
            if first % 2 == 0 and place % SECTOR == 0 and 0 <= place < facts.table_bytes:
                for table in facts.tables:
                    ground.add("table sector", piece.image, piece.offset + row * SECTOR, table + place)


def _root(piece: Piece, ground: Ground, facts: Facts) -> None:
    """exFAT's root directory begins with the label, the bitmap and the up-case table, which it places."""
    sectors = piece.sectors
    first, second, third = sectors[:, 0], sectors[:, 32], sectors[:, 64]
    labelled = np.isin(first, (0x83, 0x03))
    rows = np.flatnonzero(labelled & (second == 0x81) & (third == 0x82))
    for row in rows.tolist():
        ground.add("root directory", piece.image, piece.offset + row * SECTOR, facts.root)
    counting = sectors.view("<u2")[:, :32]
    for row in np.flatnonzero((counting == np.arange(32)).all(axis=1)).tolist():
        for upcase in _upcase(ground, facts):
            ground.add("up-case table", piece.image, piece.offset + row * SECTOR, upcase)


def _upcase(ground: Ground, facts: Facts) -> list[int]:
    """Where the up-case table usually is: after the bitmap, in one of the first clusters."""
    bitmap = -(-(ground.size - facts.heap) // facts.cluster // 8)
    return [facts.heap + -(-bitmap // facts.cluster) * facts.cluster]


def _counting(piece: Piece, ground: Ground, facts: Facts) -> None:
    """Sectors of the table in which entry k mostly holds k + 1: the difference tells which sector it is."""
    step = facts.width // 8
    entries = piece.sectors.view(f"<u{step}").astype(np.int64)
    per = SECTOR // step
    shifted = entries - np.arange(1, per + 1)
    same = (shifted[:, 1:] == shifted[:, :-1]).sum(axis=1)
    rows = np.flatnonzero(same >= _LEAST_COUNTING)
    for row in rows.tolist():
        values, counts = np.unique(shifted[row], return_counts=True)
        first = int(values[np.argmax(counts)])
        if counts.max() > _LEAST_COUNTING and first % per == 0 and 0 <= first * step < facts.table_bytes:
            for table in facts.tables:
                ground.add("table sector", piece.image, piece.offset + row * SECTOR, table + first * step)
