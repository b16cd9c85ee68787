"""NTFS: boot sectors at both ends, and file records, which state their number; the table's own record places them.

Places of the fields are those of the published descriptions of the format; all numbers are little-endian.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

import numpy as np

from .ground import END, SECTOR, Ground, Piece, Stock, hits, little, numbers

_DATA = 0x80

LOG_FILE = 2
"""The number of the journal's own file record."""

_MOST_ENDS = 20_000
"""Files whose ends are noted, at most."""


@dataclass
class Facts:
    cluster: int
    record: int
    table: int
    mirror: int
    runs: tuple[tuple[int, int], ...] = ()
    """(clusters, first cluster) of the table of files, in order."""
    log: tuple[tuple[int, int], ...] = ()
    """Likewise of the journal, which holds copies of records."""
    newest: dict[int, int] = field(default_factory=dict)
    """The number in the journal of the record that told each of them."""


def heads(stock: Stock) -> list[Ground]:
    """One ground for every NTFS of which a boot sector was found; its copy at the end looks the same."""
    found: dict[bytes, Ground] = {}
    for piece in stock:
        for row in hits(piece.sectors, 3, b"NTFS    ").tolist():
            boot = piece.sectors[row].tobytes()
            sector, per = little(boot, 11, 2), boot[13]
            per = per if per < 0x80 else 1 << (256 - per)
            raw = boot[64]
            record = raw * sector * per if raw < 0x80 else 1 << (256 - raw)
            if sector not in (512, 1024, 2048, 4096) or not per or record not in (1024, 2048, 4096):
                continue
            size = little(boot, 40, 8) * sector
            cluster = sector * per
            facts = Facts(cluster, record, little(boot, 48, 8) * cluster, little(boot, 56, 8) * cluster)
            if not 0 < size < 1 << 55 or max(facts.table, facts.mirror) >= size:
                continue  # parity of a head and of something else
            made = Ground(boot[72:80], "NTFS", size + sector, facts=facts, weak=("file record", END))
            ground = found.setdefault(_known_as(made, found.values()), made)
            for address in (0, size):
                ground.add("boot sector", piece.image, piece.offset + row * SECTOR, address)
            ground.head = True
    return list(found.values())


def _known_as(made: Ground, others: Iterable[Ground]) -> bytes:
    """The serial number by which a file system is known. Parity of its head and next to nothing is a head, too, whose
    number differs in a few bytes: taken for another file system, every record would be counted for both."""
    alike = (
        o.key for o in others
        if (o.size, o.facts) == (made.size, made.facts)
        and sum(a == b for a, b in zip(o.key, made.key, strict=True)) >= LEAST_SHARED
    )  # fmt: skip
    return next(alike, made.key)


LEAST_SHARED = 4
"""Of the eight bytes of a serial number, those that two have in common if they are one: of numbers drawn at random it
is about one in 6 * 10^7 (70 / 256^4)."""


def search(stock: Stock, ground: Ground) -> None:
    """Anchors of one NTFS."""
    facts = ground.facts
    assert isinstance(facts, Facts)
    places: list[tuple[Piece, np.ndarray, np.ndarray]] = []
    for piece in stock:
        rows, records = piece.records(hits(piece.sectors, 0, b"FILE"), facts.record)
        keep = numbers(records, 4, "<u2") <= 48 if len(rows) else np.empty(0, bool)
        rows, records = rows[keep], records[keep]
        if len(rows):
            places.append((piece, rows, records))
            for number, record in zip(numbers(records, 44, "<u4").tolist(), records, strict=True):
                if number in (0, LOG_FILE):
                    _note(facts, number, fixed(record.tobytes()))
    ground.silent = tuple((first * facts.cluster, (first + count) * facts.cluster) for count, first in facts.log)
    ground.filled = min(facts.cluster, 4096)
    for piece, _rows, records in places:
        if sum(len(e.address) for e in ground.ends) < _MOST_ENDS:
            ground.add_ends(piece.image, [e for r in records if (e := _file_end(facts, fixed(r.tobytes())))])
    for piece, rows, records in places:
        number = numbers(records, 44, "<u4")
        address = _addresses(facts, number)
        named = (number > 0) | (numbers(records, 22, "<u2") & 1 > 0)  # those set aside and not in use say 0, too
        good = (address >= 0) & named
        at = piece.offset + rows * SECTOR
        ground.add("file record", piece.image, at[good], address[good])
        ground.add_ages("log-number", piece.image, at[good], address[good], numbers(records[good], 8, "<u8"))
        mirrored = (number < 4) & named
        ground.add("file record", piece.image, at[mirrored], facts.mirror + number[mirrored] * facts.record)


def _note(facts: Facts, number: int, record: bytes) -> None:
    """Take the run list of a record of the table or of the journal, unless a newer one told it."""
    runs, when = _table_runs(record), little(record, 8, 8)
    if runs and when >= facts.newest.get(number, -1):
        facts.newest[number] = when
        if number == 0:
            facts.runs = runs
        else:
            facts.log = runs


def fixed(record: bytes) -> bytes:
    """A record with the last two bytes of each sector put back, which a number of its writing stands for on the disk;
    as it is where that number is not there."""
    at, count = little(record, 4, 2), little(record, 6, 2)
    ends = range(SECTOR - 2, len(record), SECTOR)
    if count != len(ends) + 1 or at + 2 * count > SECTOR - 2:
        return record
    if any(record[end : end + 2] != record[at : at + 2] for end in ends):
        return record
    made = bytearray(record)
    for number, end in enumerate(ends, 1):
        made[end : end + 2] = record[at + 2 * number : at + 2 * number + 2]
    return bytes(made)


def _addresses(facts: Facts, number: np.ndarray) -> np.ndarray:
    """Where records of these numbers stand; -1 where the table does not reach."""
    at = number * facts.record
    found = np.full(len(number), -1, np.int64)
    runs = facts.runs or ((16 * facts.record // facts.cluster or 1, facts.table // facts.cluster),)
    passed = 0
    for count, first in runs:
        inside = (at >= passed) & (at < passed + count * facts.cluster)
        found[inside] = first * facts.cluster + at[inside] - passed
        passed += count * facts.cluster
    return found


def _data(record: bytes) -> bytes:
    """The unnamed data attribute of a file record, where it lies outside the record; else nothing."""
    at = little(record, 20, 2)
    while at + 64 < len(record):
        kind, length = little(record, at, 4), little(record, at + 4, 4)
        if kind == 0xFFFFFFFF or length < 24:
            break
        if kind == _DATA and record[at + 8] == 1 and record[at + 9] == 0:
            return record[at : at + length]
        at += length
    return b""


def _table_runs(record: bytes) -> tuple[tuple[int, int], ...]:
    """The run list of the unnamed data attribute of a file record."""
    data = _data(record)
    return _runs(data[little(data, 32, 2) :]) if data else ()


def _file_end(facts: Facts, record: bytes) -> int:
    """One past the last byte of the file of a record, in bytes; 0 where that is not told: a folder, a small file that
    lies in the record, a packed or sparse one, or one in so many pieces that it needs more records."""
    data = _data(record)
    if little(record, 22, 2) & 3 != 1 or len(data) < 64 or little(data, 12, 2) or little(data, 16, 8):
        return 0
    size, passed = little(data, 48, 8), 0
    for count, first in _runs(data[little(data, 32, 2) :]):
        if passed < size <= passed + count * facts.cluster:
            return first * facts.cluster + size - passed
        passed += count * facts.cluster
    return 0


def _runs(data: bytes) -> tuple[tuple[int, int], ...]:
    found: list[tuple[int, int]] = []
    at, first = 0, 0
    while at < len(data) and data[at] and len(found) < 4096:
        a, b = data[at] & 15, data[at] >> 4
        if not a or not b or at + 1 + a + b > len(data):
            break
        count = little(data, at + 1, a)
        first += int.from_bytes(data[at + 1 + a : at + 1 + a + b], "little", signed=True)
        found.append((count, first))
        at += 1 + a + b
    return tuple(found)
